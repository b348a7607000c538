// SPDX-License-Identifier: MIT
// Loops that wait are done at once: nobody can tell. And they are: what it costs is counted.
#include <fmt/format.h>

#include <catch2/catch.hpp>
#include <random>

#include "lucid/image.h"
#include "lucid/session.h"
#include "lucid/survey.h"
#include "tools.h"

using namespace lucid;

namespace {

/// Ways to wait for something, what happens meanwhile, and loops beside them that look alike.
std::string waiting(std::mt19937& random) {
  static const char* const kWays[] = {
      "while (!(UCSR0A & 1 << UDRE0)) {} UDR0 = n;",
      "UDR0 = n; while (!(UCSR0A & 1 << TXC0)) {} UCSR0A |= 1 << TXC0;",
      "while (!flag) {} flag = 0;",
      "{ uint16_t t = ticks; while (ticks == t) {} }",
      "{ uint16_t t = now(); while ((uint16_t)(now() - t) < 3) {} }",
      "{ uint16_t t = now(); while ((uint16_t)(now() - t) < 3) sum += PINB; }",
      "ADCSRA |= 1 << ADSC; while (ADCSRA & 1 << ADSC) {} sum += ADC;",
      "SPDR = n; while (!(SPSR & 1 << SPIF)) {} sum += SPDR;",
      "while (!(TIFR1 & 1 << OCF1B)) {} TIFR1 = 1 << OCF1B; OCR1B += 777;",
      "{ uint16_t t = TCNT1; while ((uint16_t)(TCNT1 - t) < 2000) {} }",
      "EEAR = n & 31; EEDR = n; cli(); EECR |= 4; EECR |= 2; sei(); while (EECR & 2) {}",
      "for (uint8_t i = 0; i < 40; i++) sum += table[i];",
      "for (uint8_t i = 0; i < 200 && !flag; i++) {} flag = 0;",
      "while (!(PINB & 1 << 0)) { if (flag) { flag = 0; break; } }",
      "{ uint8_t k = 0; while (!flag && ++k != 0) {} flag = 0; }",
      "while (GPIOR0 == gp) {} gp = GPIOR0;",
      "do { sum ^= GPIOR0; } while (!flag); flag = 0;",
      "while (!flag) asm volatile(\"nop\"); flag = 0;",
      "while (strlen(text) != 5) {}",
  };
  std::string body;
  for (unsigned i = 0; i < 8; ++i) {
    const char* way = kWays[random() % std::size(kWays)];
    const unsigned times = 1 + random() % 60;
    body += fmt::format("  for (uint8_t k = 0; k < {}; k++) {{ n++; {} }}\n", times, way);
  }
  return fmt::format(R"(#include <avr/io.h>
#include <avr/interrupt.h>
#include <string.h>
#include <util/atomic.h>
volatile uint8_t flag, n, gp, table[40];
volatile uint16_t ticks, sum;
char text[8] = "hello";
uint16_t __attribute__((noinline)) now(void) {{
  uint16_t t;
  ATOMIC_BLOCK(ATOMIC_RESTORESTATE) {{ t = ticks; }}
  return t;
}}
ISR(TIMER0_COMPA_vect) {{ ticks++; if (ticks % 3 == 0) flag = 1; GPIOR0 += 3; }}
int main(void) {{
  UBRR0 = {};
  UCSR0B = 1 << TXEN0;
  ADCSRA = 1 << ADEN | {};
  DDRB = 0x2c;
  SPCR = 1 << SPE | 1 << MSTR | {};
  TCCR1B = {};
  TCCR0A = 2;
  TCCR0B = {};
  OCR0A = {};
  TIMSK0 = 2;
  sei();
  for (;;) {{
{}  }}
}}
)",
                     random() % 12, 3 + random() % 5, random() % 4, 1 + random() % 3,
                     1 + random() % 3, 60 + random() % 190, body);
}

/// Loops of any short instructions, all of which a handler ends after some rounds.
std::string loops(std::mt19937& random) {
  static const char* const kInstructions[] = {"lds r18, 0x110",
                                              "in r19, 0x1e",
                                              "in r20, 0x03",
                                              "lds r21, 0xc0",
                                              "mov r22, r18",
                                              "eor r22, r19",
                                              "and r22, r20",
                                              "bst r18, 1",
                                              "bld r24, 0",
                                              "push r18\n pop r19",
                                              "rcall aside",
                                              "in r16, 0x3f",
                                              "out 0x3f, r16",
                                              "cli\n nop\n sei",
                                              "adc r25, r18",
                                              "rol r25",
                                              "sts 0x112, r18",
                                              "sts 0x112, r22",
                                              "ld r23, Z",
                                              "ldd r23, Z+1",
                                              "st Z, r22",
                                              "clc",
                                              "sec",
                                              "sbrc r18, 0",
                                              "sbis 0x1e, 1",
                                              "cpse r18, r19",
                                              "in r23, 0x1f",
                                              "clr r22",
                                              "inc r26",
                                              "dec r26",
                                              "lds r27, 0x84",
                                              "in r27, 0x16",
                                              "ldi r28, 9",
                                              "nop",
                                              "com r24",
                                              "swap r24",
                                              "lpm r23, Z",
                                              "ld r23, Z+",
                                              "movw r22, r18",
                                              "lds r23, 0x7a",
                                              "sbi 0x1e, 2",
                                              "set",
                                              "ses",
                                              "sbc r25, r25"};
  std::string body;
  for (unsigned i = 0; i < 10; ++i) {
    const std::string label = fmt::format("loop{}", i);
    body += fmt::format(" clr r2\n ldi r30, 0x14\n ldi r31, 1\n{}:\n", label);
    for (unsigned n = random() % 7; n != 0; --n)
      body += fmt::format(" {}\n", kInstructions[random() % std::size(kInstructions)]);
    if (random() % 2 == 0) {
      body += fmt::format(" sbrs r2, {}\n rjmp {}\n", random() % 3, label);
    } else {
      body += fmt::format(" sbrc r2, {}\n rjmp 1f\n", random() % 3);
      body += random() % 3 == 0 ? fmt::format(" breq 1f\n rjmp {}\n1:\n", label)
                                : fmt::format(" rjmp {}\n1:\n", label);
    }
    body += " inc r3\n out 0x1e, r3\n";
  }
  return fmt::format(R"(
.global main
 jmp main
.org 0x2c
 jmp handler
.org 0x68
main:
 ldi r16, 0x08
 out 0x3e, r16
 ldi r16, 0xff
 out 0x3d, r16
 ldi r16, {}
 sts 0x89, r16
 ldi r16, {}
 sts 0x88, r16
 ldi r16, 9
 sts 0x81, r16
 ldi r16, 2
 sts 0x6f, r16
 clr r16
 sts 0x110, r16
 sts 0x112, r16
 sts 0x114, r16
 sts 0x115, r16
 sei
again:
{}
 rjmp again
aside:
 lds r19, 0x110
 ret
handler:
 push r16
 in r16, 0x3f
 push r16
 inc r2
 lds r16, 0x110
 subi r16, 0xfd
 sts 0x110, r16
 sbrc r2, 1
 out 0x1e, r2
 pop r16
 out 0x3f, r16
 pop r16
 reti
)",
                     random() % 8, 100 + random() % 150, body);
}

Chip made(unsigned translate_after) {
  Chip::Options options{"ATmega328P", 16'000'000};
  options.translate_after = static_cast<std::uint8_t>(translate_after);
  return *Chip::make(options);
}

}  // namespace

TEST_CASE("short loops of any instructions are the same, done at once or not", "[waiting]") {
  const unsigned seed = test::fresh_seed();
  INFO("seed " << seed);
  std::mt19937 random(seed);
  for (unsigned program = 0; program < 40; ++program) {
    INFO("program " << program);
    const auto image = Image::open(test::assembled(fmt::format("loops{}", program), loops(random)));
    REQUIRE(image);
    std::vector<Chip> chips;
    for (const unsigned after : {0U, 1U, 40U}) {
      chips.push_back(made(after));
      REQUIRE(chips.back().load(*image));
    }
    for (unsigned stretch = 0; stretch < 60; ++stretch) {
      const std::uint64_t cycles = 1 + random() % (random() % 3 == 0 ? 60 : 20'000);
      for (Chip& chip : chips) chip.run_for(cycles);
      INFO("at " << chips[0].cycles());
      REQUIRE(chips[1].hash() == chips[0].hash());
      REQUIRE(chips[2].hash() == chips[0].hash());
    }
  }
}

TEST_CASE("a loop that waits is the same, done at once or round by round", "[waiting]") {
  const unsigned seed = test::fresh_seed();
  INFO("seed " << seed);
  std::mt19937 random(seed);
  const char* const kLevels[] = {"-Os", "-O2", "-O0", "-O1"};
  for (unsigned program = 0; program < 16; ++program) {
    INFO("program " << program);
    const std::string elf = test::compiled(fmt::format("waiting{}", program), waiting(random),
                                           std::string("-gdwarf-4 ") + kLevels[random() % 4]);
    const auto image = Image::open(elf);
    REQUIRE(image);
    std::vector<Chip> chips;
    for (const unsigned after : {0U, 1U, 40U}) {
      chips.push_back(made(after));
      REQUIRE(chips.back().load(*image));
    }
    bool high = false;
    for (unsigned stretch = 0; stretch < 80; ++stretch) {
      const std::uint64_t cycles = 1 + random() % (random() % 3 == 0 ? 60 : 40'000);
      for (Chip& chip : chips) chip.run_for(cycles);
      INFO("at " << chips[0].cycles());
      REQUIRE(chips[1].hash() == chips[0].hash());
      REQUIRE(chips[2].hash() == chips[0].hash());
      CHECK(chips[1].cycles() == chips[0].cycles());
      if (random() % 3 != 0) continue;
      high = !high;  // a pin that is waited for
      for (Chip& chip : chips) REQUIRE(chip.drive("PB0", high));
    }
    // What is counted, with calls and without; interrupts' waits; traces; the deepest stack.
    struct Seen {
      std::vector<InstructionCount> counts;
      std::vector<InterruptView> interrupts;
      std::vector<std::string> notes;
      std::uint64_t hash = 0;
      std::string sum, values;
      std::optional<std::uint32_t> depth;
    };
    std::vector<Seen> seen;
    const auto survey = random() % 2 == 0 ? Session::Survey::kCounts : Session::Survey::kWithCalls;
    const bool traced = random() % 2 == 0;
    for (const unsigned after : {0U, 2U}) {
      Session session(made(after));
      REQUIRE(session.open(elf));
      REQUIRE(session.survey(survey));
      if (traced) {
        REQUIRE(session.trace({"sum"}));
        REQUIRE(session.trace({"flag"}));
      }
      session.go_for(400'000);
      Seen one;
      one.counts = *session.instruction_counts();
      one.interrupts = *session.interrupts();
      one.hash = session.chip().hash();
      one.depth = session.stack().deepest;
      if (traced)
        for (const char* name : {"sum", "flag"}) {
          const auto signal = session.signal(name);
          REQUIRE(signal);
          auto samples = signal->samples(0, UINT64_MAX);
          while (const auto sample = samples.next())
            one.values += fmt::format("{} {}, ", sample->tick, sample->value);
        }
      seen.push_back(std::move(one));
    }
    CHECK(seen[0].hash == seen[1].hash);
    CHECK(seen[0].depth == seen[1].depth);
    CHECK(seen[0].values == seen[1].values);
    REQUIRE(seen[0].counts.size() == seen[1].counts.size());
    for (std::size_t i = 0; i < seen[0].counts.size(); ++i) {
      INFO("instruction at " << seen[0].counts[i].address);
      CHECK(seen[0].counts[i].executed == seen[1].counts[i].executed);
      CHECK(seen[0].counts[i].departed == seen[1].counts[i].departed);
      CHECK(seen[0].counts[i].cycles == seen[1].counts[i].cycles);
    }
    REQUIRE(seen[0].interrupts.size() == seen[1].interrupts.size());
    for (std::size_t i = 0; i < seen[0].interrupts.size(); ++i) {
      CHECK(seen[0].interrupts[i].wait.most.count == seen[1].interrupts[i].wait.most.count);
      CHECK(seen[0].interrupts[i].wait.mean.count == seen[1].interrupts[i].wait.mean.count);
      CHECK(seen[0].interrupts[i].inside.most.count == seen[1].interrupts[i].inside.most.count);
    }
    // A breakpoint in what waits counts each pass.
    std::vector<std::vector<std::uint64_t>> passes;
    for (const unsigned after : {0U, 2U}) {
      Session session(made(after));
      REQUIRE(session.open(elf));
      session.go_for(100'000);
      BreakpointSpec spec;
      spec.place = "now";
      spec.rule = BreakpointSpec::Rule::kOn;
      spec.count = UINT64_MAX;
      const auto point = session.pause_at(spec);
      REQUIRE(point);
      std::vector<std::uint64_t> reached;
      for (unsigned i = 0; i < 5; ++i) {
        session.go_for(30'000);
        reached.push_back(session.breakpoints()[0].reached);
        reached.push_back(session.chip().hash());
      }
      passes.push_back(std::move(reached));
    }
    CHECK(passes[0] == passes[1]);
  }
}
