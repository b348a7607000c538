// SPDX-License-Identifier: MIT
// A selected call level in all views, and pauses at interrupts.
#include <algorithm>
#include <catch2/catch.hpp>

#include "lucid/session.h"
#include "tools.h"

using namespace lucid;

TEST_CASE("a caller's level: its registers as at its call, its place in the views") {
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(test::kKilnOg));
  REQUIRE(session.drive("PD2", false));
  REQUIRE(session.feed("USART0", "G\n"));
  // What the registers hold when each function of a chain has just been entered is what they hold
  // at the call, in the level below.
  std::vector<std::vector<RegisterView>> at_call;
  for (const char* function : {"every_second", "report", "serial_text"}) {
    REQUIRE(session.pause_at({std::string(function) + "+0x0"}));
    REQUIRE(session.go().where.function == function);
    at_call.push_back(session.registers());
    for (const Breakpoint& b : session.breakpoints()) REQUIRE(session.remove(b.id));
  }
  REQUIRE(session.go_to("serial_put"));
  const auto levels = session.callers();
  REQUIRE(levels.size() == 1 + at_call.size() + 1);
  unsigned known = 0;
  for (unsigned level = 1; level <= at_call.size(); ++level) {
    REQUIRE(session.select_level(level));
    CHECK(session.level() == level);
    CHECK(session.flags().empty());
    const auto registers = session.registers();
    for (std::size_t i = 0; i < registers.size(); ++i) {
      INFO(level << " " << registers[i].name);
      const bool general = registers[i].name[0] == 'r';
      const unsigned number = general ? std::stoul(registers[i].name.substr(1)) : 0;
      const bool saved = general && ((number >= 2 && number <= 17) || number == 28 || number == 29);
      if (saved) CHECK(registers[i].known);
      if (general && registers[i].known) {
        CHECK(registers[i].value == at_call[level - 1][i].value);
        ++known;
      }
    }
    const auto source = session.source();
    REQUIRE(source);
    for (const auto& line : source->lines)
      CHECK(line.selected == (line.number == levels[level - 1].where.line));
    const auto code = session.disassembly();
    REQUIRE(code);
    for (const auto& row : code->rows)
      if (row.selected)
        CHECK(row.instruction.address + row.instruction.size == levels[level - 1].where.address);
    CHECK(std::count_if(code->rows.begin(), code->rows.end(),
                        [](const auto& row) { return row.selected; }) == 1);
  }
  CHECK(known >= 18 * at_call.size());
}

TEST_CASE(
    "an interrupt's pause names its handler and what it has interrupted; both names are known") {
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(test::kKilnOg));
  BreakpointSpec spec;
  spec.kind = BreakpointSpec::Kind::kInterrupt;
  spec.place = "TIMER1_COMPA";
  REQUIRE(session.pause_at(spec));
  const Pause pause = session.go();
  CHECK(pause.interrupt == "TIMER1_COMPA");
  CHECK(pause.where.vector == "TIMER1_COMPA");
  REQUIRE(pause.handler);
  CHECK(pause.handler->function == "TIMER1_COMPA_vect");
  REQUIRE(pause.interrupted);
  const auto levels = session.callers();
  REQUIRE(levels.size() >= 2);
  CHECK(levels.back().interrupt);
  // What the toolchain has called it, and what it stands for by the device's own header.
  const std::string symbol =
      test::run(
          "echo '#include <avr/io.h>\nTIMER1_COMPA_vect' | avr-gcc -mmcu=atmega328p -E - | tail -1")
          .text;
  const std::string trimmed = symbol.substr(0, symbol.find('\n'));
  REQUIRE(trimmed.rfind("__vector_", 0) == 0);
  CHECK(session.locate(trimmed)->address == session.locate("TIMER1_COMPA_vect")->address);
}

TEST_CASE("main is the outermost level wherever it has led, in the library's assembly, too") {
  const std::string source = R"(#include <math.h>
#include <stdint.h>
#include <stdlib.h>
volatile uint16_t n = 7;
volatile uint32_t wide = 70000;
volatile int64_t widest = -5;
volatile float real = 2.5f;
int main(void) {
  for (;;) {
    real = n * 0.25f;
    n = (uint16_t)real + 3;
    real = sqrtf(real) + (float)wide - (int32_t)real;
    wide = wide / 7 % 1000 + (uint32_t)(real > 3.0f);
    widest = widest * 3 / (int16_t)(n | 1);
    real = sinf(real) / 3.0f;
    n += (uint16_t)abs((int)n) + (uint16_t)labs((long)wide);
  }
}
)";
  unsigned number = 0;
  for (const char* flags : {"-Os", "-O2", "-O0", "-Og -mrelax", "-Os -mcall-prologues"}) {
    Session session(*Chip::make({"ATmega328P", 16'000'000}));
    REQUIRE(session.open(test::compiled("outermost" + std::to_string(number++), source,
                                        std::string(flags) + " -gdwarf-4 -lm")));
    REQUIRE(session.go_to("main"));
    for (unsigned i = 0; i < (test::is_short() ? 1'000 : 4'000); ++i) {
      REQUIRE(session.step(StepKind::kInto, StepUnit::kInstruction));
      const std::vector<CallLevel> levels = session.callers();
      REQUIRE(!levels.empty());
      INFO(flags << " " << session.pause().where.function << " " << session.pause().where.offset
                 << ": " << callers_end_text(levels.front().end));
      REQUIRE(levels.front().where.function == "main");
    }
  }
}

TEST_CASE("a function begins at its own line where the linker has shortened code") {
  const std::string source = R"(#define APART __attribute__((noinline, noclone))
volatile int x = 3;
APART int first(int i) {
  return i == 0 ? 16 : __builtin_clz(i);
}
APART int second(int i) {
  return i != 0 ? __builtin_clz(i) : 16;
}
APART unsigned third(unsigned i) {
  return i > 0 ? __builtin_ctz(i) : 16;
}
APART int fourth(int i) {
  return i == 0 ? 16 : __builtin_popcount(i);
}
APART void nothing(void) {
  x++;
}
int main(void) {
  for (;;) {
    x = first(x) + second(x);
    x += third(x) + fourth(x);
    nothing();
  }
}
)";
  for (const char* level : {"-Os", "-O1", "-O2", "-O3", "-O0", "-Og"})
    for (const char* dwarf : {"-gdwarf-2", "-gdwarf-4"}) {
      INFO(level << " " << dwarf);
      const auto opened = [&](const std::string& flags) {
        Session session(*Chip::make({"ATmega328P", 16'000'000}));
        REQUIRE(session.open(test::compiled("shortened" + flags + level + dwarf, source,
                                            flags + " " + level + " " + dwarf)));
        return session;
      };
      const Session whole = opened(""), shortened = opened("-mrelax");
      for (const char* name : {"first", "second", "third", "fourth", "nothing", "main"}) {
        INFO(name);
        const auto here = whole.locate(name), there = shortened.locate(name);
        REQUIRE((here && there));
        CHECK(here->function == there->function);
        CHECK(here->line == there->line);
      }
    }
}
