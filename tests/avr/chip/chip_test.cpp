// SPDX-License-Identifier: MIT
// The chip as a whole: interrupts to the cycle, sleep, resets, and that it is a value.
// Source: ATmega328P data sheet, chapters "AVR CPU Core" (section "Reset and Interrupt Handling"),
// "Interrupts" and "Power Management and Sleep Modes".
#include <catch2/catch.hpp>

#include "lucid/chip.h"
#include "tools.h"

using namespace lucid;

namespace {

Chip loaded(const std::string& elf, const std::string& name = "ATmega328P") {
  Chip chip = *Chip::make({name, 16'000'000});
  const auto image = Image::open(elf);
  REQUIRE(image.has_value());
  REQUIRE(chip.load(*image).has_value());
  return chip;
}
unsigned data(const Chip& chip, std::uint32_t address) {
  return *chip.peek({Space::kData, address});
}

/// Vectors: Timer1 compare A at 11, USART data register empty at 19; the rest is reset to `main`.
const char* const kVectors = R"(
        .section .text
        .global main
        jmp main
        .org 11*4
        jmp handler_a
        .org 19*4
        jmp handler_b
        .org 26*4
)";

}  // namespace

TEST_CASE("an interrupt takes four cycles, pushes the next instruction, clears I and its flag") {
  // OCR1A = 9, clk/1: the counter holds 9, and the flag rises at the edge behind it.
  Chip chip = loaded(test::assembled("entry", std::string(kVectors) + R"(
main:   ldi r16, 9
        sts OCR1AH, r1
        sts OCR1AL, r16
        ldi r16, (1<<OCIE1A)
        sts TIMSK1, r16
        ldi r16, (1<<WGM12)|(1<<CS10)
        sei
        sts TCCR1B, r16
loop:   nop
        nop
        nop
        nop
        nop
        nop
        nop
        nop
        nop
        nop
        nop
        nop
        rjmp loop
handler_a: in r20, IO(TIFR1)
        in r21, IO(SREG)
        reti
handler_b: reti
)"));
  while (chip.instruction_at(chip.pc()).mnemonic != "nop") chip.step();
  const std::uint64_t started = chip.cycles();
  const unsigned sp = chip.sp();
  std::uint32_t interrupted = 0;
  while (chip.pc() != 11 * 4) {
    interrupted = chip.pc();
    REQUIRE(chip.cycles() < started + 40);
    chip.step();
  }
  // Ten counts from the store's end; the instruction under way is completed; four cycles of entry.
  CHECK(chip.cycles() == started + 10 + 4);
  CHECK(chip.sp() == sp - 2);
  CHECK((data(chip, sp) | data(chip, sp - 1) << 8) == interrupted / 2);
  CHECK((data(chip, 0x5f) & 0x80) == 0);
  chip.step();  // jmp, three cycles
  CHECK(chip.cycles() == started + 10 + 4 + 3);
  chip.step();
  CHECK(data(chip, 20) == (1 << 2));  // OCF1A was cleared by the entry; OCF1B (OCR1B = 0) has risen
  chip.step();
  chip.step();
  CHECK(chip.pc() == interrupted);
  CHECK((data(chip, 0x5f) & 0x80) != 0);
}

TEST_CASE("one instruction executes after anything that turns I on") {
  struct Row {
    const char* what;
    const char* turn_on;
  };
  const Row rows[] = {{"sei", "sei"},
                      {"out to SREG", "ldi r16, 0x80\n out IO(SREG), r16"},
                      {"sts to SREG", "ldi r16, 0x80\n sts 0x5f, r16"},
                      {"st Z to SREG", "ldi r16, 0x80\n ldi r30, 0x5f\n ldi r31, 0\n st Z, r16"}};
  int n = 0;
  for (const Row& row : rows) {
    INFO(row.what);
    // UDRE is always ready: the request stands before I is turned on.
    Chip chip = loaded(test::assembled("turn-on" + std::to_string(n++), std::string(kVectors) + R"(
main:   ldi r17, (1<<UDRIE0)
        sts UCSR0B, r17
        nop
        )" + row.turn_on + R"(
        inc r20
        inc r20
        inc r20
stop:   rjmp stop
handler_a: reti
handler_b: inc r21
        mov r22, r20
        sts UCSR0B, r1
        reti
)"));
    Chip free = chip;
    for (int i = 0; i < 60 && data(chip, 21) == 0; ++i) chip.step();
    CHECK(data(chip, 21) == 1);
    CHECK(data(chip, 20) == 1);
    // Run freely, too: r22 keeps what the handler found in r20.
    free.run_for(60);
    CHECK(data(free, 22) == 1);
  }
}

TEST_CASE("reti lets one instruction through even if I was on") {
  Chip chip = loaded(test::assembled("reti", std::string(kVectors) + R"(
main:   ldi r17, (1<<UDRIE0)
        sts UCSR0B, r17
        sei
loop:   inc r20
        rjmp loop
handler_a: reti
handler_b: inc r21
        reti
)"));
  for (int i = 0; i < 200; ++i) chip.step();
  // The request never ends: one instruction of the loop for each handler.
  const int handlers = static_cast<int>(data(chip, 21));
  const int loops = static_cast<int>(data(chip, 20));
  CHECK(handlers > 20);
  CHECK(std::abs(2 * loops - handlers) <= 2);  // `inc` and `rjmp` in turn
}

TEST_CASE("the lower vector wins, and the vector table can be moved to the boot section") {
  // Factory fuses: the boot section has 2048 words and begins at 0x7000.
  Chip chip = loaded(test::assembled("boot", std::string(kVectors) + R"(
main:   ldi r16, (1<<IVCE)
        out IO(MCUCR), r16
        ldi r16, (1<<IVSEL)
        out IO(MCUCR), r16
        ldi r17, (1<<UDRIE0)
        sts UCSR0B, r17
        sei
        nop
stop:   rjmp stop
handler_a:
handler_b: reti
        .org 0x7000 + 19*4
        nop
        sts UCSR0B, r1
        reti
)"));
  while (chip.pc() < 0x7000 && chip.cycles() < 100) chip.step();
  CHECK(chip.pc() == 0x7000 + 19 * 4);
}

TEST_CASE("sleep ends four cycles after the interrupt, then its handler is entered") {
  Chip chip = loaded(test::assembled("sleep", std::string(kVectors) + R"(
main:   ldi r16, 99
        sts OCR1AH, r1
        sts OCR1AL, r16
        ldi r16, (1<<OCIE1A)
        sts TIMSK1, r16
        ldi r16, (1<<SE)
        out IO(SMCR), r16
        ldi r16, (1<<WGM12)|(1<<CS10)
        sei
        sts TCCR1B, r16
        sleep
after:  rjmp after
handler_a: reti
handler_b: reti
)"));
  while (chip.instruction_at(chip.pc()).mnemonic != "sleep") chip.step();
  const std::uint64_t started = chip.cycles();
  while (chip.pc() != 11 * 4) chip.step();
  CHECK(chip.cycles() == started + 100 + 4 + 4);
  while (chip.instruction_at(chip.pc()).mnemonic != "reti") chip.step();
  chip.step();
  CHECK(chip.instruction_at(chip.pc()).mnemonic == "rjmp");
}

TEST_CASE("a sleep that nothing can end, and a sleep that is not enabled") {
  Chip chip = loaded(test::assembled("forever", R"(
        sleep
        ldi r16, (1<<SE)
        out IO(SMCR), r16
        sleep
stop:   rjmp stop
)"));
  chip.step();
  const auto notes = chip.take_notes();
  REQUIRE(notes.size() == 1);
  CHECK(notes[0].find("SE is 0") != std::string::npos);
  chip.run_for(1000);
  CHECK(chip.cycles() == 1001);  // asleep to the end, to the cycle
  CHECK(chip.pc() == 8);
}

TEST_CASE("a reset keeps RAM and tells its cause; power-on tells another") {
  Chip chip = loaded(test::kKilnOg);
  CHECK((data(chip, 0x54) & 1) == 1);  // PORF
  chip.run_for(500'000);
  const unsigned byte = data(chip, 0x8ff);
  chip.reset();
  CHECK(chip.pc() == 0);
  CHECK(chip.sp() == 0x8ff);
  CHECK(data(chip, 0x8ff) == byte);
  CHECK((data(chip, 0x54) & 2) == 2);  // EXTRF
  CHECK(data(chip, 0x25) == 0);
}

TEST_CASE("a chip is a value") {
  Chip a = loaded(test::kKilnOg);
  a.run_for(300'000);
  const Chip snapshot = a;
  CHECK(a == snapshot);
  a.run_for(1);
  CHECK_FALSE(a == snapshot);
  Chip b = snapshot;
  a = snapshot;
  a.run_for(12'345'678);
  b.run_for(12'345'678);
  CHECK(a.hash() == b.hash());
  CHECK(a.take_serial_output() == b.take_serial_output());

  SECTION("every part of the world is in its hash") {
    const std::uint64_t before = b.hash();
    const auto differs = [&](auto change) {
      Chip c = b;
      change(c);
      return c.hash() != before;
    };
    CHECK(differs([](Chip& c) { c.poke({Space::kCode, 0x7000}, 1); }));
    CHECK(differs([](Chip& c) { c.poke({Space::kData, 0x300}, 0x5a); }));
    CHECK(differs([](Chip& c) { c.poke({Space::kEeprom, 1000}, 1); }));
    CHECK(differs([](Chip& c) { c.poke({Space::kFuse, 0}, 1); }));
    CHECK(differs([](Chip& c) { (void)c.drive("PB0", true).has_value(); }));
    CHECK(differs([](Chip& c) { (void)c.feed("USART0", "x").has_value(); }));
    CHECK(differs([](Chip& c) { (void)c.set_register("sp", 0x400).has_value(); }));
    CHECK(differs([](Chip& c) { (void)c.set_register("pc", 0x10).has_value(); }));
  }
  SECTION("a look leaves no trace") {
    const std::uint64_t before = b.hash();
    for (std::uint32_t address = 0; address < 0x900; ++address)
      (void)b.peek({Space::kData, address});
    (void)b.pins();
    (void)b.explain(b.pc());
    CHECK(b.hash() == before);
  }
}

TEST_CASE("what is not modelled says so once, and behaves as memory") {
  Chip chip = loaded(test::assembled("unmodelled", R"(
        ldi r16, 0x5a
        out IO(TWBR), r16
        in r17, IO(TWBR)
        in r17, IO(TWBR)
        spm
stop:   rjmp stop
)",
                                     "atmega16"),
                     "ATmega16");
  chip.run_for(20);
  const auto notes = chip.take_notes();
  REQUIRE(notes.size() == 2);
  CHECK(notes[0] == "TWBR (TWI) is not modelled: it behaves as memory");
  CHECK(notes[1].find("SPM") == 0);
  CHECK(data(chip, 17) == 0x5a);
}

TEST_CASE("chips by name") {
  CHECK(Chip::make({"atmega328p", 1}).has_value());
  const auto unknown = Chip::make({"ATmega238P", 16'000'000});
  REQUIRE_FALSE(unknown.has_value());
  CHECK(unknown.error().hint == "did you mean ATmega328P?");
  CHECK_FALSE(Chip::make({"ATmega328P", 0}).has_value());
  CHECK(Chip::catalogue().size() == 200);
}

TEST_CASE("every chip can be made, run and have each of its registers written and read") {
  for (const Chip::Summary& summary : Chip::catalogue()) {
    INFO(summary.name);
    Chip chip = *Chip::make({summary.name, 16'000'000});
    chip.poke({Space::kCode, 0}, 0xff);  // rjmp to itself
    chip.poke({Space::kCode, 1}, 0xcf);
    for (const unsigned value : {0xffU, 0x5aU, 0x00U}) {
      for (const IoRegister& io : chip.info().io) {
        for (unsigned byte = 0; byte < io.bytes; ++byte)
          CHECK(chip.store({Space::kData, io.address + byte}, static_cast<std::uint8_t>(value)));
        chip.poke({Space::kData, 0x5f}, 0);  // no interrupts
        chip.run_for(50);
        CHECK(chip.peek({Space::kData, io.address}).has_value());
      }
    }
    const std::uint64_t hash = chip.hash();
    Chip copy = chip;
    (void)copy.pins();
    CHECK(copy.hash() == hash);
  }
}

TEST_CASE("every part of the catalogue has its ports; only newer ones toggle by PINx") {
  unsigned with_ports = 0;
  for (const Chip::Summary& summary : Chip::catalogue()) {
    INFO(summary.name);
    Chip chip = *Chip::make({summary.name, 16'000'000});
    chip.poke({Space::kCode, 0}, 0xff);  // rjmp to itself
    chip.poke({Space::kCode, 1}, 0xcf);
    for (const PinState& pin : chip.pins()) {
      const std::string port(1, pin.name[1]);
      const auto bit = static_cast<std::uint8_t>(1U << (pin.name[2] - '0'));
      const auto address = [&](const std::string& name) -> Address {
        for (const IoRegister& io : chip.info().io)
          if (io.name == name) return {Space::kData, io.address};
        FAIL(name);
        return {};
      };
      const auto level = [&] {
        for (const PinState& p : chip.pins())
          if (p.name == pin.name) return p.level;
        return false;
      };
      REQUIRE(chip.drive(pin.name, true));
      chip.run_for(4);
      CHECK((*chip.peek(address("PIN" + port)) & bit) != 0);
      REQUIRE(chip.drive(pin.name, std::nullopt));
      CHECK(chip.store(address("DDR" + port), bit));
      CHECK(chip.store(address("PORT" + port), bit));
      CHECK(level());
      CHECK(chip.store(address("PORT" + port), 0));
      CHECK_FALSE(level());
      CHECK(chip.store(address("PIN" + port), bit));
      const bool older = summary.name == "ATmega8" || summary.name == "ATmega16" ||
                         summary.name == "ATmega32" || summary.name == "ATmega64" ||
                         summary.name == "ATmega128";
      const bool newer = summary.name == "ATmega328P" || summary.name == "ATtiny85" ||
                         summary.name == "ATtiny13" || summary.name == "ATmega32U4";
      if (older) CHECK_FALSE(level());
      if (newer) CHECK(level());
      CHECK(chip.store(address("DDR" + port), 0));
      CHECK(chip.store(address("PORT" + port), 0));
    }
    with_ports += chip.pins().empty() ? 0 : 1;
  }
  CHECK(with_ports > 180);
  // Of some the three registers do not follow each other.
  for (const char* name : {"ATmega64", "ATmega128"}) {
    unsigned pins = 0;
    for (const PinState& pin : Chip::make({name, 16'000'000})->pins())
      pins += pin.name.rfind("PF", 0) == 0 ? 1 : 0;
    CHECK(pins == 8);
  }
}
