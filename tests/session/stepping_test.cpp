// SPDX-License-Identifier: MIT
// Steps at every optimisation level, recursion, interrupts, and the call stack against one that
// only this test keeps.
#include <fmt/format.h>

#include <catch2/catch.hpp>
#include <map>

#include "lucid/session.h"
#include "lucid/survey.h"
#include "tools.h"

using namespace lucid;
using Cause = Pause::Cause;

namespace {

const char* const kSource = R"(#include <avr/interrupt.h>
#include <avr/io.h>
#include <stdint.h>
volatile uint16_t result, ticks;
__attribute__((noinline)) uint16_t factorial(uint8_t n) {
  uint16_t below;
  if (n <= 1)
    return 1;
  below = factorial(n - 1);
  return n * below;
}
__attribute__((noinline)) void leaf(void) {
  result++;
}
ISR(TIMER1_COMPA_vect) {
  ticks++;
}
int main(void) {
  OCR1A = 150;
  TIMSK1 = _BV(OCIE1A);
  TCCR1B = _BV(WGM12) | _BV(CS10);
  sei();
  for (;;) {
    result = factorial(5);
    leaf();
    leaf(), leaf();
    result = 0;
  }
}
)";

Session opened(const std::string& level) {
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(test::compiled("steps" + level, kSource, level + " -gdwarf-4")));
  return session;
}

}  // namespace

TEST_CASE("line steps over, into and out, at every optimisation level") {
  for (const std::string level : {"-O0", "-Og", "-O1", "-O2", "-Os"}) {
    INFO(level);
    Session session = opened(level);
    const std::string file = "steps" + level + ".c";
    REQUIRE(session.go_to(file + ":24"));
    // Over: each line once, in order, however often interrupts and recursion come between.
    for (int round = 0; round < 20; ++round) {
      for (const unsigned line : {25U, 26U, 27U, 24U}) {
        auto pause = session.step(StepKind::kOver, StepUnit::kLine);
        if (pause && pause->where.line == 28)  // the loop's closing brace has code at -O0
          pause = session.step(StepKind::kOver, StepUnit::kLine);
        REQUIRE(pause);
        INFO("round " << round);
        REQUIRE(pause->where.line == line);
        REQUIRE(pause->where.function == "main");
      }
      REQUIRE(session.evaluate("result")->integer == 0);
    }
    CHECK(session.evaluate("ticks")->integer > 20);
    // Into: behind the prologue of the function.
    auto pause = session.step(StepKind::kInto, StepUnit::kLine);
    REQUIRE(pause);
    CHECK(pause->where.function == "factorial");
    CHECK(pause->where.line >= 5);
    CHECK(pause->where.line <= 7);
    // Down to the innermost call and out of it, level by level.
    REQUIRE(session.pause_at({file + ":8", BreakpointSpec::Rule::kAlways, 1, "", true}));
    session.go();
    if (session.pause().cause == Cause::kBreakpoint && level != "-O2") {
      auto levels = session.callers();
      std::size_t depth = 0;
      for (const CallLevel& l : levels) depth += l.where.function == "factorial" ? 1 : 0;
      CHECK(depth == 5);
      for (std::size_t d = depth; d > 1; --d) {
        REQUIRE(session.step(StepKind::kOut, StepUnit::kLine));
        CHECK(session.callers().size() == levels.size() - (depth - d + 1));
        CHECK(session.pause().where.function == "factorial");
      }
      REQUIRE(session.step(StepKind::kOut, StepUnit::kLine));
      CHECK(session.pause().where.function == "main");
      CHECK(session.pause().where.line == 24);
    }
  }
}

TEST_CASE("two calls on a line: into enters each of them") {
  Session session = opened("-Og");
  REQUIRE(session.go_to("steps-Og.c:26"));
  for (int i = 0; i < 2; ++i) {
    auto pause = session.step(StepKind::kInto, StepUnit::kLine);
    REQUIRE(pause);
    CHECK(pause->where.function == "leaf");
    pause = session.step(StepKind::kOut, StepUnit::kLine);
    REQUIRE(pause);
    CHECK(pause->where.function == "main");
  }
  // The second call is the last instruction of its line: out of it is at the next one.
  CHECK(session.pause().where.line == 27);
  CHECK(session.pause().where.line_begins);
}

TEST_CASE("a breakpoint inside a call that is stepped over still pauses") {
  Session session = opened("-Og");
  REQUIRE(session.go_to("steps-Og.c:25"));
  REQUIRE(session.pause_at({"leaf"}));
  const auto pause = session.step(StepKind::kOver, StepUnit::kLine);
  REQUIRE(pause);
  CHECK(pause->cause == Cause::kBreakpoint);
  CHECK(pause->where.function == "leaf");
  SECTION("and one in an interrupt handler, too") {
    REQUIRE(session.remove(1));
    REQUIRE(session.pause_at({"steps-Og.c:16"}));
    bool in_handler = false;
    for (int i = 0; i < 200 && !in_handler; ++i) {
      const auto stepped = session.step(StepKind::kOver, StepUnit::kLine);
      REQUIRE(stepped);
      in_handler =
          stepped->cause == Cause::kBreakpoint && stepped->where.function == "TIMER1_COMPA_vect";
    }
    CHECK(in_handler);
    const auto levels = session.callers();
    CHECK(levels.back().interrupt);
    CHECK(levels.front().where.function == "main");
  }
}

TEST_CASE("instruction steps enter interrupt handlers and say so; over runs a call through") {
  Session session = opened("-Og");
  REQUIRE(session.go_to("steps-Og.c:24"));
  bool entered = false;
  for (int i = 0; i < 2000 && !entered; ++i) {
    const auto pause = session.step(StepKind::kInto, StepUnit::kInstruction);
    REQUIRE(pause);
    entered = pause->detail == "interrupt TIMER1_COMPA was entered";
    if (entered) CHECK(pause->where.address == 11 * 4);
  }
  CHECK(entered);
  REQUIRE(session.go_to("steps-Og.c:25"));
  while (session.chip().instruction_at(session.chip().pc()).flow != Flow::kCall)
    REQUIRE(session.step(StepKind::kOver, StepUnit::kInstruction));
  const std::uint32_t call = session.chip().pc();
  const std::uint32_t sp = session.chip().sp();
  REQUIRE(session.step(StepKind::kOver, StepUnit::kInstruction));
  CHECK(session.chip().pc() == call + session.chip().instruction_at(call).size);
  CHECK(session.chip().sp() == sp);
}

TEST_CASE(
    "the call stack agrees with executed calls, returns and interrupts, at each instruction") {
  struct Image {
    std::string elf;
    std::string from;      // a place in main
    std::uint64_t cycles;  // before that
  };
  std::vector<Image> images{{test::kKilnOg, "kiln.c:209", 31'990'000},
                            {test::kKilnOs, "kiln.c:209", 31'990'000}};
  for (const std::string level : {"-O0", "-Og", "-O2", "-Os"})
    images.push_back({test::compiled("steps" + level, kSource, level + " -gdwarf-4"), "main", 0});
  const std::string folder = std::string(LUCID_TEST_SOURCES) + "/../benchmarks/programs";
  for (const std::string program : {"integer", "float", "text", "interrupts", "polling", "serial"})
    for (const std::string level : {"-Og", "-O2", "-Os"})
      images.push_back(
          {test::compiled("calls-" + program + level, test::read(folder + "/" + program + ".c"),
                          level + " -std=gnu11 -gdwarf-4 -I" + folder + " -lm"),
           "main", 0});
  std::uint64_t all_compared = 0;
  std::uint64_t all_saved = 0;
  for (const Image& image : images) {
    INFO(image.elf);
    Session session(*Chip::make({"ATmega328P", 16'000'000}));
    REQUIRE(session.open(image.elf));
    REQUIRE(session.drive("PD2", false));
    REQUIRE(session.feed("USART0", "G\nP\n"));
    session.go_for(image.cycles);
    REQUIRE(session.go_to(image.from));
    struct Call {
      std::uint32_t returns_to, sp;  // and the registers when it was made
      std::vector<std::uint64_t> registers;
    };
    std::vector<Call> calls;  // and interrupts that have not returned, outermost first
    const auto call = [&](std::uint32_t returns_to, std::uint32_t sp) {
      Call made{returns_to, sp, {}};
      for (const RegisterView& r : session.registers())
        if (made.registers.size() < 32) made.registers.push_back(r.value);
      calls.push_back(std::move(made));
    };
    // The registers that the stack view says are saved are those of the caller, when it called.
    const auto check_saved = [&] {
      std::uint64_t seen = 0;
      std::size_t level = calls.size();
      for (const StackView::Slot& slot : session.stack(100).slots) {
        if (slot.kind == StackView::Slot::Kind::kReturn) --level;
        if (slot.kind != StackView::Slot::Kind::kSaved || level == 0) continue;
        const auto reg = static_cast<std::size_t>(std::stoul(slot.name.substr(1)));
        INFO(std::hex << session.chip().pc() << " " << slot.address << " " << slot.meaning);
        CHECK(calls[level - 1].registers[reg] == slot.bytes[0]);
        ++seen;
      }
      return seen;
    };
    std::uint32_t deepest_sp = UINT32_MAX;
    std::size_t deepest_levels = 0;
    std::uint64_t compared = 0;
    std::uint64_t right = 0;
    const unsigned steps = test::kSanitized ? 2'000 : 25'000;
    for (unsigned i = 0; i < steps; ++i) {
      const std::uint32_t pc = session.chip().pc();
      const std::uint32_t sp = session.chip().sp();
      const Instruction now = session.chip().instruction_at(pc);
      const auto pause = session.step(StepKind::kInto, StepUnit::kInstruction);
      REQUIRE(pause);
      if (pause->detail.find("interrupt") == 0)
        call(pc, sp);
      else if (now.flow == Flow::kCall || now.flow == Flow::kIndirectCall)
        call(pc + now.size, sp);
      else if (now.flow == Flow::kReturn || now.flow == Flow::kInterruptReturn)
        calls.pop_back();
      if (session.chip().sp() < deepest_sp) {
        deepest_sp = session.chip().sp();
        deepest_levels = calls.size() + 1;
      }
      if (session.chip().pc() < 26 * 4) continue;  // the vector table belongs to no function
      ++compared;
      auto found = session.callers();  // but for bodies that stand in place of a call
      found.erase(std::remove_if(found.begin(), found.end(),
                                 [](const CallLevel& level) { return level.inlined; }),
                  found.end());
      bool same = found.size() == calls.size() + 1;
      for (std::size_t n = 0; same && n + 1 < found.size(); ++n)
        same = found[n].where.address == calls[n].returns_to && found[n + 1].cfa == calls[n].sp;
      if (i % 32 == 0) all_saved += check_saved();
      right += same ? 1 : 0;
      if (!same && compared - right < 4) {
        std::string text;
        for (const CallLevel& l : found) text += " " + l.where.function;
        WARN("at " << std::hex << session.chip().pc() << " "
                   << session.chip().instruction_at(session.chip().pc()).mnemonic << ":" << text
                   << ", expected " << std::dec << calls.size() + 1 << " levels");
      }
    }
    // The deepest moment on the way: its chain, as the test has seen it.
    if (deepest_sp == session.stack().top - *session.stack().deepest) {
      auto chain = session.stack().deepest_chain;
      CHECK(chain.size() >= deepest_levels);
      CHECK(chain.front() == "main");
    }
    CHECK(compared > steps / 5 * 4);
    CHECK(right == compared);
    all_compared += compared;
  }
  WARN(images.size() << " programs, " << all_compared << " instructions, " << all_saved
                     << " saved registers");
}

TEST_CASE("parameters and locals: right, or said to be unknown, at every optimisation level") {
  const std::string source = R"(
#include <stdint.h>
volatile int16_t sink;
struct point { int16_t x, y; };
__attribute__((noinline)) int16_t inner(int16_t a, uint8_t b) {
  int16_t product = a * b;
  sink = product;
  return product + 1;
}
__attribute__((noinline)) int16_t outer(uint8_t n, const struct point *p) {
  int32_t total = 100000;
  struct point here = {p->x + n, p->y - n};
  for (uint8_t i = 0; i < n; i++) {
    int16_t part = inner(here.x, i);
    total += part;
    sink = here.y;
  }
  sink = total;
  return total >> 8;
}
int main(void) {
  struct point start = {7, -3};
  for (;;) sink = outer(4, &start);
}
)";
  unsigned known = 0;
  unsigned asked = 0;
  for (const std::string level : {"-O0", "-Og", "-O1", "-O2", "-Os"}) {
    INFO(level);
    Session session(*Chip::make({"ATmega328P", 16'000'000}));
    REQUIRE(session.open(test::compiled("locals" + level, source, level + " -gdwarf-4")));
    // In the loop's third round: n = 4, i = 2, here = {11, -7}.
    REQUIRE(session.pause_at({"inner", BreakpointSpec::Rule::kOn, 3}));
    session.go();
    REQUIRE(session.pause().where.function == "inner");
    const auto is = [&](const char* name, std::int64_t value) {
      ++asked;
      const auto found = session.evaluate(name);
      if (!found) {
        INFO(found.error().text());
        CHECK(found.error().code != ErrorCode::kUsage);
        return;
      }
      ++known;
      INFO(name);
      CHECK(found->integer == value);
    };
    is("a", 11);
    is("b", 2);
    REQUIRE(session.go_to("locals" + level + ".c:7"));
    is("product", 22);
    is("a", 11);
    is("b", 2);
    const auto levels = session.callers();
    REQUIRE(levels.size() >= 2);
    REQUIRE(session.select_level(static_cast<unsigned>(levels.size() - 1)));
    is("n", 4);
    is("i", 2);
    is("here.x", 11);
    is("here.y", -7);
    is("total", 100000 + 1 + 12);
    is("p->y", -3);
    CHECK_FALSE(session.evaluate("product"));
    CHECK_FALSE(session.select_level(9));
    // A condition means the locals of its own place.
    REQUIRE(
        session.pause_at({"locals" + level + ".c:7", BreakpointSpec::Rule::kAlways, 1, "b == 3"}));
    session.go();
    CHECK(session.pause().breakpoints == std::vector<unsigned>{2});
    is("b", 3);
    if (level == "-O0") {
      REQUIRE(session.let("product", "500"));
      CHECK(session.evaluate("product")->integer == 500);
      CHECK(known == asked);
    }
  }
  WARN(known << " of " << asked << " values were known");
  CHECK(known * 10 >= asked * 6);
}

TEST_CASE("inlined calls are levels of their own, and stepping over runs their bodies through") {
  const std::string source = R"(
#include <avr/io.h>
static inline __attribute__((always_inline)) unsigned char twice(unsigned char v) {
  unsigned char doubled = v * 2;
  PORTB = doubled;
  return doubled + 1;
}
static inline __attribute__((always_inline)) unsigned char outer(unsigned char w) {
  unsigned char r = twice(w + 3);
  PORTC = r;
  return r;
}
__attribute__((noinline)) void work(unsigned char n) {
  unsigned char local = n ^ 0x55;
  PORTD = outer(local);
  PORTD = twice(n);
}
int main(void) {
  for (unsigned char i = 0;; ++i)
    work(i);
}
)";
  for (const std::string level : {"-Og", "-O1", "-O2", "-Os"}) {
    INFO(level);
    Session session(*Chip::make({"ATmega328P", 16'000'000}));
    REQUIRE(session.open(test::compiled("inlined" + level, source, level + " -gdwarf-4")));
    const auto made = session.pause_at({"twice"});
    REQUIRE(made);
    CHECK(made->addresses.size() == 2);  // one breakpoint, both bodies
    session.go();
    const auto levels = session.callers();
    REQUIRE(levels.size() == 4);
    const std::vector<std::tuple<std::string, unsigned, bool>> expected{
        {"main", 20, false}, {"work", 15, false}, {"outer", 9, true}, {"twice", 4, true}};
    for (unsigned i = 0; i < 4; ++i) {
      CHECK(levels[i].where.function == std::get<0>(expected[i]));
      if (i > 0 && i < 3) CHECK(levels[i].where.line == std::get<1>(expected[i]));
      CHECK(levels[i].inlined == std::get<2>(expected[i]));
    }
    // Each level sees its own names only.
    CHECK_FALSE(session.evaluate("n").has_value());
    REQUIRE(session.select_level(2));
    CHECK(session.evaluate("n")->text == "0");
    CHECK_FALSE(session.evaluate("v").has_value());
    REQUIRE(session.select_level(3));
    CHECK(session.evaluate("w")->text == "85");
    CHECK(session.step(StepKind::kOut, StepUnit::kLine)->where.inlined == "outer");
    CHECK(session.step(StepKind::kOut, StepUnit::kLine)->where.inlined.empty());
    session.go();  // the second body, called by work itself
    CHECK(session.callers().size() == 3);

    REQUIRE(session.remove(made->id));
    Session over(*Chip::make({"ATmega328P", 16'000'000}));
    REQUIRE(over.open(test::scratch("inlined" + level + ".elf")));
    REQUIRE(over.go_to("main"));
    for (int i = 0; i < 6; ++i) {
      const auto pause = over.step(StepKind::kOver, StepUnit::kLine);
      CHECK(pause->where.inlined.empty());
      CHECK((pause->where.function == "main" || pause->where.function == "work"));
    }
  }
}

TEST_CASE("stay in and run through decide what a step enters, and what is run through is said") {
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(test::kKilnOg));
  CHECK_FALSE(session.filter_steps({"kiln.cc"}, {}).has_value());
  CHECK(session.filter_steps({}, {"lamp_sett"}).error().hint.find("lamp_set") != std::string::npos);
  const auto step_from = [&](const std::string& place) {
    REQUIRE(session.reset().cause == Pause::Cause::kReady);
    REQUIRE(session.go_to(place));
    return *session.step(StepKind::kInto, StepUnit::kLine);
  };
  const auto start = [&] {
    for (const Function& f : session.program().functions())
      if (f.name == "main") return session.program().body_of(f);
    return 0U;
  };
  const std::string first = fmt::format("{:#x}", start());
  const std::string entered = step_from(first).where.function;
  CHECK(entered == "board_init");
  REQUIRE(session.filter_steps({"kiln.c"}, {}));
  const Pause kept = step_from(first);
  CHECK(kept.where.function == "main");
  REQUIRE(kept.remarks.size() == 1);
  CHECK(kept.remarks[0] == "ran through board_init: board.c is not among `stay in`");
  REQUIRE(session.filter_steps({}, {"board_init"}));
  CHECK(step_from(first).remarks[0] == "ran through board_init: `run through` says so");
  REQUIRE(session.filter_steps({}, {}));
  CHECK(step_from(first).where.function == "board_init");
}

TEST_CASE("functions that were left by a tail call are call levels") {
  const std::string elf = test::compiled("tail", R"(#include <stdint.h>
volatile uint16_t sink;
__attribute__((noinline)) void last(uint8_t n) { sink = n; sink++; }
__attribute__((noinline)) void middle(uint8_t n) { sink = n; last(n * 2); }
__attribute__((noinline)) void first(uint8_t n) { sink = 1; middle(n + 1); }
int main(void) {
  for (;;) first(sink);
}
)",
                                         "-O2 -gdwarf-4");
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(elf));
  REQUIRE(session.go_to("last"));
  std::string names;
  for (const CallLevel& level : session.callers())
    names += level.where.function + (level.left ? " left " : " ");
  CHECK(names == "main first left middle left last ");
  CHECK(session.step(StepKind::kOut, StepUnit::kLine)->where.function == "main");
}

TEST_CASE("a step over tells the first four of what a loop of calls returns, and ends as ever") {
  for (const char* level : {"-O0", "-Os", "-O2"}) {
    INFO(level);
    Session session(*Chip::make({"ATmega328P", 16'000'000}));
    REQUIRE(session.open(test::compiled("loop-of-calls", R"(#include <stdint.h>
volatile uint16_t sink;
__attribute__((noinline)) uint8_t twice(uint8_t k) { return 2 * k; }
__attribute__((noinline)) uint16_t sum(uint8_t k) {
  return k == 0 ? 0 : k + sum(k - 1);
}
int main(void) {
  for (;;) {
    for (uint16_t i = 3; i < 1000; i++) sink += twice(i);
    sink = sum(9);
    sink = 7;
  }
})",
                                        std::string(level) + " -gdwarf-4")));
    REQUIRE(session.go_to("loop-of-calls.c:9"));
    const auto loop = session.step(StepKind::kOver, StepUnit::kLine);
    REQUIRE(loop);
    CHECK(loop->where.line == 10);
    REQUIRE(loop->returned.size() == 4);
    for (unsigned i = 0; i < 4; ++i) CHECK(loop->returned[i].value == std::to_string(2 * (i + 3)));
    const auto recursion = session.step(StepKind::kOver, StepUnit::kLine);
    REQUIRE(recursion);
    CHECK(recursion->where.line == 11);
    // Where it is optimised the call may be gone.
    REQUIRE(recursion->returned.size() <= 1);
    if (recursion->returned.empty())
      CHECK(std::string(level) != "-O0");
    else
      CHECK(recursion->returned[0].value == "45");
  }
}

TEST_CASE(
    "a breakpoint on an inlined function counts each of its calls, whatever loops around it") {
  // The program counts the calls itself, in the body.
  const char* source = R"(#include <stdint.h>
static volatile uint16_t calls, other;
static volatile uint8_t data[8];
static inline __attribute__((always_inline)) void once(uint8_t i) {
  calls++;
  data[i & 7] = i;
}
static inline __attribute__((always_inline)) void looping(uint8_t n) {
  do {
    data[n & 7]++;
  } while (--n);
  other++;
}
int main(void) {
  for (uint8_t i = 0; i < data[0] + 9; i++) once(i);
  for (;;) {
    for (uint8_t i = 1; i < 5; i++) {
      once(i);
      looping(i);
    }
    if (calls > 40) once(0);
  }
}
)";
  for (const char* flags : {"-O0", "-Og", "-O1", "-O2", "-Os", "-O3"}) {
    INFO(flags);
    const std::string elf =
        test::compiled("inlined-loop", source, std::string("-gdwarf-4 ") + flags);
    Session session(*Chip::make({"ATmega328P", 16'000'000}));
    REQUIRE(session.open(elf));
    BreakpointSpec spec{"once"};
    spec.log = "x";
    REQUIRE(session.pause_at(spec));
    spec.place = "looping";
    REQUIRE(session.pause_at(spec));
    session.go_for(std::uint64_t{20'000});
    const auto points = session.breakpoints();
    const auto counted = [&](const char* name) {
      return static_cast<std::uint64_t>(session.evaluate(name)->integer);
    };
    // The last call may have begun only.
    CHECK(counted("calls") > 90);
    CHECK(points[0].passes - counted("calls") <= 1);
    CHECK(points[1].passes - counted("other") <= 1);
  }
}

TEST_CASE("… also where bodies stand within bodies, in recursion, on a chip with wide addresses") {
  const char* source = R"(#include <stdint.h>
static volatile uint16_t c_leaf, c_mid, c_cond; static volatile uint8_t d[8], flag;
static inline __attribute__((always_inline)) void leaf(uint8_t i) {
  c_leaf++;
  d[i & 7] ^= i; }
static inline __attribute__((always_inline)) void mid(uint8_t i) {
  leaf(i);
  c_mid++;
  leaf(i + 1);
}
static inline __attribute__((always_inline)) uint8_t cond(uint8_t i) { if (d[i & 7] & 1) return 0; c_cond++; return 1; }
__attribute__((noinline)) static void rec(uint8_t n) { mid(n); if (n) rec(n - 1); }
int main(void) { uint8_t k = 0; for (;;) { for (uint8_t i = 0; i < d[1] % 5 + 2; i++) { mid(i); while (d[2] & 4) leaf(2); } rec(3); k += cond(k); leaf(k); do leaf(k); while (++k & 3); } }
)";
  for (const char* chip : {"ATmega328P", "ATmega2560"})
    for (const char* flags : {"-O0", "-Og", "-O1", "-O2", "-Os", "-Os -flto"}) {
      INFO(chip << " " << flags);
      std::string mcu = chip;
      for (char& c : mcu) c = static_cast<char>(std::tolower(c));
      const std::string elf =
          test::compiled("inlined-deep", source, std::string("-w -gdwarf-4 ") + flags, mcu);
      Session session(*Chip::make({chip, 16'000'000}));
      REQUIRE(session.open(elf));
      for (const char* name : {"leaf", "mid"}) {
        BreakpointSpec spec{name};
        spec.log = "x";
        REQUIRE(session.pause_at(spec));
      }
      session.go_for(std::uint64_t{100'000});
      const auto points = session.breakpoints();
      for (std::size_t i = 0; i < 2; ++i) {
        const auto calls = session.evaluate(i == 0 ? "c_leaf" : "c_mid")->integer;
        CHECK(calls > 500);
        CHECK(points[i].passes - static_cast<std::uint64_t>(calls) <= 2);  // begun, not counted yet
      }
    }
}

TEST_CASE("a line that is nothing but a call that was inlined has code, and passes") {
  const std::string source = R"(#include <stdint.h>
volatile uint8_t bus;
static inline void tick(void) {
  bus = 1;
  bus = 0;
}
__attribute__((noinline)) void idle(void) {
  tick(); // only
}
int main(void) {
  for (uint8_t n = 0; n < 5; n++) {
    tick(); // looped
    bus = n;
  }
  idle();
  for (;;) {
  }
}
)";
  for (const std::string level : {"-O1", "-O2", "-Os"}) {
    INFO(level);
    Session session(*Chip::make({"ATmega328P", 16'000'000}));
    REQUIRE(session.open(test::compiled("only-inlined", source, level + " -gdwarf-4")));
    REQUIRE(session.survey(Session::Survey::kCounts));
    const auto only = session.pause_at({"only-inlined.c:8"});
    const auto looped = session.pause_at({"only-inlined.c:12"});
    REQUIRE(only);
    REQUIRE(looped);
    session.set_limit({1'000'000'000});
    std::map<unsigned, unsigned> passes;
    for (unsigned i = 0; i < 20; ++i) {
      const Pause pause = session.go();
      if (pause.cause != Pause::Cause::kBreakpoint) break;
      for (const unsigned id : pause.breakpoints) ++passes[id];
      CHECK(session.callers().front().where.function == "main");
    }
    CHECK(passes[only->id] == 1);
    CHECK(passes[looped->id] == 5);
    const auto coverage = session.coverage();
    REQUIRE(coverage);
    for (const auto& file : coverage->files)
      for (const auto& line : file.lines)
        if (line.line == 8 || line.line == 12) CHECK(line.passes == (line.line == 8 ? 1 : 5));
  }
}
