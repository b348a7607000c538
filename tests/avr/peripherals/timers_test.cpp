// SPDX-License-Identifier: MIT
// All timer modes against counting tick by tick, over random register writes: counter, flags and
// the levels of the compare pins. Source: the data sheet's chapters on the three timers.
#include <fmt/format.h>

#include <array>
#include <catch2/catch.hpp>
#include <random>

#include "bench.h"
#include "lucid/session.h"
#include "tools.h"

using namespace lucid;
using test::Bench;

namespace {

/// One timer, counted in the plainest way.
struct Reference {
  bool wide = false;
  unsigned wgm = 0, divider = 0;
  std::uint64_t origin = 0;  ///< of the prescaler
  std::array<unsigned, 2> com{}, written{}, compare{};
  unsigned icr = 0, count = 0, flags = 0;
  std::array<bool, 2> out{};
  bool down = false, blocked = false;

  /// N normal, C clear on compare, F fast PWM, P phase correct, Q phase and frequency correct.
  [[nodiscard]] char kind() const { return wide ? "NPPPCFFFQQPPCNFF"[wgm] : "NPCFNPNF"[wgm]; }
  [[nodiscard]] unsigned max() const { return wide ? 0xffff : 0xff; }
  [[nodiscard]] unsigned top() const {
    if (!wide) return wgm == 2 || wgm == 5 || wgm == 7 ? compare[0] : 0xff;
    switch (wgm) {
      case 1:
      case 5: return 0xff;
      case 2:
      case 6: return 0x1ff;
      case 3:
      case 7: return 0x3ff;
      case 4:
      case 9:
      case 11:
      case 15: return compare[0];
      case 8:
      case 10:
      case 12:
      case 14: return icr;
      default: return 0xffff;
    }
  }
  [[nodiscard]] bool icr_is_top() const { return wide && wgm >= 8 && wgm % 2 == 0; }
  [[nodiscard]] bool pwm() const { return kind() != 'N' && kind() != 'C'; }
  [[nodiscard]] bool connected(unsigned i) const {
    if (com[i] != 1 || !pwm()) return com[i] != 0;
    const bool toggles = wide ? wgm == 9 || wgm == 11 || wgm == 14 || wgm == 15 : wgm >= 5;
    return i == 0 && toggles;
  }
  void act(unsigned i, bool clears) {
    if (!connected(i)) return;
    if (com[i] == 1) out[i] = !out[i];
    if (com[i] == 2) out[i] = !clears;
    if (com[i] == 3) out[i] = clears;
  }
  void tick(std::uint64_t now) {
    if (divider == 0 || now <= origin || (now - origin) % divider != 0) return;
    const unsigned last = top();
    const bool triangle = kind() == 'P' || kind() == 'Q';
    const bool at_top = triangle ? !down && count >= last : count == last;
    const bool at_bottom = triangle && down && count == 0;
    for (unsigned i = 0; i < 2; ++i) {
      if (blocked || compare[i] != count) continue;
      flags |= 2U << i;
      if (!triangle || !at_top || com[i] == 1) act(i, !triangle || !(down && !at_bottom));
    }
    const bool missed = blocked && kind() == 'C';  // the match that would have cleared it
    blocked = false;
    const bool wraps = !triangle && ((count == last && !missed) || count == max());
    if (at_top && !missed && icr_is_top()) flags |= 0x20;
    if (triangle ? at_bottom : kind() == 'F' ? at_top : count == max()) flags |= 1;
    if (kind() == 'F' && wraps)
      for (unsigned i = 0; i < 2; ++i)
        if (connected(i) && com[i] >= 2) out[i] = com[i] == 2;
    if ((kind() == 'F' && wraps) || (kind() == 'P' && at_top) || (kind() == 'Q' && count == 0))
      compare = written;
    // At TOP a pin has what a match on the way up leaves, at a compare value of TOP the opposite.
    for (unsigned i = 0; triangle && at_top && i < 2; ++i)
      if (com[i] >= 2) act(i, compare[i] != last);
    if (triangle) {
      if (at_top) down = true;
      if (at_bottom) down = false;
      count = last == 0 && (at_top || at_bottom) ? 0 : down ? count - 1 : count + 1;
    } else {
      count = wraps ? 0 : count + 1;
    }
  }
};

struct Registers {
  unsigned number;
  bool wide;
  unsigned tccra, tcnt, ocra, ocrb, tifr, timsk;
  const char *a, *b;
};
constexpr Registers kTimers[] = {
    {0, false, 0x44, 0x46, 0x47, 0x48, 0x35, 0x6e, "PD6", "PD5"},
    {1, true, 0x80, 0x84, 0x88, 0x8a, 0x36, 0x6f, "PB1", "PB2"},
    {2, false, 0xb0, 0xb2, 0xb3, 0xb4, 0x37, 0x70, "PB3", "PD3"},
};

}  // namespace

TEST_CASE("lazy counting equals counting tick by tick, in all modes, over random register writes") {
  constexpr unsigned kGtccr = 0x43;
  for (const Registers& timer : kTimers) {
    for (unsigned round = 0; round < 36; ++round) {
      const bool no_outputs = round % 3 == 2;
      const unsigned seed = round < 30 ? round : test::fresh_seed() + round;
      INFO("timer " << timer.number << ", seed " << seed);
      std::mt19937 random(seed);
      Bench b;
      b.out(0x24, 0xff);
      b.out(0x2a, 0xff);
      Reference r;
      r.wide = timer.wide;
      std::uint64_t now = b.chip().cycles();
      const auto catch_up = [&] {
        while (now < b.chip().cycles()) r.tick(++now);
      };
      const auto write = [&](unsigned address, unsigned value) {
        if (timer.wide)
          b.write16(address, value);
        else
          b.write(address, value);
        catch_up();
      };
      const auto some_value = [&] {
        const unsigned small = random() % 3 == 0 ? random() % 4 : random() % 60;
        return random() % 4 == 0 ? random() % (r.max() + 1) : small;
      };
      for (int i = 0; i < 60; ++i) {
        switch (random() % 9) {
          case 0:
          case 1: {  // a mode
            const unsigned com_a = no_outputs ? 0 : random() % 4;
            const unsigned com_b = no_outputs ? 0 : random() % 4;
            unsigned wgm = random() % (timer.wide ? 16 : 8);
            if (timer.wide ? wgm == 13 : wgm == 4 || wgm == 6) wgm = 0;
            constexpr unsigned kDividers[] = {0, 1, 8, 64};
            constexpr unsigned kDividers2[] = {0, 1, 8, 32};
            const unsigned cs = random() % 4;
            const auto apply = [&](unsigned new_wgm, unsigned divider) {
              r.wgm = new_wgm;
              r.divider = divider;
              if (!r.pwm()) r.compare = r.written;
              if (r.kind() != 'P' && r.kind() != 'Q')
                r.down = false;
              else if (r.count > r.top())
                r.down = true;
            };
            b.write(timer.tccra, com_a << 6 | com_b << 4 | (wgm & 3));
            catch_up();
            r.com = {com_a, com_b};
            const unsigned half_way = (r.wgm & ~3U) | (wgm & 3);
            apply(half_way, r.divider);
            b.write(timer.tccra + 1, (wgm >> 2) << 3 | cs);
            catch_up();
            apply(wgm, timer.number == 2 ? kDividers2[cs] : kDividers[cs]);
            break;
          }
          case 2:
          case 3: {  // a compare register
            const unsigned which = random() % 2;
            const unsigned value = some_value();
            write(which == 0 ? timer.ocra : timer.ocrb, value);
            r.written[which] = value;
            if (!r.pwm()) r.compare[which] = value;
            break;
          }
          case 4: {  // the counter
            const unsigned value = some_value();
            if ((r.kind() == 'P' || r.kind() == 'Q') && value > r.top()) break;
            write(timer.tcnt, value);
            r.count = value;
            r.blocked = true;
            break;
          }
          case 5:
            b.write(timer.tifr, 0xff);
            catch_up();
            r.flags = 0;
            break;
          case 6:
            if (!timer.wide) break;
            {
              const unsigned value = 1 + some_value() % 0xffff;
              write(0x86, value);
              if (r.icr_is_top()) r.icr = value;
            }
            break;
          case 7: {
            b.write(kGtccr, timer.number == 2 ? 2 : 1);
            catch_up();
            r.origin = now;
            break;
          }
          default: b.pass(random() % 50 == 0 ? 200'000 : random() % 2000); break;
        }
        catch_up();
        const unsigned high = timer.wide ? b.get(timer.tcnt + 1) << 8 : 0;
        INFO("write " << i << ", cycle " << now << ", mode " << r.wgm << ", com " << r.com[0]
                      << r.com[1] << ", compare " << r.compare[0] << " " << r.compare[1]);
        REQUIRE((b.get(timer.tcnt) | high) == r.count);
        REQUIRE((b.get(timer.tifr) & 0x27) == r.flags);
        if (i % 7 == 0) {  // as the firmware reads it, in the second cycle of `lds`
          const unsigned seen = b.read(timer.tifr);
          while (now + 1 < b.chip().cycles()) r.tick(++now);
          REQUIRE((seen & 0x27) == r.flags);
          catch_up();
        }
        REQUIRE(b.pin(timer.a).level == (r.connected(0) && r.out[0]));
        REQUIRE(b.pin(timer.b).level == (r.connected(1) && r.out[1]));
      }
    }
  }
}

TEST_CASE("PWM on a pin: frequency and duty by the data sheet's formulas") {
  struct Row {
    unsigned wgm, compare, period, high;  // 8-bit, clk/1, non-inverting
  };
  // Fast: N * 256 ticks, high for OCR + 1; phase correct: 510 ticks, high for 2 * OCR.
  for (const Row& row : {Row{3, 63, 256, 64}, Row{3, 0, 256, 1}, Row{3, 255, 256, 256},
                         Row{1, 64, 510, 128}, Row{1, 0, 510, 0}, Row{1, 255, 510, 510}}) {
    INFO("mode " << row.wgm << ", compare " << row.compare);
    Bench b;
    b.out(0x2a, 0xff);
    b.write(0x47, row.compare);
    b.write(0x44, 0x80 | row.wgm);
    b.write(0x45, 1);
    b.pass(3000);
    unsigned high = 0;
    for (unsigned i = 0; i < row.period; i += 2) {  // `rjmp` takes two ticks
      high += b.pin("PD6").level ? 1 : 0;
      b.pass(2);
    }
    // Seen every second tick: half of the time high, give or take one look.
    CHECK(std::abs(static_cast<int>(2 * high) - static_cast<int>(row.high)) <= 1);
  }
}

TEST_CASE("force compare moves the pin and raises no flag") {
  Bench b;
  b.out(0x2a, 0xff);
  b.write(0x44, 0x40);  // toggle OC0A
  b.write(0x45, 0x80);  // FOC0A
  CHECK(b.pin("PD6").level);
  CHECK(b.get(0x45) == 0);
  b.write(0x45, 0x80);
  CHECK_FALSE(b.pin("PD6").level);
  CHECK((b.get(0x35) & 2) == 0);
}

TEST_CASE("input capture keeps the counter of the edge; the noise canceller waits four cycles") {
  for (const bool canceller : {false, true}) {
    Bench b;
    REQUIRE(b.chip().drive("PB0", false));
    b.write(0x81, (canceller ? 0x80U : 0U) | 0x41);  // rising edge, clk/1
    b.pass(100);
    REQUIRE(b.chip().drive("PB0", true));
    const unsigned edge = b.get(0x84) | b.get(0x85) << 8;
    b.pass(20);
    CHECK(b.read16(0x86) == edge + 3 + (canceller ? 4 : 0));  // 2.5 to 3.5, and four samples
    CHECK((b.get(0x36) & 0x20) != 0);
    b.write(0x36, 0x20);
    REQUIRE(b.chip().drive("PB0", false));
    b.pass(20);
    CHECK((b.get(0x36) & 0x20) == 0);
  }
}

TEST_CASE("the noise canceller takes four equal samples of either level") {
  Bench b;
  REQUIRE(b.chip().drive("PB0", true));
  b.write(0x81, 0xc1);  // canceller, rising edge, clk/1
  b.pass(100);
  b.write(0x36, 0x20);
  // A dip of three cycles is none: what follows it is no rising edge.
  REQUIRE(b.chip().drive("PB0", false));
  b.pass(2);
  REQUIRE(b.chip().drive("PB0", true));
  b.pass(40);
  CHECK((b.get(0x36) & 0x20) == 0);
  REQUIRE(b.chip().drive("PB0", false));
  b.pass(20);
  REQUIRE(b.chip().drive("PB0", true));
  b.pass(40);
  CHECK((b.get(0x36) & 0x20) != 0);
}

TEST_CASE("phase-correct PWM: transitions at TOP without a match") {
  // The figure of "Phase Correct PWM Mode": the compare value leaves TOP, and comes back to it.
  Bench b;
  b.out(0x2a, 0xff);
  b.write(0x47, 255);
  b.write(0x44, 0x81);
  b.write(0x45, 1);
  b.pass(2000);
  CHECK(b.pin("PD6").level);
  b.write(0x47, 100);
  const auto count = [&] { return b.get(0x46); };
  const auto until = [&](unsigned value, bool rising) {
    for (unsigned before = count(), i = 0; i < 2000; ++i) {
      b.pass(2);
      if ((count() >= before) == rising && count() / 2 == value / 2) return;
      before = count();
    }
    FAIL("the counter does not come by");
  };
  until(253, true);
  CHECK(b.pin("PD6").level);  // still 255 in force
  until(250, false);
  CHECK_FALSE(b.pin("PD6").level);  // low behind TOP, without a match on the way up
  until(96, false);
  CHECK(b.pin("PD6").level);
  b.write(0x47, 255);
  until(250, false);
  CHECK(b.pin("PD6").level);  // high again at TOP
}

TEST_CASE("a counter written with TOP in CTC misses its match and runs on to MAX") {
  Bench b;
  b.write(0x47, 50);
  b.write(0x44, 2);
  b.write(0x45, 1);
  b.write(0x46, 50);
  b.pass(20);
  CHECK(b.get(0x46) > 50);
  CHECK((b.get(0x35) & 3) == 0);
  b.pass(300);
  CHECK(b.get(0x46) <= 50);
  CHECK((b.get(0x35) & 3) == 3);
}

TEST_CASE("the external clock counts the edges of its pin") {
  Bench b;
  b.write(0x45, 7);  // rising edges of T0
  for (int i = 0; i < 5; ++i) {
    REQUIRE(b.chip().drive("PD4", i % 2 == 0));
    b.pass(10);
  }
  CHECK(b.get(0x46) == 3);
}

TEST_CASE("Timer2 on its crystal counts 32768 a second and goes on in power-save sleep") {
  Bench b;
  b.write(0xb6, 0x20);  // AS2
  b.write(0xb1, 5);     // by 128
  b.pass(16'000'000 / 2);
  CHECK(b.get(0xb2) == 128);
}

TEST_CASE("on the crystal, registers of Timer2 wait for its second edge, and ASSR tells") {
  // A period of the crystal is 488.28 cycles of 16 MHz.
  for (const unsigned offset : {0U, 100U, 313U, 480U}) {
    Bench b;
    b.write(0xb6, 0x20);  // AS2
    b.nop(offset);
    struct Row {
      std::uint32_t address;
      unsigned bit, value;
    };
    const Row rows[] = {
        {0xb2, 4, 0x37}, {0xb3, 3, 0x21}, {0xb4, 2, 0x43}, {0xb0, 1, 3}, {0xb1, 0, 4}};
    for (const Row& row : rows) {
      INFO(std::hex << row.address << " after " << offset);
      CHECK(b.get(0xb6) == 0x20);
      b.write(row.address, row.value);
      const std::uint64_t written = b.chip().cycles();
      CHECK(b.get(0xb6) == (0x20 | 1U << row.bit));
      // Reading gives what waits, but for the counter.
      CHECK((b.get(row.address) == row.value) == (row.bit != 4));
      while (b.get(0xb6) != 0x20) b.pass(2);
      const double edges = static_cast<double>(written) * 32768 / 16e6;
      const double second = (static_cast<std::uint64_t>(edges) + 2) * 16e6 / 32768;
      CHECK(static_cast<double>(b.chip().cycles()) >= second);
      CHECK(static_cast<double>(b.chip().cycles()) <= second + 3);
      CHECK(b.get(row.address) == row.value);
    }
    b.chip().take_notes();
    b.write(0xb3, 1);
    b.write(0xb3, 2);
    CHECK(b.chip().take_notes().size() == 1);
    b.write(0xb6, 0);  // back to the system clock: nothing waits
    CHECK(b.get(0xb6) == 0);
    CHECK(b.get(0xb3) == 2);
  }
}

TEST_CASE("TSM holds the prescaler until it is released") {
  Bench b;
  b.write(0x45, 2);
  b.write(0x43, 0x81);
  const unsigned count = b.get(0x46);
  b.pass(1000);
  CHECK(b.get(0x46) == count);
  b.write(0x43, 0);
  b.pass(80);
  CHECK(b.get(0x46) == (count + 10) % 256);
}

TEST_CASE("two timers on one pin: the output compare modulator") {
  for (const char* name : {"ATmega2560", "ATmega640", "ATmega1281"})
    for (unsigned row = 0; row < 8; ++row) {
      const bool zero = (row & 1) != 0;
      const bool one = (row & 2) != 0;
      const bool port = (row & 4) != 0;
      INFO(name << " " << zero << one << port);
      Chip chip = *Chip::make({name, 16'000'000});
      const auto write = [&](std::uint32_t address, unsigned value) {
        CHECK(chip.store({Space::kData, address}, static_cast<std::uint8_t>(value)));
      };
      const auto level = [&] {
        for (const PinState& pin : chip.pins())
          if (pin.name == "PB7") return pin.level;
        return false;
      };
      write(0x24, 0x80);                  // DDRB
      write(0x25, port ? 0x80U : 0U);     // PORTB
      write(0x44, zero ? 0xc0U : 0x80U);  // COM0A: set or clear at a match
      write(0x45, 0x80);                  // FOC0A
      CHECK(level() == zero);
      write(0x80, one ? 0x0cU : 0x08U);  // COM1C
      write(0x82, 0x20);                 // FOC1C
      CHECK(level() == (port ? zero || one : zero && one));
      write(0x25, port ? 0U : 0x80U);
      CHECK(level() == (port ? zero && one : zero || one));
      write(0x44, 0);
      CHECK(level() == one);
      write(0x80, 0);
      CHECK(level() == !port);
    }
}

TEST_CASE("timer 0 of older and small parts: compiled programs, by the names of their headers") {
  struct Row {
    const char* mcu;
    const char* chip;
    bool compares;  ///< it has an output compare unit
  };
  for (const Row& row : {Row{"atmega8", "ATmega8", false}, Row{"atmega16", "ATmega16", true},
                         Row{"atmega32", "ATmega32", true}, Row{"atmega64", "ATmega64", true},
                         Row{"atmega128", "ATmega128", true}, Row{"atmega32u4", "ATmega32U4", true},
                         Row{"attiny13", "ATtiny13", true}, Row{"attiny2313", "ATtiny2313", true},
                         Row{"attiny4313", "ATtiny4313", true}, Row{"attiny24", "ATtiny24", true},
                         Row{"attiny84", "ATtiny84", true}, Row{"attiny25", "ATtiny25", true},
                         Row{"attiny85", "ATtiny85", true}}) {
    INFO(row.chip);
    const std::string elf = test::compiled(std::string("lone-") + row.mcu, R"(
#include <avr/io.h>
#include <avr/interrupt.h>
volatile unsigned char overflows, matches, at_match;
#ifdef TIMSK0
#define MASK TIMSK0
#define FLAGS TIFR0
#else
#define MASK TIMSK
#define FLAGS TIFR
#endif
#ifndef TIMER0_OVF_vect
#define TIMER0_OVF_vect TIM0_OVF_vect
#endif
ISR(TIMER0_OVF_vect) { overflows++; }
#ifdef OCR0A
#ifndef TIMER0_COMPA_vect
#define TIMER0_COMPA_vect TIM0_COMPA_vect
#endif
ISR(TIMER0_COMPA_vect) { matches++; at_match = TCNT0; }
#elif defined OCR0
ISR(TIMER0_COMP_vect) { matches++; at_match = TCNT0; }
#endif
int main(void) {
  MASK = 1 << TOIE0;
#ifdef TCCR0A
  OCR0A = 100; MASK |= 1 << OCIE0A; TCCR0A = 1 << COM0A0; TCCR0B = 2;
#elif defined OCR0
  OCR0 = 100; MASK |= 1 << OCIE0; TCCR0 = 1 << COM00 | 2;
#else
  TCCR0 = 2;
#endif
  sei();
  for (;;) {}
})",
                                           "-Os -gdwarf-4", row.mcu);
    Chip::Options options{row.chip, 16'000'000};
    Session session(*Chip::make(options));
    REQUIRE(session.open(elf));
    session.go_for(8 * 256 * 20 + 8 * 128 + 200);  // by 8: twenty rounds and a half
    CHECK(session.evaluate("overflows")->integer == 20);
    CHECK(session.evaluate("matches")->integer == (row.compares ? 21 : 0));
    if (row.compares) {
      // In the handler a few counts later.
      CHECK(session.evaluate("at_match")->integer >= 101);
      CHECK(session.evaluate("at_match")->integer <= 106);
    }
    std::string output;
    for (const PinState& pin : session.chip().pins())
      if (pin.taken_by.find("TIMER0 OC0A") != std::string::npos) output = pin.name;
    CHECK(output.empty() != row.compares);
  }
}

TEST_CASE("a flag that has waited for its handler through many periods is up once") {
  // In the handler the flag is down until the next event, however often it has come before.
  const struct {
    const char *vector, *flag, *setup;
  } kRows[] = {
      {"COMPA", "OCF1A", "OCR1A = 99; TCCR1B = _BV(WGM12) | _BV(CS10);"},
      {"COMPB", "OCF1B", "OCR1A = 99; OCR1B = 99; TCCR1B = _BV(WGM12) | _BV(CS10);"},
      {"OVF", "TOV1",
       "TCCR1A = _BV(WGM11); TCCR1B = _BV(WGM13) | _BV(WGM12) | _BV(CS10); ICR1 = 99;"},
      {"CAPT", "ICF1", "TCCR1B = _BV(WGM13) | _BV(WGM12) | _BV(CS10); ICR1 = 99;"},
      {"COMPA", "OCF1A", "OCR1A = 99; TCCR1A = _BV(COM1A0); TCCR1B = _BV(WGM12) | _BV(CS10);"},
  };
  unsigned n = 0;
  for (const auto& row : kRows)
    for (const unsigned gears : {0U, 1U}) {
      INFO(row.setup << (gears == 0 ? " precise" : ""));
      const std::string image = test::compiled(
          "waited" + std::to_string(n++),
          fmt::format(R"(#include <avr/interrupt.h>
#include <avr/io.h>
volatile uint16_t again, entered, apart;
ISR(TIMER1_{0}_vect) {{
  const uint8_t t = TCNT1L;
  const uint8_t flags = TIFR1;
  entered++;
  if (t > 95 || t < 45) return;  // one may have come since, or comes now
  apart++;
  if (flags & _BV({1})) again++;
}}
int main(void) {{
  TIMSK1 = _BV({2});
  {3}
  for (uint16_t k = 1;; k += 7919) {{
    cli();
    for (uint16_t i = k % 1500; i != 0; i--) __asm__ volatile("nop");
    sei();
    for (uint8_t i = k % 7; i != 0; i--) __asm__ volatile("nop");
  }}
}}
)",
                      row.vector, row.flag,
                      std::string(row.flag) == "TOV1"   ? "TOIE1"
                      : std::string(row.flag) == "ICF1" ? "ICIE1"
                                                        : std::string("OCIE1") + row.flag[4],
                      row.setup),
          "-Os -gdwarf-4");
      Chip::Options options{"ATmega328P", 16'000'000};
      if (gears == 0) options.translate_after = 0;
      Session session(*Chip::make(options));
      REQUIRE(session.open(image));
      session.go_for(std::uint64_t{1'000'000});
      const auto value = [&](const char* name) {
        const auto out = session.evaluate(name);
        REQUIRE(out);
        return out->integer;
      };
      CHECK(value("again") == 0);
      CHECK(value("apart") > 50);
    }
}
