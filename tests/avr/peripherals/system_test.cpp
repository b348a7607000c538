// SPDX-License-Identifier: MIT
// Watchdog, external interrupts, deep sleep, self-programming; and programs made of avr-libc's own
// functions for them. Source: the data sheet's chapters of these names.
#include <fmt/format.h>

#include <catch2/catch.hpp>

#include "bench.h"
#include "lucid/session.h"
#include "tools.h"

using namespace lucid;
using test::Bench;

namespace {

constexpr std::uint32_t kMcusr = 0x54, kWdtcsr = 0x60;

Chip loaded(const std::string& elf, const std::string& name = "ATmega328P") {
  Chip chip = *Chip::make({name, 16'000'000});
  REQUIRE(chip.load(*Image::open(elf)).has_value());
  return chip;
}
unsigned io(const Chip& chip, std::uint32_t address) { return *chip.peek({Space::kData, address}); }

}  // namespace

TEST_CASE("the watchdog changes only within four cycles, and resets after its period") {
  Bench b;
  b.write(kWdtcsr, 0x09);  // WDE may be set at any time, the period may not
  CHECK(b.get(kWdtcsr) == 0x08);
  b.write(kWdtcsr, 0x18);
  b.write(kWdtcsr, 0x09);  // `ldi, sts`: the third cycle behind the window's opening
  CHECK(b.get(kWdtcsr) == 0x09);
  b.write(kWdtcsr, 0x18);
  b.nop(3);
  b.write(kWdtcsr, 0x0a);
  CHECK(b.get(kWdtcsr) == 0x09);
  CHECK(b.chip().take_notes().size() == 2);  // the first write and the last, each its place
}

TEST_CASE("watchdog periods: 2048 cycles of 128 kHz, doubled nine times") {
  for (unsigned wdp = 0; wdp < 10; ++wdp) {
    Bench b;
    const unsigned bits = (wdp & 7) | (wdp & 8) << 2;
    b.write(kWdtcsr, 0x18);
    b.write(kWdtcsr, 0x08 | bits);
    const std::uint64_t started = b.chip().cycles();
    const std::uint64_t period = (2048ULL << wdp) * 125;  // cycles of 16 MHz
    Chip chip = b.chip();
    chip.poke({Space::kCode, 0}, 0xff);  // behind the reset: `rjmp` to itself
    chip.poke({Space::kCode, 1}, 0xcf);
    // From when WDE turned it on, three cycles ago.
    chip.run_for(period - 3 - 8);
    CHECK((io(chip, kMcusr) & 8) == 0);
    chip.run_for(16);
    CHECK((io(chip, kMcusr) & 8) != 0);
    CHECK(io(chip, kWdtcsr) == 0x08);  // WDRF keeps it on, at the shortest period
    CHECK(chip.cycles() - started < period + 16);
  }
}

TEST_CASE("programs with avr-libc's watchdog, sleep and interrupt functions") {
  const Chip made = loaded(test::compiled("libc-system", R"(
#include <avr/interrupt.h>
#include <avr/sleep.h>
#include <avr/wdt.h>
#include <util/delay.h>
volatile unsigned char causes __attribute__((section(".noinit")));
volatile unsigned char bites, pressed, changes;
ISR(WDT_vect) { ++bites; }
ISR(INT0_vect) { ++pressed; }
ISR(PCINT1_vect) { ++changes; }
int main(void) {
  causes = MCUSR;
  MCUSR = 0;
  wdt_disable();
  if (causes & _BV(WDRF)) for (;;) PORTB = 0x5a;
  EICRA = _BV(ISC01);
  EIMSK = _BV(INT0);
  PCMSK1 = _BV(PCINT9);
  PCICR = _BV(PCIE1);
  PORTD = _BV(2);
  sei();
  set_sleep_mode(SLEEP_MODE_PWR_DOWN);
  wdt_enable(WDTO_15MS);
  WDTCSR |= _BV(WDIE);
  while (bites < 1) sleep_mode();
  wdt_disable();
  while (!changes) sleep_mode();
  set_sleep_mode(SLEEP_MODE_IDLE);
  while (!pressed) sleep_mode();
  wdt_enable(WDTO_30MS);
  for (;;) { _delay_ms(20); if (bites < 10) { ++bites; wdt_reset(); } }
}
)",
                                          "-Os"));
  Chip chip = made;
  chip.run_for(16'000'000 / 100);  // 10 ms: it sleeps
  const std::uint64_t hash = chip.hash();
  CHECK(chip.take_notes().empty());
  chip.run_for(16'000'000 / 100);  // 20 ms: woken by the watchdog, asleep again for a pin
  CHECK(chip.hash() != hash);
  const std::uint32_t asleep = chip.pc();
  chip.run_for(16'000'000);
  CHECK(chip.pc() == asleep);
  REQUIRE(chip.drive("PC1", true));
  chip.run_for(16'000);
  REQUIRE(chip.drive("PD2", false));
  chip.run_for(16'000);
  // Nine more rounds of 20 ms are fed, then 30 ms pass: 4096 cycles of 128 kHz are 32 ms.
  chip.run_for(16'000 * (9 * 20 + 25));
  CHECK(io(chip, 0x25) != 0x5a);
  chip.run_for(16'000 * 20);
  CHECK(io(chip, 0x25) == 0x5a);
  CHECK(chip.take_notes().empty());
}

TEST_CASE("external interrupts: level, edges, changes") {
  struct Row {
    unsigned isc;
    bool first, second;
    unsigned flag;  ///< INTF0 afterwards
  };
  for (const Row& row : {Row{0, true, false, 0}, Row{1, true, false, 1}, Row{1, false, true, 1},
                         Row{2, true, false, 1}, Row{2, false, true, 0}, Row{3, false, true, 1},
                         Row{3, true, false, 0}}) {
    INFO(row.isc << row.first << row.second);
    Bench b;
    REQUIRE(b.chip().drive("PD2", row.first));
    b.write(0x69, row.isc);
    b.out(0x3c, 3);
    REQUIRE(b.chip().drive("PD2", row.second));
    CHECK((b.get(0x3c) & 1) == row.flag);
  }
  Bench b;
  b.write(0x6d, 0x80);  // PCINT23
  REQUIRE(b.chip().drive("PD6", true));
  CHECK(b.get(0x3b) == 0);
  REQUIRE(b.chip().drive("PD7", true));
  CHECK(b.get(0x3b) == 0);  // three edges of the clock later
  b.pass(4);
  CHECK(b.get(0x3b) == 4);
  b.out(0x3b, 4);
  CHECK(b.get(0x3b) == 0);
}

TEST_CASE("power-down stops the timers; a pin change wakes it after the start-up time") {
  Bench b;
  b.chip().poke({Space::kFuse, 0}, 0xff);  // a crystal: 16K cycles
  b.write(0x45, 1);
  b.write(0x6d, 0x04);  // PCINT18
  b.write(0x68, 0x04);
  b.write(0x53, 0x05);                          // power-down, SE
  for (const std::uint32_t a : {0x14U, 0x15U})  // PCINT2: `reti`
    b.chip().poke({Space::kCode, a}, a % 2 == 0 ? 0x18 : 0x95);
  b.chip().poke({Space::kData, 0x5f}, 0x80);
  const std::uint32_t at = b.chip().pc();
  b.chip().poke({Space::kCode, at}, 0x88);  // sleep
  b.chip().poke({Space::kCode, at + 1}, 0x95);
  b.pass(1);
  const unsigned count = b.get(0x46);
  b.pass(1'000'000);
  CHECK(b.get(0x46) == count);
  const std::uint64_t pressed = b.chip().cycles();
  REQUIRE(b.chip().drive("PD2", true));
  b.chip().step();
  CHECK(b.chip().cycles() - pressed == 16'384 + 4 + 4);  // and the interrupt's entry
  CHECK(b.get(0x46) == (count + 4) % 256);
}

TEST_CASE("a boot loader programs a page with avr-libc's functions and reads fuses and signature") {
  const std::string elf = test::compiled("boot-write", R"(
#include <avr/boot.h>
#include <avr/interrupt.h>
#include <avr/pgmspace.h>
unsigned char fuses[4], signature[3];
int main(void) {
  unsigned i;
  boot_page_erase(0x400);
  boot_spm_busy_wait();
  for (i = 0; i < SPM_PAGESIZE; i += 2) boot_page_fill(0x400 + i, 0x1234 + i);
  boot_page_write(0x400);
  GPIOR0 = boot_rww_busy() ? 1 : 0;
  boot_spm_busy_wait();
  boot_rww_enable();
  for (i = 0; i < 4; ++i) fuses[i] = boot_lock_fuse_bits_get(i);
  for (i = 0; i < 3; ++i) signature[i] = boot_signature_byte_get(2 * i);
  GPIOR1 = fuses[0]; GPIOR2 = fuses[3];
  PORTB = signature[0]; PORTD = signature[1]; EEDR = signature[2];
  boot_page_erase(0x7fff & ~(SPM_PAGESIZE - 1) & 0x7f00);
  for (;;) PORTC = 0x2a;
}
)",
                                         "-Os -Wl,--section-start=.text=0x7000");
  Chip chip = *Chip::make({"ATmega328P", 16'000'000});
  REQUIRE(chip.load(*Image::open(elf)).has_value());
  chip.poke({Space::kFuse, 1}, 0xd8);  // BOOTRST, 2048 words
  chip.reset();
  const std::uint64_t started = chip.cycles();
  while (io(chip, 0x28) != 0x2a && chip.cycles() < 1'000'000) chip.run_for(100);
  // Erase and write at 4 ms each, and the last erase halts the processor in its own section.
  CHECK((chip.cycles() - started) / 64'000 == 3);
  for (std::uint32_t i = 0; i < 128; i += 2) {
    CHECK(*chip.peek({Space::kCode, 0x400 + i}) == ((0x1234 + i) & 0xff));
    CHECK(*chip.peek({Space::kCode, 0x401 + i}) == ((0x1234 + i) >> 8));
  }
  CHECK(io(chip, 0x3e) == 1);
  CHECK(io(chip, 0x4a) == *chip.peek({Space::kFuse, 0}));
  CHECK(io(chip, 0x4b) == 0xd8);
  CHECK(io(chip, 0x25) == 0x1e);
  CHECK(io(chip, 0x2b) == 0x95);
  CHECK(io(chip, 0x40) == 0x0f);
  for (const std::string& note : chip.take_notes()) FAIL_CHECK(note);
}

// "Power Management and Sleep Modes", section "Power Reduction Register"
TEST_CASE("power reduction stops a peripheral and shuts its registers") {
  constexpr std::uint32_t kPrr = 0x64, kTccr1b = 0x81, kTcnt1 = 0x84, kUcsr0a = 0xc0,
                          kUcsr0b = 0xc1, kUbrr0 = 0xc4, kUdr0 = 0xc6, kAdcsra = 0x7a;
  Bench b;
  SECTION("a timer goes on where it was, in step with the prescaler") {
    b.write(kTccr1b, 2);  // clk/8
    b.pass(801);
    b.write(kPrr, 0x08);
    const unsigned stands = b.get(kTcnt1) | b.get(kTcnt1 + 1) << 8;
    CHECK(stands >= 100);
    CHECK(b.read(kTcnt1) == 0);
    b.write(kTccr1b, 1);
    REQUIRE(b.chip().take_notes().size() == 2);
    b.pass(5000);
    CHECK((b.get(kTcnt1) | b.get(kTcnt1 + 1) << 8) == stands);
    b.write(kPrr, 0);
    CHECK((b.get(kTcnt1) | b.get(kTcnt1 + 1) << 8) == stands);
    b.pass(80);
    CHECK((b.get(kTcnt1) | b.get(kTcnt1 + 1) << 8) == stands + 10);
    CHECK(b.get(kTccr1b) == 2);
  }
  SECTION("a frame that is leaving waits; bytes that would arrive wait, too") {
    b.write(kUbrr0, 3);
    b.write(kUcsr0b, 0x18);
    b.write(kUdr0, 'k');
    b.pass(300);
    b.write(kPrr, 0x02);
    REQUIRE(b.chip().feed("USART0", "x"));
    b.pass(10'000);
    CHECK(b.chip().take_serial_output().empty());
    b.write(kPrr, 0);
    b.pass(10 * 64 - 300 - 12);
    CHECK(b.chip().take_serial_output().empty());
    b.pass(20);
    CHECK(b.chip().take_serial_output() == "k");
    b.pass(640);
    CHECK((b.get(kUcsr0a) & 0x80) != 0);
    CHECK(b.read(kUdr0) == 'x');
  }
  SECTION("a conversion waits") {
    b.write(kAdcsra, 0xc0);  // clk/2: 25 cycles of it
    b.pass(20);
    b.write(kPrr, 0x01);
    b.pass(1000);
    CHECK((b.get(kAdcsra) & 0x40) != 0);
    b.write(kPrr, 0);
    b.pass(40);
    CHECK((b.get(kAdcsra) & 0x50) == 0x10);
  }
  SECTION("a sleep in between counts once; a reset switches all on") {
    b.write(kTccr1b, 1);
    b.write(kPrr, 0x08);
    const unsigned stands = b.get(kTcnt1) | b.get(kTcnt1 + 1) << 8;
    b.pass(100);
    b.write(kPrr, 0);
    b.pass(100);
    const unsigned later = b.get(kTcnt1) | b.get(kTcnt1 + 1) << 8;
    CHECK(later >= stands + 100);
    CHECK(later <= stands + 104);
    b.write(kPrr, 0x08);
    b.chip().reset();
    CHECK(b.get(kPrr) == 0);
  }
}

// "System Control and Reset", section "Brown-out Detection"
TEST_CASE("a low supply holds the chip in reset if the fuses say so") {
  struct Row {
    std::uint8_t fuse;
    double level;  ///< 0: the detector is off
  };
  for (const Row& row : {Row{0xfc, 4.3}, Row{0xfd, 2.7}, Row{0xfe, 1.8}, Row{0xff, 0}}) {
    Chip::Options options;
    options.fuses = {0xff, 0xd9, row.fuse};
    Chip chip = *Chip::make(options);
    for (std::uint32_t a = 0; a < 0x100; a += 2) {  // inc r16; and at the end back to 0
      chip.poke({Space::kCode, a}, 0x03);
      chip.poke({Space::kCode, a + 1}, 0x95);
    }
    chip.poke({Space::kCode, 0x100}, 0x7f);
    chip.poke({Space::kCode, 0x101}, 0xcf);
    chip.poke({Space::kData, 0x54}, 0);  // MCUSR
    chip.run_for(1000);
    INFO("BODLEVEL " << row.level);
    if (row.level == 0) {
      REQUIRE(chip.apply_voltage("VCC", 1.0));
      chip.run_for(10);
      CHECK(chip.pc() != 0);
      CHECK(chip.take_notes().size() == 1);
      continue;
    }
    REQUIRE(chip.apply_voltage("VCC", row.level - 0.02));
    chip.run_for(10);
    CHECK(chip.pc() != 0);
    REQUIRE(chip.apply_voltage("VCC", row.level - 0.03));
    const std::uint64_t before = chip.cycles();
    chip.run_for(500);
    CHECK(chip.cycles() == before + 500);
    CHECK(chip.pc() == 0);
    CHECK(*chip.peek({Space::kData, 0x54}) == 0x04);  // BORF
    REQUIRE(chip.apply_voltage("VCC", row.level + 0.02));
    chip.run_for(500);
    CHECK(chip.pc() == 0);
    REQUIRE(chip.apply_voltage("VCC", row.level + 0.03));
    chip.run_for(10);
    CHECK(chip.pc() == 20);
    CHECK_FALSE(chip.apply_voltage("VCC", 5.6));
  }
}

// "External Memory Interface"
TEST_CASE("external memory answers while SRE is set, with the wait states of its sector") {
  Chip::Options options;
  options.name = "ATmega328P";
  options.external_ram = 1;
  CHECK(Chip::make(options).error().code == ErrorCode::kUnsupported);
  options.name = "ATmega2560";
  options.external_ram = 0xde01;
  CHECK(Chip::make(options).error().code == ErrorCode::kOutOfRange);
  options.external_ram = 0xde00;
  const auto image = Image::open(test::assembled("external", R"(
        .global start
start:  ldi r16, 0x5a
        sts 0x3000, r16         ; behind RAM: nothing there yet
        ldi r16, 0xad           ; SRE, lower sector up to 0x3fff with one wait state, upper with three
        sts 0x74, r16
        ldi r16, 0x5a
        sts 0x3000, r16
        lds r17, 0x3000
        sts 0xffff, r16
        lds r18, 0xffff
        lds r19, 0x3000
)",
                                                 "atmega2560"));
  REQUIRE(image);
  Chip chip = *Chip::make(options);
  REQUIRE(chip.load(*image));
  chip.step();
  CHECK(chip.step().why == RunEnd::Why::kFault);
  chip.step();
  chip.step();
  chip.step();
  for (const unsigned cycles : {4U, 4U, 6U, 6U, 4U}) {
    const std::uint64_t before = chip.cycles();
    CHECK(chip.step().why == RunEnd::Why::kTimeUp);
    CHECK(chip.cycles() - before == cycles);
  }
  CHECK(*chip.register_value("r17") == 0x5a);
  CHECK(*chip.register_value("r18") == 0x5a);
  CHECK(*chip.peek({Space::kData, 0x3000}) == 0x5a);
}

// "System Clock and Clock Options", section "System Clock Prescaler"
TEST_CASE("the clock prescaler divides cycles; the watchdog, EEPROM and crystal keep their time") {
  constexpr std::uint32_t kClkpr = 0x61, kEecr = 0x3f, kTifr2 = 0x37;
  constexpr std::uint64_t kTick = 62'500;  // picoseconds
  for (unsigned shift = 0; shift <= 8; ++shift) {
    Bench b;
    INFO("by " << (1U << shift));
    const std::uint64_t tick = kTick << shift;
    b.write(kClkpr, 0x80);
    CHECK(b.get(kClkpr) == 0x80);
    b.write(kClkpr, shift);  // the third cycle behind the window's opening
    CHECK(b.get(kClkpr) == shift);
    CHECK(b.chip().take_notes().empty());
    const auto passed = [&b](std::uint64_t since) { return b.chip().time().count - since; };
    std::uint64_t since = b.chip().time().count;
    const std::uint64_t cycles = b.chip().cycles();
    b.nop(100);
    CHECK(passed(since) == 100 * tick);
    b.chip().run_for(Picoseconds{100 * tick});
    CHECK(b.chip().cycles() == cycles + 200);

    // EEPROM: 3.4 ms from the end of the store that sets EEPE.
    b.sbi(kEecr, 2);
    b.sbi(kEecr, 1);
    since = b.chip().time().count - 2 * tick;
    while ((b.get(kEecr) & 2) != 0) b.chip().step();
    CHECK(passed(since) >= 3'400'000'000);
    CHECK(passed(since) < 3'400'000'000 + 2 * tick);

    // Timer2 on the crystal: 256 of its cycles, whatever the clock is meanwhile.
    b.write(0xb6, 0x20);  // AS2
    b.write(0xb1, 1);
    b.write(0xb2, 0);
    b.write(kTifr2, 7);
    while ((b.get(kTifr2) & 1) == 0) b.chip().step();
    since = b.chip().time().count;
    b.write(kTifr2, 7);
    b.pass(200);
    b.write(kClkpr, 0x80);
    b.write(kClkpr, 1);
    while ((b.get(kTifr2) & 1) == 0) b.chip().step();
    CHECK(passed(since) + 2 * tick >= 7'812'500'000);
    CHECK(passed(since) <= 7'812'500'000 + 4 * kTick);
    b.write(kClkpr, 0x80);
    b.write(kClkpr, shift);

    // The watchdog: 16 ms from when WDE turns it on.
    b.write(kWdtcsr, 0x08);
    since = b.chip().time().count;
    while ((b.get(kMcusr) & 8) == 0) b.chip().step();
    CHECK(passed(since) >= 16'000'000'000);
    CHECK(passed(since) < 16'000'000'000 + 2 * tick);
    CHECK(b.get(kClkpr) == 0);
    since = b.chip().time().count;
    b.chip().step();  // an `ldi` again
    CHECK(passed(since) == kTick);
  }
}

TEST_CASE("CKDIV8 divides from reset on; CLKPS changes only within four cycles after CLKPCE") {
  constexpr std::uint32_t kClkpr = 0x61;
  Chip::Options options;
  for (const bool divided : {false, true}) {
    options.fuses = {static_cast<std::uint8_t>(divided ? 0x62 : 0xe2), 0xd9, 0xff};
    Chip chip = *Chip::make(options);
    CHECK(io(chip, kClkpr) == (divided ? 3 : 0));
    chip.poke({Space::kCode, 0}, 0xff);  // `rjmp` to itself
    chip.poke({Space::kCode, 1}, 0xcf);
    chip.run_for(Picoseconds{1'000'000'000});
    CHECK(chip.cycles() == (divided ? 2'000 : 16'000));
  }
  CHECK(io(*Chip::make({"ATmega1284P", 8'000'000}), kClkpr) == 0);  // nobody named fuses
  Bench b;
  b.write(kClkpr, 0x80);
  b.nop(3);
  b.write(kClkpr, 2);
  CHECK(b.get(kClkpr) == 0);
  b.write(kClkpr, 0x82);
  b.write(kClkpr, 2);
  CHECK(b.get(kClkpr) == 0);
  b.write(kClkpr, 0x80);
  b.write(kClkpr, 9);
  CHECK(b.get(kClkpr) == 0);
  CHECK(b.chip().take_notes().size() == 4);  // too late, not alone, too late, reserved
}

// "Power Management and Sleep Modes", section "BOD Disable"
TEST_CASE("BODS within its timed sequence keeps the brown-out detector off in sleep") {
  for (const bool off : {false, true}) {
    const auto image = Image::open(test::assembled("bods",
                                                   fmt::format(R"(
        ldi r16, 5              ; power-down, SE
        out 0x33, r16
        in r16, 0x35
        ori r16, 0x60
        out 0x35, r16
        andi r16, 0xdf
        {}
        sleep
1:      rjmp 1b
)",
                                                               off ? "out 0x35, r16" : "nop"),
                                                   "atmega328p"));
    REQUIRE(image);
    Chip::Options options;
    options.fuses = {0xff, 0xd9, 0xfd};  // 2.7 V
    Chip chip = *Chip::make(options);
    REQUIRE(chip.load(*image));
    chip.poke({Space::kData, kMcusr}, 0);
    chip.run_for(1000);
    REQUIRE(chip.apply_voltage("VCC", 2.5));
    chip.run_for(1000);
    CHECK(io(chip, kMcusr) == (off ? 0 : 4));
  }
}

// "JTAG Interface and On-chip Debug System", "Alternate Port Functions"
TEST_CASE("JTAGEN takes four pins until JTD has been written twice within four cycles") {
  struct Row {
    const char *chip, *port;
    unsigned first;
    std::uint32_t pin;
  };
  for (const Row& row : {Row{"ATmega1284P", "PC", 2, 0x26}, Row{"ATmega2560", "PF", 4, 0x2f}}) {
    INFO(row.chip);
    Chip::Options options{row.chip, 16'000'000};
    options.fuses = {0xff, 0x99, 0xff};
    Bench b(options);
    const auto name = [&](unsigned i) { return row.port + std::to_string(row.first + i); };
    const auto taken = [&] {
      for (unsigned i = 0; i < 4; ++i) {
        if (b.pin(name(i)).output == b.pin(name(i)).taken_by.empty()) continue;
        FAIL_CHECK(name(i));
      }
      return !b.pin(name(0)).output;
    };
    b.write(row.pin + 1, 0xff);  // DDR
    CHECK(taken());
    CHECK(b.pin(name(0)).taken_by == "JTAG TCK");
    CHECK(b.pin(name(1)).level);
    CHECK_FALSE(b.pin(name(2)).level);
    b.write(0x55, 0x80);
    b.nop(4);
    CHECK(taken());
    b.write(0x55, 0x80);
    b.nop(4);
    b.out(0x55, 0x80);
    CHECK(taken());
    b.out(0x55, 0x80);
    CHECK_FALSE(taken());
    CHECK(b.get(0x55) == 0x80);
    options.fuses.reset();  // nobody named fuses
    Bench plain(options);
    plain.write(row.pin + 1, 0xff);
    CHECK(plain.pin(name(0)).output);
  }
}

TEST_CASE("flash that is busy is not read or executed: a fault, or 0xff") {
  const std::string elf = test::compiled("boot-busy", R"(
#include <avr/boot.h>
#include <avr/pgmspace.h>
int main(void) {
  GPIOR1 = pgm_read_byte(0x20);
  boot_page_erase(0x400);
  boot_spm_busy_wait();
  GPIOR0 = pgm_read_byte(0x20);
  if (PINB & 1) ((void (*)(void))0x10)();
  boot_rww_enable();
  GPIOR2 = pgm_read_byte(0x20);
  for (;;) PORTC = 0x2a;
}
)",
                                         "-Os -gdwarf-4 -Wl,--section-start=.text=0x7000");
  for (const bool runs : {false, true})
    for (const bool faults : {true, false}) {
      Chip::Options options{"ATmega328P", 16'000'000};
      options.fuses = {0xff, 0xd8, 0xfd};  // BOOTRST, 2048 words
      Session session(*Chip::make(options));
      REQUIRE(session.open(elf));
      REQUIRE(session.let("chip.flash[0x20]", "0x5a"));
      REQUIRE(session.drive("PB0", runs));
      REQUIRE(session.go_to("main"));
      REQUIRE(session.set_fault("busy-flash", faults));
      Pause pause = session.go_for(1'000'000);
      CHECK((pause.cause == Pause::Cause::kFault) == faults);
      if (faults) {
        CHECK(pause.detail.find("read flash at 0x0020") != std::string::npos);
        pause = session.go_for(1'000'000);
        CHECK((pause.cause == Pause::Cause::kFault) == runs);
        if (runs) CHECK(pause.detail.find("execution reached 0x0020") != std::string::npos);
      }
      CHECK(io(session.chip(), 0x3e) == 0xff);
      if (faults || !runs) CHECK(io(session.chip(), 0x4a) == 0x5a);
      if (!runs) CHECK(io(session.chip(), 0x4b) == 0x5a);
    }
}
