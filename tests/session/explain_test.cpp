// SPDX-License-Identifier: MIT
// Explanations: in words, with the operands as they are now. And pauses amid straight runs, at
// which the quick gear has left out flags on the way.
#include <catch2/catch.hpp>
#include <random>

#include "lucid/session.h"
#include "tools.h"

using namespace lucid;

TEST_CASE("an instruction in words, with its operands and what it will do") {
  Chip chip = *Chip::make({"ATmega328P", 16'000'000});
  const auto explained = [&](unsigned word, unsigned next = 0x0000) {
    for (unsigned i = 0; i < 2; ++i) {
      chip.poke({Space::kCode, 0x100 + i}, static_cast<std::uint8_t>(word >> (8 * i)));
      chip.poke({Space::kCode, 0x102 + i}, static_cast<std::uint8_t>(next >> (8 * i)));
    }
    const Explanation e = chip.explain(0x100);
    std::string text = e.words + " | " + e.transfer + " | " + e.flags + " | " + e.cycles;
    for (const std::string& fact : e.now) text += " | " + fact;
    return text;
  };
  const auto set = [&](std::uint32_t reg, unsigned value) {
    chip.poke({Space::kData, reg}, static_cast<std::uint8_t>(value));
  };
  set(24, 0x2c);
  set(22, 0xfe);
  set(30, 0x20);
  set(31, 0x01);
  set(0x123, 0x77);
  REQUIRE(chip.set_register("sreg", 0x02));
  struct Row {
    unsigned word, next;
    std::vector<const char*> says;
  };
  const Row rows[] = {
      {0x0f86,
       0,
       {"Adds r22 to r24.", "r24 ← r24 + r22", "HSVNZC", "r24 = 0x2c (44)",
        "r22 = 0xfe (254, signed -2)"}},
      {0xff83,
       0xc000,
       {"Skips the next instruction if bit 3 of r24 is 1.", "bit 3 is 1", "so it will skip `rjmp"}},
      {0xff84, 0xc000, {"bit 4 is 0", "so it will not skip"}},
      {0xf009,
       0,
       {"Goes to 0x0104 if status flag Z is 1.", "Z = 1, so the branch will be taken",
        "1, 2 if taken"}},
      {0xf409, 0, {"if status flag Z is 0", "will not be taken"}},
      {0x8183,
       0,
       {"Loads r24 from 3 bytes past the address in Z",
        "Z = 0x0120, address 0x0123, which holds 0x77"}},
      {0x9180, 0x0123, {"Loads r24 from data address 0x0123", "0x0123 holds 0x77"}},
      {0x9a2d, 0, {"Sets bit 5 of I/O register 0x05", "I/O 0x05 is PORTB = 0x00"}},
      {0x9601, 0, {"Adds 0x01 to the 16-bit pair r25:r24", "r25:r24 ="}},
      {0x0786, 0, {"next byte of a multi-byte comparison", "C = 0"}},
      {0x940e, 0x0080, {"Calls 0x0100.", "4"}},
      {0x91ad, 0, {"the manual leaves the result of these operands undefined"}},
      {0x0001, 0, {"Not an instruction of the avr5 core"}},
      {0x9419, 0, {"Not an instruction of the avr5 core"}},  // eijmp
  };
  for (const Row& row : rows) {
    const std::string text = explained(row.word, row.next);
    INFO(text);
    for (const char* part : row.says) {
      INFO(part);
      CHECK(text.find(part) != std::string::npos);
    }
  }
}

TEST_CASE("a pause amid a straight run shows what stepping there shows, flags included") {
  const std::string elf = test::compiled("runs", R"(
#include <stdint.h>
volatile uint32_t out;
int main(void) {
  uint32_t a = 1, b = 7;
  int16_t c = -3;
  for (;;) {
    a = a * 1664525u + 1013904223u;
    b ^= (a >> 5) + (b << 3);
    c = c * 31 + (int16_t)(a >> 16);
    out = a + b + c + (uint32_t)(b / (uint16_t)(c | 1));
  }
}
)",
                                         "-O2 -gdwarf-4");
  for (const unsigned seed : {31U, test::fresh_seed()}) {
    INFO("seed " << seed);
    std::mt19937 random(seed);
    Session session(*Chip::make({"ATmega328P", 16'000'000}));
    REQUIRE(session.open(elf));
    session.go_for(2'000);
    Chip stepped = session.chip();
    unsigned pauses = 0;
    for (int round = 0; round < 60; ++round) {
      // A mark wherever the program will be after some instructions, often within a run.
      Chip ahead = session.chip();
      for (unsigned n = 5 + random() % 300; n > 0; --n) ahead.step();
      char place[16];
      std::snprintf(place, sizeof place, "0x%x", ahead.pc());
      REQUIRE(session.pause_at({place, BreakpointSpec::Rule::kOn, 1 + random() % 3, "", true}));
      const Pause pause = session.go();
      REQUIRE(pause.cause == Pause::Cause::kBreakpoint);
      ++pauses;
      while (stepped.cycles() < pause.cycles) stepped.step();
      REQUIRE(stepped.pc() == session.chip().pc());
      REQUIRE(stepped.hash() == session.chip().hash());
    }
    CHECK(pauses == 60);
  }
}
