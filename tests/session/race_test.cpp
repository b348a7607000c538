// SPDX-License-Identifier: MIT
// Race search, against a timer of the chip that is set to every cycle.
#include "lucid/race.h"

#include <fmt/format.h>

#include <catch2/catch.hpp>
#include <map>
#include <set>
#include <tuple>

#include "lucid/session.h"
#include "tools.h"

using namespace lucid;
using Kind = RaceView::Finding::Kind;

namespace {

Session opened(const std::string& elf) {
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(elf));
  return session;
}

std::string text(const Session& session, const std::string& expression) {
  const auto value = session.evaluate(expression);
  REQUIRE(value);
  return value->text;
}

/// An interrupt that comes `delay` cycles after its timer was started, once; `f` is called then.
std::string program(const std::string& what) {
  return R"(#include <avr/io.h>
#include <avr/interrupt.h>
#include <util/atomic.h>
volatile uint16_t delay;
)" + what +
         R"(
void __attribute__((noinline)) done(void) { __asm__ volatile("nop"); }
int main(void) {
  prepare();
  OCR1A = delay;
  TIMSK1 = 1 << OCIE1A;
  sei();
  TCCR1B = 1 << CS10;
  result = f();
  for (uint8_t i = 0; i < 9; i++) __asm__ volatile("nop");
  while (delay != 0 && TIMSK1 != 0) {}
  cli();
  done();
  for (;;) {}
}
)";
}

const struct {
  const char* name;
  const char* source;
  bool races;
  const char* object = "";  ///< all races are within one access to it
} kPrograms[] = {
    {"torn", R"(volatile uint16_t ticks, result;
ISR(TIMER1_COMPA_vect) { ticks++; TIMSK1 = 0; }
static void prepare(void) { ticks = 0x1ff; }
uint16_t __attribute__((noinline)) f(void) { return ticks; })",
     true, "ticks"},
    {"torn-wide", R"(volatile uint32_t ticks, result;
ISR(TIMER1_COMPA_vect) { ticks += 3; TIMSK1 = 0; }
static void prepare(void) { ticks = 0xfffffe; }
static uint32_t __attribute__((noinline)) twice(void) { return ticks + ticks; }
uint32_t __attribute__((noinline)) f(void) { return twice() - ticks; })",
     true},
    {"lost", R"(volatile uint8_t waiting, result;
ISR(TIMER1_COMPA_vect) { waiting++; TIMSK1 = 0; }
static void prepare(void) { waiting = 5; }
uint8_t __attribute__((noinline)) f(void) { waiting--; return 7; })",
     true, "waiting"},
    {"pair", R"(volatile uint8_t head, count, result;
ISR(TIMER1_COMPA_vect) { head++; count++; TIMSK1 = 0; }
static void prepare(void) { head = 3; count = 3; }
uint8_t __attribute__((noinline)) f(void) { uint8_t a = head; return a * 16 + count; })",
     true},
    {"in-a-loop", R"(volatile uint8_t cells[4], result;
ISR(TIMER1_COMPA_vect) { for (uint8_t i = 0; i < 4; i++) cells[i]++; TIMSK1 = 0; }
static void prepare(void) { for (uint8_t i = 0; i < 4; i++) cells[i] = i; }
uint8_t __attribute__((noinline)) f(void) {
  uint8_t sum = 0;
  for (uint8_t i = 0; i < 4; i++) sum = sum * 3 + cells[i];
  return sum;
})",
     true},
    {"masked", R"(volatile uint16_t ticks, result;
ISR(TIMER1_COMPA_vect) { ticks++; TIMSK1 = 0; }
static void prepare(void) { ticks = 0x1ff; }
uint16_t __attribute__((noinline)) f(void) {
  uint16_t now;
  ATOMIC_BLOCK(ATOMIC_RESTORESTATE) { now = ticks; }
  return now;
})",
     false},
    {"masked-by-enable", R"(volatile uint16_t ticks, result;
ISR(TIMER1_COMPA_vect) { ticks++; TIMSK1 = 0; }
static void prepare(void) { ticks = 0x1ff; }
uint16_t __attribute__((noinline)) f(void) {
  uint8_t was = TIMSK1;
  TIMSK1 = 0;
  uint16_t now = ticks;
  TIMSK1 = was;
  return now;
})",
     false},
    {"until-equal", R"(volatile uint16_t ticks, result;
ISR(TIMER1_COMPA_vect) { ticks++; TIMSK1 = 0; }
static void prepare(void) { ticks = 0x1ff; }
uint16_t __attribute__((noinline)) f(void) {
  uint16_t a, b;
  do { a = ticks; b = ticks; } while (a != b);
  return a;
})",
     false},
    {"port", R"(volatile uint8_t result;
ISR(TIMER1_COMPA_vect) { PORTC = PORTC ^ 1; TIMSK1 = 0; }
static void prepare(void) { PORTC = 8; }
uint8_t __attribute__((noinline)) f(void) { PORTC = PORTC | (result + 2); return 1; })",
     true, "PORTC"},
};

/// What is left behind, by where the timer's interrupt came.
std::map<std::uint32_t, std::set<std::string>> swept(const std::string& elf, const Function& f,
                                                     std::set<std::string>& orders) {
  Session session = opened(elf);
  REQUIRE(session.go_to("main"));
  const auto begin = session.moment();
  BreakpointSpec entered;
  entered.kind = BreakpointSpec::Kind::kInterrupt;
  REQUIRE(session.pause_at(entered));
  std::map<std::uint32_t, std::set<std::string>> out;
  constexpr unsigned kBehindAll = 700;  // cycles: f has returned
  for (unsigned delay = 1; delay < kBehindAll; ++delay) {
    REQUIRE(session.return_to(begin));
    REQUIRE(session.let("delay", std::to_string(delay)));
    const Pause pause = session.go();
    REQUIRE(pause.interrupt == "TIMER1_COMPA");
    const Location at = *pause.interrupted;
    REQUIRE(session.go_to("done", Picoseconds{10'000'000'000}));
    std::string left = text(session, "result") + " PORTC " + text(session, "chip.PORTC");
    for (const VariableView& v : session.globals())
      if (v.name != "delay" && v.name != "result") left += " " + v.name + " " + v.value;
    const bool inside = (at.function == "f" && at.address != f.begin) || at.function == "twice";
    if (inside)
      out[at.address].insert(left);
    else
      orders.insert(left);
    if (delay + 1 == kBehindAll) REQUIRE(at.function == "main");
  }
  return out;
}

}  // namespace

TEST_CASE("races are found where a timer that is set to every cycle makes them", "[race]") {
  for (const auto& program_of : kPrograms)
    for (const char* level : {"-O0", "-Og", "-Os", "-O2"}) {
      INFO(program_of.name << " " << level);
      const std::string elf =
          test::compiled(std::string("race-") + program_of.name + level, program(program_of.source),
                         std::string("-gdwarf-4 ") + level);
      Session session = opened(elf);
      const auto functions = session.program().find_functions("f");
      REQUIRE(functions.size() == 1);
      std::set<std::string> orders;
      const auto by_timer = swept(elf, *functions[0], orders);
      REQUIRE(orders.size() <= 2);
      std::set<std::uint32_t> wanted;
      for (const auto& [address, left] : by_timer)
        for (const std::string& one : left)
          if (orders.count(one) == 0) wanted.insert(address);

      REQUIRE(session.go_to("main"));
      REQUIRE(session.let("delay", "60000"));  // by itself it does not come
      RaceSpec spec;
      spec.function = "f";
      auto view = session.race_search(spec);
      REQUIRE(view);
      CHECK(session.pause().where.function == "main");
      std::set<std::uint32_t> found;
      for (const RaceView::Finding& finding : view->findings) {
        CHECK(finding.interrupt == "TIMER1_COMPA");
        CHECK(!finding.objects.empty());
        if (finding.with.empty()) found.insert(finding.where.address);
      }
      CHECK(found == wanted);
      CHECK(view->findings.empty() == !program_of.races);
      REQUIRE(view->interrupts.size() == 1);
      CHECK(view->interrupts[0].placements >= by_timer.size());

      // Nobody has named the function.
      const auto all = session.race_overview({});
      REQUIRE(all);
      std::set<std::uint32_t> seen;
      for (const RaceView::Finding& finding : all->findings)
        if (finding.with.empty()) seen.insert(finding.where.address);
      for (const std::uint32_t address : seen) CHECK(wanted.count(address) == 1);
      if (*program_of.object != 0 || !program_of.races) CHECK(seen == wanted);
      std::size_t shown = 0;
      for (const PossibleRace& possible : all->possible) {
        CHECK(possible.verdict != PossibleRace::Verdict::kNotCome);
        if (*program_of.object != 0) CHECK(possible.object == program_of.object);
        shown += possible.races.size();
      }
      CHECK(shown == all->findings.size());
      const bool until = std::string(program_of.name) == "until-equal";
      for (const PossibleRace& possible : all->possible)
        CHECK((possible.verdict == PossibleRace::Verdict::kReadAgain) == until);
      if (std::string(program_of.name) == "masked") CHECK(all->possible.empty());
      for (std::size_t n = 1; n <= std::min<std::size_t>(all->findings.size(), 2); ++n) {
        const auto pause = session.go_to_race(n);
        REQUIRE(pause);
        CHECK(pause->where.address == all->findings[n - 1].where.address);
        CHECK(session.step(StepKind::kInto, StepUnit::kInstruction)->where.vector ==
              "TIMER1_COMPA");
        REQUIRE(session.go_to("done", Picoseconds{10'000'000'000}));
        for (const RaceView::Finding::Object& object : all->findings[n - 1].objects)
          if (object.name == program_of.object && session.evaluate(object.name))
            CHECK(text(session, object.name) == object.value);
      }
      REQUIRE(session.back_to_start());
      REQUIRE(session.go_to("main"));
      REQUIRE(session.let("delay", "60000"));
      view = session.race_search(spec);
      REQUIRE(view);

      // Each can be stood at, and comes to what was told.
      std::size_t number = 0;
      for (const RaceView::Finding& finding : view->findings) {
        ++number;
        if (number > 4) break;
        const auto pause = session.go_to_race(number);
        REQUIRE(pause);
        CHECK(pause->where.address == finding.where.address);
        CHECK(pause->time.count == finding.at.count);
        const auto entered = session.step(StepKind::kInto, StepUnit::kInstruction);
        REQUIRE(entered);
        CHECK(entered->where.vector == "TIMER1_COMPA");
        REQUIRE(session.go_to("done", Picoseconds{10'000'000'000}));
        for (const RaceView::Finding::Object& object : finding.objects) {
          if (object.name == "returns")
            CHECK(text(session, "result") == object.value);
          else if (session.evaluate(object.name))
            CHECK(text(session, object.name) == object.value);
        }
        // And once more from its text.
        const std::string timeline = session.timeline_text();
        const auto cycles = session.pause().cycles;
        const std::string result = text(session, "result");
        Session again = opened(elf);
        REQUIRE(again.follow_timeline(timeline));
        CHECK(again.pause().cycles == cycles);
        CHECK(text(again, "result") == result);
      }
    }
}

TEST_CASE("pairs of interrupts race where two timers make them", "[race]") {
  const struct {
    const char* name;
    const char* objects;
    const char* first;
    const char* second;
    const char* f;
  } kPairs[] = {
      {"sum", "volatile uint8_t n;", "n = n + 1;", "n = n << 1;",
       "uint8_t a = n; return a * 4 + n;"},
      {"masked", "volatile uint8_t n;", "n = n + 1;", "n = n << 1;",
       "uint8_t a, b; ATOMIC_BLOCK(ATOMIC_RESTORESTATE) { a = n; b = n; } return a * 4 + b;"},
      {"torn", "volatile uint16_t n;", "n += 0x80;", "n += 0x100;", "return n + (n >> 8);"},
  };
  for (const auto& row : kPairs)
    for (const char* level : {"-Os", "-O0"}) {
      if (std::string(level) == "-O0" && std::getenv("LUCID_ALL") == nullptr) continue;
      INFO(row.name << " " << level);
      const std::string elf = test::compiled(
          std::string("race-two-") + row.name + level,
          std::string("#include <avr/io.h>\n#include <avr/interrupt.h>\n#include "
                      "<util/atomic.h>\nvolatile uint16_t delay_a, delay_b, result;\n") +
              row.objects + "\nISR(TIMER1_COMPA_vect) { " + row.first +
              " TIMSK1 &= ~(1 << OCIE1A); }\nISR(TIMER1_COMPB_vect) { " + row.second +
              " TIMSK1 &= ~(1 << OCIE1B); }\nuint16_t __attribute__((noinline)) f(void) { " +
              row.f + R"( }
void __attribute__((noinline)) done(void) { __asm__ volatile("nop"); }
int main(void) {
  n = 0x7f;
  OCR1A = delay_a;
  OCR1B = delay_b;
  TIMSK1 = 1 << OCIE1A | 1 << OCIE1B;
  sei();
  TCCR1B = 1 << CS10;
  for (uint8_t i = 0; i < 70; i++) __asm__ volatile("nop");
  result = f();
  while (delay_a != 0 && TIMSK1 != 0) {}
  done();
  for (;;) {}
}
)",
          std::string("-gdwarf-4 ") + level);
      Session session = opened(elf);
      const Function f = *session.program().find_functions("f").at(0);
      REQUIRE(session.go_to("main"));
      const auto begin = session.moment();
      BreakpointSpec entered;
      entered.kind = BreakpointSpec::Kind::kInterrupt;
      const auto point = session.pause_at(entered);
      REQUIRE(point);
      struct Seen {
        std::string first, second, left;
        Location at_first, at_second;
      };
      std::vector<Seen> seen;
      std::set<std::string> orders;
      // Both well before the function, well behind it, and at every cycle within.
      REQUIRE(session.let("delay_a", "60000"));
      REQUIRE(session.let("delay_b", "60000"));
      REQUIRE(session.go_to(fmt::format("{:#x}", f.begin)));
      const auto enters = static_cast<unsigned>(session.evaluate("chip.TCNT1")->integer);
      REQUIRE(session.step(StepKind::kOut, StepUnit::kLine));
      const auto leaves = static_cast<unsigned>(session.evaluate("chip.TCNT1")->integer);
      std::vector<unsigned> delays{5, 120, leaves + 220, leaves + 320};
      constexpr unsigned kHandler = 110;  // cycles, at most
      for (unsigned delay = enters - 12; delay < leaves + kHandler; ++delay)
        delays.push_back(delay);
      const auto inside = [&](const Location& at) {
        return at.address > f.begin && at.address < f.end;
      };
      for (const unsigned a : delays)
        for (const unsigned b : delays) {
          const bool set = session.return_to(begin).has_value() &&
                           session.let("delay_a", std::to_string(a)).has_value() &&
                           session.let("delay_b", std::to_string(b)).has_value();
          Seen one;
          Pause pause = session.go();
          one.first = pause.interrupt;
          one.at_first = *pause.interrupted;
          pause = session.go();
          one.second = pause.interrupt;
          one.at_second = *pause.interrupted;
          if (!set || !session.go_to("done", Picoseconds{10'000'000'000})) FAIL("a run");
          one.left = text(session, "result") + " " + text(session, "n");
          if (!inside(one.at_first) && !inside(one.at_second)) orders.insert(one.left);
          seen.push_back(std::move(one));
        }
      std::set<std::tuple<std::string, std::string, std::uint32_t>> wanted, found;
      for (const Seen& one : seen)
        if (inside(one.at_second) && orders.count(one.left) == 0)
          wanted.insert({one.first, one.second, one.at_second.address});
      REQUIRE(session.remove(point->id));
      REQUIRE(session.return_to(begin));
      REQUIRE(session.let("delay_a", "60000"));
      REQUIRE(session.let("delay_b", "60001"));
      RaceSpec spec;
      spec.function = "f";
      spec.interrupts = {"TIMER1_COMPA", "TIMER1_COMPB"};
      spec.pair = true;
      const auto view = session.race_search(spec);
      REQUIRE(view);
      for (const RaceView::Finding& finding : view->findings)
        if (finding.with.empty())
          found.insert({finding.first, finding.interrupt, finding.where.address});
      CHECK(found == wanted);
      CHECK(found.empty() == (std::string(row.name) == "masked"));
      if (found.empty()) continue;
      const auto pause = session.go_to_race(1);
      REQUIRE(pause);
      CHECK(pause->where.address == view->findings[0].where.address);
      REQUIRE(session.go_to("done", Picoseconds{10'000'000'000}));
      for (const RaceView::Finding::Object& object : view->findings[0].objects)
        if (object.name == "returns") CHECK(text(session, "result") == object.value);
    }
  Session session = opened(test::kKilnOg);
  RaceSpec one;
  one.function = "clock_ms";
  one.pair = true;
  CHECK(!session.race_search(one));
}

TEST_CASE("the kiln's torn tick is found at any time", "[race]") {
  for (const std::uint64_t milliseconds : {20, 77, 500}) {
    Session torn = opened(std::string(LUCID_KILN) + "/images/torn-tick.elf");
    torn.go_for(Picoseconds{milliseconds * 1'000'000'000});
    RaceSpec spec;
    spec.function = "clock_ms";
    const auto view = torn.race_search(spec);
    REQUIRE(view);
    REQUIRE(view->findings.size() == 1);
    const RaceView::Finding& finding = view->findings[0];
    CHECK(finding.interrupt == "TIMER1_COMPA");
    CHECK(finding.where.offset == 4);
    CHECK(finding.with == "ticks = 255");
    REQUIRE(finding.objects.size() == 1);
    CHECK(finding.objects[0].name == "returns");
    CHECK(finding.objects[0].value == "511");  // the low byte of 255, the high one of 256
    CHECK(finding.objects[0].if_before == "256");
    CHECK(finding.objects[0].if_behind == "255");
    REQUIRE(torn.go_to_race(1));
    CHECK(text(torn, "ticks") == "255");
  }
  Session sound = opened(test::kKilnOg);
  sound.go_for(Picoseconds{20'000'000'000});
  for (const char* function : {"clock_ms", "serial_put", "serial_get", "clock_second_passed"}) {
    INFO(function);
    RaceSpec spec;
    spec.function = function;
    spec.byte = 'A';
    const auto view = sound.race_search(spec);
    REQUIRE(view);
    CHECK(view->findings.empty());
  }
}

TEST_CASE("an expectation is broken by a race", "[race]") {
  const std::string elf = test::compiled("race-expected", program(R"(
volatile uint8_t head, tail, result;
ISR(TIMER1_COMPA_vect) { head++; tail++; TIMSK1 = 0; }
static void prepare(void) { head = tail = 3; }
uint8_t __attribute__((noinline)) f(void) { tail = head; return 0; })"),
                                         "-Os -gdwarf-4");
  Session session = opened(elf);
  REQUIRE(session.go_to("main"));
  REQUIRE(session.let("delay", "60000"));
  RaceSpec spec;
  spec.function = "f";
  spec.expectation = "head == tail";
  auto view = session.race_search(spec);
  REQUIRE(view);
  REQUIRE(view->findings.size() == 1);
  CHECK(view->findings[0].kind == Kind::kBroken);
  CHECK(!view->broken_before);
  CHECK(!view->broken_behind);
  spec.expectation = "head == 9";  // never so: that is no race
  view = session.race_search(spec);
  REQUIRE(view);
  CHECK(view->broken_before);
  CHECK(view->broken_behind);
  REQUIRE(!view->findings.empty());
  CHECK(view->findings[0].kind != Kind::kBroken);
}

TEST_CASE("what cannot be searched says why, and nothing moves", "[race]") {
  Session session = opened(test::kKilnOg);
  struct Hears : Listener {
    unsigned times = 0;
    void on_serial(const std::string&, const std::string&) override { ++times; }
    void on_note(const std::string&) override { ++times; }
  } hears;
  session.set_listener(&hears);
  session.go_for(Picoseconds{20'000'000'000});
  // On the way to its next call, in a second, a breakpoint is met half a million times, and a
  // message sent: nobody is told.
  const auto point = session.pause_at({"clock_ms"});
  REQUIRE(point);
  REQUIRE(session.race_search({"serial_number"}));
  CHECK(hears.times == 0);
  CHECK(session.breakpoints()[0].reached == 0);
  REQUIRE(session.remove(point->id));
  const auto hash = session.chip().hash();
  const auto refused = [&](RaceSpec spec, const char* words) {
    spec.within = {1'000'000'000'000};
    const auto view = session.race_search(spec);
    REQUIRE(!view);
    INFO(view.error().what);
    CHECK(view.error().what.find(words) != std::string::npos);
    CHECK(session.chip().hash() == hash);
  };
  refused({"clok_ms"}, "there is no function");
  refused({"main"}, "not called");
  refused({"clock_wait_ms"}, "does not return");
  refused({"clock_ms", {"TIMER9"}}, "no interrupt");
  refused({"clock_ms", {}, "now == 1"}, "locals");
  refused({"clock_ms", {}, "ticks +"}, "");
  refused({"clock_ms", {}, {}, "nowhere"}, "nowhere");
  const auto none = session.go_to_race(1);
  REQUIRE(!none);
  CHECK(session.chip().hash() == hash);
  // Without debug information nothing found would be no answer.
  for (const char* bare : {"-Os -g0", "-Os -gstabs"}) {
    INFO(bare);
    Session unknown = opened(test::compiled("race-bare", program(kPrograms[0].source), bare));
    const auto overview = unknown.race_overview({});
    REQUIRE(!overview);
    CHECK(overview.error().what.find("does not say which lines and variables") !=
          std::string::npos);
  }
  // A reload ends what was found.
  Session torn = opened(std::string(LUCID_KILN) + "/images/torn-tick.elf");
  torn.go_for(Picoseconds{20'000'000'000});
  REQUIRE(torn.race_search({"clock_ms"}));
  REQUIRE(torn.reload());
  REQUIRE(!torn.go_to_race(1));
}

TEST_CASE("a race is stood at from before and from behind", "[race]") {
  Session torn = opened(std::string(LUCID_KILN) + "/images/torn-tick.elf");
  torn.go_for(Picoseconds{20'000'000'000});
  REQUIRE(torn.race_search({"clock_ms"}));
  torn.go_for(Picoseconds{50'000'000'000});
  const auto back = torn.go_to_race(1);
  REQUIRE(back);
  const auto hash = torn.chip().hash();
  REQUIRE(torn.back_to_start());
  const auto forward = torn.go_to_race(1);
  REQUIRE(forward);
  CHECK(torn.chip().hash() == hash);
  // Breakpoints on the way are counted.
  REQUIRE(torn.back_to_start());
  REQUIRE(torn.pause_at({"clock_ms"}));
  REQUIRE(torn.go_to_race(1));
  CHECK(torn.chip().hash() == hash);
}

TEST_CASE("events of peripherals happen when they are raised", "[race]") {
  const std::string elf = test::compiled("raised", R"(
#include <avr/io.h>
#include <avr/interrupt.h>
volatile uint8_t seen, got;
volatile uint16_t value;
#define SEES(v, ...) ISR(v) { seen = v##_num; __VA_ARGS__; }
SEES(INT0_vect) SEES(INT1_vect) SEES(PCINT0_vect) SEES(PCINT2_vect) SEES(WDT_vect)
SEES(TIMER0_OVF_vect) SEES(TIMER0_COMPA_vect) SEES(TIMER1_CAPT_vect, value = ICR1)
SEES(TIMER1_COMPB_vect) SEES(TIMER2_COMPA_vect) SEES(ANALOG_COMP_vect)
SEES(USART_RX_vect, got = UDR0) SEES(USART_UDRE_vect, UCSR0B = 0) SEES(USART_TX_vect)
SEES(ADC_vect, value = ADC) SEES(EE_READY_vect, EECR = 0) SEES(SPI_STC_vect, got = SPSR)
int main(void) { sei(); for (;;) __asm__ volatile("nop"); }
)",
                                         "-Os -gdwarf-4");
  const struct {
    const char* interrupt;
    std::vector<std::pair<const char*, const char*>> enable;
    unsigned number;
    bool forced = false;
  } kRows[] = {
      {"INT0", {{"EICRA", "3"}, {"EIMSK", "1"}}, 1},
      {"INT1", {{"EICRA", "0"}, {"EIMSK", "2"}}, 2, true},  // a low level leaves no flag
      {"PCINT0", {{"PCMSK0", "4"}, {"PCICR", "1"}}, 3},
      {"PCINT2", {{"PCMSK2", "0"}, {"PCICR", "4"}}, 5, true},
      {"WDT", {{"WDTCSR", "0x18"}, {"WDTCSR", "0x46"}}, 6, false},
      {"TIMER0_OVF", {{"TCCR0B", "5"}, {"TIMSK0", "1"}}, 16},
      {"TIMER0_COMPA", {{"TIMSK0", "2"}}, 14, true},  // it stands still
      {"TIMER1_CAPT", {{"TCCR1B", "5"}, {"TIMSK1", "0x20"}}, 10},
      {"TIMER1_COMPB", {{"TCCR1B", "1"}, {"OCR1B", "9999"}, {"TIMSK1", "4"}}, 12},
      {"TIMER2_COMPA", {{"TCCR2B", "7"}, {"OCR2A", "200"}, {"TIMSK2", "2"}}, 7},
      {"ANALOG_COMP", {{"ACSR", "8"}}, 23},
      {"USART_RX", {{"UCSR0B", "0x90"}}, 18},
      {"USART_TX", {{"UCSR0B", "0x48"}, {"UDR0", "65"}}, 20},
      {"ADC", {{"ADMUX", "0x40"}, {"ADCSRA", "0xcf"}}, 21},
      {"ADC", {{"ADMUX", "0x40"}, {"ADCSRA", "0x8f"}}, 21, true},  // no conversion is under way
      {"SPI_STC", {{"DDRB", "0x2c"}, {"SPCR", "0xd3"}, {"SPDR", "1"}}, 17},
      {"EE_READY",
       {{"EEARL", "3"}, {"EEDR", "7"}, {"EECR", "4"}, {"EECR", "2"}, {"EECR", "8"}},
       22},
  };
  struct Notes : Listener {
    std::vector<std::string> all;
    void on_note(const std::string& text) override { all.push_back(text); }
  };
  for (const auto& row : kRows) {
    INFO(row.interrupt << " " << row.forced);
    Session session = opened(elf);
    Notes notes;
    session.set_listener(&notes);
    session.go_for(100);
    const auto before = session.chip().hash();
    CHECK(!session.raise(row.interrupt));  // not enabled
    CHECK(session.chip().hash() == before);
    REQUIRE(session.apply_voltage("PC0", 2.5));
    REQUIRE(session.drive("PD3", true));
    for (const auto& [name, value] : row.enable)
      REQUIRE(session.let(std::string("chip.") + name, value, true));
    notes.all.clear();
    const auto raised = session.raise(row.interrupt, std::string(row.interrupt) == "USART_RX"
                                                         ? std::optional<std::uint8_t>(0x42)
                                                         : std::nullopt);
    if (!raised) INFO(raised.error().what);
    REQUIRE(raised);
    CHECK(notes.all.size() == (row.forced ? 1 : 0));
    const auto entered = session.step(StepKind::kInto, StepUnit::kInstruction);
    REQUIRE(entered);
    CHECK(entered->where.vector == row.interrupt);
    session.go_for(200);
    CHECK(text(session, "seen") == std::to_string(row.number));
    if (std::string(row.interrupt) == "USART_RX") CHECK(text(session, "got") == "66");
    if (std::string(row.interrupt) == "ADC" && !row.forced) CHECK(text(session, "value") == "512");
    // It goes on as it should: nothing that was brought forward happens a second time.
    REQUIRE(session.let("seen", "0"));
    session.go_for(300);
    CHECK(text(session, "seen") == "0");
  }
}
