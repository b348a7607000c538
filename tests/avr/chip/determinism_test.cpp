// SPDX-License-Identifier: MIT
// The test for ever: a run in one go, and the same run in random pieces with pauses, looks, copies
// and breakpoints between, end in the same world.
#include <catch2/catch.hpp>
#include <fstream>
#include <random>
#include <sstream>
#include <thread>

#include "lucid/session.h"
#include "tools.h"

using namespace lucid;

namespace {

constexpr std::uint64_t kEnd = 24'000'000;  // 1.5 s of the kiln
constexpr std::uint64_t kGo = 17'654'321;   // when the firing is started

void inputs(Chip& chip) {
  REQUIRE(chip.drive("PD2", false));
  REQUIRE(chip.feed("USART0", "T2500\nG\nP\n"));
}

Chip fresh(const std::string& elf) {
  Chip chip = *Chip::make({"ATmega328P", 16'000'000});
  REQUIRE(chip.load(*Image::open(elf)));
  return chip;
}

/// Runs to exactly the boundary that a straight run reaches.
void run_to(Chip& chip, std::uint64_t cycle) {
  if (chip.cycles() < cycle) chip.run_for(cycle - chip.cycles());
}

}  // namespace

TEST_CASE("a run in random pieces equals a run in one go") {
  for (const std::string& elf : {test::kKilnOg, test::kKilnOs}) {
    Chip straight = fresh(elf);
    run_to(straight, kGo);
    inputs(straight);
    run_to(straight, kEnd);
    const std::uint64_t expected = straight.hash();
    const std::string output = straight.take_serial_output();

    for (const unsigned seed : {11U, 12U, test::fresh_seed()}) {
      INFO(elf << ", seed " << seed);
      std::mt19937 random(seed);
      Chip chip = fresh(elf);
      std::string sent;
      bool started = false;
      while (chip.cycles() < kEnd) {
        const std::uint64_t next = started ? kEnd : kGo;
        if (chip.cycles() >= next) {
          inputs(chip);
          started = true;
          continue;
        }
        switch (random() % 6) {
          case 0:
            // A step may be a stretch of sleep: not across the moment that is aimed at.
            for (int i = 0; i < 200 && chip.cycles() + 20'000 < next; ++i) chip.step();
            for (int i = 0; i < 50 && chip.cycles() < next; ++i) chip.run_for(1);
            break;
          case 1: chip = Chip(chip); break;
          case 2:
            for (std::uint32_t a = 0; a < 0x900; a += 7) (void)chip.peek({Space::kData, a});
            (void)chip.pins();
            (void)chip.hash();
            break;
          case 3: sent += chip.take_serial_output(); break;
          default: run_to(chip, std::min(next, chip.cycles() + random() % 2'000'000)); break;
        }
      }
      sent += chip.take_serial_output();
      CHECK(chip.cycles() == straight.cycles());
      CHECK(chip.hash() == expected);
      CHECK(sent == output);
    }
  }
}

TEST_CASE("a session with breakpoints, steps and views ends in the same world") {
  const Chip loaded = fresh(test::kKilnOg);
  for (const unsigned seed : {21U, test::fresh_seed()}) {
    INFO("seed " << seed);
    std::mt19937 random(seed);
    Session session(*Chip::make({"ATmega328P", 16'000'000}));
    REQUIRE(session.open(test::kKilnOg));
    for (const char* place : {"clock_ms", "__vector_11", "buzzer_tick", "kiln.c:209"})
      REQUIRE(session.pause_at({place, BreakpointSpec::Rule::kEvery, 1 + random() % 50}));
    while (session.chip().cycles() < (test::kSanitized ? 490'000 : 3'990'000)) {
      switch (random() % 5) {
        case 0:
          REQUIRE(session.step(StepKind::kInto, StepUnit::kInstruction, 1 + random() % 20));
          break;
        case 1: REQUIRE(session.step(StepKind::kOver, StepUnit::kLine)); break;
        case 2: session.go_for(random() % 100'000); break;
        case 3:
          (void)session.callers();
          (void)session.stack();
          (void)session.globals();
          (void)session.registers();
          (void)session.memory("ram");
          REQUIRE(session.source());
          break;
        default: session.go_for(10'000); break;
      }
    }
    session.all_breakpoints(false);
    session.go_for(10'000);
    Chip straight = loaded;
    run_to(straight, session.chip().cycles());
    CHECK(session.chip().cycles() == straight.cycles());
    CHECK(session.chip().hash() == straight.hash());
  }
}

TEST_CASE("worlds of the demo firmware, for comparison with other builds") {
  for (const char* image : {"kiln-og", "kiln-os", "overshoot", "torn-tick", "bouncing-door"}) {
    Chip chip = fresh(std::string(LUCID_KILN) + "/images/" + image + ".elf");
    for (int i = 0; i < 8; ++i) {
      chip.run_for(2'500'000);
      if (i == 5) inputs(chip);
      test::record(chip.hash());
    }
  }
}

TEST_CASE("copies of a chip run in several threads, each as alone") {
  Chip chip = *Chip::make({"ATmega328P", 16'000'000});
  REQUIRE(chip.load(*Image::open(test::kKilnOg)));
  chip.run_for(100'000);
  const auto played = [](Chip copy, unsigned number) {
    for (unsigned i = 0; i < 20; ++i) {
      copy.poke({Space::kCode, 0x7000 + number}, static_cast<std::uint8_t>(i));
      copy.poke({Space::kEeprom, number}, static_cast<std::uint8_t>(i));
      copy.run_for(20'000);
      const Chip kept = copy;
      if (kept.hash() != copy.hash()) return std::uint64_t{0};
    }
    return copy.hash();
  };
  std::vector<std::uint64_t> alone;
  for (unsigned n = 0; n < 4; ++n) alone.push_back(played(chip, n));
  std::vector<std::uint64_t> beside(4);
  std::vector<std::thread> threads;
  for (unsigned n = 0; n < 4; ++n)
    threads.emplace_back([&, n, copy = chip] { beside[n] = played(copy, n); });
  for (std::thread& thread : threads) thread.join();
  CHECK(beside == alone);
}

TEST_CASE("copies share translated code, and part where their flash or their marks do") {
  // Judged by copies of a chip that translates nothing.
  const auto warm = [](std::uint8_t translate_after) {
    Chip::Options options{"ATmega328P", 16'000'000};
    options.translate_after = translate_after;
    Chip chip = *Chip::make(options);
    REQUIRE(chip.load(*Image::open(test::kKilnOg)));
    chip.run_for(4'000'000);
    return chip;
  };
  const Chip quick = warm(Chip::Options{}.translate_after);
  const Chip precise = warm(0);
  REQUIRE(quick.hash() == precise.hash());
  const unsigned seed = test::fresh_seed();
  INFO("LUCID_SEED=" << seed);
  const auto played = [&](const Chip& from, unsigned number) {
    Chip copy = from;
    std::mt19937 random(seed + number);
    // Some change a word of the code that runs, and back; all run on.
    const std::uint32_t at = 0x500 + random() % 0x180;
    const auto before = copy.peek({Space::kCode, at});
    if (number % 3 == 0) copy.poke({Space::kCode, at}, static_cast<std::uint8_t>(random()));
    copy.run_for(2'000 + random() % 40'000);
    if (number % 2 == 0) copy.poke({Space::kCode, at}, *before);
    copy.run_for(20'000);
    return copy.hash();
  };
  constexpr unsigned kCopies = 1000;
  std::vector<std::uint64_t> alone, beside(kCopies);
  for (unsigned n = 0; n < kCopies; ++n) alone.push_back(played(precise, n));
  std::vector<std::thread> threads;
  for (unsigned half = 0; half < 2; ++half)
    threads.emplace_back([&, half] {
      for (unsigned n = half; n < kCopies; n += 2) beside[n] = played(quick, n);
    });
  for (std::thread& thread : threads) thread.join();
  CHECK(beside == alone);
  // A breakpoint within code that others have without one.
  std::mt19937 random(seed);
  for (unsigned n = 0; n < 40; ++n) {
    const std::uint32_t at = 2 * ((0x4a6 + random() % 0x1a0) / 2);
    std::uint64_t passes[2];
    for (const Chip* from : {&quick, &precise}) {
      Session session{Chip(*from)};
      BreakpointSpec spec;
      std::ostringstream place;
      place << "0x" << std::hex << at;
      spec.place = place.str();
      spec.log = "passed";
      REQUIRE(session.pause_at(spec));
      session.go_for(std::uint64_t{100'000});
      passes[from == &quick ? 0 : 1] = session.breakpoints()[0].reached;
    }
    INFO(std::hex << at);
    CHECK(passes[0] == passes[1]);
  }
}

TEST_CASE("no memory of the process can be both written and executed") {
  Chip chip = *Chip::make({"ATmega328P", 16'000'000});
  REQUIRE(chip.load(*Image::open(test::kKilnOg)));
  chip.run_for(20'000'000);
  std::ifstream maps("/proc/self/maps");
  unsigned executable = 0;
  for (std::string line; std::getline(maps, line);) {
    const std::string rights = line.substr(line.find(' ') + 1, 4);
    INFO(line);
    CHECK((rights[1] != 'w' || rights[2] != 'x'));
    executable += rights[2] == 'x' ? 1 : 0;
  }
  CHECK(executable != 0);
}
