// SPDX-License-Identifier: MIT
// Ports, Timer1, USART0 and the EEPROM controller of the ATmega328P, to the cycle. Source: its data
// sheet, chapters "I/O-Ports", "16-bit Timer/Counter1 with PWM", "USART0" and "AVR Memories".
#include <catch2/catch.hpp>
#include <random>

#include "bench.h"
#include "lucid/session.h"
#include "tools.h"

using namespace lucid;
using test::Bench;

namespace {

constexpr std::uint32_t kPinb = 0x23, kDdrb = 0x24, kPortb = 0x25, kTifr1 = 0x36, kEecr = 0x3f,
                        kEedr = 0x40, kEearl = 0x41, kEearh = 0x42, kMcucr = 0x55, kTimsk1 = 0x6f,
                        kTccr1b = 0x81, kTcnt1 = 0x84, kOcr1a = 0x88, kOcr1b = 0x8a, kUcsr0a = 0xc0,
                        kUcsr0b = 0xc1, kUcsr0c = 0xc2, kUbrr0 = 0xc4, kUdr0 = 0xc6;

}  // namespace

// Ports
// ----------------------------------------------------------------------------------------------

TEST_CASE("a pin is an input, pulled up, driven, an output, or fought over") {
  Bench b;
  CHECK(b.pin("PB5").floating);
  b.out(kPortb, 0x20);
  CHECK(b.pin("PB5").pull_up);
  CHECK(b.pin("PB5").level);
  b.out(kMcucr, 0x10);  // PUD
  CHECK_FALSE(b.pin("PB5").level);
  b.out(kMcucr, 0);
  REQUIRE(b.chip().drive("PB5", false));
  CHECK_FALSE(b.pin("PB5").level);
  b.out(kDdrb, 0x20);
  CHECK(b.pin("PB5").level);
  CHECK(b.pin("PB5").contention);
  REQUIRE(b.chip().drive("PB5", std::nullopt));
  CHECK_FALSE(b.pin("PB5").contention);
  CHECK_FALSE(b.chip().drive("PC7", true).has_value());
}

TEST_CASE("writing a one to PINx toggles; sbi touches one bit only") {
  Bench b;
  b.out(kDdrb, 0xff);
  b.out(kPortb, 0x0f);
  b.out(kPinb, 0x3c);
  CHECK(b.get(kPortb) == (0x0f ^ 0x3c));
  b.sbi(kPinb, 0);
  CHECK(b.get(kPortb) == (0x0f ^ 0x3c ^ 0x01));
}

TEST_CASE("the synchroniser: a read right behind the write sees the old level") {
  Bench b;
  b.out(kDdrb, 0xff);
  b.nop(2);
  b.out(kPortb, 0xaa);
  CHECK(b.in(kPinb) == 0x00);
  CHECK(b.in(kPinb) == 0xaa);
  b.out(kPortb, 0x55);
  b.nop();
  CHECK(b.in(kPinb) == 0x55);
}

// Timer1
// -----------------------------------------------------------------------------------------------

TEST_CASE("a timer counts each prescaled edge, whoever looks how often") {
  for (const auto& [cs, divider] :
       {std::pair<unsigned, unsigned>{1, 1}, {2, 8}, {3, 64}, {4, 256}, {5, 1024}}) {
    Bench b;
    b.nop(3);
    b.write(kTccr1b, cs);
    const std::uint64_t started = b.chip().cycles();  // the store's last cycle has just ended
    b.pass(5000);
    const std::uint64_t access = b.chip().cycles() + 1;  // `lds` reads in its second cycle
    CHECK(b.read16(kTcnt1) == access / divider - started / divider);
  }
}

TEST_CASE("CTC: the flag rises at the edge behind TOP, every TOP + 1 counts") {
  Bench b;
  b.write16(kOcr1a, 99);
  b.write16(kOcr1b, 0xffff);
  b.write(kTccr1b, 0x08 | 2);  // CTC, clk/8
  const std::uint64_t start = b.chip().cycles() / 8 * 8;
  const auto flag_at = [&](std::uint64_t cycle) {
    Chip copy = b.chip();
    copy.run_for(cycle - copy.cycles());
    return (*copy.peek({Space::kData, kTifr1}) & 2) != 0;
  };
  CHECK_FALSE(flag_at(start + 800 - 2));
  CHECK(flag_at(start + 800));
  b.pass(start + 800 - b.chip().cycles());
  b.write(kTifr1, 2);  // cleared by writing a one
  CHECK((b.get(kTifr1) & 2) == 0);
  CHECK_FALSE(flag_at(start + 1600 - 2));
  CHECK(flag_at(start + 1600));
}

TEST_CASE("16-bit access goes through one temporary byte") {
  Bench b;
  b.write(kTcnt1 + 1, 0x12);
  CHECK(b.get(kTcnt1 + 1) == 0);  // waits for the low byte
  b.write(kTcnt1, 0x34);
  CHECK(b.read16(kTcnt1) == 0x1234);
  b.write(kOcr1a + 1, 0xab);
  b.write(kOcr1b, 0xcd);  // the byte is shared
  CHECK(b.read16(kOcr1b) == 0xabcd);
}

TEST_CASE("reserved timer modes say so") {
  Bench b;
  b.write(0x80, 1);
  b.write(0x81, 0x18);  // WGM 13
  const auto notes = b.chip().take_notes();
  REQUIRE(notes.size() == 1);
  CHECK(notes[0].find("TIMER1: the waveform mode is reserved") == 0);
}

// USART0
// -----------------------------------------------------------------------------------------------

TEST_CASE("a frame lasts start, data, parity and stop bits, to the tick") {
  struct Row {
    unsigned ucsrc, u2x, ubrr, bits;
  };
  for (const Row& row : {Row{0x06, 0, 25, 10}, Row{0x06, 2, 51, 10}, Row{0x0e, 0, 3, 11},
                         Row{0x26, 0, 3, 11}, Row{0x00, 0, 3, 7}, Row{0x04, 2, 0, 9}}) {
    Bench b;
    b.write(kUbrr0, row.ubrr);
    b.write(kUcsr0a, row.u2x);
    b.write(kUcsr0c, row.ucsrc);
    b.write(kUcsr0b, 0x08);
    CHECK(b.pin("PD1").level);
    b.write(kUdr0, 0x41);
    const std::uint64_t started = b.chip().cycles();
    const std::uint64_t frame = std::uint64_t{row.bits} * (row.ubrr + 1) * (row.u2x != 0 ? 8 : 16);
    CHECK((b.get(kUcsr0a) & 0x20) != 0);  // UDRE: straight into the shift register
    const auto sent_by = [&](std::uint64_t cycle) {
      Chip copy = b.chip();
      copy.run_for(cycle - copy.cycles());
      return copy.take_serial_output().size();
    };
    CHECK(sent_by(started + frame - 2) == 0);
    CHECK(sent_by(started + frame + 1) == 1);
    b.write(kUdr0, 0x42);  // waits in the buffer
    CHECK((b.get(kUcsr0a) & 0x20) == 0);
    CHECK(sent_by(started + 2 * frame - 2) == 1);
    CHECK(sent_by(started + 2 * frame + 1) == 2);
    b.pass(3 * frame);
    CHECK((b.get(kUcsr0a) & 0x60) == 0x60);  // TXC
  }
}

TEST_CASE("bytes arrive one frame apart, three are held, a fourth is lost and told") {
  Bench b;
  b.write(kUbrr0, 3);
  b.write(kUcsr0b, 0x10);
  REQUIRE(b.chip().feed("USART0", "abcde"));
  const std::uint64_t started = b.chip().cycles();
  constexpr std::uint64_t kFrame = 10 * 64;
  CHECK((b.get(kUcsr0a) & 0x80) == 0);
  b.pass(started + 9 * 64 + 10 * 4 - 2 - b.chip().cycles());  // the tenth sample of the stop bit
  CHECK((b.get(kUcsr0a) & 0x80) == 0);
  b.pass(4);
  CHECK((b.get(kUcsr0a) & 0x80) != 0);
  b.pass(6 * kFrame);
  CHECK((b.get(kUcsr0a) & 0x08) != 0);  // DOR
  CHECK(b.read(kUdr0) == 'a');
  CHECK(b.read(kUdr0) == 'b');
  CHECK(b.read(kUdr0) == 'c');
  CHECK((b.get(kUcsr0a) & 0x88) == 0);
}

TEST_CASE("bytes wait for the receiver; misuse of the transmitter is told") {
  Bench b;
  REQUIRE(b.chip().feed("USART0", "x"));
  b.pass(10'000);
  CHECK((b.get(kUcsr0a) & 0x80) == 0);
  b.write(kUcsr0b, 0x10);
  b.pass(10'000);
  CHECK(b.read(kUdr0) == 'x');
  b.write(kUdr0, 1);
  REQUIRE(b.chip().take_notes().size() == 1);
  CHECK_FALSE(b.chip().feed("USART1", "x").has_value());
}

TEST_CASE("nine bits, wrong parity and a missing stop bit belong to their frame") {
  Bench b;
  b.write(kUbrr0, 3);
  b.write(kUcsr0c, 0x26);  // even parity
  b.write(kUcsr0b, 0x1c);  // both ways, nine bits
  for (const SerialFrame& frame :
       {SerialFrame{0x141}, SerialFrame{0x42, true}, SerialFrame{0x143, false, true}})
    REQUIRE(b.chip().feed_frame("USART0", frame));
  const std::uint64_t frame = std::uint64_t{12} * 64;  // start, nine, parity, stop
  b.pass(3 * frame);
  struct Row {
    unsigned status, ninth, data;
  };
  for (const Row& row : {Row{0x00, 2, 0x41}, Row{0x04, 0, 0x42}, Row{0x10, 2, 0x43}}) {
    CHECK((b.get(kUcsr0a) & 0x94) == (0x80 | row.status));
    CHECK((b.get(kUcsr0b) & 2) == row.ninth);
    CHECK(b.read(kUdr0) == row.data);
  }
  CHECK((b.get(kUcsr0a) & 0x94) == 0);
  // Without parity nothing is wrong with it; the ninth bit goes out with TXB8.
  b.write(kUcsr0c, 0x06);
  REQUIRE(b.chip().feed_frame("USART0", {0x42, true}));
  b.pass(frame);
  CHECK((b.get(kUcsr0a) & 0x94) == 0x80);
  b.write(kUcsr0b, 0x1d);
  b.write(kUdr0, 0x55);
  const std::uint64_t started = b.chip().cycles();
  b.pass(11 * 64 - 4);
  CHECK((b.get(kUcsr0a) & 0x40) == 0);
  b.pass(started + 11 * 64 + 1 - b.chip().cycles());
  CHECK((b.get(kUcsr0a) & 0x40) != 0);
  CHECK_FALSE(parse_serial_frame("0x200"));
  CHECK_FALSE(parse_serial_frame("65 wrong-party"));
  CHECK(parse_serial_frame("65 wrong-parity no-stop-bit")->no_stop_bit);
}

TEST_CASE("multi-processor mode receives addresses alone") {
  Bench b;
  b.write(kUcsr0b, 0x14);
  b.write(kUcsr0a, 0x01);
  for (const unsigned data : {0x011U, 0x122U, 0x033U})
    REQUIRE(b.chip().feed_frame("USART0", {static_cast<std::uint16_t>(data)}));
  b.pass(10'000);
  CHECK(b.read(kUdr0) == 0x22);
  CHECK((b.get(kUcsr0a) & 0x81) == 0x01);
  // With eight bits the first stop bit tells: low for data.
  b.write(kUcsr0b, 0x10);
  REQUIRE(b.chip().feed_frame("USART0", {0x44, false, true}));
  REQUIRE(b.chip().feed_frame("USART0", {0x55}));
  b.pass(10'000);
  CHECK(b.read(kUdr0) == 0x55);
  CHECK((b.get(kUcsr0a) & 0x80) == 0);
}

TEST_CASE("SPI-master mode: what is shown at one edge is sampled at the other") {
  constexpr unsigned kOut = 0xb1, kIn = 0x4e;
  for (unsigned mode = 0; mode < 8; ++mode) {
    const bool rests_high = (mode & 1) != 0, second_edge = (mode & 2) != 0,
               lowest_first = (mode & 4) != 0;
    INFO("UCSR0C " << mode);
    Bench b;
    b.write(kUcsr0c, 0xc0 | mode);
    b.out(0x2a, 0x10);  // DDRD
    b.write(kUcsr0b, 0x18);
    b.write(kUbrr0, 9);  // a bit in 20 cycles
    CHECK(b.pin("PD4").level == rests_high);
    b.write(kUdr0, kOut);
    b.write(kUdr0, kOut ^ 0xff);  // waits
    unsigned sent = 0;
    bool clock = rests_high;
    unsigned edges = 0;
    std::uint64_t last = 0;
    const auto place = [&](unsigned n) { return lowest_first ? n : 7 - n; };
    REQUIRE(b.chip().drive("PD0", (kIn >> place(0) & 1) != 0));
    while (edges < 16) {
      b.pass(2);
      if (b.pin("PD4").level == clock) continue;
      clock = !clock;
      const bool leading = edges % 2 == 0;
      if (edges > 0) CHECK(b.chip().cycles() - last == 10);
      last = b.chip().cycles();
      if (leading != second_edge) sent |= unsigned{b.pin("PD1").level} << place(edges / 2);
      if (leading == second_edge) {
        const unsigned next = leading ? edges / 2 : edges / 2 + 1;
        REQUIRE(b.chip().drive("PD0", (kIn >> place(next & 7) & 1) != 0));
      }
      ++edges;
    }
    CHECK(sent == kOut);
    CHECK(b.read(kUdr0) == kIn);
    b.pass(200);
    CHECK((b.get(kUcsr0a) & 0xc0) == 0xc0);  // the second byte has left, too
    CHECK(b.pin("PD4").level == rests_high);
  }
}

// EEPROM
// -------------------------------------------------------------------------------------------------

TEST_CASE("EEPROM: the window of four cycles, the time of a write, the halts of the processor") {
  Bench b;
  b.write(kEearh, 0x01);
  b.write(kEearl, 0x23);
  b.write(kEedr, 0x5a);
  b.out(kEecr, 0x04);  // EEMPE
  const std::uint64_t before = b.chip().cycles();
  b.out(kEecr, 0x02);  // EEPE
  CHECK(b.chip().cycles() == before + 1 + 2);
  const std::uint64_t started = before + 1;
  CHECK((b.get(kEecr) & 2) != 0);
  CHECK(*b.chip().peek({Space::kEeprom, 0x123}) == 0xff);
  // 3.4 ms at 16 MHz.
  b.pass(started + 54'400 - 2 - b.chip().cycles());
  CHECK((b.get(kEecr) & 2) != 0);
  b.pass(4);
  CHECK((b.get(kEecr) & 2) == 0);
  CHECK(*b.chip().peek({Space::kEeprom, 0x123}) == 0x5a);

  b.write(kEedr, 0);
  const std::uint64_t reading = b.chip().cycles();
  b.out(kEecr, 0x01);  // EERE
  CHECK(b.chip().cycles() == reading + 1 + 4);
  CHECK(b.get(kEedr) == 0x5a);

  SECTION("too late for the window") {
    b.out(kEecr, 0x04);
    b.nop(4);
    b.out(kEecr, 0x02);
    CHECK((b.get(kEecr) & 2) == 0);
    CHECK(b.chip().take_notes().size() == 1);
  }
  SECTION("at its very end") {
    b.out(kEecr, 0x04);
    b.nop(3);
    b.out(kEecr, 0x02);
    CHECK((b.get(kEecr) & 2) != 0);
  }
  SECTION("erase only, write only") {
    b.out(kEecr, 0x10 | 0x04);
    b.out(kEecr, 0x10 | 0x02);
    b.pass(28'800);
    CHECK(*b.chip().peek({Space::kEeprom, 0x123}) == 0xff);
    b.write(kEedr, 0xf0);
    b.out(kEecr, 0x20 | 0x04);
    b.out(kEecr, 0x20 | 0x02);
    b.pass(28'800);
    CHECK(*b.chip().peek({Space::kEeprom, 0x123}) == 0xf0);
  }
}

TEST_CASE("every register of the chip keeps what may be written, and looking changes nothing") {
  Bench b;
  for (const IoRegister& io : b.chip().info().io) {
    if (io.bytes != 1) continue;
    const std::uint64_t before = b.chip().hash();
    (void)b.get(io.address);
    CHECK(b.chip().hash() == before);
  }
  b.write(kTimsk1, 0xff);
  CHECK(b.get(kTimsk1) == 0x27);
  b.write(kDdrb, 0xa5);
  CHECK(b.get(kDdrb) == 0xa5);
}

TEST_CASE("DIDRn switches digital inputs off: they read 0, the voltage is still there") {
  struct Row {
    const char *chip, *pin;
    std::uint32_t reg, mask, pins, bit;
  };
  for (const Row& row :
       {Row{"ATmega328P", "PC3", 0x7e, 0x08, 0x26, 3}, Row{"ATmega328P", "PD6", 0x7f, 1, 0x29, 6},
        Row{"ATmega1284P", "PA5", 0x7e, 0x20, 0x20, 5}, Row{"ATmega2560", "PF0", 0x7e, 1, 0x2f, 0},
        Row{"ATmega2560", "PK2", 0x7d, 4, 0x106, 2}}) {
    INFO(row.chip << " " << row.pin);
    Bench b(16'000'000, row.chip);
    REQUIRE(b.chip().drive(row.pin, true));
    b.nop(2);
    CHECK((b.read(row.pins) >> row.bit & 1) == 1);
    b.write(row.reg, row.mask);
    CHECK((b.read(row.pins) >> row.bit & 1) == 0);
    CHECK(b.pin(row.pin).level);
    b.write(row.reg, 0);
    CHECK((b.read(row.pins) >> row.bit & 1) == 1);
  }
}

TEST_CASE("every register comes to hold a value without an act of writing") {
  for (const char* name : {"ATmega328P", "ATmega1284P", "ATmega2560", "ATmega88PA"}) {
    const Chip fresh = [&] {
      Chip chip = *Chip::make({name, 16'000'000});
      chip.poke({Space::kCode, 0}, 0xff);  // rjmp to itself
      chip.poke({Space::kCode, 1}, 0xcf);
      return chip;
    }();
    for (const IoRegister& io : fresh.info().io) {
      if (!io.modelled || io.name == "SREG" || io.name == "SP") continue;
      for (const unsigned value : {0xffU, 0x5aU, 0xa5U, 0x01U, 0x00U}) {
        INFO(name << " " << io.name << " " << value);
        Chip chip = fresh;
        bool held = true;
        for (unsigned byte = 0; byte < io.bytes; ++byte)
          held = chip.poke({Space::kData, io.address + byte}, static_cast<std::uint8_t>(value)) &&
                 held;
        const bool is_input = io.name.rfind("PIN", 0) == 0;
        const bool forces = io.name.rfind("TCCR", 0) == 0 && io.name.back() == 'C';
        const bool no_division = io.name == "CLKPR" && (value & 15U) > 8;
        CHECK(held == (!is_input && !forces && !no_division));
        if (!held) {
          CHECK(chip.hash() == fresh.hash());
          continue;
        }
        // What it shows now it holds: the same again changes nothing.
        std::vector<std::uint8_t> shown;
        for (unsigned byte = 0; byte < io.bytes; ++byte)
          shown.push_back(*chip.peek({Space::kData, io.address + byte}));
        Chip again = chip;
        for (unsigned byte = 0; byte < io.bytes; ++byte)
          CHECK(again.poke({Space::kData, io.address + byte}, shown[byte]));
        for (unsigned byte = 0; byte < io.bytes; ++byte)
          CHECK(again.peek({Space::kData, io.address + byte}) == shown[byte]);
        CHECK(again.cycles() == chip.cycles());
        // Nothing is sent or programmed, no conversion runs.
        const bool may_reset = io.name == "WDTCSR";
        if (!may_reset) CHECK(chip.run_for(3000).why == RunEnd::Why::kTimeUp);
        CHECK(chip.take_serial_output().empty());
        CHECK(chip.peek({Space::kEeprom, 0}) == 0xff);
        const auto busy = [&](const char* reg, unsigned bits) {
          for (const IoRegister& r : chip.info().io)
            if (r.name == reg) CHECK((*chip.peek({Space::kData, r.address}) & bits) == 0);
        };
        busy("EECR", 0x07);
        if (io.name != "ADCSRA" || (value & 0x20U) == 0) busy("ADCSRA", 0x40);
        busy("SPMCSR", 0x40);
      }
    }
  }
}

TEST_CASE("values of registers: flags by value, both bytes at once, what the next read gives") {
  const auto held = [](Bench& b, unsigned address, unsigned value, unsigned shown) {
    INFO(address << " " << value);
    b.chip().poke({Space::kData, address}, static_cast<std::uint8_t>(value));
    CHECK(b.get(address) == shown);
  };
  Bench b;
  held(b, 0x35, 0x07, 0x07);  // TIFR0: not cleared by ones
  held(b, 0x35, 0x02, 0x02);
  held(b, 0x85, 0x12, 0x12);  // TCNT1H without TEMP
  held(b, 0x84, 0x34, 0x34);
  CHECK(b.get(0x85) == 0x12);
  held(b, 0x89, 0x56, 0x56);  // OCR1AH
  CHECK(b.get(0x88) == 0);
  held(b, 0x60, 0x48, 0x48);  // WDTCSR without its sequence
  held(b, 0x60, 0x00, 0x00);
  held(b, 0x61, 0x03, 0x03);  // CLKPR
  held(b, 0x61, 0x00, 0x00);
  held(b, 0x55, 0x02, 0x02);  // MCUCR: IVSEL
  held(b, 0x3f, 0x07, 0x00);  // EECR starts nothing
  held(b, 0x7a, 0xd0, 0x90);  // ADCSRA: ADIF by value, no ADSC
  held(b, 0xc0, 0x40, 0x60);  // UCSR0A: TXC; UDRE as it is
  held(b, 0xc6, 0x5a, 0x5a);
  CHECK(b.read(0xc6) == 0x5a);
  held(b, 0x4e, 0xa5, 0xa5);                            // SPDR
  held(b, 0x4d, 0x80, 0x80);                            // SPSR
  CHECK_FALSE(b.chip().poke({Space::kData, 0x23}, 1));  // PINB toggles nothing
  CHECK(b.get(0x25) == 0);
  // What follows from a value follows: a pin, an interrupt, a timer that runs.
  held(b, 0x24, 0x20, 0x20);
  held(b, 0x25, 0x20, 0x20);
  CHECK(b.pin("PB5").level);
  held(b, 0x45, 0x01, 0x01);
  const unsigned before = b.get(0x46);
  b.pass(20);
  CHECK(b.get(0x46) != before);
  // The act itself.
  b.chip().store({Space::kData, 0xc1}, 0x08);
  b.chip().store({Space::kData, 0xc6}, 'A');
  b.pass(100'000);
  CHECK(b.chip().take_serial_output() == "A");
  b.chip().store({Space::kData, 0x23}, 0x20);
  CHECK_FALSE(b.pin("PB5").level);
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(test::kKilnOg));
  CHECK(session.let("chip.TCNT1", "0x1234")->integer == 0x1234);
  CHECK(session.let("chip.OCR1A", "500")->integer == 500);
  CHECK_FALSE(session.let("chip.PINB", "1"));
  CHECK(session.let("chip.PINB", "1", true));
  CHECK(session.let("chip.ADCSRA", "0xc7"));  // before the first cycle
  CHECK(session.go_for(100).cause == Pause::Cause::kTimeUp);
}
