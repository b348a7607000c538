// SPDX-License-Identifier: MIT
// Another program types into the firmware's serial port, through a socket or a terminal, at moments
// of its own: the past that one goes back through is the one that was.
#include <fcntl.h>
#include <netinet/in.h>
#include <sys/socket.h>
#include <unistd.h>

#include <atomic>
#include <catch2/catch.hpp>
#include <random>
#include <thread>

#include "console.h"
#include "tools.h"

using namespace lucid;
using namespace lucid::app;
using namespace std::string_literals;

namespace {

/// Writes words at random moments to whoever is at `path`, and takes what comes from there.
class Typist {
 public:
  Typist(const std::string& path, unsigned seed) : random_(seed) {
    if (const std::size_t colon = path.rfind(':'); colon != std::string::npos) {
      sockaddr_in at{};
      at.sin_family = AF_INET;
      at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
      at.sin_port = htons(static_cast<std::uint16_t>(std::stoi(path.substr(colon + 1))));
      fd_ = ::socket(AF_INET, SOCK_STREAM, 0);
      if (::connect(fd_, reinterpret_cast<const sockaddr*>(&at), sizeof at) != 0) ::close(fd_);
      ::fcntl(fd_, F_SETFL, O_NONBLOCK);
    } else {
      fd_ = ::open(path.c_str(), O_RDWR | O_NOCTTY | O_NONBLOCK);
    }
    thread_ = std::thread([this] { type(); });
  }
  ~Typist() {
    ends_ = true;
    thread_.join();
    ::close(fd_);
  }

  std::atomic<unsigned> typed{0};

 private:
  void type() {
    const char* const kWords[] = {"G\n", "S\n", "?\n", "T1200\n", "T90\n", "D\n", "x", "\n"};
    while (!ends_) {
      const std::string word = kWords[random_() % std::size(kWords)];
      if (::write(fd_, word.data(), word.size()) > 0) typed += unsigned(word.size());
      char taken[256];
      while (::read(fd_, taken, sizeof taken) > 0) {
      }
      std::this_thread::sleep_for(std::chrono::milliseconds(1 + random_() % 30));
    }
  }

  std::mt19937 random_;
  int fd_ = -1;
  std::atomic<bool> ends_{false};
  std::thread thread_;
};

}  // namespace

TEST_CASE("what came through a socket or a terminal comes again at its moments") {
  const unsigned seed = test::fresh_seed();
  INFO("LUCID_SEED=" << seed);
  std::mt19937 random(seed);
  // No port that another test may have with this seed.
  for (const std::string& end : {"socket " + std::to_string(10'000 + seed % 10'000), "terminal"s}) {
    INFO(end);
    std::ostringstream out;
    Console::Options options;
    options.bench = LUCID_KILN "/kiln.bench.toml";
    Console console(options, out);
    REQUIRE(console.open(test::kKilnOg));
    const auto execute = [&](const std::string& line) {
      const auto done = console.execute(line);
      INFO(line << (done ? "" : ": " + done.error().text()));
      CHECK(done);
    };
    execute("attach USART0 " + end);
    const std::string told = out.str();
    const std::size_t path = told.find("USART0 is at ") + 13;
    Typist typist(told.substr(path, told.find('\n', path) - path), seed);
    Session& session = *console.session();

    struct Moment {
      std::uint64_t cycles, hash, sent;
    };
    std::vector<Moment> moments;
    const auto remember = [&] {
      moments.push_back({session.chip().cycles(), session.chip().hash(), session.bytes_sent()});
    };
    for (unsigned round = 0; round < 3; ++round) {
      // The present, as fast as a clock. Bytes come at whole milliseconds of a run: a time says
      // which moment is meant where none came just then.
      for (unsigned i = 0; i < 3; ++i) {
        execute("go for " + std::to_string(20 + random() % 150) + ".5 ms");
        remember();
      }
      for (unsigned i = 0; i < 4; ++i) {
        const char* const kMoves[] = {"back for 37 ms",     "back into",     "back over",
                                      "go for 20 ms",       "step over",     "step into",
                                      "back to serial_get", "back to start", "back for 9 ms"};
        (void)console.execute(kMoves[random() % std::size(kMoves)]).has_value();
        if (session.behind().count == 0) execute("back for 10 ms");
        const Moment& moment = moments[random() % moments.size()];
        REQUIRE(session.go_to_time(to_time(moment.cycles, 16'000'000)));
        CHECK(session.chip().cycles() == moment.cycles);
        CHECK(session.chip().hash() == moment.hash);
        CHECK(session.bytes_sent() == moment.sent);
      }
      REQUIRE(session.go_to_time(to_time(moments.back().cycles, 16'000'000)));
      CHECK(session.chip().hash() == moments.back().hash);
    }
    CHECK(typist.typed > 20);
    CHECK(session.inputs().size() > 10);
  }
}
