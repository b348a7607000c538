// SPDX-License-Identifier: MIT
// Data breakpoints, `when`, events, faults that can be passed over, and watches.
#include <catch2/catch.hpp>
#include <random>

#include "lucid/session.h"
#include "tools.h"

using namespace lucid;
using Kind = BreakpointSpec::Kind;
using Rule = BreakpointSpec::Rule;
using Cause = Pause::Cause;
using How = DataAccess::How;

namespace {

Session opened(const std::string& elf) {
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(elf));
  return session;
}

BreakpointSpec data(Kind kind, const std::string& object, const std::string& condition = {}) {
  BreakpointSpec spec;
  spec.kind = kind;
  spec.place = object;
  spec.condition = condition;
  return spec;
}

/// Stores of all widths, a local with its address taken, and an EEPROM write.
const char* const kStores = R"(
#include <avr/eeprom.h>
#include <avr/interrupt.h>
#include <avr/sleep.h>
#include <stdint.h>
struct { uint8_t low : 3; uint8_t high : 5; } flags;
volatile uint8_t small;
volatile uint16_t wide = 0x00ff;
volatile uint32_t huge;
volatile int16_t table[4];
uint8_t *volatile at;
uint8_t EEMEM cell;
__attribute__((noinline)) void fill(uint8_t *where) { *where += 7; }
__attribute__((noinline)) uint8_t local(void) {
  uint8_t mine = 1;
  fill(&mine);
  fill(&mine);
  return mine;
}
int main(void) {
  for (uint8_t i = 0; i < 5; i++) {
    small = i / 2;
    wide += 1;
    huge = 0x10000UL * i;
    table[2] = i;
    flags.low = i;
    flags.high = 9;
    small = local();
  }
  eeprom_write_byte(&cell, 0x5a);
  PORTB = 4;
  DDRB = 4;
  UCSR0B = 1 << TXEN0;
  UDR0 = 'k';
  while (!(UCSR0A & (1 << TXC0))) {}
  TCCR1B = (1 << WGM12) | (1 << CS10);
  OCR1A = 500;
  TIMSK1 = 1 << OCIE1A;
  set_sleep_mode(SLEEP_MODE_IDLE);
  sleep_enable();
  sei();
  sleep_cpu();
  TIMSK1 = 0;
  for (;;) {}
}
ISR(TIMER1_COMPA_vect) { small = 99; }
)";

Session stores(const char* flags = "-Og -gdwarf-4") {
  return opened(test::compiled(std::string("stores") + flags[2], kStores, flags));
}

}  // namespace

TEST_CASE("data breakpoints judge whole objects") {
  struct Row {
    Kind kind;
    const char* object;
    std::vector<std::pair<const char*, const char*>> seen;  ///< before, after
  };
  const Row rows[] = {
      // .data is copied by the start-up code, byte by byte; then main counts on.
      {Kind::kChange, "wide", {{"255", "256"}, {"256", "257"}, {"257", "258"}}},
      {Kind::kChange, "small", {{"0", "15"}, {"15", "0"}, {"0", "15"}, {"15", "1"}}},
      {Kind::kWrite, "small", {{"0", "0"}, {"0", "15"}, {"15", "0"}, {"0", "15"}}},
      {Kind::kChange, "huge", {{"0", "65536"}, {"65536", "131072"}}},
      {Kind::kWrite, "huge", {{"0", "0"}, {"0", "65536"}}},
      {Kind::kChange, "table[2]", {{"0", "1"}, {"1", "2"}, {"2", "3"}}},
      {Kind::kWrite, "table[1]", {}},
      {Kind::kChange, "flags.low", {{"0", "1"}, {"1", "2"}, {"2", "3"}}},
      {Kind::kChange, "flags.high", {{"0", "9"}}},
  };
  for (const char* flags : {"-O0 -gdwarf-4", "-Og -gdwarf-4", "-O2 -gdwarf-4"}) {
    for (const Row& row : rows) {
      INFO(flags << ", " << row.object);
      Session session = stores(flags);
      REQUIRE(session.go_to("main"));
      REQUIRE(session.pause_at(data(row.kind, row.object)));
      for (const auto& [before, after] : row.seen) {
        const Pause pause = session.go_for(2000);
        REQUIRE(pause.cause == Cause::kData);
        CHECK(pause.data->before == before);
        CHECK(pause.data->after == after);
        CHECK(session.evaluate(row.object)->text == after);
        CHECK(pause.data->by.function == "main");
      }
      if (row.seen.empty()) CHECK(session.go_for(2000).cause == Cause::kTimeUp);
    }
  }
}

TEST_CASE("conditions, passes, once and log go with every kind") {
  Session session = stores();
  REQUIRE(session.go_to("main"));
  BreakpointSpec spec = data(Kind::kChange, "wide", "small == 15");
  spec.rule = Rule::kOn;
  spec.count = 2;
  spec.once = true;
  spec.then = "show callers";
  const unsigned id = session.pause_at(spec)->id;
  const Pause pause = session.go_for(5000);
  REQUIRE(pause.cause == Cause::kTimeUp);  // small is i / 2 whenever wide changes
  CHECK(session.breakpoints()[0].reached == 5);
  REQUIRE(session.remove(id));
  session.reset();
  REQUIRE(session.go_to("main"));
  spec.condition = "small == 1";
  REQUIRE(session.pause_at(spec));
  const Pause second = session.go_for(5000);
  REQUIRE(second.cause == Cause::kData);
  CHECK(second.passes == 2);
  CHECK(second.then == std::vector<std::string>{"show callers"});
  CHECK(session.breakpoints().empty());
}

TEST_CASE("a 16-bit object is never seen in halves, unless an interrupt comes between") {
  Session session = stores();
  REQUIRE(session.go_to("main"));
  // 0x00ff + 1: were the high byte judged first, 0x01ff would be seen.
  REQUIRE(session.pause_at(data(Kind::kWhen, "wide > 0x100 && wide != 0x101")));
  const Pause pause = session.go_for(5000);
  REQUIRE(pause.cause == Cause::kHolds);
  CHECK(session.evaluate("wide")->integer == 0x102);
  REQUIRE(session.remove(1));
  BreakpointSpec raw = data(Kind::kChange, "wide");
  raw.each_byte = true;
  session.reset();
  REQUIRE(session.go_to("main"));
  REQUIRE(session.pause_at(raw));
  CHECK(session.go_for(2000).data->after == "511");  // the high byte is stored first

  // UDRE asks all the time: it is entered behind every instruction.
  Session torn = opened(test::compiled("torn-apart", R"(
#include <avr/interrupt.h>
#include <stdint.h>
volatile uint16_t both;
ISR(USART_UDRE_vect) {}
int main(void) {
  UCSR0B = 1 << UDRIE0;
  sei();
  both = 0x0102;
  for (;;) {}
})",
                                       "-Og -gdwarf-4"));
  REQUIRE(torn.pause_at(data(Kind::kChange, "both")));
  const Pause cut = torn.go_for(2000);
  REQUIRE(cut.cause == Cause::kData);
  CHECK(cut.data->interrupt == "USART_UDRE");
  CHECK(cut.data->after == "256");  // the high byte only
}

TEST_CASE("reads, registers, flags, I/O that hardware changes and EEPROM can be watched") {
  struct Row {
    Kind kind;
    const char* object;
    const char* after;
    const char* by;  ///< the instruction's mnemonic
  };
  const Row rows[] = {
      {Kind::kRead, "chip.ram[0x105]", "0x2a", "lds"},
      {Kind::kChange, "chip.r20", "0x2a", "ldi"},
      {Kind::kChange, "chip.sreg.Z", "1", "eor"},
      {Kind::kChange, "chip.sp", "0x08fe", "push"},
      {Kind::kWrite, "chip.PORTB", "0x2a", "out"},
      {Kind::kRead, "chip.PORTB", "0x2a", "in"},
      {Kind::kChange, "chip.TIFR1.TOV1", "1", "ldi"},
      {Kind::kChange, "chip.PORTB.5", "1", "out"},
      {Kind::kChange, "chip.eeprom[3]", "0x2a", "rjmp"},
  };
  for (const Row& row : rows) {
    INFO(row.object);
    Session session = opened(test::assembled("watched", R"(
        .global start
start:  ldi r20, 42
        sts 0x105, r20
        clr r19
        push r20
        out IO(PORTB), r20
        in r18, IO(PORTB)
        lds r17, 0x105
        ldi r16, 0xff
        sts TCNT1H, r16
        sts TCNT1L, r16
        ldi r16, 1
        sts TCCR1B, r16
        ldi r16, 3
        out IO(EEARL), r16
        out IO(EEDR), r20
        sbi IO(EECR), EEMPE
        sbi IO(EECR), EEPE
stop:   rjmp stop
)"));
    REQUIRE(session.pause_at(data(row.kind, row.object)));
    const Pause pause = session.go_for(100'000);
    REQUIRE(pause.cause == Cause::kData);
    CHECK(
        session.evaluate(row.object, row.after[1] == 'x' ? *parse_format("hex") : Format{})->text ==
        row.after);
    CHECK(pause.data->instruction.substr(0, pause.data->instruction.find(' ')) == row.by);
    CHECK((pause.data->how == How::kRead) == (row.kind == Kind::kRead));
  }
}

TEST_CASE("a breakpoint on a local ends with its frame") {
  Session session = stores();
  REQUIRE(session.go_to("fill"));
  REQUIRE(session.select_level(session.callers().size() - 1));
  const auto set = session.pause_at(data(Kind::kChange, "mine"));
  REQUIRE(set);
  CHECK(session.go_for(1000).data->after == "8");
  CHECK(session.go_for(1000).data->after == "15");
  CHECK(session.go_for(200).cause == Cause::kTimeUp);
  CHECK(session.breakpoints().empty());
}

TEST_CASE("events pause, by kind and by name") {
  struct Row {
    Kind kind;
    const char* name;
    const char* detail;
  };
  const Row rows[] = {
      {Kind::kEepromWrite, "", "EEPROM write of 0x5a to 0x0000 has begun"},
      {Kind::kEdge, "PB2 rising", "PB2 has gone high"},
      {Kind::kByteOut, "USART0", "USART0 has sent 'k' (0x6b)"},
      {Kind::kSleep, "", "the processor sleeps"},
      {Kind::kWake, "", "the processor has woken up"},
      {Kind::kInterrupt, "TIMER1_COMPA", "interrupt TIMER1_COMPA has been entered"},
      {Kind::kInterrupt, "", "interrupt TIMER1_COMPA has been entered"},
      {Kind::kReturn, "timer1_compa", "returned from an interrupt"},
  };
  Session all = stores();
  for (const Row& row : rows) REQUIRE(all.pause_at(data(row.kind, row.name)));
  std::vector<std::string> details;
  for (int i = 0; i < 7; ++i) details.push_back(all.go_for(1'000'000).detail);
  CHECK(details == std::vector<std::string>{rows[0].detail, rows[1].detail, rows[2].detail,
                                            rows[3].detail, rows[4].detail, rows[5].detail,
                                            rows[7].detail});
  for (const Row& row : rows) {
    INFO(row.detail);
    Session session = stores();
    REQUIRE(session.pause_at(data(row.kind, row.name)));
    const Pause pause = session.go_for(1'000'000);
    CHECK(pause.cause == Cause::kEvent);
    CHECK(pause.detail == row.detail);
  }
  Session quiet = stores();
  for (const auto& [kind, name] : {std::pair{Kind::kInterrupt, "ADC"},
                                   {Kind::kEdge, "PB2 falling"},
                                   {Kind::kByteIn, "USART0"},
                                   {Kind::kReturn, "ADC"}})
    REQUIRE(quiet.pause_at(data(kind, name)));
  CHECK(quiet.go_for(1000000).detail == "");
  for (const auto& [kind, name] :
       {std::pair{Kind::kInterrupt, "TIMER9"}, {Kind::kEdge, "PZ1"}, {Kind::kByteIn, "USART7"}}) {
    const auto refused = quiet.pause_at(data(kind, name));
    REQUIRE(!refused);
    CHECK(refused.error().code == ErrorCode::kNotFound);
  }
}

TEST_CASE("what cannot be watched is refused, what moves is looked at each instruction") {
  Session session = stores();
  REQUIRE(session.go_to("main"));
  for (const char* object : {"3 + 4", "small + 1", "nothing_like_this", "main", "chip.cycles"})
    CHECK(!session.pause_at(data(Kind::kChange, object)));
  CHECK(session.breakpoints().empty());
  CHECK(session.pause_at(data(Kind::kWhen, "small == 1"))->remark.empty());
  CHECK(!session.pause_at(data(Kind::kWhen, "chip.time > 40us"))->remark.empty());
  CHECK(session.go_for(2000).cause == Cause::kHolds);
}

TEST_CASE("kinds of fault can be passed over, and never-written RAM noticed") {
  const std::string elf = test::assembled("faulty", R"(
        .global start
start:  lds r20, 0x0300
        lds r20, 0x4000
        .word 0x0001
        ldi r21, 1
stop:   rjmp stop
)");
  Session session = opened(elf);
  REQUIRE(session.set_fault("never-written-read", true));
  const Pause first = session.go_for(100);
  CHECK(first.cause == Cause::kFault);
  CHECK(first.detail.find("0x0300") != std::string::npos);
  CHECK(session.go_for(100).detail.find("0x4000") != std::string::npos);
  CHECK(session.go_for(100).detail.find("reserved") != std::string::npos);
  REQUIRE(session.set_fault("reserved-instruction", false));
  CHECK(session.go_for(100).cause == Cause::kTimeUp);
  CHECK(session.evaluate("chip.r21")->integer == 1);
  const auto refused = session.set_fault("stack-into-date", false);
  REQUIRE(!refused);
  CHECK(refused.error().hint.find("stack-into-data") != std::string::npos);

  // An interrupt that the program has no handler for.
  Session lost = opened(test::compiled("lost", R"(
#include <avr/interrupt.h>
int main(void) { TIMSK1 = 1 << TOIE1; TCCR1B = 1; TCNT1 = 65000; sei(); for (;;) {} })",
                                       "-Os"));
  const Pause pause = lost.go_for(10'000);
  CHECK(pause.cause == Cause::kFault);
  CHECK(pause.detail.find("TIMER1_OVF") != std::string::npos);
}

TEST_CASE("watches keep their last value when they go out of scope") {
  Session session = stores();
  REQUIRE(session.watch("mine"));
  REQUIRE(session.watch("wide", "hex"));
  CHECK(!session.watch("no_such_name"));
  CHECK(!session.watch("wide", "octal"));
  CHECK(session.watches()[0].problem == "not in scope here");
  REQUIRE(session.go_to("fill"));
  REQUIRE(session.step(StepKind::kOut, StepUnit::kLine));
  CHECK(session.watches()[0].value == "8");
  CHECK(session.watches()[0].problem.empty());
  REQUIRE(session.step(StepKind::kOut, StepUnit::kLine));
  const WatchView gone = session.watches()[0];
  CHECK(gone.problem == "not in scope here, but in local");
  CHECK(gone.value == "8");
  CHECK(gone.known_in.function == "local");
  CHECK(session.watches()[1].value == "0x0100");
  REQUIRE(session.reload());
  CHECK(session.watches().size() == 2);
  REQUIRE(session.remove(session.watches()[0].id));
  CHECK(session.watches().size() == 1);
}

TEST_CASE("a data breakpoint follows a pointer; one on a local in registers looks at its value") {
  const std::string elf = test::compiled("follows", R"(#include <stdint.h>
volatile uint16_t a = 1, b = 2, *volatile p = &a;
volatile uint8_t sink;
__attribute__((noinline)) uint16_t sum(uint8_t n) {
  uint16_t total = 0;
  for (uint8_t i = 0; i < n; i++) {
    total += i * n;
    sink = total;
  }
  return total;
}
int main(void) {
  a = 5;
  p = &b;
  a = 6;
  b = 7;
  sum(4);
  for (;;) sink++;
}
)",
                                         "-Os -gdwarf-4");
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(elf));
  REQUIRE(session.go_to("main"));
  BreakpointSpec spec{"*p"};
  spec.kind = BreakpointSpec::Kind::kChange;
  spec.following = true;
  REQUIRE(session.pause_at(spec));
  CHECK(session.go().data->after == "5");
  CHECK(session.go().data->after == "7");
  CHECK(session.pause().data->before == "2");
  spec.place = "a";
  CHECK_FALSE(session.pause_at(spec));  // nothing leads to it

  REQUIRE(session.go_to("follows.c:8"));
  BreakpointSpec local{"total"};
  local.kind = BreakpointSpec::Kind::kChange;
  REQUIRE(session.pause_at(local));
  for (const char* value : {"4", "12", "24"}) {
    const Pause pause = session.go();
    REQUIRE(pause.cause == Pause::Cause::kData);
    CHECK(pause.data->after == value);  // i * 4 summed
  }
  CHECK(session.go_for(1000).cause == Pause::Cause::kTimeUp);
  CHECK(session.breakpoints().size() == 1);  // gone with its frame

  // One of main, which nobody called.
  const std::string lone = test::compiled("lone", R"(#include <avr/io.h>
int main(void) {
  for (uint8_t i = 0;; i += 3) PORTB = i;
}
)",
                                          "-Os -std=gnu11 -gdwarf-4");
  Session in_main(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(in_main.open(lone));
  REQUIRE(in_main.go_until("chip.PORTB == 6"));
  local.place = "i";
  REQUIRE(in_main.pause_at(local));
  CHECK(in_main.go().data->after == "9");
  CHECK(in_main.go().data->after == "12");
}

TEST_CASE("`go until` finds the very instruction, however it looks for it") {
  // The program counter is nowhere in memory: an expression with it is looked at at each boundary.
  const char* const kEvery = " && chip.pc != 1 && chip.cycles > 0";
  const char* const kLook[] = {"tx_head == 12",
                               "tx_head != tx_tail",
                               "tx_buffer[3] == 'n'",
                               "seconds_due",
                               "chip.PORTB.5",
                               "chip.TCNT1 > 100",
                               "chip.TCNT1 == 77",
                               "chip.TIFR1.OCF1A",
                               "chip.UCSR0A.TXC0",
                               "chip.ADCSRA.ADSC",
                               "(chip.SREG & 0x83) == 0x82",
                               "chip.r24 == 3",
                               "pin.PB5",
                               "pin.PD1 == 0 && tx_head > 5",
                               "pin.PD1 && pin.PB5 == 0 && chip.TCNT1 > 9",
                               "ticks == 5",
                               "(ticks & 0xff) == 200 && tx_tail > 2",
                               "setpoint == measured",
                               "chip.TCNT2 > 3"};
  const unsigned seed = test::fresh_seed();
  INFO("seed " << seed);
  std::mt19937 random(seed);
  const Picoseconds most{8'000'000'000};
  for (const std::string& image : {test::kKilnOg, test::kKilnOs}) {
    Session every = opened(image), now = opened(image);
    unsigned found = 0;
    for (const std::string look : kLook) {
      if (test::kSanitized && random() % 5 != 0) continue;  // each takes its time there
      INFO(image << " " << look);
      const std::uint64_t cycles = random() % 20'000;
      for (Session* session : {&every, &now}) {
        session->go_for(cycles);
        REQUIRE(session->feed("USART0", "G\n"));
      }
      for (int i = 0; i < 2; ++i) {
        const auto a = every.go_until("(" + look + ")" + kEvery, most);
        const auto b = now.go_until(look, most);
        REQUIRE(a);
        REQUIRE(b);
        CHECK(a->cause == b->cause);
        REQUIRE(a->cycles == b->cycles);
        found += b->cause == Cause::kHolds ? 1 : 0;
      }
      CHECK(every.chip().hash() == now.chip().hash());
    }
    CHECK((test::kSanitized || found > 4));
  }
}

TEST_CASE("runs that look for something end in time, and count breakpoints") {
  Session session = opened(test::kKilnOg);
  const auto none = session.go_until("tx_head == 77", Picoseconds{2'000'000'000});
  REQUIRE(none);
  CHECK(none->cause == Cause::kTimeUp);
  CHECK(none->cycles - 32'000 < 40);
  CHECK(session.go_to("start", Picoseconds{1'000'000'000})->cause == Cause::kTimeUp);
  CHECK(session.go_to("clock_ms", Picoseconds{20'000'000'000})->cause == Cause::kArrived);
  const auto heard = session.go_until_sent("USART0", "kiln", Picoseconds{2'000'000'000'000});
  REQUIRE(heard);
  CHECK(heard->cause == Cause::kEvent);
  CHECK(session.bytes_sent() > 0);
  // What was sent before is not sent now; what others look for pauses first, and stays in count.
  CHECK(session.go_until_sent("USART0", "nothing like it", Picoseconds{3'000'000'000})->cause ==
        Cause::kTimeUp);
  CHECK_FALSE(session.go_until_sent("USART9", "x"));
  CHECK_FALSE(session.go_until_sent("USART0", ""));
  REQUIRE(session.pause_at({"every_second"}));
  const auto paused = session.go_until("seconds == 3", Picoseconds{3'000'000'000'000});
  CHECK(paused->cause == Cause::kBreakpoint);
  session.all_breakpoints(false);
  CHECK(session.go_until("seconds == 3", Picoseconds{3'000'000'000'000})->cause == Cause::kHolds);
  CHECK(session.breakpoints().size() == 1);
}
