// SPDX-License-Identifier: MIT
// Ports, Timer1, USART0 and the EEPROM controller of the ATmega328P, to the cycle. Source: its data
// sheet, chapters "I/O-Ports", "16-bit Timer/Counter1 with PWM", "USART0" and "AVR Memories".
#include <catch2/catch.hpp>
#include <random>

#include "lucid/chip.h"
#include "tools.h"

using namespace lucid;

namespace {

constexpr std::uint32_t kPinb = 0x23, kDdrb = 0x24, kPortb = 0x25, kTifr1 = 0x36, kEecr = 0x3f,
                        kEedr = 0x40, kEearl = 0x41, kEearh = 0x42, kMcucr = 0x55, kTimsk1 = 0x6f,
                        kTccr1b = 0x81, kTcnt1 = 0x84, kOcr1a = 0x88, kOcr1b = 0x8a, kUcsr0a = 0xc0,
                        kUcsr0b = 0xc1, kUcsr0c = 0xc2, kUbrr0 = 0xc4, kUdr0 = 0xc6;

/// Writes little programs straight into flash; r16 carries values.
class Bench {
 public:
  explicit Bench(std::uint64_t hz = 16'000'000) : chip_(*Chip::make({"ATmega328P", hz})) { nops(); }

  /// `ldi r16, value; sts address, r16`: the store's access is in its last cycle.
  void write(std::uint32_t address, unsigned value) {
    word(0xe000 | (value & 0xf) | (value & 0xf0) << 4);
    word(0x9300);
    word(address);
    run(2);
  }
  /// `lds r17, address`: two cycles.
  unsigned read(std::uint32_t address) {
    word(0x9110);
    word(address);
    run(1);
    return get(17);
  }
  /// Single-cycle `out`/`in` for I/O below 0x60.
  void out(std::uint32_t address, unsigned value) {
    set(16, value);
    const unsigned a = address - 0x20;
    word(0xb900 | (a & 0xf) | (a & 0x30) << 5);
    run(1);
  }
  unsigned in(std::uint32_t address) {
    const unsigned a = address - 0x20;
    word(0xb110 | (a & 0xf) | (a & 0x30) << 5);
    run(1);
    return get(17);
  }
  void sbi(std::uint32_t address, unsigned bit) {
    word(0x9a00 | (address - 0x20) << 3 | bit);
    run(1);
  }
  void nop(std::uint64_t cycles = 1) {
    while (cycles-- > 0) {
      word(0);
      run(1);
    }
  }
  /// Passes time without touching anything: a jump to itself, two cycles each.
  void pass(std::uint64_t cycles) { chip_.run_for(cycles); }
  void write16(std::uint32_t address, unsigned value) {
    write(address + 1, value >> 8);
    write(address, value & 0xff);
  }
  unsigned read16(std::uint32_t address) {
    const unsigned low = read(address);
    return low | read(address + 1) << 8;
  }
  unsigned get(std::uint32_t address) { return *chip_.peek({Space::kData, address}); }
  void set(std::uint32_t address, unsigned value) {
    chip_.poke({Space::kData, address}, static_cast<std::uint8_t>(value));
  }
  PinState pin(const std::string& name) {
    for (const PinState& state : chip_.pins())
      if (state.name == name) return state;
    FAIL(name);
    return {};
  }
  Chip& chip() { return chip_; }

 private:
  void nops() {
    for (std::uint32_t a = 0; a < 0x8000; a += 2) {  // rjmp to itself everywhere
      chip_.poke({Space::kCode, a}, 0xff);
      chip_.poke({Space::kCode, a + 1}, 0xcf);
    }
  }
  void word(unsigned value) {
    chip_.poke({Space::kCode, at_}, static_cast<std::uint8_t>(value));
    chip_.poke({Space::kCode, at_ + 1}, static_cast<std::uint8_t>(value >> 8));
    at_ += 2;
  }
  void run(unsigned instructions) {
    // From the start of what was just written; longer programs begin again at 0.
    for (unsigned i = 0; i < instructions; ++i) chip_.step();
    if (at_ > 0x7f00) {
      nops();
      at_ = 0;
      REQUIRE(chip_.set_register("pc", 0));
    }
  }
  Chip chip_;
  std::uint32_t at_ = 0;
};

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

TEST_CASE("lazy counting equals counting tick by tick, over random register writes") {
  // The reference counts each tick in the plainest way.
  struct Reference {
    unsigned count = 0, top_mode = 0, divider = 0, ocr = 0, flags = 0;
    bool blocked = false;
    void tick(std::uint64_t now) {  // the edge at the beginning of tick `now`
      if (divider == 0 || now % divider != 0) return;
      const unsigned top = top_mode != 0 ? ocr : 0xffff;
      const bool may_match = !blocked;
      blocked = false;
      if (count == ocr && may_match) flags |= 2;
      if (count == 0xffff && may_match) flags |= 1;
      if (count == top)
        count = 0;
      else
        count = (count + 1) & 0xffff;
    }
  };
  for (const unsigned seed : {1U, 2U, 3U, test::fresh_seed()}) {
    INFO("seed " << seed);
    std::mt19937 random(seed);
    Bench b;
    b.write16(kOcr1b, 0xffff);
    Reference r;
    std::uint64_t now = b.chip().cycles();
    const auto catch_up = [&](std::uint64_t until) {
      while (now < until) r.tick(++now);
    };
    for (int i = 0; i < 200; ++i) {
      switch (random() % 5) {
        case 0: {
          constexpr unsigned kDividers[] = {0, 1, 8, 64};
          const unsigned cs = random() % 4;
          const bool ctc = random() % 2 != 0;
          b.write(kTccr1b, (ctc ? 8U : 0U) | cs);
          catch_up(b.chip().cycles());
          r.divider = kDividers[cs];
          r.top_mode = ctc ? 1 : 0;
          break;
        }
        case 1: {
          const unsigned value = random() % 3 == 0 ? random() % 0x10000 : random() % 50;
          b.write16(kOcr1a, value);
          catch_up(b.chip().cycles());
          r.ocr = value;
          break;
        }
        case 2: {
          const unsigned value = random() % 2 == 0 ? 0xffe0 + random() % 32 : random() % 60;
          b.write16(kTcnt1, value);
          catch_up(b.chip().cycles());
          r.count = value;
          r.blocked = true;
          break;
        }
        case 3: {
          b.write(kTifr1, 0xff);
          catch_up(b.chip().cycles());
          r.flags = 0;
          break;
        }
        default: b.pass(random() % 3000); break;
      }
      catch_up(b.chip().cycles());
      const unsigned count = b.get(kTcnt1) | b.get(kTcnt1 + 1) << 8;
      INFO("after " << i << " writes, cycle " << now);
      REQUIRE(count == r.count);
      REQUIRE((b.get(kTifr1) & 3) == r.flags);
    }
  }
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
  REQUIRE(b.chip().send("USART0", "abcde"));
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
  REQUIRE(b.chip().send("USART0", "x"));
  b.pass(10'000);
  CHECK((b.get(kUcsr0a) & 0x80) == 0);
  b.write(kUcsr0b, 0x10);
  b.pass(10'000);
  CHECK(b.read(kUdr0) == 'x');
  b.write(kUdr0, 1);
  REQUIRE(b.chip().take_notes().size() == 1);
  CHECK_FALSE(b.chip().send("USART1", "x").has_value());
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
