// SPDX-License-Identifier: MIT
// Checks of whole runs, against programs that count their own faults, and mutants of handlers.
#include <catch2/catch.hpp>
#include <regex>

#include "lucid/finding.h"
#include "lucid/session.h"
#include "tools.h"

using namespace lucid;
using Mode = Session::CheckMode;

namespace {

constexpr std::uint64_t kMillisecond = 1'000'000'000;

Session opened(const std::string& elf) {
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(elf));
  return session;
}

std::string said(const std::vector<FindingView>& findings) {
  std::string out;
  for (const FindingView& f : findings) out += f.check + ": " + f.text + "\n";
  return out;
}

/// Main and a handler, which count what goes wrong in `faults` as they see it.
std::string counting(const std::string& objects, const std::string& handler,
                     const std::string& round) {
  return R"(#include <avr/io.h>
#include <avr/interrupt.h>
#include <util/atomic.h>
)" + objects +
         R"(
volatile uint32_t faults;
ISR(TIMER1_COMPA_vect) { static uint8_t p; OCR1A = 299 + (p += 37) % 64; )" +
         handler + R"( }
int main(void) {
  OCR1A = 331;
  TCCR1B = 1 << WGM12 | 1 << CS10;
  TIMSK1 = 1 << OCIE1A;
  sei();
  for (uint16_t i = 0;; i++) { )" +
         round + R"( }
}
)";
}

const struct {
  const char* name;
  std::string source;
  bool faulty;
} kPrograms[] = {
    {"torn-read",
     counting("volatile uint16_t both;", "static uint8_t k; both = ++k * 0x0101U;",
              "uint16_t now = both; if ((now & 0xff) != now >> 8) faults++;"),
     true},
    {"torn-wide",
     counting("volatile uint32_t all;", "static uint8_t k; all = ++k * 0x01010101UL;",
              "uint32_t now = all; if (now != (now & 0xff) * 0x01010101) faults++;"),
     true},
    {"torn-write",
     counting("volatile uint16_t both;",
              "uint16_t now = both; if ((now & 0xff) != now >> 8) faults++;",
              "both = (i & 0xff) * 0x0101;"),
     true},
    {"torn-member",
     counting("volatile struct { uint8_t before; uint16_t both; } part;",
              "static uint8_t k; part.both = ++k * 0x0101U;",
              "uint16_t now = part.both; if ((now & 0xff) != now >> 8) faults++;"),
     true},
    {"masked",
     counting("volatile uint16_t both;", "static uint8_t k; both = ++k * 0x0101U;",
              "uint16_t now; ATOMIC_BLOCK(ATOMIC_RESTORESTATE) { now = both; }"
              "if ((now & 0xff) != now >> 8) faults++;"),
     false},
    {"masked-by-enable",
     counting("volatile uint16_t both;", "static uint8_t k; both = ++k * 0x0101U;",
              "TIMSK1 = 0; uint16_t now = both; TIMSK1 = 1 << OCIE1A;"
              "if ((now & 0xff) != now >> 8) faults++;"),
     false},
    {"bytes",
     counting("volatile uint8_t one, other;", "one++; other++;",
              "uint8_t a = one, b = other; GPIOR0 = a + b;"),
     false},
};

}  // namespace

TEST_CASE("accesses are torn as often as the program itself sees it", "[checks]") {
  for (const auto& row : kPrograms)
    for (const char* level : {"-O0", "-O1", "-Og", "-Os", "-O3"}) {
      INFO(row.name << " " << level);
      Session session = opened(test::compiled(std::string("checked-") + row.name + level,
                                              row.source, std::string("-gdwarf-4 ") + level));
      session.go_for(Picoseconds{150 * kMillisecond});
      std::uint64_t found = 0;
      for (const FindingView& f : session.findings()) {
        CHECK(f.check == "torn-access");
        CHECK(f.where->function == "main");
        CHECK(f.other->function == "TIMER1_COMPA_vect");
        CHECK(!f.harmless);
        found += f.times;
      }
      const auto faults = session.evaluate("faults");
      REQUIRE(faults);
      // The last one may not have been counted yet.
      CHECK(found >= static_cast<std::uint64_t>(faults->integer));
      CHECK(found <= static_cast<std::uint64_t>(faults->integer) + 1);
      CHECK((found > 0) == row.faulty);
    }
}

TEST_CASE("updates are lost as often as a count is short", "[checks]") {
  const struct {
    std::string name, counter, objects, handler, round;
  } rows[] = {
      {"", "n", "volatile uint8_t n;", "n++;", "n++; by_main++;"},
      {"-pointer", "n", "volatile uint8_t n; volatile uint8_t *volatile at = &n;", "n++;",
       "*at += 1; by_main++;"},
      {"-lines", "n", "volatile uint8_t n;", "n++;",
       "uint8_t now = n;\n now++;\n n = now;\n by_main++;"},
      {"-ways", "n", "volatile uint8_t n; volatile uint8_t *volatile at = &n;", "*at += 1;",
       "volatile uint8_t *p = at; uint8_t by = i & 1 ? 3 : 1;\n"
       "uint8_t now = *p;\n if (i & 1)\n now += 3;\n else\n now ^= 1, now += by - (now & 1 ? 1 : "
       "-1);\n *p = now;\n by_main += by;"},
      {"-port", "chip.PORTC", "volatile uint8_t *volatile at = &PORTC;", "*at += 1;",
       "*at += 1; by_main++;"}};
  for (const auto& row : rows)
    for (const std::string level : {"-O0", "-Os", "-O2"}) {
      // Values that go through the stack, and pointers that are loaded again, are not followed.
      if (level == "-O0" && !row.name.empty()) continue;
      INFO(row.name << " " << level);
      Session session =
          opened(test::compiled("checked-lost" + row.name + level,
                                counting(row.objects + "volatile uint8_t by_main, by_handler;",
                                         row.handler + " by_handler++;", row.round),
                                std::string("-gdwarf-4 ") + level));
      session.go_for(Picoseconds{60 * kMillisecond});
      const auto lost_so_far = [&] {
        std::uint64_t lost = 0;
        for (const FindingView& f : session.findings())
          if (f.text.find("n is being changed") == 0 || f.text.find("PORTC is") == 0)
            lost += f.times;
        return lost;
      };
      const std::uint64_t lost = lost_so_far();
      CHECK(lost > 10);
      // At a moment between two rounds: no update is under way.
      std::uint64_t settled = 0;
      for (unsigned i = 0; i < 200 && settled == 0; ++i) {
        REQUIRE(session.step(StepKind::kInto, StepUnit::kLine));
        const auto short_by =
            session.evaluate("(by_main + by_handler - " + row.counter + ") & 0xff");
        REQUIRE(short_by);
        const std::uint64_t so_far = lost_so_far();
        if (static_cast<std::uint64_t>(short_by->integer) == (so_far & 0xff)) settled = so_far;
      }
      CHECK(settled >= lost);
    }
}

TEST_CASE("what is read again until it is the same is no fault", "[checks]") {
  for (const char* level : {"-Os", "-O2"}) {
    INFO(level);
    Session session = opened(test::compiled(
        std::string("checked-again") + level,
        counting("volatile uint16_t both;", "static uint8_t k; both = ++k * 0x0101U;",
                 "uint16_t a, b; do { a = both; b = both; } while (a != b);"
                 "if ((a & 0xff) != a >> 8) faults++;"),
        std::string("-gdwarf-4 ") + level));
    std::string notes;
    struct Hears : Listener {
      std::string text;
      void on_note(const std::string& note) override { text += note + "\n"; }
    } hears;
    session.set_listener(&hears);
    session.go_for(Picoseconds{100 * kMillisecond});
    REQUIRE(!session.findings().empty());
    INFO(said(session.findings()));
    for (const FindingView& f : session.findings()) CHECK(f.harmless);
    CHECK(session.evaluate("faults")->integer == 0);
    CHECK(hears.text.empty());
  }
}

TEST_CASE("a finding pauses where it happens, and changes nothing", "[checks]") {
  const std::string elf = test::scratch("checked-torn-read-Os.elf");
  Session session = opened(elf), other = opened(elf), off = opened(elf);
  REQUIRE(session.set_check("torn-access", Mode::kPause));
  for (const Session::Check& check : off.checks()) REQUIRE(off.set_check(check.name, Mode::kOff));
  const Pause pause = session.go_for(Picoseconds{100 * kMillisecond});
  CHECK(pause.cause == Pause::Cause::kFault);
  CHECK(pause.detail.find("both is being read at") == 0);
  CHECK(pause.where.function == "main");
  const auto value = session.evaluate("both");
  REQUIRE(value);
  REQUIRE(other.go_to_time(pause.time));
  REQUIRE(off.go_to_time(pause.time));
  CHECK(session.chip().hash() == other.chip().hash());
  CHECK(session.chip().hash() == off.chip().hash());
  CHECK(other.findings().size() == 1);
  CHECK(off.findings().empty());
  // On from there: once a place.
  CHECK(session.go_for(Picoseconds{kMillisecond}).cause == Pause::Cause::kTimeUp);
  REQUIRE(session.go_to_time(Picoseconds{50 * kMillisecond}));
  REQUIRE(other.go_to_time(Picoseconds{50 * kMillisecond}));
  CHECK(session.chip().hash() == other.chip().hash());
  // What is gone through again finds the same.
  const std::size_t places = other.findings().size();
  REQUIRE(other.back_to_start());
  CHECK(other.findings().size() == places);
  other.go_for(Picoseconds{50 * kMillisecond});
  CHECK(other.findings().size() == places);
  // A new image begins anew.
  REQUIRE(other.reload());
  CHECK(other.findings().empty());
  const auto unknown = other.set_check("torn-acces", Mode::kOff);
  REQUIRE(!unknown);
  CHECK(unknown.error().hint.find("torn-access") != std::string::npos);
}

TEST_CASE("a push that is missing in a handler is found", "[checks]") {
  const std::string source = R"(#include <avr/io.h>
#include <avr/interrupt.h>
volatile uint32_t total, by_main;
volatile uint8_t step = 3;
ISR(TIMER1_COMPA_vect) { total += step * (uint16_t)TCNT1; }
int main(void) {
  OCR1A = 997;
  TCCR1B = 1 << WGM12 | 1 << CS10;
  TIMSK1 = 1 << OCIE1A;
  sei();
  for (;;) { by_main = by_main * 5 + 1; }
}
)";
  const std::string base = test::scratch("unrestored");
  test::write(base + ".c", source);
  REQUIRE(test::run("avr-gcc -Os -gdwarf-4 -mmcu=atmega328p -S -o " + base + ".s " + base + ".c")
              .code == 0);
  const std::string code = test::read(base + ".s");
  Session sound = opened(test::compiled("restored", source, "-Os -gdwarf-4"));
  sound.go_for(Picoseconds{20 * kMillisecond});
  CHECK(said(sound.findings()).empty());
  // The handler's own text, from its name to its end.
  const std::size_t begin = code.find("\n__vector_11:"), end = code.find("\n\treti", begin);
  REQUIRE(end != std::string::npos);
  const std::string handler = code.substr(begin, end - begin);
  unsigned mutants = 0;
  const std::regex push("\tpush (r[0-9]+)");
  for (auto it = std::sregex_iterator(handler.begin(), handler.end(), push);
       it != std::sregex_iterator(); ++it) {
    const std::string name = (*it)[1];
    // r0 and r1 are the compiler's own; r0 also carries the flags.
    if (name == "r0" || name == "r1") continue;
    INFO(name);
    std::string without = handler;
    without = std::regex_replace(without, std::regex("\tpush " + name + "\n"), "");
    without = std::regex_replace(without, std::regex("\tpop " + name + "(\n|$)"), "");
    const std::string path = test::scratch("unrestored-" + name);
    test::write(path + ".s", code.substr(0, begin) + without + code.substr(end));
    REQUIRE(test::run("avr-gcc -mmcu=atmega328p -o " + path + ".elf " + path + ".s").code == 0);
    Session session = opened(path + ".elf");
    session.go_for(Picoseconds{20 * kMillisecond});
    const auto findings = session.findings();
    INFO(said(findings));
    REQUIRE(findings.size() == 1);
    CHECK(findings[0].check == "registers");
    CHECK(findings[0].text.find(name + " (0x") != std::string::npos);
    CHECK(findings[0].where->function == "TIMER1_COMPA_vect");
    CHECK(findings[0].other->function == "main");
    ++mutants;
  }
  CHECK(mutants >= 6);
  // Flags: `out SREG` left out.
  const std::string path = test::scratch("unrestored-flags");
  test::write(path + ".s", code.substr(0, begin) +
                               std::regex_replace(handler, std::regex("\tout __SREG__,r0\n"), "") +
                               code.substr(end));
  REQUIRE(test::run("avr-gcc -mmcu=atmega328p -o " + path + ".elf " + path + ".s").code == 0);
  Session session = opened(path + ".elf");
  session.go_for(Picoseconds{20 * kMillisecond});
  REQUIRE(session.findings().size() == 1);
  CHECK(session.findings()[0].text.find("flag ") != std::string::npos);
}

TEST_CASE("what the data sheet forbids is found with its line", "[checks]") {
  // Without optimisation the two writes are too far apart.
  const std::string source = R"(#include <avr/io.h>
int main(void) {
  EEAR = 3;
  EEDR = 7;
  EECR |= 1 << EEMPE;
  EECR |= 1 << EEPE;
  UDR0 = 1;
  SPDR = 2;
  for (;;) {}
}
)";
  Session session = opened(test::compiled("forbidden", source, "-O0 -gdwarf-4"));
  struct Hears : Listener {
    std::string text;
    void on_note(const std::string& note) override { text += note + "\n"; }
  } hears;
  session.set_listener(&hears);
  session.go_for(Picoseconds{kMillisecond});
  const auto findings = session.findings();
  INFO(said(findings));
  REQUIRE(findings.size() == 3);
  for (const auto& [i, line] : {std::pair{0, 6U}, {1, 7U}, {2, 8U}}) {
    CHECK(findings[i].check == "data-sheet");
    REQUIRE(findings[i].where);
    CHECK(findings[i].where->line == line);
  }
  CHECK(hears.text.find("EEPE was set outside the four cycles after EEMPE; nothing is written "
                        "(forbidden.c:6 main)") != std::string::npos);
  // Optimised it is in time.
  Session good = opened(test::compiled("allowed", source, "-Os -gdwarf-4"));
  good.go_for(Picoseconds{kMillisecond});
  for (const FindingView& f : good.findings()) CHECK(f.where->line != 6);
  // And it can pause, behind the very instruction.
  Session pausing = opened(test::scratch("forbidden.elf"));
  REQUIRE(pausing.set_check("data-sheet", Mode::kPause));
  const Pause pause = pausing.go_for(Picoseconds{kMillisecond});
  CHECK(pause.cause == Pause::Cause::kFault);
  CHECK(pause.detail.find("EEPROM: EEPE was set outside") == 0);
  CHECK(pause.where.line >= 6);
  CHECK(pause.where.line <= 7);
}

TEST_CASE("halves in the wrong order and flags that are stored back are found", "[checks]") {
  const struct {
    const char* name;
    const char* handlers;
    const char* code;   ///< after the line `TCCR1B = 1;`
    const char* found;  ///< empty: nothing
  } kRows[] = {
      {"right", "ISR(TIMER1_OVF_vect) {}",
       "OCR1A = TCNT1 + 0x300; spend(); got = TCNT1; OCR1B = OCR1A; TCNT1 = got;"
       "spend(); got = ICR1; TIFR1 = 1 << OCF1A; TIFR1 = 0xff;",
       ""},
      {"in-bytes", "",
       "for (;;) { OCR1AH = 3; OCR1AL = 9; uint8_t l = TCNT1L, h = TCNT1H; got = h + l; }", ""},
      {"low-byte-only", "", "for (;;) { OCR1AL++; spend(); }", ""},  // TEMP is 0
      {"write-reversed", "", "for (;;) { OCR1BL = got; OCR1BH = got >> 8; got += 0x123; }",
       "OCR1B: its low byte is written before its high byte"},
      {"read-reversed", "",
       "spend(); for (;;) { uint8_t h = TCNT1H, l = TCNT1L; got = h * 256 + l; }",
       "TCNT1: its high byte is read without its low byte before it"},
      {"low-of-another", "", "spend(); got = TCNT1; OCR1AL = 7;",
       "OCR1A: its low byte is written without its high byte before it: that becomes what TEMP "
       "holds, "},
      // A handler uses TEMP between the halves.
      {"shared-temp", "ISR(TIMER1_COMPB_vect) { OCR1B = TCNT1 + 91; }",
       "OCR1B = 400; TIMSK1 = 1 << OCIE1B; sei(); for (;;) OCR1A = 0x7f00;",
       "OCR1A: its low byte is written without its high byte before it"},
      {"flags-stored-back", "ISR(TIMER1_COMPA_vect) {}",
       "OCR1A = 50; TIMSK1 = 1 << OCIE1A; spend(); TIFR1 |= 1 << TOV1 | 1 << ICF1;",
       "TIFR1 is loaded and stored back, which writes ones to all flags in it: OCF1A is cleared"},
      {"flag-meant", "ISR(TIMER1_COMPA_vect) {}",
       "OCR1A = 50; TIMSK1 = 1 << OCIE1A; spend(); TIFR1 |= 1 << OCF1A; TIFR1 = 1 << OCF1A;", ""},
      {"flag-of-nobody", "", "OCR1A = 50; spend(); TIFR1 = TIFR1;", ""},
      {"pin-flags", "ISR(INT0_vect) {} ISR(INT1_vect) {}",
       "DDRD = 0xc; EICRA = 0xf; EIMSK = 3; PORTD = 0xc; spend(); EIFR |= 5;",
       "EIFR is loaded and stored back, which writes ones to all flags in it: INTF1 is cleared"},
      {"conversion", "ISR(ADC_vect) {}",
       "ADCSRA = 1 << ADEN | 1 << ADIE | 1 << ADSC; while (ADCSRA & 1 << ADSC) {} ADCSRA |= 1 << "
       "ADSC;",
       "ADCSRA is loaded and stored back, which writes ones to all flags in it: ADIF is cleared"},
      {"conversion-right", "",
       "ADCSRA = 1 << ADEN; for (;;) { ADCSRA |= 1 << ADSC; while (ADCSRA & 1 << ADSC) {} got = "
       "ADC; "
       "ADMUX ^= 1 << ADLAR; got = ADCH; }",
       ""},
      {"conversion-reversed", "",
       "ADCSRA = 1 << ADEN; for (;;) { ADCSRA |= 1 << ADSC; while (ADCSRA & 1 << ADSC) {} got = "
       "ADCH; "
       "got = got * 256 + ADCL; }",
       "ADC: a conversion was started though ADCL has been read, and ADCH not behind it"},
      {"conversion-polled", "",
       "ADCSRA = 1 << ADEN | 1 << ADSC; while (ADCSRA & 1 << ADSC) {} ADCSRA |= 1 << ADSC;", ""},
  };
  for (const auto& row : kRows)
    for (const char* level : {"-O0", "-Os", "-O2"}) {
      INFO(row.name << " " << level);
      Session session = opened(test::compiled(
          std::string("halves-") + row.name + level,
          std::string("#include <avr/io.h>\n#include <avr/interrupt.h>\nvolatile uint16_t got;\n") +
              "static void spend(void) { for (uint16_t i = 0; i < 700; i++) __asm__ "
              "volatile(\"\"); }\n" +
              row.handlers + "\nint main(void) { TCCR1B = 1; " + row.code + " for (;;) {} }\n",
          std::string("-gdwarf-4 ") + level));
      session.go_for(Picoseconds{20 * kMillisecond});
      const auto findings = session.findings();
      INFO(said(findings));
      if (*row.found == 0) {
        CHECK(findings.empty());
        continue;
      }
      REQUIRE(!findings.empty());
      CHECK(findings[0].check == "data-sheet");
      CHECK(findings[0].text.find(row.found) == 0);
      CHECK(findings[0].where->function == "main");
      CHECK(findings[0].at.count < 20 * kMillisecond);
      CHECK(findings.size() <= 2);
    }
}

TEST_CASE("handlers that take too long, and the watchdog's margin", "[checks]") {
  // A handler's time is known to the cycle from a timer that it reads itself.
  Session session = opened(test::compiled("slow-handler", R"(#include <avr/io.h>
#include <avr/interrupt.h>
#include <avr/wdt.h>
#include <util/delay.h>
volatile uint16_t took, longest;
ISR(TIMER0_OVF_vect) {
  static uint8_t n;
  uint16_t begin = TCNT1;
  for (uint8_t i = ++n & 63; i != 0; i--) __asm__ volatile("nop");
  took = TCNT1 - begin;
  if (took > longest) longest = took;
}
int main(void) {
  wdt_enable(WDTO_60MS);
  TCCR1B = 1;
  TCCR0B = 2;
  TIMSK0 = 1;
  sei();
  for (uint8_t i = 0;; i++) {
    wdt_reset();
    _delay_ms(3);
    if (i == 25) _delay_ms(40);
  }
}
)",
                                          "-Os -gdwarf-4"));
  session.set_slow_handler(Picoseconds{8'000'000});
  REQUIRE(session.set_check("slow-handler", Mode::kList));
  session.go_for(Picoseconds{60 * kMillisecond});
  const auto findings = session.findings();
  INFO(said(findings));
  REQUIRE(findings.size() == 1);
  CHECK(findings[0].check == "slow-handler");
  CHECK(findings[0].where->function == "TIMER0_OVF_vect");
  CHECK(findings[0].times > 50);
  const auto longest = session.evaluate("longest");
  REQUIRE(longest);
  double told = 0;
  REQUIRE(std::sscanf(findings[0].text.c_str(), "the handler of TIMER0_OVF takes %lf us", &told) ==
          1);
  // Entry, pushes, pops and return come on top of what it measures itself.
  CHECK(told > static_cast<double>(longest->integer) / 16);
  CHECK(told < static_cast<double>(longest->integer) / 16 + 8);

  REQUIRE(session.watchdog());
  CHECK(session.watchdog()->after.count < 5 * kMillisecond);
  session.go_for(Picoseconds{200 * kMillisecond});
  const auto margin = session.watchdog();
  // 8192 cycles of 128 kHz; three and forty milliseconds, and a few interrupts.
  CHECK(margin->period.count == 64 * kMillisecond);
  CHECK(margin->after.count > 43 * kMillisecond);
  CHECK(margin->after.count < 50 * kMillisecond);
  CHECK(margin->by.function == "main");
  REQUIRE(session.back_to_time(Picoseconds{10 * kMillisecond}));
  CHECK(session.watchdog()->after.count < 5 * kMillisecond);
}

TEST_CASE("two that drive a pin differently are found", "[checks]") {
  const std::string elf = test::compiled("driven", R"(#include <avr/io.h>
int main(void) {
  DDRB = 1 << 5;
  for (;;) { PORTB ^= 1 << 5; }
}
)",
                                         "-Os -gdwarf-4");
  Session session = opened(elf);
  session.go_for(Picoseconds{kMillisecond});
  CHECK(session.findings().empty());
  REQUIRE(session.drive("PB4", true));  // an input
  session.go_for(Picoseconds{kMillisecond});
  CHECK(session.findings().empty());
  REQUIRE(session.drive("PB5", false));
  session.go_for(Picoseconds{kMillisecond});
  REQUIRE(session.findings().size() >= 1);
  const FindingView finding = session.findings().back();
  CHECK(finding.check == "contention");
  CHECK(finding.text == "PB5: the chip drives it high, and something outside low");
  CHECK(finding.where->function == "main");
  for (const PinView& pin : session.pins())
    if (pin.pin.name == "PB5") CHECK(pin.pin.contention == (pin.pin.output && pin.pin.level));
  // The demo's bench has nothing of the kind.
  Session kiln(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(kiln.open(test::kKilnOg));
  kiln.go_for(Picoseconds{3000 * kMillisecond});
  CHECK(said(kiln.findings()).empty());
  // Its torn tick is found by itself.
  Session torn = opened(std::string(LUCID_KILN) + "/images/torn-tick.elf");
  torn.go_for(Picoseconds{100 * kMillisecond});
  REQUIRE(torn.findings().size() == 1);
  CHECK(torn.findings()[0].text ==
        "ticks is being read at clock.c:29 when TIMER1_COMPA comes between and changes it "
        "(clock.c:21)");
}

TEST_CASE("a loop that never looks again is found, and told from those that do", "[checks]") {
  const auto source = [](const std::string& flag, const std::string& loop) {
    return "#include <avr/io.h>\n#include <avr/interrupt.h>\n" + flag + R"(
ISR(TIMER1_COMPA_vect) { GPIOR0++; if (GPIOR0 == 9) flag = 1; }
int main(void) {
  OCR1A = 999; TCCR1B = 1 << WGM12 | 1 << CS10; TIMSK1 = 1 << OCIE1A;
  sei();
  )" + loop +
           "\n  GPIOR1 = 1;\n  for (;;) {}\n}\n";
  };
  const struct {
    const char* flag;
    const char* loop;
    bool hangs;
  } kRows[] = {
      {"uint8_t flag;", "while (!flag) {}", true},
      {"uint16_t flag;", "while (flag == 0) {}", true},
      {"uint8_t flag;", "do {} while (flag != 1);", true},
      {"volatile uint8_t flag;", "while (!flag) {}", false},
      {"uint8_t flag;", "for (uint16_t i = 0; i < 9999 && !*(volatile uint8_t*)&flag; i++) {}",
       false},
      {"uint8_t flag;", "for (volatile uint16_t i = 0; i < 2000; i++) {}", false},
  };
  for (const auto& row : kRows)
    for (const char* level : {"-Os", "-O2"}) {
      INFO(row.flag << " " << row.loop << " " << level);
      Session session = opened(
          test::compiled("looking", source(row.flag, row.loop), std::string("-gdwarf-4 ") + level));
      REQUIRE(session.set_check("no-volatile", Mode::kList));
      session.go_for(Picoseconds{20 * kMillisecond});
      const auto findings = session.findings();
      INFO(said(findings));
      CHECK(session.evaluate("chip.GPIOR1")->integer == (row.hangs ? 0 : 1));
      REQUIRE(findings.size() == (row.hangs ? 1 : 0));
      if (!row.hangs) continue;
      CHECK(findings[0].check == "no-volatile");
      CHECK(findings[0].where->line == 8);
      CHECK(findings[0].text.find("never looks at flag again, which TIMER1_COMPA changes") !=
            std::string::npos);
    }
}

TEST_CASE("handlers within handlers are found if asked for", "[checks]") {
  const std::string elf = test::compiled("within", R"(#include <avr/io.h>
#include <avr/interrupt.h>
#include <util/delay.h>
ISR(TIMER1_COMPA_vect, ISR_NOBLOCK) { _delay_us(30); }
ISR(TIMER0_COMPA_vect) { GPIOR0++; }
int main(void) {
  OCR1A = 1999; TCCR1B = 1 << WGM12 | 1 << CS10; TIMSK1 = 1 << OCIE1A;
  OCR0A = 99; TCCR0A = 1 << WGM01; TCCR0B = 1 << CS00; TIMSK0 = 1 << OCIE0A;
  sei();
  for (;;) {}
}
)",
                                         "-Os -gdwarf-4");
  Session session = opened(elf);
  session.go_for(Picoseconds{10 * kMillisecond});
  CHECK(said(session.findings()).empty());
  REQUIRE(session.set_check("nested", Mode::kList));
  session.go_for(Picoseconds{10 * kMillisecond});
  bool within = false;
  for (const FindingView& f : session.findings())
    within = within || f.text == "TIMER0_COMPA is entered within the handler of TIMER1_COMPA";
  CHECK(within);
}

TEST_CASE("what wears out is counted along the timeline", "[checks]") {
  const std::string elf = test::compiled("worn", R"(#include <avr/eeprom.h>
#include <util/delay.h>
int main(void) {
  eeprom_update_byte((uint8_t *)3, 9);
  for (uint8_t i = 0;; i++) {
    eeprom_write_word((uint16_t *)0x10, i);
    eeprom_update_byte((uint8_t *)3, 9);
    _delay_ms(3);
  }
}
)",
                                         "-Os -gdwarf-4");
  Session session = opened(elf);
  CHECK(session.wear().empty());
  struct Writes : Listener {
  } none;
  session.set_listener(&none);
  BreakpointSpec write;
  write.kind = BreakpointSpec::Kind::kEepromWrite;
  const auto point = session.pause_at(write);
  REQUIRE(point);
  std::map<std::string, std::uint64_t> cells;
  for (unsigned i = 0; i < 21; ++i) {
    const Pause pause = session.go();
    REQUIRE(pause.cause == Pause::Cause::kEvent);
    ++cells[std::to_string(i == 0 ? 3 : i % 2 == 1 ? 0x10 : 0x11)];
  }
  const auto wear = session.wear();
  REQUIRE(wear.size() == 2);
  CHECK(wear[0].memory == "eeprom");
  CHECK(wear[0].begin == 0x10);
  CHECK(wear[0].end == 0x12);
  CHECK(wear[0].times == cells["16"]);
  CHECK(wear[1].begin == 3);
  CHECK(wear[1].times == 1);
  CHECK(wear[0].endurance == 100'000);
  // As long as it has gone on, ten thousand times as long.
  REQUIRE(wear[0].lasts);
  CHECK(wear[0].lasts->count / 10'000 == session.chip().time().count);
  CHECK(!wear[1].lasts);
  // Back it was less, and forwards again as much.
  const auto hash = session.chip().hash();
  const Picoseconds time = session.chip().time();
  REQUIRE(session.remove(point->id));
  REQUIRE(session.back_for(Picoseconds{time.count / 2}));
  REQUIRE(!session.wear().empty());
  CHECK(session.wear()[0].times < 10);
  REQUIRE(session.go_to_time(time));
  CHECK(session.chip().hash() == hash);
  CHECK(session.wear()[0].times == 10);
  REQUIRE(session.reload());
  CHECK(session.wear().empty());
}
