// SPDX-License-Identifier: MIT
// Cycles of each instruction on each core: "Instruction Set Manual", column "Clocks" for the cores
// AVRe and AVRe+ (which the classic families are), with a 16- and a 22-bit program counter.
#include <catch2/catch.hpp>

#include "lucid/chip.h"

using lucid::Chip;
using lucid::Space;
using lucid::Validity;

namespace {

void put(Chip& chip, std::uint32_t word_address, unsigned word) {
  chip.poke({Space::kCode, 2 * word_address}, static_cast<std::uint8_t>(word));
  chip.poke({Space::kCode, 2 * word_address + 1}, static_cast<std::uint8_t>(word >> 8));
}

struct Row {
  const char* what;
  unsigned words[3];
  unsigned sreg;
  unsigned cycles;
  unsigned cycles22;
};

// r24 holds 0x01, r22 0x01, r20 0x02; Z points at flash and RAM 0x180; I/O 0x1e holds 0x01.
const Row kRows[] = {
    {"add", {0x0f86}, 0, 1, 1},
    {"adiw", {0x9601}, 0, 2, 2},
    {"mul", {0x9f86}, 0, 2, 2},
    {"muls", {0x0286}, 0, 2, 2},
    {"fmulsu", {0x03cd}, 0, 2, 2},
    {"ldi", {0xe081}, 0, 1, 1},
    {"movw", {0x01cb}, 0, 1, 1},
    {"mov", {0x2f86}, 0, 1, 1},
    {"lds", {0x9180, 0x0180}, 0, 2, 2},
    {"sts", {0x9380, 0x0180}, 0, 2, 2},
    {"ld X", {0x918c}, 0, 2, 2},
    {"ld Y+", {0x9189}, 0, 2, 2},
    {"ld -Z", {0x9182}, 0, 2, 2},
    {"ldd Z+1", {0x8181}, 0, 2, 2},
    {"st X+", {0x938d}, 0, 2, 2},
    {"std Y+1", {0x8389}, 0, 2, 2},
    {"lpm", {0x95c8}, 0, 3, 3},
    {"lpm Z+", {0x9185}, 0, 3, 3},
    {"elpm", {0x95d8}, 0, 3, 3},
    {"elpm Z", {0x9186}, 0, 3, 3},
    {"in", {0xb78f}, 0, 1, 1},
    {"out", {0xbf8f}, 0, 1, 1},
    {"push", {0x938f}, 0, 2, 2},
    {"pop", {0x918f}, 0, 2, 2},
    {"sbi", {0x9af0}, 0, 2, 2},
    {"cbi", {0x98f0}, 0, 2, 2},
    {"rjmp", {0xc001}, 0, 2, 2},
    {"ijmp", {0x9409}, 0, 2, 2},
    {"eijmp", {0x9419}, 0, 2, 2},
    {"jmp", {0x940c, 0x0010}, 0, 3, 3},
    {"rcall", {0xd001}, 0, 3, 4},
    {"icall", {0x9509}, 0, 3, 4},
    {"eicall", {0x9519}, 0, 4, 4},
    {"call", {0x940e, 0x0010}, 0, 4, 5},
    {"ret", {0x9508}, 0, 4, 5},
    {"reti", {0x9518}, 0, 4, 5},
    {"breq not taken", {0xf009}, 0, 1, 1},
    {"breq taken", {0xf009}, 2, 2, 2},
    {"brne not taken", {0xf409}, 2, 1, 1},
    {"brne taken", {0xf409}, 0, 2, 2},
    {"cpse equal, one word", {0x1386, 0x0000}, 0, 2, 2},
    {"cpse equal, two words", {0x1386, 0x9380, 0x0180}, 0, 3, 3},
    {"cpse different", {0x1384, 0x0000}, 0, 1, 1},
    {"sbrs set, one word", {0xff80, 0x0000}, 0, 2, 2},
    {"sbrs set, two words", {0xff80, 0x9180, 0x0180}, 0, 3, 3},
    {"sbrs clear", {0xff81, 0x0000}, 0, 1, 1},
    {"sbrc clear, one word", {0xfd81, 0x0000}, 0, 2, 2},
    {"sbrc clear, two words", {0xfd81, 0x940c, 0x0010}, 0, 3, 3},
    {"sbrc set", {0xfd80, 0x0000}, 0, 1, 1},
    {"sbis set, one word", {0x9bf0, 0x0000}, 0, 2, 2},
    {"sbis set, two words", {0x9bf0, 0x940e, 0x0010}, 0, 3, 3},
    {"sbis clear", {0x9bf1, 0x0000}, 0, 1, 1},
    {"sbic clear, one word", {0x99f1, 0x0000}, 0, 2, 2},
    {"sbic clear, two words", {0x99f1, 0x9380, 0x0180}, 0, 3, 3},
    {"sbic set", {0x99f0, 0x0000}, 0, 1, 1},
    {"nop", {0x0000}, 0, 1, 1},
    {"wdr", {0x95a8}, 0, 1, 1},
    {"bset", {0x9418}, 0, 1, 1},
    {"bld", {0xf980}, 0, 1, 1},
};

}  // namespace

TEST_CASE("cycles of each instruction on each core") {
  for (const char* core :
       {"avr2", "avr25", "avr3", "avr31", "avr35", "avr4", "avr5", "avr51", "avr6"}) {
    Chip chip = *Chip::make({core, 1'000'000});
    const bool wide = std::string(core) == "avr6";
    for (const Row& row : kRows) {
      INFO(core << ": " << row.what);
      for (std::uint32_t i = 0; i < 3; ++i) put(chip, 0x80 + i, row.words[i]);
      chip.poke({Space::kData, 24}, 1);
      chip.poke({Space::kData, 22}, 1);
      chip.poke({Space::kData, 20}, 2);
      for (const unsigned low : {26U, 28U, 30U}) {
        chip.poke({Space::kData, low}, 0x80);
        chip.poke({Space::kData, low + 1}, 0x01);
      }
      chip.poke({Space::kData, 0x1e + 0x20}, 1);
      REQUIRE(chip.set_register("sp", 0x300));
      REQUIRE(chip.set_register("sreg", row.sreg));
      REQUIRE(chip.set_register("pc", 0x100));
      // On a core without it, or with its skipped two-word instruction missing, there is nothing to
      // time.
      if (chip.instruction_at(0x100).validity == Validity::kReserved) continue;
      if (row.words[1] != 0 && row.words[2] != 0 &&
          chip.instruction_at(0x102).validity == Validity::kReserved)
        continue;
      const std::uint64_t before = chip.cycles();
      const auto end = chip.step();
      INFO(end.fault);
      CHECK(end.why == lucid::RunEnd::Why::kTimeUp);
      CHECK(chip.cycles() - before == (wide ? row.cycles22 : row.cycles));
    }
  }
}

TEST_CASE("calls push two or three bytes, high byte at the lowest address") {
  for (const bool wide : {false, true}) {
    Chip chip = *Chip::make({wide ? "avr6" : "avr51", 1'000'000});
    const std::uint32_t at = wide ? 0x12345 : 0x8765;
    put(chip, at, 0x940e);
    put(chip, at + 1, 0x0010);
    put(chip, 0x10, 0x9508);
    REQUIRE(chip.set_register("pc", 2 * at));
    REQUIRE(chip.set_register("sp", 0x300));
    chip.step();
    CHECK(chip.pc() == 0x20);
    CHECK(chip.sp() == 0x300U - (wide ? 3 : 2));
    const std::uint32_t back = at + 2;
    CHECK(*chip.peek({Space::kData, 0x300}) == (back & 0xff));
    CHECK(*chip.peek({Space::kData, 0x2ff}) == (back >> 8 & 0xff));
    if (wide) CHECK(*chip.peek({Space::kData, 0x2fe}) == back >> 16);
    chip.step();
    CHECK(chip.pc() == 2 * back);
    CHECK(chip.sp() == 0x300);
  }
}

TEST_CASE("far loads use RAMPZ and step over it; the program counter wraps") {
  Chip chip = *Chip::make({"avr51", 1'000'000});
  chip.poke({Space::kCode, 0x0ffff}, 0xa5);
  chip.poke({Space::kCode, 0x10000}, 0x5a);
  put(chip, 0, 0x9187);  // elpm r24, Z+
  put(chip, 1, 0x9197);  // elpm r25, Z+
  chip.poke({Space::kData, 30}, 0xff);
  chip.poke({Space::kData, 31}, 0xff);
  chip.step();
  chip.step();
  CHECK(*chip.register_value("r24") == 0xa5);
  CHECK(*chip.register_value("r25") == 0x5a);
  CHECK(*chip.peek({Space::kData, 0x5b}) == 1);
  CHECK(*chip.register_value("Z") == 1);

  put(chip, 0xffff, 0x0000);
  REQUIRE(chip.set_register("pc", 0x1fffe));
  chip.step();
  chip.step();
  CHECK(chip.pc() == 2);

  put(chip, 0x100, 0xcfff);  // rjmp to itself
  put(chip, 0, 0xcfff);
  REQUIRE(chip.set_register("pc", 0));
  chip.step();
  CHECK(chip.pc() == 0);
}

TEST_CASE("faults and oddities are pauses, not surprises") {
  Chip chip = *Chip::make({"avr5", 1'000'000});
  SECTION("erased flash") {
    const auto end = chip.step();
    CHECK(end.why == lucid::RunEnd::Why::kFault);
    CHECK(end.fault.find("erased") != std::string::npos);
    CHECK(chip.pc() == 0);
  }
  SECTION("a reserved word") {
    put(chip, 0, 0x0001);
    CHECK(chip.step().fault.find("reserved") != std::string::npos);
  }
  SECTION("a load where nothing is") {
    put(chip, 0, 0x9180);  // lds r24, 0xf000
    put(chip, 1, 0xf000);
    chip.poke({Space::kData, 24}, 7);
    const auto end = chip.step();
    CHECK(end.fault.find("0xf000") != std::string::npos);
    CHECK(*chip.register_value("r24") == 0);
    CHECK(chip.pc() == 4);
  }
  SECTION("a push outside RAM") {
    put(chip, 0, 0x938f);
    REQUIRE(chip.set_register("sp", 0x10));
    CHECK(chip.step().fault.find("outside RAM") != std::string::npos);
  }
  SECTION("a result that the manual leaves open is said") {
    put(chip, 0, 0x91ad);  // ld r26, X+
    chip.poke({Space::kData, 27}, 2);
    chip.step();
    const auto notes = chip.take_notes();
    REQUIRE(notes.size() == 1);
    CHECK(notes[0].find("ld r26, X+") != std::string::npos);
    CHECK(chip.pc() == 2);
  }
  SECTION("break pauses before it executes, and is passed over afterwards") {
    put(chip, 0, 0x0000);
    put(chip, 1, 0x9598);
    put(chip, 2, 0xcfff);
    CHECK(chip.run_for(100).why == lucid::RunEnd::Why::kBreakInstruction);
    CHECK(chip.pc() == 2);
    CHECK(chip.run_for(100).why == lucid::RunEnd::Why::kTimeUp);
    CHECK(chip.pc() == 4);
  }
}
