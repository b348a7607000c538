// SPDX-License-Identifier: MIT
// Loops that wait, what turns interrupts off, and the stack of each function: by formula, by the
// source, and against the chip's own deepest stack.
#include <fmt/format.h>

#include <catch2/catch.hpp>
#include <map>
#include <random>

#include "lucid/session.h"
#include "lucid/survey.h"
#include "tools.h"

using namespace lucid;
using Survey = Session::Survey;

namespace {

constexpr std::uint64_t kMillisecond = 1'000'000'000;

Session opened(const std::string& elf) {
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(elf));
  return session;
}

/// The marked line of a source, from 1 on.
unsigned line_of(const std::string& source, const std::string& mark) {
  const std::size_t at = source.find(mark);
  REQUIRE(at != std::string::npos);
  return 1 + static_cast<unsigned>(std::count(
                 source.begin(), source.begin() + static_cast<std::ptrdiff_t>(at), '\n'));
}

}  // namespace

TEST_CASE("loops that wait take what their formulas say, and none that works is one") {
  // "util/delay_basic.h": three and four cycles a round; the last branch is not taken.
  std::mt19937 random(test::fresh_seed());
  const unsigned narrow = 1 + random() % 255, wide = 1 + random() % 5'000;
  const std::string source = fmt::format(R"(#include <avr/io.h>
#include <avr/wdt.h>
#include <string.h>
#include <util/delay_basic.h>
#define APART __attribute__((noinline, noclone))
volatile uint8_t out;
volatile char text[40] = "a text that is searched and copied";
char copy[40];
volatile char *volatile pointers[] = {{text, text + 1, copy, 0}};
APART void narrow(void) {{ _delay_loop_1({}); }}
APART void wide(void) {{ _delay_loop_2({}); }}
APART void looks(void) {{ TIFR1 = _BV(OCF1A); while (!(TIFR1 & _BV(OCF1A))); }}
APART uint8_t timeout(void) {{ uint16_t i = 500; while (!(PINB & 1) && --i); return i != 0; }}
APART void memory8(void) {{ for (volatile uint8_t i = 0; i < 100; i++); }}
APART void memory16(void) {{ for (volatile int16_t i = 300; i > 0; i--); }}
APART void memory32(void) {{ for (volatile uint32_t i = 0; i < 70000; i += 300); }}
volatile uint32_t idle;
APART void idles(void) {{ TIFR1 = _BV(OCF1A); while (!(TIFR1 & _BV(OCF1A)) && idle < 1000000) idle++; }}
APART void fed(void) {{ TIFR1 = _BV(OCF1A); while (!(TIFR1 & _BV(OCF1A))) wdt_reset(); }}
APART uint8_t length(const char *s) {{ uint8_t n = 0; while (*s++) n++; return n; }}
APART uint8_t divided(uint8_t a) {{ uint8_t q = 0; while (a >= 10) {{ a -= 10; q++; }} return q; }}
APART uint8_t crc(uint8_t a) {{ for (uint8_t i = 0; i < 8; i++) a = a & 1 ? a >> 1 ^ 0x8c : a >> 1; return a; }}
APART uint16_t power(uint8_t n) {{ uint16_t v = 1; do v += v << 1; while (--n); return v; }}
APART void fill(uint8_t n) {{ for (uint8_t i = 0; i < n; i++) copy[i] = i; }}
APART void scans(uint8_t n) {{
  do {{
    volatile char *volatile *p = pointers;
    while (*p++)
      ;
  }} while (--n);
}}
APART void wave(uint8_t n) {{ do {{ PORTB ^= 1; }} while (--n); }}
APART void two(void) {{ volatile uint8_t a = 90, b = 0; while (a >= 10) {{ a -= 10; b++; }} }}
APART void search(void) {{ volatile uint8_t i = 0; while (text[i]) i++; }}
APART void fills(void) {{ for (volatile uint8_t i = 0; i < 9; i++) copy[i] = i; }}
APART void halves(void) {{ for (volatile uint16_t i = 999; i > 0; i >>= 1); }}
APART void tone(void) {{ for (volatile uint8_t i = 0; i < 9; i++) PORTB++; }}
APART uint8_t heard(void) {{ uint8_t n = 0; for (uint8_t i = 0; i < 50; i++) n += PINB & 1; return n; }}
int main(void) {{
  OCR1A = 3999;
  TCCR1B = _BV(WGM12) | _BV(CS10);
  for (uint8_t k = 0; k < 10; k++) {{
    narrow(); wide(); looks(); memory8(); memory16(); memory32(); idles(); fed();
    two(); search(); fills(); halves(); tone();
    out = timeout();
    out = length((const char *)text) + divided(k * 25) + crc(k) + power(k + 1) + heard();
    fill(k); wave(k + 1); scans(k + 1);
    memcpy(copy, (const char *)text, strlen((const char *)text));
  }}
  for (;;);
}}
)",
                                         narrow, wide);
  for (const char* level : {"-Os", "-O1", "-O2", "-O3", "-Og", "-O0"}) {
    INFO(level << " " << narrow << " " << wide);
    Session session = opened(
        test::compiled(std::string("waits") + level, source, std::string(level) + " -gdwarf-4"));
    REQUIRE(session.go_to("main"));
    REQUIRE(session.survey(Survey::kCounts));
    session.go_for(Picoseconds{40 * kMillisecond});
    const ProfileView profile = *session.profile();
    std::map<std::string, const ProfileView::Wait*> waits;
    std::map<std::string, std::uint64_t> own;
    std::uint64_t sum = 0;
    for (const ProfileView::Wait& wait : profile.waits) {
      INFO(wait.function << " " << wait.where.line);
      // Each of them once; what is inlined goes by its own name.
      CHECK(waits.emplace(wait.function, &wait).second);
      sum += wait.cycles;
    }
    CHECK(sum == profile.waiting);
    for (const ProfileView::Function& f : profile.functions) own[f.name] += f.self;
    for (const char* name : {"length", "divided", "crc", "power", "fill", "scans", "wave", "heard",
                             "two", "search", "fills", "halves", "tone"}) {
      INFO(name);
      CHECK(waits.count(name) == 0);
    }
    const auto is = [&](const char* name, bool looks, bool counts) {
      INFO(name);
      REQUIRE(waits.count(name) == 1);
      CHECK(waits[name]->looks == looks);
      CHECK(waits[name]->counts == counts);
      return *waits[name];
    };
    if (narrow > 1) {
      CHECK(is("_delay_loop_1", false, true).cycles == 10 * (3 * narrow - 1));
      CHECK(waits["_delay_loop_1"]->rounds == 10 * (narrow - 1));
    }
    if (wide > 1) {
      CHECK(is("_delay_loop_2", false, true).cycles == 10 * (4 * wide - 1));
      CHECK(waits["_delay_loop_2"]->rounds == 10 * (wide - 1));
    }
    is("main", false, false);
    CHECK(is("looks", true, false).where.line == line_of(source, "void looks"));
    // But for the first and the last instructions of the function, and the branch at the end.
    const std::map<std::string, bool> counting{{"timeout", true},
                                               {"memory8", false},
                                               {"memory16", false},
                                               {"memory32", false},
                                               {"idles", true}};
    for (const auto& [name, looks] : counting) {
      const std::uint64_t most = is(name.c_str(), looks, true).cycles;
      CHECK(most <= own[name]);
      CHECK(most + 10 * 60 >= own[name]);
    }
    is("fed", true, false);
    CHECK(waits.size() == 8U + (narrow > 1 ? 1 : 0) + (wide > 1 ? 1 : 0));
  }
}

TEST_CASE("what held an interrupt up is the instruction that turned interrupts off") {
  const std::string source = R"(#include <avr/interrupt.h>
#include <avr/io.h>
#include <util/atomic.h>
volatile uint16_t n, m;
ISR(TIMER1_COMPA_vect) {
  n++;
}
__attribute__((noinline)) void off(void) {
  cli();
}
__attribute__((noinline)) void on(void) {
  sei();
}
__attribute__((noinline)) void callee(void) {
  for (uint16_t i = 0; i < 200; i++)
    m++;
}
int main(void) {
  OCR1A = 777;
  TIMSK1 = _BV(OCIE1A);
  TCCR1B = _BV(WGM12) | _BV(CS10);
  sei();
  for (uint8_t k = 0;; k++) {
    if (k & 8) {
      cli(); // one
      m += 7;
#ifdef ONE
      for (uint8_t i = 0; i < 90; i++)
        m ^= i;
#endif
      sei();
    } else {
#ifdef BLOCK
      ATOMIC_BLOCK(ATOMIC_FORCEON) { // block
        for (uint8_t i = 0; i < 90; i++)
          m ^= i;
      }
#endif
      cli(); // other
#ifdef BELOW
      on();
      m++;
      off();
      for (uint8_t i = 0; i < 90; i++)
        m ^= i;
#endif
#ifdef OTHER
      for (uint8_t i = 0; i < 90; i++)
        m ^= i;
#endif
#ifdef CALLS
      callee();
#endif
      sei();
    }
  }
}
)";
  for (const char* level : {"-Os", "-O1", "-Og", "-O0"})
    for (const std::string which : {"ONE", "OTHER", "BLOCK", "CALLS", "BELOW"}) {
      INFO(level << " " << which);
      Session session = opened(test::compiled("held" + which + level, source,
                                              std::string(level) + " -gdwarf-4 -D" + which));
      REQUIRE(session.survey(Survey::kCounts));
      session.go_for(Picoseconds{50 * kMillisecond});
      const auto interrupts = session.interrupts();
      REQUIRE(interrupts);
      REQUIRE(interrupts->size() == 1);
      const InterruptView& view = interrupts->front();
      REQUIRE(view.held_by == InterruptView::HeldBy::kOff);
      const bool is_call = which == "BLOCK" && std::string(level) == "-O0";
      if (which == "CALLS" || which == "BELOW" || is_call) {  // calls are not looked into for it
        if (which == "CALLS") CHECK(view.requested_at.function == "callee");
        CHECK(!view.off_since);
        continue;
      }
      REQUIRE(view.off_since);
      CHECK(view.off_since->line == line_of(source, which == "ONE"     ? "// one"
                                                    : which == "BLOCK" ? "// block"
                                                                       : "// other"));
    }
}

TEST_CASE("the deepest of all functions' stacks is the chip's") {
  std::vector<std::string> images;
  for (const char* kiln : {"kiln-og", "kiln-os", "deep-plan", "torn-tick"})
    images.push_back(std::string(LUCID_KILN) + "/images/" + kiln + ".elf");
  for (const char* name : {"recursion", "schedule", "parse", "sort", "states"})
    for (const char* level : {"-O0", "-Os", "-O2"})
      images.push_back(test::compiled(
          std::string("stacks-") + name + level,
          test::read(std::string(LUCID_TEST_SOURCES) + "/programs/" + name + ".c"),
          std::string(level) + " -gdwarf-4 -std=gnu11 -w -DPRINTED -I" LUCID_TEST_SOURCES
                               "/programs"));
  unsigned compared = 0;
  for (const std::string& image : images) {
    INFO(image);
    Session session = opened(image);
    REQUIRE(session.survey(Survey::kWithCalls));
    session.go_for(Picoseconds{500 * kMillisecond});
    const ProfileView profile = *session.profile();
    std::uint32_t most = 0;
    for (const ProfileView::Function& f : profile.functions)
      most = std::max(most, f.stack.value_or(0));
    REQUIRE(session.stack().deepest);
    CHECK(most == *session.stack().deepest);
    ++compared;
  }
  CHECK(compared == images.size());
}
