// SPDX-License-Identifier: MIT
// Timers that are traced. Pulse widths in every mode: against boundaries, and against formula.
// Matches, overflows and captures: against flags that are read and cleared at every boundary, and
// against the counts that the registers give by formula.
#include <catch2/catch.hpp>
#include <map>
#include <random>
#include <utility>

#include "lucid/measurement.h"
#include "traces.h"

using namespace lucid;
using namespace test;

namespace {

/// A flag of TIFRn, as what is traced of it.
struct Flag {
  std::string name;
  std::uint32_t tifr;  ///< data address
  unsigned bit;
};

std::vector<Flag> flags_of(unsigned timer) {
  const std::string n = std::to_string(timer);
  const std::uint32_t tifr = 0x35 + timer;
  std::vector<Flag> out{{"overflow TIMER" + n, tifr, 0},
                        {"match OC" + n + "A", tifr, 1},
                        {"match OC" + n + "B", tifr, 2}};
  if (timer == 1) out.push_back({"capture TIMER1", tifr, 5});
  return out;
}

using Ticks = std::vector<std::uint64_t>;

Ticks traced(const Session& session, const std::string& name) {
  const auto signal = session.signal(name);
  REQUIRE(signal);
  Ticks out;
  auto all = signal->samples();
  while (const auto sample = all.next()) out.push_back(sample->tick);
  return out;
}

/// Stretches from one boundary to the next, each with the flags that have risen in it.
class Stepper {
 public:
  Stepper(Chip chip, std::vector<Flag> flags) : chip_(std::move(chip)), flags_(std::move(flags)) {
    clear();
    from_ = tick();
  }
  [[nodiscard]] std::uint64_t tick() const { return chip_.time().count / 62'500; }
  void step() {
    chip_.step();
    const auto up = clear();
    for (const Flag& flag : flags_)
      if ((up.at(flag.tifr) >> flag.bit & 1U) != 0) risen_[flag.name].emplace_back(from_, tick());
    before_ = std::exchange(from_, tick());
  }
  /// Is there a moment in each of them, and none elsewhere? Up to the tick where both stand: what
  /// happens at that very tick is recorded when time goes on.
  void check(const Session& session) const {
    for (const Flag& flag : flags_) {
      INFO(flag.name);
      auto stretches = risen_.find(flag.name);
      const Ticks moments = traced(session, flag.name);
      std::size_t at = 0;
      if (stretches != risen_.end())
        for (const auto& [from, to] : stretches->second) {
          if (to == from_) break;
          INFO("between " << from << " and " << to);
          REQUIRE(at < moments.size());
          REQUIRE(moments[at] > from);
          REQUIRE(moments[at] <= to);
          while (at < moments.size() && moments[at] <= to) ++at;
        }
      REQUIRE((at == moments.size() || moments[at] > before_));
    }
  }
  [[nodiscard]] std::size_t count(const std::string& name) const {
    const auto found = risen_.find(name);
    return found != risen_.end() ? found->second.size() : 0;
  }

 private:
  /// With what was up.
  std::map<std::uint32_t, std::uint8_t> clear() {
    std::map<std::uint32_t, std::uint8_t> out;
    for (const Flag& flag : flags_) {
      if (out.count(flag.tifr) != 0) continue;
      out[flag.tifr] = *chip_.peek({Space::kData, flag.tifr});
      if (out[flag.tifr] != 0) chip_.poke({Space::kData, flag.tifr}, 0);
    }
    return out;
  }
  Chip chip_;
  std::vector<Flag> flags_;
  std::uint64_t before_ = 0, from_ = 0;
  std::map<std::string, std::vector<std::pair<std::uint64_t, std::uint64_t>>> risen_;
};

}  // namespace

TEST_CASE("matches, overflows and captures in every mode of every timer, to the cycle",
          "[tracing]") {
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(test::assembled("moments-nops", ".rept 16000\nnop\n.endr\n")));
  const Session::Moment start = session.moment();
  const unsigned cycles = test::kSanitized ? 150 : 450;
  for (unsigned timer = 0; timer < 3; ++timer)
    for (unsigned mode = 0; mode < (timer == 1 ? 16U : 8U); ++mode)
      for (const unsigned compare : {0U, 1U, 7U, 99U, 100U})
        for (const bool late : {false, true}) {  // not far from the counter's end
          const std::string n = std::to_string(timer);
          INFO("timer " << n << " mode " << mode << " compare " << compare << " late " << late);
          REQUIRE(session.return_to(start));
          const auto let = [&](const std::string& reg, unsigned value) {
            REQUIRE(session.let("chip." + reg, std::to_string(value), true));
          };
          if (timer == 1) let("ICR1", 100);
          let("TCCR" + n + "A", 0x40 | (mode & 3U));  // toggles, where it does
          let("OCR" + n + "A", compare);
          let("OCR" + n + "B", compare / 2);
          if (late) let("TCNT" + n, timer == 1 ? 0xffc0 : 0xc0);
          let("TCCR" + n + "B", (mode >> 2) << 3 | 1);
          session.clear_traces();
          for (const Flag& flag : flags_of(timer)) REQUIRE(session.trace({flag.name}));
          Stepper stepper(session.chip(), flags_of(timer));
          session.go_for(std::uint64_t{cycles});
          for (unsigned i = 0; i < cycles; ++i) stepper.step();
          stepper.check(session);
          for (const Flag& flag : flags_of(timer)) REQUIRE(session.untrace(flag.name));
        }
}

TEST_CASE("the gaps between matches are what the registers say", "[tracing]") {
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(test::assembled("moments-loop", "1: rjmp 1b\n")));
  for (const char* name : {"match OC1A", "match OC1B", "overflow TIMER1"})
    REQUIRE(session.trace({name}));
  std::mt19937 random(test::fresh_seed());
  for (unsigned i = 0; i < 40; ++i) {
    const unsigned top = 2 + random() % 3000;
    const unsigned compare = 1 + random() % (top - 1);
    const unsigned dividers[] = {1, 8, 64, 256, 1024};
    const unsigned cs = 1 + random() % 5;
    // CTC, fast PWM, phase correct, all with OCR1A as TOP.
    const unsigned wgm = std::array<unsigned, 3>{4, 15, 11}[random() % 3];
    const bool phase = wgm == 11;
    INFO("top " << top << " compare " << compare << " cs " << cs << " wgm " << wgm);
    REQUIRE(session.back_to_start().has_value() == (i != 0));
    const auto let = [&](const std::string& reg, unsigned value) {
      REQUIRE(session.let("chip." + reg, std::to_string(value), true));
    };
    let("TCCR1A", wgm & 3U);
    let("OCR1A", top);
    let("OCR1B", compare);
    let("TCCR1B", (wgm >> 2) << 3 | cs);
    session.clear_traces();
    const std::uint64_t period = std::uint64_t{dividers[cs - 1]} * (phase ? 2 * top : top + 1);
    session.go_for(period * 8);
    for (const char* name : {"match OC1A", "match OC1B", "overflow TIMER1"}) {
      INFO(name);
      const Ticks moments = traced(session, name);
      const bool twice = phase && std::string(name) == "match OC1B";  // on the way up and down
      if (wgm == 4 && std::string(name) == "overflow TIMER1") {
        CHECK(moments.empty());  // it never reaches MAX
        continue;
      }
      REQUIRE(moments.size() >= (twice ? 12U : 6U));
      for (std::size_t k = 4; k < moments.size(); ++k)
        CHECK(moments[k] - moments[k - (twice ? 2 : 1)] == period);
    }
    const auto counts = session.signal("match OC1B");
    auto samples = counts->samples(counts->end() / 2);  // OCR1x is buffered
    while (const auto sample = samples.next()) CHECK(sample->value == compare);
  }
}

namespace {

/// Goes through all that a timer's clock can meet.
const char* const kClocks = R"(
#include <avr/interrupt.h>
#include <avr/io.h>
#include <avr/power.h>
#include <avr/sleep.h>
#include <avr/wdt.h>
volatile uint8_t rounds __attribute__((section(".noinit"))), bites;
static uint16_t noise = 1;
static uint8_t some(void) { noise = noise * 25173 + 13849; return noise >> 8; }
static void wait(uint8_t n) { while (n--) __asm__ volatile("nop"); }
ISR(WDT_vect) { bites++; }
static void divide(uint8_t by) {
  CLKPR = _BV(CLKPCE);
  CLKPR = by;
}
static void sleep(uint8_t mode) {
  set_sleep_mode(mode);
  cli();
  wdt_reset();
  WDTCSR = _BV(WDCE) | _BV(WDE);
  WDTCSR = _BV(WDIE);  // 16 ms
  sei();
  sleep_mode();
  cli();
  WDTCSR = _BV(WDCE) | _BV(WDE);
  WDTCSR = 0;
}
int main(void) {
  if (MCUSR & _BV(PORF)) rounds = 0;
  MCUSR = 0;
  wdt_disable();
  DDRB = 1;
  DDRD = 0x10;
  TCCR1B = _BV(WGM12) | _BV(CS10) | _BV(ICES1);
  OCR1A = 999;
  OCR1B = 311;
  ASSR = _BV(AS2);
  TCCR2A = _BV(WGM21);
  OCR2A = 5;
  OCR2B = 3;
  TCCR2B = 1;
  TCCR0A = _BV(WGM01);
  OCR0A = 5;
  OCR0B = 2;
  TCCR0B = 7;  // counts PD4
  for (uint8_t i = 0; i < 24; i++) {
    for (uint8_t k = some() & 15; k; k--) { PIND = 0x10; wait(some() & 63); }
    PINB = 1;
    wait(some());
    switch (some() % 9) {
      case 0: divide(some() % 4); break;
      case 1: power_timer1_disable(); wait(some()); power_timer1_enable(); break;
      case 2: sleep(SLEEP_MODE_PWR_DOWN); break;
      case 3: sleep(SLEEP_MODE_PWR_SAVE); break;
      case 4: OCR1A = 100 + some() * 9; break;
      case 5: TCNT1 = some(); break;
      case 6: GTCCR = _BV(PSRSYNC); break;
      case 7: TCCR1B = (TCCR1B & ~7) | (1 + some() % 4); break;
      case 8: sleep(SLEEP_MODE_IDLE); break;
    }
    wait(some());
  }
  divide(0);
  if (++rounds == 3) for (;;) {}
  wdt_enable(WDTO_15MS);
  for (;;) {}
}
)";

}  // namespace

TEST_CASE("matches through sleep, other clocks, power and resets", "[tracing]") {
  std::mt19937 random(test::fresh_seed());
  std::string source = kClocks;
  source.replace(source.find("noise = 1;"), 10,
                 "noise = " + std::to_string(random() & 0xffff) + ";");
  const std::string image = test::compiled("moments-clocks", source, "-Os -gdwarf-4");
  std::vector<Flag> flags;
  for (unsigned timer = 0; timer < 3; ++timer)
    for (const Flag& flag : flags_of(timer)) flags.push_back(flag);
  Session straight(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(straight.open(image));
  Stepper stepper(straight.chip(), flags);
  for (const Flag& flag : flags) REQUIRE(straight.trace({flag.name}));
  const std::uint64_t end = test::kSanitized ? 400'000 : 8'000'000;
  straight.go_for(Picoseconds{end * 62'500});
  while (stepper.tick() < end) stepper.step();
  stepper.check(straight);
  if (!test::kSanitized)
    for (const Flag& flag : flags) {
      INFO(flag.name);  // one that is cleared by its match does not come to its end
      CHECK((stepper.count(flag.name) > 5 || flag.name.find("overflow") == 0));
    }

  // However often it is looked at, and from wherever one comes.
  const Chip chip = *Chip::make({"ATmega328P", 16'000'000});
  Session plain(chip), other(chip);
  REQUIRE(plain.open(image));
  REQUIRE(other.open(image));
  for (const Flag& flag : flags) REQUIRE(other.trace({flag.name}));
  plain.go_for(Picoseconds{end * 62'500});
  CHECK(plain.chip().hash() == straight.chip().hash());
  for (unsigned i = 0; i < 60 && other.chip().time().count < end * 62'500; ++i)
    if (random() % 4 == 0)
      (void)other.back_for(Picoseconds{other.chip().time().count / (1 + random() % 20)});
    else
      other.go_for(Picoseconds{random() % (end * 62'500 / 10) + 1});
  while (other.chip().time().count < plain.chip().time().count)
    other.go_for(Picoseconds{plain.chip().time().count - other.chip().time().count});
  const std::uint64_t ticks = plain.chip().time().count / 62'500;
  for (const Flag& flag : flags) {
    INFO(flag.name);
    const Ticks truth = traced(straight, flag.name);
    Ticks there = traced(other, flag.name);  // it may be further
    while (!there.empty() && there.back() >= ticks) there.pop_back();
    CHECK(there == truth);
    REQUIRE(plain.trace({flag.name, "", "", true}));
    CHECK(traced(plain, flag.name) == truth);
  }
}

TEST_CASE("pulse widths in every mode of every timer, to the cycle", "[tracing]") {
  // Nothing but single-cycle instructions: stepping sees every cycle.
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(test::assembled("tracing-nops", ".rept 16000\nnop\n.endr\n")));
  // And one with the longest: pulses come and go within an instruction.
  Session slow(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(slow.open(test::assembled("tracing-calls", "1: rcall 2f\nrjmp 1b\n2: ret\n")));
  const Session::Moment start = session.moment(), slow_start = slow.moment();
  struct Timer {
    unsigned number;
    unsigned modes;
    const char* pins[2];
  };
  for (const Timer& timer :
       {Timer{0, 8, {"PD6", "PD5"}}, Timer{1, 16, {"PB1", "PB2"}}, Timer{2, 8, {"PB3", "PD3"}}})
    for (unsigned mode = 0; mode < timer.modes; ++mode)
      for (unsigned com = 1; com <= 3; ++com)
        for (const unsigned compare : {0U, 1U, 7U, 99U, 100U}) {
          const std::string n = std::to_string(timer.number);
          INFO("timer " << n << " mode " << mode << " com " << com << " compare " << compare);
          const auto set_up = [&](Session& s, const Session::Moment& from) {
            REQUIRE(s.return_to(from));
            const auto let = [&](const std::string& reg, unsigned value) {
              REQUIRE(s.let("chip." + reg, std::to_string(value), true));
            };
            let("DDRB", 0xff);
            let("DDRD", 0xff);
            if (timer.number == 1) let("ICR1", 100);
            // TCCRnB last: it starts the counter.
            let("TCCR" + n + "A", (com << 6 | com << 4 | (mode & 3U)));
            let("OCR" + n + "A", compare);
            let("OCR" + n + "B", compare / 2);
            let("TCCR" + n + "B", (timer.number == 1 ? (mode >> 2) << 3 : (mode >> 2) << 3) | 1);
            s.clear_traces();
          };
          for (const char* pin : timer.pins) {
            (void)session.trace({std::string("pin.") + pin});
            (void)slow.trace({std::string("pin.") + pin});
          }
          set_up(session, start);
          Chip stepped = session.chip();
          session.go_for(std::uint64_t{450});
          std::vector<std::map<std::string, bool>> seen;
          const std::uint64_t from = stepped.cycles();
          for (unsigned i = 0; i <= 450; ++i) {
            if (i % 3 == 0 || !test::kSanitized) {
              seen.emplace_back();
              for (const PinState& pin : stepped.pins())
                if (pin.name == timer.pins[0] || pin.name == timer.pins[1])
                  seen.back()[pin.name] = pin.level;
            } else {
              seen.push_back(seen.back());
            }
            stepped.step();
          }
          for (const char* pin : timer.pins) {
            const auto signal = session.signal(std::string("pin.") + pin);
            REQUIRE(signal);
            unsigned wrong = 0;
            for (unsigned i = 0; i <= 450; ++i)
              if (i % 3 == 0 || !test::kSanitized)
                if ((signal->at(from + i).value != 0) != seen[i].at(pin)) ++wrong;
            CHECK(wrong == 0);
          }
          set_up(slow, slow_start);
          slow.go_for(std::uint64_t{440});
          for (const char* pin : timer.pins) {
            const auto a = session.signal(std::string("pin.") + pin);
            const auto b = slow.signal(std::string("pin.") + pin);
            auto x = a->samples(0, from + 440), y = b->samples(0, from + 440);
            for (;;) {
              const auto one = x.next(), other = y.next();
              REQUIRE(one.has_value() == other.has_value());
              if (!one) break;
              REQUIRE(one->tick == other->tick);
              REQUIRE(one->value == other->value);
            }
          }
        }
}

TEST_CASE("the period and duty of pulse width modulation are what the registers say", "[tracing]") {
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(test::assembled("tracing-loop", "1: rjmp 1b\n")));
  trace(session, {"pin.PB1"});
  std::mt19937 random(test::fresh_seed());
  for (unsigned i = 0; i < 30; ++i) {
    const unsigned top = 2 + random() % 3000;
    const unsigned compare = 1 + random() % (top - 1);
    const bool phase = random() % 2 != 0;
    const unsigned dividers[] = {1, 8, 64};
    const unsigned cs = 1 + random() % 3;
    REQUIRE(session.back_to_start().has_value() == (i != 0));
    REQUIRE(session.let("chip.DDRB", "0xff", true));
    REQUIRE(session.let("chip.ICR1", "0", true));
    REQUIRE(session.let("chip.TCCR1A", phase ? "0x82" : "0x82", true));
    REQUIRE(session.let("chip.TCCR1B", phase ? "0x10" : "0x18", true));
    REQUIRE(session.let("chip.ICR1", std::to_string(top), true));
    REQUIRE(session.let("chip.OCR1A", std::to_string(compare), true));
    REQUIRE(session.let("chip.TCCR1B", std::to_string((phase ? 0x10 : 0x18) | cs), true));
    session.clear_traces();
    const std::uint64_t cycles = std::uint64_t{dividers[cs - 1]} * (top + 1) * 2;
    session.go_for(cycles * 6);
    const auto m = measure(*session.signal("pin.PB1"), session.signal("pin.PB1")->time(cycles * 2),
                           {UINT64_MAX});
    REQUIRE(m);
    REQUIRE(m->period.count >= 2);
    // "Fast PWM Mode": TOP + 1 counts, high for OCR + 1; "Phase Correct": 2 TOP, high for 2 OCR.
    const std::uint64_t ps = 62'500ULL * dividers[cs - 1];
    CHECK(m->period.least.count == ps * (phase ? 2 * top : top + 1));
    CHECK(m->period.most.count == m->period.least.count);
    CHECK(m->high.least.count == ps * (phase ? 2 * compare : compare + 1));
    CHECK(m->high.most.count == m->high.least.count);
    CHECK(*m->duty == Approx(phase ? compare / double(top) : (compare + 1.0) / (top + 1.0)));
  }
}
