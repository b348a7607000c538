// SPDX-License-Identifier: MIT
// Breakpoints, running, changing, and that the session stays whole whatever it is told.
#include <atomic>
#include <catch2/catch.hpp>
#include <chrono>
#include <map>
#include <set>
#include <sstream>
#include <thread>

#include "lucid/session.h"
#include "tools.h"

using namespace lucid;
using Rule = BreakpointSpec::Rule;
using Cause = Pause::Cause;

namespace {

Session opened(const std::string& elf) {
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  const auto warnings = session.open(elf);
  REQUIRE(warnings);
  return session;
}

/// A loop that calls a function 100 times; a skip jumps over every other store.
const char* const kCounting = R"(
#include <stdint.h>
volatile uint8_t calls, i;
volatile int16_t sum;
__attribute__((noinline)) void count(void) {
  calls++;
}
int main(void) {
  for (i = 0; i < 100; i++) {
    count();
    sum += i;
  }
  for (;;) {
  }
}
)";

Session counting() { return opened(test::compiled("counting", kCounting, "-Og -gdwarf-4")); }

}  // namespace

TEST_CASE("pass counts: on the 9th, from the 9th, at every 9th") {
  struct Row {
    Rule rule;
    std::vector<int> pauses_at;
  };
  for (const Row& row : {Row{Rule::kOn, {9}}, Row{Rule::kFrom, {9, 10, 11}},
                         Row{Rule::kEvery, {9, 18, 27}}, Row{Rule::kAlways, {1, 2, 3}}}) {
    Session session = counting();
    REQUIRE(session.pause_at({"count", row.rule, 9}));
    for (const int pass : row.pauses_at) {
      const Pause pause = session.go();
      CHECK(pause.cause == Cause::kBreakpoint);
      CHECK(pause.passes == static_cast<std::uint64_t>(pass));
      // The marked line has not been executed.
      CHECK(session.evaluate("calls")->integer == pass - 1);
    }
    if (row.rule == Rule::kOn) {
      session.go_for(100'000);
      CHECK(session.breakpoints()[0].passes == 100);
      CHECK(session.pause().cause == Cause::kTimeUp);
    }
  }
}

TEST_CASE("a pass is counted when the condition holds; how often it was reached is told, too") {
  Session session = counting();
  REQUIRE(session.pause_at({"count", Rule::kOn, 3, "i % 10 == 0"}));
  const Pause pause = session.go();
  CHECK(session.evaluate("i")->integer == 20);
  CHECK(pause.passes == 3);
  CHECK(pause.reached == 21);
  REQUIRE(session.rearm(1));
  CHECK(session.breakpoints()[0].passes == 0);
  session.go();
  CHECK(session.evaluate("i")->integer == 50);
}

TEST_CASE("a condition in translated code holds when it holds step by step") {
  const std::string elf = test::compiled("conditions", R"(
#include <stdint.h>
volatile uint8_t u8; volatile int8_t s8 = -120; volatile uint16_t u16; volatile int16_t s16 = -300;
volatile uint32_t u32 = 0xfffffff0; volatile int32_t s32 = -7;
struct { uint8_t low : 3, high : 5; } volatile bits; volatile uint16_t table[4];
volatile uint8_t *pointer = &u8;
__attribute__((noinline)) void turn(void) {
  u8 += 3; s8 += 5; u16 += 777; s16 += 7; u32 += 3; s32 += 2; bits.high++; table[u8 & 3] += 9;
}
int main(void) { for (;;) turn(); }
)",
                                         "-Og -gdwarf-4");
  Chip::Options options;
  options.translate_after = 1;
  Chip::Options never = options;
  never.translate_after = 0;
  Session quick(*Chip::make(options));
  Session precise(*Chip::make(never));
  for (Session* session : {&quick, &precise}) REQUIRE(session->open(elf));
  std::uint64_t held = 0;
  for (const char* condition : {"u8 == 30",
                                "u8 > 200",
                                "s8 < -100",
                                "s8 <= u8",
                                "s8 == -1",
                                "u16 >= 40000",
                                "u16 != 777",
                                "s16 < 0",
                                "s16 > u16",
                                "s16 == u16",
                                "u32 < 16",
                                "u32 > 4294967290",
                                "u32 == 4000000000",
                                "s32 < u32",
                                "s32 < u8",
                                "s32 == -1",
                                "-s8 > 100",
                                "~u8 == -4",
                                "!u8",
                                "!(u8 & 1)",
                                "u8 + s8 < 0",
                                "u16 + u16 == 1554",
                                "u16 - s16 > 100",
                                "(u8 ^ s8) == 5",
                                "u8 | s16",
                                "u8 & s8 && s16 < 5",
                                "u8 == 3 || s16 == -286",
                                "table[1] > 100",
                                "bits.high == 7",
                                "u8 * 2 == 6",
                                "u16 >> 4 == 9",
                                "*pointer == 9",
                                "u8 && !(s16 - 7)",
                                "u16 + 1 < u8",
                                "s16 + s32 == -302",
                                "u8 - 200 > 0",
                                "u8 == 1000"}) {
    INFO(condition);
    std::string seen[2];
    for (Session* session : {&quick, &precise}) {
      session->reset();
      const auto id = session->pause_at({"turn", Rule::kOn, 9, condition});
      REQUIRE(id);
      std::string& out = seen[session == &quick ? 0 : 1];
      for (int i = 0; i < 2; ++i) {
        const Pause pause = session->go_for(150'000);
        const Breakpoint point = session->breakpoints().back();
        out += std::to_string(pause.cycles) + " at " + std::to_string(session->chip().pc()) +
               ", passed " + std::to_string(point.passes) + " of " + std::to_string(point.reached) +
               "; ";
        held += point.passes;
      }
      REQUIRE(session->remove(id->id));
    }
    CHECK(seen[0] == seen[1]);
  }
  CHECK(held > 1000);
}

TEST_CASE("a breakpoint that is passed on a reserved word is no run to translate") {
  Chip::Options options;
  options.translate_after = 1;
  Session session(*Chip::make(options));
  REQUIRE(session.open(test::assembled("reserved", R"(
        .global start
start:  inc r20
        .word 0x0001
        rjmp start
)")));
  REQUIRE(session.set_fault("reserved-instruction", false));
  REQUIRE(session.pause_at({"0x2", Rule::kOn, 300}));
  CHECK(session.go().cause == Cause::kBreakpoint);
  CHECK(session.evaluate("chip.r20")->integer == 300 % 256);
}

TEST_CASE("a pass counts only if the instruction executes next") {
  SECTION("not when it is skipped") {
    Session session = opened(test::assembled("skipped", R"(
        .global start
start:  ldi r20, 0
loop:   inc r20
        sbrc r20, 0
        inc r21
        rjmp loop
)"));
    REQUIRE(session.pause_at({"0x6", Rule::kOn, 5}));
    session.go();
    CHECK(session.evaluate("chip.r20")->integer == 9);  // odd values only
    CHECK(session.evaluate("chip.r21")->integer == 4);
  }
  SECTION("not when an interrupt is entered first") {
    // UDRE asks all the time; its handler turns itself off and counts.
    Session session = opened(test::assembled("entered", R"(
        jmp start
        .org 19*4
        inc r21
        sts UCSR0B, r1
        reti
        .org 26*4
        .global start
start:  ldi r17, (1<<UDRIE0)
        sei
loop:   sts UCSR0B, r17
        inc r20
        rjmp loop
)"));
    REQUIRE(session.pause_at({"0x70", Rule::kAlways}));  // inc r20
    for (int pass = 1; pass <= 5; ++pass) {
      const Pause pause = session.go();
      CHECK(session.evaluate("chip.r20")->integer == pass - 1);
      CHECK(session.evaluate("chip.r21")->integer == pass);
      CHECK(pause.passes == static_cast<std::uint64_t>(pass));
    }
  }
  SECTION("and the instruction behind sei still executes before the interrupt") {
    // UDRE stands when I is turned on. The handler keeps what it finds in r20.
    Session session = opened(test::assembled("behind-sei", R"(
        jmp start
        .org 19*4
        mov r21, r20
        sts UCSR0B, r1
        reti
        .org 26*4
        .global start
start:  ldi r17, (1<<UDRIE0)
        sts UCSR0B, r17
        sei
        inc r20
        inc r20
loop:   rjmp loop
)"));
    REQUIRE(session.pause_at({"0x70"}));  // the first inc r20
    CHECK(session.go().cause == Pause::Cause::kBreakpoint);
    session.go_for(30);
    CHECK(session.evaluate("chip.r21")->integer == 1);
  }
  SECTION("and once, however one gets there") {
    Session session = counting();
    REQUIRE(session.pause_at({"count"}));
    REQUIRE(session.go_to("count"));
    CHECK(session.pause().passes == 1);
    CHECK(session.pause().breakpoints == std::vector<unsigned>{1});
    session.go();
    CHECK(session.breakpoints()[0].passes == 2);
    REQUIRE(session.step(StepKind::kOver, StepUnit::kInstruction, 3));
    CHECK(session.breakpoints()[0].passes == 2);
  }
}

TEST_CASE("once, enable, disable, remove, all off and on again") {
  Session session = counting();
  REQUIRE(session.pause_at({"count", Rule::kAlways, 1, "", true}));
  REQUIRE(session.pause_at({"counting.c:11"}));
  session.go();
  CHECK(session.pause().breakpoints == std::vector<unsigned>{1});
  CHECK(session.breakpoints().size() == 1);
  session.go();
  CHECK(session.pause().breakpoints == std::vector<unsigned>{2});
  REQUIRE(session.enable(2, false));
  session.go_for(1000);
  CHECK(session.pause().cause == Cause::kTimeUp);
  REQUIRE(session.enable(2, true));
  session.all_breakpoints(false);
  session.go_for(100);
  CHECK(session.pause().cause == Cause::kTimeUp);
  session.all_breakpoints(true);
  CHECK(session.go().cause == Cause::kBreakpoint);
  REQUIRE(session.remove(2));
  CHECK_FALSE(session.remove(2));
  CHECK_FALSE(session.enable(7, true));
  CHECK(session.breakpoints().empty());
}

TEST_CASE("a log goes on, with values filled in") {
  struct Lines : Listener {
    std::vector<std::string> text;
    void on_message(const std::string& line) override { text.push_back(line); }
  } lines;
  Session session = counting();
  session.set_listener(&lines);
  REQUIRE(session.pause_at({"count", Rule::kEvery, 25, "", false, "at {i as hex}, {nothing}"}));
  session.go_for(100'000);
  REQUIRE(lines.text.size() == 4);
  CHECK(lines.text[1].find("at 0x31, {nothing: there is no 'nothing'") == 0);
}

TEST_CASE("what is not there yet waits; what cannot be is refused with the nearest place") {
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.pause_at({"count"}));
  REQUIRE(session.pause_at({"counting.c:11"}));
  REQUIRE(session.pause_at({"nothing_like_it"}));
  CHECK(session.breakpoints()[0].addresses.empty());
  REQUIRE(session.open(test::compiled("counting", kCounting, "-Og -gdwarf-4")));
  CHECK(session.breakpoints()[0].addresses.size() == 1);
  CHECK(session.breakpoints()[1].where.line == 11);
  CHECK(session.breakpoints()[2].waits_because.find("no function 'nothing_like_it'") !=
        std::string::npos);
  CHECK(session.go().breakpoints == std::vector<unsigned>{1});

  const auto no_code = session.pause_at({"counting.c:4"});
  REQUIRE_FALSE(no_code);
  CHECK(no_code.error().text() == "counting.c:4 has no code (the nearest lines with code are 5)");
  const auto misspelt = session.pause_at({"cuont"});
  REQUIRE(misspelt);  // another build may have it
  CHECK(misspelt->waits_because.find("did you mean count?") != std::string::npos);
  for (const char* place : {"counting.c:x", "0x8000", "0x3", "99999999999"}) {
    INFO(place);
    CHECK_FALSE(session.pause_at({place}));
  }
  CHECK_FALSE(session.pause_at({"count", Rule::kOn, 0}));
  CHECK_FALSE(session.pause_at({"count", Rule::kOn, 1, "i ++"}));
  CHECK(session.breakpoints().size() == 4);
}

TEST_CASE("a reload keeps breakpoints and sets their passes back") {
  Session session = counting();
  REQUIRE(session.pause_at({"count", Rule::kOn, 5}));
  session.go();
  CHECK(session.pause().passes == 5);
  REQUIRE(session.reload());
  CHECK(session.chip().cycles() == 0);
  CHECK(session.pause().cause == Cause::kReady);
  CHECK(session.breakpoints()[0].passes == 0);
  session.go();
  CHECK(session.evaluate("calls")->integer == 4);
  const std::uint64_t before = session.chip().hash();
  CHECK_FALSE(session.reload("/nowhere.elf"));
  CHECK(session.chip().hash() == before);
}

TEST_CASE("go for, go to, go until, move to, reset") {
  Session session = counting();
  CHECK(session.go_for(10).cycles >= 10);
  CHECK(session.pause().cycles < 14);
  auto pause = session.go_to("count");
  REQUIRE(pause);
  CHECK(pause->where.function == "count");
  CHECK(pause->cause == Cause::kArrived);
  pause = session.go_until("i == 7");
  REQUIRE(pause);
  CHECK(pause->cause == Cause::kHolds);
  CHECK(session.evaluate("i")->integer == 7);
  CHECK(session.evaluate("calls")->integer == 7);
  CHECK_FALSE(session.go_until("i = 8"));
  pause = session.go_until("chip.r24 / (i - 9) == 77");
  REQUIRE(pause);
  CHECK(pause->cause == Cause::kCannotTell);
  CHECK(pause->detail.find("division by zero") != std::string::npos);
  const std::uint64_t cycles = session.chip().cycles();
  pause = session.move_to("counting.c:11");
  REQUIRE(pause);
  CHECK(session.chip().cycles() == cycles);
  CHECK(pause->where.line == 11);
  CHECK(pause->remarks.size() == 1);
  CHECK(session.reset().where.address == 0);
  CHECK_FALSE(session.go_to("nowhere"));
}

TEST_CASE("a request to pause from another thread is answered within 10 ms") {
  Session session = counting();
  std::atomic<std::int64_t> asked{0};
  std::thread other([&] {
    while (!session.running()) std::this_thread::yield();
    std::this_thread::sleep_for(std::chrono::milliseconds(50));
    asked = std::chrono::steady_clock::now().time_since_epoch().count();
    session.request_pause();
  });
  const Pause pause = session.go();
  const auto answered = std::chrono::steady_clock::now().time_since_epoch().count();
  other.join();
  CHECK(pause.cause == Cause::kRequested);
  // The figure itself stands in docs/measurements.md; here only that it is not a matter of seconds.
  WARN("answered after " << (answered - asked) / 1000 << " us");
  CHECK(answered - asked < 1'000'000'000);
}

TEST_CASE("let changes registers, flags, I/O fields, memories, pins and variables") {
  Session session = counting();
  REQUIRE(session.go_to("count"));
  const auto is = [&](const char* object, const char* value, std::int64_t expected) {
    INFO(object);
    const auto done = session.let(object, value);
    REQUIRE(done);
    CHECK(done->integer == expected);
    CHECK(session.evaluate(object)->integer == expected);
  };
  is("chip.r24", "0x5a", 0x5a);
  is("chip.Z", "0x1234", 0x1234);
  is("chip.sreg.Z", "1", 1);
  is("chip.sreg.C", "0", 0);
  is("chip.PORTB.5", "1", 1);
  is("chip.TCCR1B.CS", "3", 3);
  is("chip.OCR1A", "0x1ff", 0x1ff);
  is("chip.TCNT1", "4660", 4660);
  is("chip.ram[0x300]", "77", 77);
  is("chip.eeprom[4]", "'A'", 65);
  is("chip.flash[0x7000]", "1", 1);
  is("pin.PB4", "1", 1);
  is("sum", "-5", -5);
  is("calls", "300", 300 & 0xff);
  is("chip.sp", "0x8f0", 0x8f0);
  for (const char* object :
       {"1 + 1", "calls + 1", "chip.cycles", "main", "chip.ram[0x900]", "nothing"}) {
    INFO(object);
    CHECK_FALSE(session.let(object, "1"));
  }
  CHECK_FALSE(session.let("calls", "nothing"));
}

TEST_CASE("changing code in place is executed at once, marked or not") {
  Session session = counting();
  REQUIRE(session.pause_at({"count"}));
  session.go();
  const std::uint32_t at = session.chip().pc();
  // nop over all of `calls++`, then on to the return.
  for (std::uint32_t a = at; session.chip().instruction_at(a).mnemonic != "ret";) {
    const std::uint32_t size = session.chip().instruction_at(a).size;
    for (std::uint32_t i = 0; i < size; ++i)
      REQUIRE(session.let("chip.flash[" + std::to_string(a + i) + "]", "0"));
    a += size;
  }
  for (int i = 0; i < 5; ++i) session.go();
  CHECK(session.evaluate("calls")->integer == 0);
  CHECK(session.breakpoints()[0].passes == 6);
}

TEST_CASE("the stack running into static data is a fault, with the culprit") {
  Session session = opened(std::string(LUCID_KILN) + "/images/deep-plan.elf");
  session.go_for(17'600'000);
  REQUIRE(session.feed("USART0", "P\n"));
  const Pause pause = session.go();
  CHECK(pause.cause == Cause::kFault);
  CHECK(pause.detail.find("static data") != std::string::npos);
  CHECK(session.evaluate("chip.stack.free")->integer < 0);
  CHECK(session.stack().deepest.value_or(0) > 1800);
  const auto chain = session.stack().deepest_chain;
  REQUIRE(chain.size() > 4);
  CHECK(chain[0] == "main");
  CHECK(std::count(chain.begin(), chain.end(), "print_from") >= 3);  // recursion
}

TEST_CASE("an image older than its source, and one for another chip, say so") {
  const std::string source = "int main(void) { for (;;); }\n";
  const std::string elf = test::compiled("older", source, "-Os -gdwarf-4");
  REQUIRE(test::run("touch -d '10 minutes ago' " + elf).code == 0);
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  auto warnings = session.open(elf);
  REQUIRE(warnings);
  REQUIRE(warnings->size() == 1);
  CHECK(warnings->front().find("older than its source: older.c") != std::string::npos);
  REQUIRE(test::run("touch -d '30 seconds ago' " + elf).code == 0);
  CHECK(session.open(elf)->empty());
  const std::string other = test::compiled("other-chip", source, "-Os -gdwarf-4", "atmega168");
  warnings = session.open(other);
  REQUIRE(warnings);
  REQUIRE(warnings->size() == 1);
  CHECK(warnings->front().find("built for atmega168") != std::string::npos);
}

TEST_CASE("views: what changed since the last pause, and names in memory") {
  Session session = opened(test::kKilnOg);
  session.go_for(1'600'000);
  REQUIRE(session.go_to("every_second"));
  const auto globals = session.globals("ticks");
  REQUIRE(globals.size() == 1);
  CHECK(globals[0].value != globals[0].before);
  const auto memory = session.memory("ram", globals[0].address.offset, 2);
  REQUIRE(memory);
  CHECK(memory->rows[0].names.find("ticks") != std::string::npos);
  CHECK((memory->rows[0].changed[0] || memory->rows[0].changed[1]));
  CHECK_FALSE(session.memory("ram", 0x900, 1));
  CHECK_FALSE(session.memory("rom"));
  const auto source = session.source("here", 3);
  REQUIRE(source);
  CHECK(source->lines.size() == 7);
  CHECK(source->lines[3].current);
  CHECK(source->lines[3].text.find("seconds++") != std::string::npos);
  const auto rows = session.disassembly("here", 5);
  REQUIRE(rows);
  CHECK(rows->rows.size() == 5);
  CHECK(session.io("PORTB")->size() == 3);
  CHECK(session.pins().size() == 23);
  CHECK(session.time().cycles == session.chip().cycles());
  REQUIRE(session.step(StepKind::kOver, StepUnit::kInstruction));
  unsigned changed = 0;
  for (const RegisterView& r : session.registers()) changed += r.changed() ? 1 : 0;
  CHECK(changed >= 1);
  CHECK(changed <= 6);
}

TEST_CASE("breakpoints on lines follow their text into a new build") {
  const std::string before = "volatile int x;\nint main(void) {\n  x = 1;\n  x = 2;\n  x = 3;\n}\n";
  const std::string elf = test::compiled("moving", before, "-Og -gdwarf-4");
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(elf));
  REQUIRE(session.pause_at({"moving.c:4"}));
  REQUIRE(session.pause_at({"moving.c:5"}));
  const std::string after =
      "volatile int x;\n\n\nint main(void) {\n  x = 1;\n  x = 2;\n  x = 4;\n}\n";
  REQUIRE(test::compiled("moving", after, "-Og -gdwarf-4") == elf);
  const auto report = session.reload();
  REQUIRE(report);
  CHECK(session.breakpoints()[0].spec.place == "moving.c:6");
  CHECK(session.breakpoints()[1].spec.place == "moving.c:5");
  std::string text;
  for (const std::string& line : *report) text += line + "\n";
  CHECK(text.find("breakpoint 1 moved with its line: moving.c:4 → moving.c:6") != text.npos);
  CHECK(text.find("the text of moving.c:5 is no longer 'x = 3;'") != text.npos);
}

TEST_CASE("lists, rings and trees; pointers into flash, to functions and past the end") {
  const std::string elf = test::compiled("nodes", R"(#include <stdint.h>
struct node { struct node *next, *down; int16_t key; };
struct node pool[3] = {{&pool[1], 0, 1}, {&pool[2], (struct node *)0x9000, 2}, {&pool[0], 0, 3}};
struct node tail, *first = pool, *lone = &tail, *none = 0;
const __flash char text[] = "kiln";
const __flash char *in_flash = text;
const __memx char *far;
static void tick(void) { tail.key++; }
void (*handler)(void) = tick;
char buf[10], *past = buf + 10;
int main(void) {
  far = text;
  for (;;) handler(), tail.key += *in_flash + *far + *past;
}
)",
                                         "-Og -std=gnu11 -gdwarf-4");
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(elf));
  REQUIRE(session.go_to("tick"));
  const auto ring = session.graph("first");
  REQUIRE(ring);
  CHECK(ring->nodes.size() == 3);
  CHECK(ring->circle);
  CHECK(ring->nodes[2].name == "pool[2]");
  CHECK(ring->nodes[2].value == "key = 3");
  unsigned wild = 0;
  for (const auto& edge : ring->edges) wild += edge.to ? 0 : 1;
  CHECK(wild == 1);
  CHECK(ring->dot().find("n3 -> n1 [label=\"next\"]") != std::string::npos);
  CHECK(session.graph("first", 2)->cut);
  CHECK(session.graph("*lone")->nodes.size() == 1);
  CHECK_FALSE(session.graph("none"));
  CHECK_FALSE(session.graph("buf"));
  const auto text = [&](const char* expression) { return session.evaluate(expression)->text; };
  CHECK(text("in_flash").find("\"kiln\" → text") != std::string::npos);
  CHECK(text("far").find("\"kiln\" → text") != std::string::npos);
  CHECK(session.evaluate("*in_flash")->integer == 'k');
  CHECK(session.evaluate("far[3]")->integer == 'n');
  CHECK(text("handler").find("→ tick (nodes.c)") != std::string::npos);
  CHECK(text("first->next").find("→ pool[1]") != std::string::npos);
  CHECK(text("past").find("the end of buf") != std::string::npos);
}

TEST_CASE("the stack, slot by slot: arguments pushed, locals, saved registers, return addresses") {
  const std::string elf = test::compiled("slots", R"(#include <stdio.h>
#include <stdint.h>
char line[40];
volatile uint16_t x = 7;
uint8_t big[1000];
__attribute__((noinline)) void show(uint16_t n) {
  volatile uint16_t local = n + 1;
  sprintf(line, "%u of %u: %s", local, x, "kiln");
}
int main(void) {
  for (;;) show(x++);
}
)",
                                         "-Os -gdwarf-4");
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(elf));
  REQUIRE(session.go_to("sprintf"));
  using Kind = StackView::Slot::Kind;
  std::map<Kind, std::string> seen;
  for (const StackView::Slot& slot : session.stack().slots) seen[slot.kind] += slot.meaning + "\n";
  CHECK(seen[Kind::kReturn].find("returns to show+") == 0);
  CHECK(seen[Kind::kTemporary].find("show: 10 bytes, pushed from show+") == 0);  // five words
  CHECK(seen[Kind::kLocal] == "local local of show = 8\n");
  CHECK(seen[Kind::kSaved].find("saved r28 of show's caller") != std::string::npos);
  CHECK(session.evaluate("big")->text == "{0 × 1000}");
}

TEST_CASE("sources that have moved are found by the beginning of their path") {
  const std::string elf =
      test::compiled("moved", "volatile int x;\nint main(void) {\n  x = 1;\n}\n", "-Og -gdwarf-4");
  REQUIRE(test::run("mkdir -p " + test::scratch("elsewhere") + " && mv " +
                    test::scratch("moved.c") + " " + test::scratch("elsewhere"))
              .code == 0);
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(elf));
  CHECK_FALSE(session.source("main")->problem.empty());
  session.add_source_folder(std::string(LUCID_SCRATCH) + "=" + test::scratch("elsewhere"));
  REQUIRE(session.source("main")->problem.empty());
  CHECK(session.source("moved.c:3")->path == test::scratch("elsewhere/moved.c"));
}

TEST_CASE("passes at every instruction of a program are as many as its executions") {
  constexpr std::uint64_t kCycles = 60'000;
  const auto begun = [] {
    Session session(*Chip::make({"ATmega328P", 16'000'000}));
    REQUIRE(session.open(test::kKilnOg));
    REQUIRE(session.go_to("main"));
    return session;
  };
  Session stepped = begun();
  std::map<std::uint32_t, std::uint64_t> executed;
  const std::uint64_t end = stepped.chip().cycles() + kCycles;
  while (stepped.chip().cycles() < end) {
    const std::uint32_t pc = stepped.chip().pc();
    const auto pause = stepped.step(StepKind::kInto, StepUnit::kInstruction);
    REQUIRE(pause);
    if (pause->detail.find("interrupt") != 0) ++executed[pc];
  }
  REQUIRE(executed.size() > 200);
  // Each twice, so that the machine cannot count for itself.
  Session session = begun();
  --executed[session.chip().pc()];  // it stands there already
  const auto hex = [](std::uint32_t number) {
    std::ostringstream out;
    out << std::hex << number;
    return out.str();
  };
  for (const auto& [address, count] : executed)
    for (unsigned i = 0; i < 2; ++i) {
      BreakpointSpec spec{"0x" + hex(address)};
      spec.rule = BreakpointSpec::Rule::kOn;
      spec.count = 1'000'000;
      REQUIRE(session.pause_at(spec));
    }
  CHECK(session.go_for(stepped.chip().cycles() - session.chip().cycles()).cause ==
        Pause::Cause::kTimeUp);
  CHECK(session.chip().hash() == stepped.chip().hash());
  for (const Breakpoint& point : session.breakpoints()) {
    INFO(point.spec.place);
    // The last one stands where the run has ended.
    const bool here = point.addresses[0] == session.chip().pc();
    CHECK(point.passes == executed[point.addresses[0]] + (here ? 1 : 0));
  }
}

TEST_CASE("a fault in the entry of an interrupt: the same in both gears and step by step") {
  const std::string elf = test::compiled("low-stack", R"(#include <avr/io.h>
#include <avr/interrupt.h>
ISR(TIMER0_OVF_vect) {}
int main(void) {
  TIMSK0 = 1; TCCR0B = 1; SPL = 0x00; SPH = 0x01; sei();
  for (;;) asm volatile("nop");
})",
                                         "-Os -gdwarf-4");
  std::set<std::string> said;
  for (const std::uint8_t after : {0, 1}) {
    Chip::Options options{"ATmega328P", 16'000'000};
    options.translate_after = after;
    for (const bool stepped : {false, true}) {
      Session session(*Chip::make(options));
      REQUIRE(session.open(elf));
      Pause pause;
      if (!stepped) pause = session.go_for(2000);
      for (unsigned i = 0; stepped && i < 2000 && pause.cause != Cause::kFault; ++i)
        pause = *session.step(StepKind::kInto, StepUnit::kInstruction);
      REQUIRE(pause.cause == Cause::kFault);
      said.insert(pause.detail);
    }
    Chip chip = *Chip::make(options);
    REQUIRE(chip.load(*Image::open(elf)));
    RunEnd end;
    for (unsigned i = 0; i < 2000 && end.why != RunEnd::Why::kFault; ++i) end = chip.step();
    said.insert(end.fault);
  }
  REQUIRE(said.size() == 1);
  CHECK(said.begin()->find("the entry of an interrupt at 0x") == 0);
}

TEST_CASE("a step of a chip that sleeps for ever comes back") {
  Chip chip = *Chip::make({"ATmega328P", 16'000'000});
  REQUIRE(chip.load(*Image::open(
      test::assembled("asleep", "main: ldi r16, 5\n out IO(SMCR), r16\n sleep\n rjmp main\n"))));
  RunEnd end;
  for (unsigned i = 0; i < 8 && end.why != RunEnd::Why::kFault; ++i) end = chip.step();
  CHECK(end.why == RunEnd::Why::kFault);
}

TEST_CASE("remarks that are the same are counted") {
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(test::kKilnOg));
  const auto pause = session.step(StepKind::kInto, StepUnit::kLine, 30);
  REQUIRE(pause);
  REQUIRE(pause->remarks.size() == 1);
  CHECK(pause->remarks[0] == "no source here: stepped by instruction (30 times)");
}

TEST_CASE("an image that lacks a section of its debug information, or has one of noughts or ones") {
  const std::string elf = test::compiled("sections", R"(
#define MOST 12
struct ramp { int step; struct ramp* next; } first = {1, 0};
volatile int sink;
int add(int a) { static int calls; calls++; int sum = a; for (int i = 0; i < MOST; i++) sum += i; return sum; }
int main(void) { for (;;) sink = add(first.step); }
)",
                                         "-O1 -std=gnu99 -g3 -gdwarf-4");
  for (const char* section :
       {".debug_line", ".debug_info", ".debug_abbrev", ".debug_str", ".debug_loc", ".debug_ranges",
        ".debug_frame", ".debug_macro", ".debug_aranges"})
    for (const char* how : {"remove", "0", "255"}) {
      INFO(section << " " << how);
      const std::string bad = test::scratch("bad-section.elf");
      std::string command = "avr-objcopy --remove-section=" + std::string(section);
      if (std::string(how) != "remove") {
        const std::string bytes = test::scratch("bad-section");
        test::write(bytes, std::string(600, static_cast<char>(std::stoi(how))));
        command = "avr-objcopy --update-section=" + std::string(section) + "=" + bytes;
      }
      if (test::run(command + " " + elf + " " + bad).code != 0) continue;
      Session session(*Chip::make({"ATmega328P", 16'000'000}));
      if (!session.open(bad)) continue;
      session.go_for(1000);
      for (unsigned i = 0; i < 4; ++i) {
        (void)session.step(StepKind::kOver, StepUnit::kLine);
        (void)session.variables();
        (void)session.globals();
        (void)session.callers();
        (void)session.stack();
        (void)session.source();
        (void)session.macros();
        (void)session.disassembly("here", 8, true);
        (void)session.names("");
        (void)session.graph("first");
        (void)session.pause_at({"add"});
      }
      CHECK(session.chip().cycles() >= 1000);
    }
}
