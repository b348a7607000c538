// SPDX-License-Identifier: MIT
// ADC, comparator, SPI and two-wire interface. Source: the data sheet's chapters of these names.
#include <catch2/catch.hpp>
#include <random>

#include "bench.h"
#include "lucid/session.h"
#include "tools.h"

using namespace lucid;
using test::Bench;

namespace {

constexpr std::uint32_t kAdc = 0x78, kAdcsra = 0x7a, kAdcsrb = 0x7b, kAdmux = 0x7c;

/// Cycles from the end of the store that starts a conversion until ADIF is up.
std::uint64_t conversion_time(Bench& b) {
  const std::uint64_t begin = b.chip().cycles();
  Chip chip = b.chip();
  while ((*chip.peek({Space::kData, kAdcsra}) & 0x10) == 0) chip.run_for(1);
  return chip.cycles() - begin;
}

}  // namespace

TEST_CASE("a conversion is the input by the reference, and takes 25 cycles at first, then 13") {
  for (unsigned adps = 1; adps < 8; ++adps) {
    Bench b;
    const unsigned n = 1U << adps;
    INFO("prescaler " << n);
    REQUIRE(b.chip().apply_voltage("PC3", 1.25));
    b.write(kAdmux, 0x43);  // AVCC
    b.write(kAdcsra, 0xc0 | adps);
    // From the next edge of the ADC's clock; seen every second cycle.
    CHECK((conversion_time(b) + 1) / 2 * 2 <= 26 * n + 2);
    CHECK(conversion_time(b) > 24 * n);
    b.pass(26 * n);
    CHECK(b.read16(kAdc) == 256);   // 1.25 V of 5 V
    b.write(kAdcsra, 0xd0 | adps);  // clears ADIF and starts
    CHECK(conversion_time(b) <= 14 * n + 2);
    CHECK(conversion_time(b) > 12 * n);
  }
}

TEST_CASE("channels and references") {
  struct Row {
    const char* chip;
    const char* pin;
    double volts;
    unsigned admux, adcsrb, expected;
  };
  for (const Row& row :
       {Row{"ATmega328P", "PC0", 0.55, 0xc0, 0, 512}, Row{"ATmega328P", "PC5", 5.0, 0x45, 0, 1023},
        Row{"ATmega328P", "PC0", 0.0, 0x4e, 0, 1100 * 1024 / 5000},  // the band gap
        Row{"ATmega328P", "PC0", 2.5, 0x60, 0, 512 << 6},            // ADLAR
        Row{"ATmega2560", "PK7", 2.5, 0x47, 8, 512}, Row{"ATmega2560", "PF1", 1.28, 0xc1, 0, 512},
        Row{"ATmega1284P", "PA3", 1.0, 0x53, 0, 102},            // ADC3 against ADC1
        Row{"ATmega1284P", "PA1", 1.0, 0x50, 0, 0x400U - 102U},  // negative
        Row{"ATmega1284P", "PA1", 0.1, 0x49, 0, 102}}) {         // gain 10
    INFO(row.chip << " " << row.admux);
    Bench b(16'000'000, row.chip);
    REQUIRE(b.chip().apply_voltage(row.pin, row.volts));
    b.write(kAdcsrb, row.adcsrb);
    b.write(kAdmux, row.admux);
    b.write(kAdcsra, 0xc2);
    b.pass(200);
    CHECK(b.read16(kAdc) == row.expected);
  }
  Bench b;
  CHECK_FALSE(b.chip().apply_voltage("PC0", 6.0).has_value());
  CHECK_FALSE(b.chip().apply_voltage("PC9", 1.0).has_value());
}

TEST_CASE("free running goes on; a timer triggers; ADCL keeps the result until ADCH is read") {
  Bench b;
  REQUIRE(b.chip().apply_voltage("PC0", 1.25));
  b.write(kAdmux, 0x40);
  b.write(kAdcsra, 0xe1);  // free running, by 2
  b.pass(80);
  CHECK(b.read(kAdc) == (256 & 0xff));
  REQUIRE(b.chip().apply_voltage("PC0", 3.75));
  b.pass(80);
  CHECK(b.read(kAdc + 1) == 1);  // still the old one
  b.pass(80);
  CHECK(b.read16(kAdc) == 768);

  Bench t;
  REQUIRE(t.chip().apply_voltage("PC0", 2.5));
  t.write(kAdmux, 0x40);
  t.write(kAdcsrb, 4);     // Timer0 overflow
  t.write(kAdcsra, 0xa1);  // armed, not started
  t.pass(1000);
  CHECK(t.read16(kAdc) == 0);
  t.write(0x45, 1);
  t.pass(256 + 60);
  CHECK(t.read16(kAdc) == 512);
}

TEST_CASE("the comparator: output, edges, band gap and multiplexed input") {
  Bench b;
  REQUIRE(b.chip().apply_voltage("PD6", 2.0));
  REQUIRE(b.chip().apply_voltage("PD7", 1.0));
  b.out(0x50, 0x13);  // rising
  CHECK((b.get(0x50) & 0x20) != 0);
  REQUIRE(b.chip().apply_voltage("PD7", 2.1));
  CHECK((b.get(0x50) & 0x30) == 0);
  REQUIRE(b.chip().apply_voltage("PD6", 2.2));
  CHECK((b.get(0x50) & 0x30) == 0x30);
  b.out(0x50, 0x10);
  CHECK((b.get(0x50) & 0x10) == 0);
  b.out(0x50, 0x40);  // 1.1 V against AIN1
  CHECK((b.get(0x50) & 0x20) == 0);
  REQUIRE(b.chip().apply_voltage("PC2", 1.0));
  b.write(kAdmux, 2);
  b.write(kAdcsrb, 0x40);  // ACME
  CHECK((b.get(0x50) & 0x20) != 0);
}

TEST_CASE("the comparator in the place of ICP1: it captures, the pin does not") {
  constexpr std::uint32_t kTccr1b = 0x81, kTcnt1 = 0x84, kIcr1 = 0x86, kTifr1 = 0x36;
  for (const bool canceller : {false, true}) {
    Bench b;
    REQUIRE(b.chip().apply_voltage("PD6", 1.0));
    REQUIRE(b.chip().apply_voltage("PD7", 2.0));
    b.out(0x50, 0x04);                          // ACIC
    b.write(kTccr1b, canceller ? 0xc1 : 0x41);  // rising edges, clk/1
    b.pass(100);
    REQUIRE(b.chip().drive("PB0", true));
    b.pass(10);
    CHECK((b.get(kTifr1) & 0x20) == 0);
    const unsigned before = b.get(kTcnt1) | b.get(kTcnt1 + 1) << 8;
    REQUIRE(b.chip().apply_voltage("PD6", 3.0));
    b.pass(10);
    CHECK((b.get(kTifr1) & 0x20) != 0);
    CHECK((b.get(kIcr1) | b.get(kIcr1 + 1) << 8) == before + 3 + (canceller ? 4U : 0U));
  }
}

TEST_CASE("SPI: a byte takes eight bits of its clock, in all modes and both orders") {
  for (unsigned mode = 0; mode < 4; ++mode) {
    for (unsigned order = 0; order < 2; ++order) {
      for (unsigned rate = 0; rate < 8; ++rate) {
        INFO("mode " << mode << ", order " << order << ", rate " << rate);
        constexpr unsigned kDividers[] = {4, 16, 64, 128, 2, 8, 32, 64};
        Bench b;
        b.out(0x24, 0x2c);  // SS, MOSI, SCK
        b.out(0x4d, rate / 4);
        b.out(0x4c, 0x50 | order << 5 | mode << 2 | rate % 4);
        REQUIRE(b.chip().drive("PB4", true));
        b.out(0x4e, 0xa5);
        const std::uint64_t begin = b.chip().cycles();
        // What a listener with the right mode would see, one cycle at a time.
        Chip chip = b.chip();
        unsigned seen = 0;
        bool clock = mode >= 2;
        while ((*chip.peek({Space::kData, 0x4d}) & 0x80) == 0) {
          bool level = false;
          bool data = false;
          for (const PinState& pin : chip.pins()) {
            if (pin.name == "PB5") level = pin.level;
            if (pin.name == "PB3") data = pin.level;
          }
          const bool leading = level != (mode >= 2);
          if (level != clock && leading == (mode % 2 == 0))
            seen = order != 0 ? seen >> 1 | (data ? 0x80U : 0) : seen << 1 | (data ? 1U : 0);
          clock = level;
          chip.run_for(1);
        }
        const std::uint64_t took = chip.cycles() - begin;
        CHECK((took == 8 * kDividers[rate] || took == 8 * kDividers[rate] + 1));
        if (kDividers[rate] >= 8 && mode % 2 == 0) CHECK((seen & 0xff) == 0xa5);
        b.pass(8 * kDividers[rate] + 4);
        CHECK(b.in(0x4d) >> 7 == 1);
        CHECK(b.in(0x4e) == 0xff);         // MISO was high
        CHECK((b.get(0x4d) & 0x80) == 0);  // read SPSR, then SPDR: cleared
      }
    }
  }
}

TEST_CASE("SPI: two chips, one the master of the other, by their pins") {
  Bench master;
  Bench slave;
  master.out(0x24, 0x2c);
  master.out(0x25, 0x04);
  master.out(0x4c, 0x53);  // by 128
  slave.out(0x24, 0x10);
  slave.out(0x4c, 0x40);
  const auto wire = [&] {
    const auto level = [](Bench& b, const char* name) { return b.pin(name).level; };
    REQUIRE(slave.chip().drive("PB2", level(master, "PB2")));
    REQUIRE(slave.chip().drive("PB3", level(master, "PB3")));
    REQUIRE(slave.chip().drive("PB5", level(master, "PB5")));
    REQUIRE(master.chip().drive("PB4", level(slave, "PB4")));
  };
  wire();
  slave.out(0x4e, 0x3c);
  master.out(0x25, 0x00);
  wire();
  master.out(0x4e, 0xd2);
  for (int i = 0; i < 600; ++i) {
    master.pass(2);
    slave.pass(2);
    wire();
  }
  CHECK(slave.in(0x4e) == 0xd2);
  CHECK(master.in(0x4e) == 0x3c);
}

TEST_CASE("two-wire: START, an address nobody answers to, STOP, at the rate of TWBR") {
  Bench b;
  constexpr std::uint32_t kTwbr = 0xb8, kTwsr = 0xb9, kTwdr = 0xbb, kTwcr = 0xbc;
  b.write(kTwbr, 72);  // 16 + 2 * 72 = 160 cycles: 100 kHz
  const auto act = [&](unsigned control, std::uint64_t cycles) {
    b.write(kTwcr, 0x84 | control);
    b.pass(cycles - 4);
    CHECK((b.get(kTwcr) & 0x80) == 0);
    b.pass(8);
    CHECK((b.get(kTwcr) & 0x80) != 0);
    return b.get(kTwsr) & 0xf8;
  };
  CHECK(act(0x20, 160) == 0x08);
  b.write(kTwdr, 0xa0);
  CHECK(act(0, 9 * 160) == 0x20);
  CHECK(act(0x20, 160) == 0x10);
  b.write(kTwdr, 0xa1);
  CHECK(act(0, 9 * 160) == 0x48);
  b.write(kTwcr, 0x94);
  CHECK((b.get(kTwcr) & 0x10) != 0);
  b.pass(200);
  CHECK((b.get(kTwcr) & 0x90) == 0);
  CHECK((b.get(kTwsr) & 0xf8) == 0xf8);
}

// "2-wire Serial Interface", tables of the status codes of the slave modes.
TEST_CASE("two-wire: a controller outside meets a slave, with its status codes and in time") {
  const std::string elf = test::compiled("slave", R"(
#include <avr/io.h>
volatile uint8_t statuses[32], count, memory[8], pointer, acknowledge = 1;
int main(void) {
  TWAR = 0x29 << 1 | 1;
  TWAMR = 0x02;
  TWCR = 1 << TWEN | 1 << TWEA;
  for (uint8_t first = 0;;) {
    while (!(TWCR & 1 << TWINT)) {}
    uint8_t status = TWSR & 0xf8;
    if (count < 32) statuses[count++] = status;
    if (status == 0x60 || status == 0x70) first = 1;
    if (status == 0x80 || status == 0x90 || status == 0x88) {
      if (first) pointer = TWDR & 7; else memory[pointer++ & 7] = TWDR;
      first = 0;
    }
    if (status == 0xa8 || status == 0xb8) TWDR = memory[pointer++ & 7];
    TWCR = 1 << TWEN | 1 << TWINT | (acknowledge || status != 0x80 ? 1 << TWEA : 0);
  }
}
)",
                                         "-Os -gdwarf-4");
  Session session(*Chip::make({}));
  REQUIRE(session.open(elf));
  session.go_for(1000);
  const auto byte = [&](const std::string& what) {
    const auto value = session.evaluate(what);
    REQUIRE(value);
    return value->integer;
  };
  const auto statuses = [&] {
    std::vector<unsigned> out;
    for (int i = 0; i < byte("count"); ++i)
      out.push_back(static_cast<unsigned>(byte("statuses[" + std::to_string(i) + "]")));
    REQUIRE(session.let("count", "0"));
    return out;
  };
  using Codes = std::vector<unsigned>;
  // Three bytes are written; START, address and nine bits a byte at 100 kHz, and what the program
  // takes.
  REQUIRE(session.transfer({0x29, {0x02, 0x5a, 0xa5}}));
  session.go_for((10 + 3 * 9) * 160);
  CHECK(byte("count") < 4);
  session.go_for(600);
  CHECK(statuses() == Codes{0x60, 0x80, 0x80, 0x80, 0xa0});
  CHECK(byte("memory[2]") == 0x5a);
  CHECK(byte("memory[3]") == 0xa5);
  // A repeated START, two bytes read, the second not acknowledged. By the mask 0x28 is its address,
  // too.
  REQUIRE(session.transfer({0x28, {0x02}, 2}));
  session.go_for(20'000);
  CHECK(statuses() == Codes{0x60, 0x80, 0xa0, 0xa8, 0xb8, 0xc0});
  REQUIRE(session.transfer({0x00, {0x01, 0x77}}));  // the general call
  session.go_for(20'000);
  CHECK(statuses() == Codes{0x70, 0x90, 0x90, 0xa0});
  CHECK(byte("memory[1]") == 0x77);
  REQUIRE(session.transfer({0x31, {0x01}}));  // somebody else
  session.go_for(20'000);
  CHECK(statuses().empty());
  Chip alone = session.chip();
  REQUIRE(alone.transfer({0x32, {0x01}}));
  alone.run_for(20'000);
  CHECK(alone.take_notes() ==
        std::vector<std::string>{"two-wire: nobody acknowledged address 0x32"});
  REQUIRE(session.let("acknowledge", "0"));  // behind the first byte it has had enough
  REQUIRE(session.transfer({0x29, {0x04, 0x11, 0x22}}));
  session.go_for(40'000);
  CHECK(statuses() == Codes{0x60, 0x80, 0x88});
  CHECK(byte("memory[4]") == 0x11);
  CHECK(byte("memory[5]") == 0);
  CHECK_FALSE(parse_two_wire_transfer("0x80 read 1"));
  CHECK_FALSE(parse_two_wire_transfer("0x29 write 5"));
  CHECK_FALSE(parse_two_wire_transfer("0x29 read 0"));
  CHECK(parse_two_wire_transfer("0x29 write 01 02 read 2")->write.size() == 2);
}

TEST_CASE("conversions that are worked out late give what those with an event give") {
  // With ADIE, and interrupts off, each end of a conversion is an event; without, none is.
  std::mt19937 random(test::fresh_seed());
  for (int round = 0; round < 40; ++round) {
    const unsigned prescaler = random() % 8;
    const bool runs_on = random() % 2 == 0;
    Bench early, late;
    for (Bench* b : {&early, &late}) {
      b->write(kAdmux, 0x40);
      b->write(kAdcsra, 0xc0 | (runs_on ? 0x20 : 0) | (b == &early ? 8 : 0) | prescaler);
    }
    for (int step = 0; step < 60; ++step) {
      const unsigned what = random() % 7, value = random();
      const std::uint64_t wait = random() % (step % 8 == 0 ? 20'000 : 300);
      std::vector<unsigned> seen[2];
      for (Bench* b : {&early, &late}) {
        b->pass(wait);
        auto& out = seen[b == &late ? 1 : 0];
        switch (what) {
          case 0: REQUIRE(b->chip().apply_voltage("PC0", value % 4000 / 1000.0)); break;
          case 1: REQUIRE(b->chip().apply_voltage("VCC", 4 + value % 1000 / 1000.0)); break;
          case 2: out = {b->read(kAdc), b->read(kAdc + 1)}; break;
          case 3: out = {b->read(kAdcsra) & ~8U}; break;
          case 4: out = {b->get(kAdc), b->get(kAdc + 1), b->get(kAdcsra) & ~8U}; break;
          case 5: b->write(kAdcsra, (b->get(kAdcsra) & 0x2fU) | 0xd0); break;
          default: b->write(0x28, value & 1); b->write(0x27, value >> 1 & 1);  // PORTC, DDRC
        }
      }
      INFO("round " << round << ", step " << step << ", what " << what);
      REQUIRE(seen[0] == seen[1]);
    }
  }
}
