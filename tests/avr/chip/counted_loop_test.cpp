// SPDX-License-Identifier: MIT
// Loops that only count are done at once: nobody can tell.
#include <fmt/format.h>

#include <catch2/catch.hpp>
#include <random>

#include "lucid/image.h"
#include "lucid/session.h"
#include "lucid/survey.h"
#include "tools.h"

using namespace lucid;

namespace {

/// Waiting in all ways, with loops beside them that look alike, under a timer whose handler also
/// meddles with a register that is counted in.
std::string waiting(std::mt19937& random) {
  const auto byte = [&] { return random() % 4 == 0 ? random() % 4 : random() % 256; };
  std::string loops;
  for (unsigned i = 0; i < 14; ++i) {
    const auto a = byte(), b = byte(), c = random() % 4;
    const std::string label = fmt::format("loop{}", i);
    std::string body;
    switch (random() % 12) {
      case 0: body = "dec r20\n"; break;
      case 1: body = "sbiw r24, 1\n"; break;
      case 2: body = "subi r18, 1\n sbci r19, 0\n"; break;
      case 3: body = "subi r18, 1\n sbci r20, 0\n sbci r19, 0\n"; break;
      case 4: body = random() % 2 == 0 ? "nop\n dec r20\n nop\n" : "dec r20\n nop\n"; break;
      case 5: body = "sbiw r26, 1\n nop\n"; break;
      case 6: body = "subi r20, 1\n"; break;
      // And what does not count down by one.
      case 7: body = "subi r20, 3\n"; break;
      case 8: body = "subi r18, 1\n sbci r19, 1\n"; break;
      case 9: body = "dec r20\n dec r21\n"; break;
      case 10: body = "inc r20\n"; break;
      default: body = "sbiw r24, 2\n"; break;
    }
    loops += fmt::format(
        " ldi r18, {}\n ldi r19, {}\n ldi r20, {}\n ldi r21, {}\n ldi r24, {}\n "
        "ldi r25, {}\n ldi r26, {}\n ldi r27, {}\n",
        a, c, b, b, a & 0xfeU, c, b, c);
    // Some are entered in the middle.
    if (random() % 5 == 0) loops += " rjmp 1f\n";
    loops += fmt::format("{}: {}1: brne {}\n inc r16\n out 0x1e, r16\n", label, body, label);
  }
  return fmt::format(R"(
.global main
 jmp main
.org 0x2c
 jmp handler
.org 0x68
main:
 ldi r16, 0x08
 out 0x3e, r16
 ldi r16, 0xff
 out 0x3d, r16
 ldi r16, {}
 sts 0x88, r16
 ldi r16, 9
 sts 0x81, r16
 ldi r16, 2
 sts 0x6f, r16
 {}
again:
{}
 rjmp again
handler:
 push r16
 in r16, 0x3f
 push r16
 inc r2
 sbrc r2, 4
 ldi r20, 7
 lds r16, 0x84
 add r3, r16
 pop r16
 out 0x3f, r16
 pop r16
 reti
)",
                     100 + random() % 150, random() % 4 == 0 ? "cli" : "sei", loops);
}

Chip made(unsigned translate_after) {
  Chip::Options options{"ATmega328P", 16'000'000};
  options.translate_after = static_cast<std::uint8_t>(translate_after);
  return *Chip::make(options);
}

}  // namespace

TEST_CASE("waiting is the same, done at once or round by round", "[counted]") {
  const unsigned seed = test::fresh_seed();
  INFO("seed " << seed);
  std::mt19937 random(seed);
  for (unsigned program = 0; program < 24; ++program) {
    INFO("program " << program);
    const std::string elf = test::assembled(fmt::format("counted{}", program), waiting(random));
    const auto image = Image::open(elf);
    REQUIRE(image);
    std::vector<Chip> chips;
    for (const unsigned after : {0U, 1U, 40U}) {
      chips.push_back(made(after));
      REQUIRE(chips.back().load(*image));
    }
    for (unsigned stretch = 0; stretch < 60; ++stretch) {
      const std::uint64_t cycles = 1 + random() % (random() % 3 == 0 ? 50 : 20'000);
      for (Chip& chip : chips) chip.run_for(cycles);
      INFO("at " << chips[0].cycles());
      REQUIRE(chips[1].hash() == chips[0].hash());
      REQUIRE(chips[2].hash() == chips[0].hash());
      CHECK(chips[1].cycles() == chips[0].cycles());
    }
    // What is counted, too; and the interrupts' waits.
    std::vector<std::vector<InstructionCount>> counts;
    for (const unsigned after : {0U, 2U}) {
      Session session(made(after));
      REQUIRE(session.open(elf));
      REQUIRE(session.survey(Session::Survey::kCounts));
      session.go_for(300'000);
      counts.push_back(*session.instruction_counts());
    }
    REQUIRE(counts[0].size() == counts[1].size());
    for (std::size_t i = 0; i < counts[0].size(); ++i) {
      INFO("instruction at " << counts[0][i].address);
      CHECK(counts[0][i].executed == counts[1][i].executed);
      CHECK(counts[0][i].departed == counts[1][i].departed);
      CHECK(counts[0][i].cycles == counts[1][i].cycles);
    }
    // A breakpoint in a loop counts each round; one that comes later, or goes, is heeded.
    std::vector<std::vector<std::uint64_t>> seen;
    const auto loop = random() % 14;
    for (const unsigned after : {0U, 2U}) {
      Session session(made(after));
      REQUIRE(session.open(elf));
      session.go_for(200'000);
      BreakpointSpec spec;
      const Symbol* symbol = session.program().find_symbol(fmt::format("loop{}", loop));
      REQUIRE(symbol != nullptr);
      spec.place = fmt::format("{:#x}", symbol->address.offset + 2 * (loop % 2));
      spec.rule = BreakpointSpec::Rule::kEvery;
      spec.count = 3;
      const auto point = session.pause_at(spec);
      REQUIRE(point);
      std::vector<std::uint64_t> pauses;
      for (unsigned i = 0; i < 20; ++i) pauses.push_back(session.go_for(100'000).cycles);
      REQUIRE(session.remove(point->id));
      session.go_for(100'000);
      BreakpointSpec changes;
      changes.kind = BreakpointSpec::Kind::kChange;
      changes.place = "chip.r20";
      REQUIRE(session.pause_at(changes));
      for (unsigned i = 0; i < 10; ++i) pauses.push_back(session.go_for(100'000).cycles);
      pauses.push_back(session.chip().hash());
      seen.push_back(pauses);
    }
    CHECK(seen[0] == seen[1]);
  }
}
