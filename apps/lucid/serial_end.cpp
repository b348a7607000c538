// SPDX-License-Identifier: MIT
#include "serial_end.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <pty.h>
#include <termios.h>
#include <unistd.h>

#include <array>
#include <asio/io_context.hpp>
#include <asio/ip/tcp.hpp>
#include <cerrno>
#include <charconv>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <iostream>

#include "grammar.h"

namespace lucid::app {
namespace {

class PseudoTerminal final : public SerialEnd {
 public:
  PseudoTerminal() = default;
  PseudoTerminal(const PseudoTerminal&) = delete;
  PseudoTerminal& operator=(const PseudoTerminal&) = delete;
  ~PseudoTerminal() override {
    if (ours_ >= 0) close(ours_);
    if (theirs_ >= 0) close(theirs_);
  }
  Result<void> open() {
    std::array<char, 256> name{};
    termios raw{};
    cfmakeraw(&raw);
    if (openpty(&ours_, &theirs_, name.data(), &raw, nullptr) != 0)
      return fail(ErrorCode::kIo, std::string("no pseudo-terminal: ") + std::strerror(errno));
    fcntl(ours_, F_SETFL, O_NONBLOCK);
    path_ = name.data();
    return {};
  }
  void write(const std::string& bytes) override {
    for (std::size_t at = 0; at < bytes.size();) {
      const ssize_t n = ::write(ours_, bytes.data() + at, bytes.size() - at);
      if (n <= 0) {
        lost_ += bytes.size() - at;
        return;
      }
      at += static_cast<std::size_t>(n);
    }
  }
  std::string read() override {
    std::array<char, 256> buffer{};
    const ssize_t n = ::read(ours_, buffer.data(), buffer.size());
    return n > 0 ? std::string(buffer.data(), static_cast<std::size_t>(n)) : std::string();
  }

 private:
  int ours_ = -1;
  int theirs_ = -1;  ///< kept open, so that the other program may come and go
};

/// Listens on loopback; one program at a time, others may follow it.
class Socket final : public SerialEnd {
 public:
  Result<void> open(const std::string& number) {
    unsigned port = 0;
    const char* const end = number.data() + number.size();
    const auto read = std::from_chars(number.data(), end, port);
    if (read.ec != std::errc() || read.ptr != end || port > 65535)
      return fail(ErrorCode::kUsage, "'" + number + "' is not a TCP port",
                  "ports are 1 to 65535, such as 5555; 0 takes a free one");
    using asio::ip::tcp;
    asio::error_code failed;
    const tcp::endpoint loopback(asio::ip::address_v4::loopback(),
                                 static_cast<unsigned short>(port));
    (void)acceptor_.open(loopback.protocol(), failed);
    if (!failed) (void)acceptor_.set_option(tcp::acceptor::reuse_address(true), failed);
    if (!failed) (void)acceptor_.bind(loopback, failed);
    if (!failed) (void)acceptor_.listen(1, failed);
    if (!failed) (void)acceptor_.non_blocking(true, failed);
    if (failed) return fail(ErrorCode::kIo, fmt::format("TCP port {}: {}", port, failed.message()));
    path_ = fmt::format("127.0.0.1:{}", acceptor_.local_endpoint(failed).port());
    return {};
  }
  void write(const std::string& bytes) override {
    asio::error_code failed;
    std::size_t at = 0;
    if (is_connected())
      while (at < bytes.size() && !failed)
        at += peer_.write_some(asio::buffer(bytes.data() + at, bytes.size() - at), failed);
    lost_ += bytes.size() - at;
    look(failed);
  }
  std::string read() override {
    if (!is_connected()) return {};
    std::array<char, 256> buffer{};
    asio::error_code failed;
    const std::size_t n = peer_.read_some(asio::buffer(buffer), failed);
    look(failed);
    return {buffer.data(), n};
  }

 private:
  bool is_connected() {
    if (peer_.is_open()) return true;
    asio::error_code failed;
    (void)acceptor_.accept(peer_, failed);
    if (failed) return false;
    (void)peer_.non_blocking(true, failed);
    return true;
  }
  void look(const asio::error_code& failed) {
    if (!failed || failed == asio::error::would_block) return;
    std::cerr << port() << ": the program at " << path() << " has gone; another may come\n";
    asio::error_code ignored;
    (void)peer_.close(ignored);
  }
  asio::io_context context_;
  asio::ip::tcp::acceptor acceptor_{context_};
  asio::ip::tcp::socket peer_{context_};
};

/// All of a file arrives, back to back; what the firmware sends goes into another.
class Files final : public SerialEnd {
 public:
  Result<void> open(const std::string& in, const std::string& out) {
    path_ = in;
    std::ifstream file(in, std::ios::binary);
    if (!file)
      return fail(errno == ENOENT ? ErrorCode::kNotFound : ErrorCode::kIo,
                  in + ": " + std::strerror(errno), "check the path");
    bytes_.assign(std::istreambuf_iterator<char>(file), {});
    if (file.bad() || std::filesystem::is_directory(in))
      return fail(ErrorCode::kIo, in + " cannot be read", "is it a folder?");
    if (out.empty()) return {};
    out_.open(out, std::ios::binary);
    if (!out_) return fail(ErrorCode::kIo, out + ": " + std::strerror(errno));
    return {};
  }
  [[nodiscard]] bool is_paced() const override { return false; }
  void write(const std::string& bytes) override {
    if (out_.is_open()) out_ << bytes << std::flush;
  }
  std::string read() override { return std::exchange(bytes_, {}); }

 private:
  std::string bytes_;
  std::ofstream out_;
};

template <class End, class... Words>
Result<std::unique_ptr<SerialEnd>> opened(const Words&... words) {
  auto end = std::make_unique<End>();
  if (auto done = end->open(words...); !done) return fail(done.error());
  return std::unique_ptr<SerialEnd>(std::move(end));
}

}  // namespace

Result<std::unique_ptr<SerialEnd>> SerialEnd::open(const std::string& phrase) {
  const std::vector<std::string> words = words_of(phrase);
  const std::string what = words.size() < 2 ? "" : words[1];
  Result<std::unique_ptr<SerialEnd>> end =
      fail(ErrorCode::kUsage, "'" + phrase + "' does not say what is at which serial port",
           "write USART0 terminal, USART0 socket 5555 or USART0 files IN OUT");
  if (what == "terminal" && words.size() == 2) end = opened<PseudoTerminal>();
  if (what == "socket" && words.size() == 3) end = opened<Socket>(words[2]);
  if (what == "files" && (words.size() == 3 || words.size() == 4))
    end = opened<Files>(words[2], words.size() == 4 ? words[3] : std::string());
  if (end) (*end)->port_ = words[0];
  return end;
}

}  // namespace lucid::app
