// SPDX-License-Identifier: MIT
// Several chips with firmware of their own, on wires, in lock-step.
#include <fmt/format.h>

#include <catch2/catch.hpp>
#include <random>

#include "lucid/bench.h"
#include "lucid/chip.h"
#include "lucid/session.h"
#include "tools.h"

using namespace lucid;

namespace {

Image built(const std::string& name, const std::string& source, const std::string& flags = "-Os") {
  return *Image::open(test::compiled(name, source, flags + " -std=gnu11 -gdwarf-4"));
}

Chip::Options with(const Image& image, std::uint64_t hz,
                   std::vector<std::vector<std::string>> wires) {
  Chip::Options options{"ATmega328P", 16'000'000};
  options.companions = {{"other", {"ATmega328P", hz}, image}};
  options.wires = std::move(wires);
  return options;
}

Chip loaded(const Chip::Options& options, const Image& image) {
  auto chip = Chip::make(options);
  INFO((chip ? "" : chip.error().text()));
  REQUIRE(chip);
  REQUIRE(chip->load(image));
  return std::move(*chip);
}

unsigned byte_at(const Chip& chip, std::uint32_t address) {
  return chip.peek({Space::kData, address}).value_or(0x100);
}

/// Each answers the other; both use SPI, USART and plain pins, at their own clocks.
const char* const kTalker = R"(#include <avr/interrupt.h>
#include <avr/io.h>
volatile uint8_t heard, edges, replies[64];
ISR(USART_RX_vect) { heard += UDR0; }
ISR(INT0_vect) { edges++; }
int main(void) {
  DDRC = 1;
  DDRB = _BV(2) | _BV(3) | _BV(5);
  PORTB = _BV(2);
  SPCR = _BV(SPE) | _BV(MSTR) | _BV(SPR1);
  UBRR0 = 25;
  UCSR0B = _BV(RXEN0) | _BV(TXEN0) | _BV(RXCIE0);
  EICRA = 1;
  EIMSK = 1;
  sei();
  for (uint8_t n = 0;; n++) {
    if (UCSR0A & _BV(UDRE0)) UDR0 = n;
    PORTB &= ~_BV(2);
    SPDR = n;
    while (!(SPSR & _BV(SPIF))) {
    }
    replies[n & 63] = SPDR;
    PORTB |= _BV(2);
    PORTC ^= 1;
    for (volatile uint8_t i = 0; i < 20 + (n & 15); i++) {
    }
  }
}
)";
const char* const kListener = R"(#include <avr/interrupt.h>
#include <avr/io.h>
volatile uint8_t last, seen[64], count;
ISR(SPI_STC_vect) {
  last = SPDR;
  seen[count++ & 63] = last;
  SPDR = last ^ 0x5a;
}
ISR(USART_RX_vect) { UDR0 = UDR0 + 1; }
ISR(PCINT1_vect) { PORTD ^= _BV(4); }
int main(void) {
  DDRB = _BV(4);
  DDRD = _BV(4);
  SPCR = _BV(SPE) | _BV(SPIE);
  UBRR0 = UBRR;
  UCSR0B = _BV(RXEN0) | _BV(TXEN0) | _BV(RXCIE0);
  PCMSK1 = 2;
  PCICR = 2;
  sei();
  for (;;) {
  }
}
)";
const std::vector<std::vector<std::string>> kWires{
    {"PB2", "other.PB2"}, {"PB3", "other.PB3"}, {"other.PB4", "PB4"}, {"PB5", "other.PB5"},
    {"PD1", "other.PD0"}, {"other.PD1", "PD0"}, {"PC0", "other.PC1"}, {"PD2", "other.PD4"}};

}  // namespace

TEST_CASE("an edge reaches the other chip at its time: interrupt latency to the cycle") {
  // The other answers INT0 with `sbi`: four cycles of entry, three of `jmp`, two of `sbi`; its loop
  // jumps in two cycles, so that it may begin one later.
  const Image answers = *Image::open(test::assembled("answers", R"(
        jmp main
        jmp int0
main:   ldi r16, 1
        out IO(DDRB), r16
        sts EICRA, r16
        sbi IO(EIMSK), 0
        sei
1:      rjmp 1b
int0:   sbi IO(PINB), 0
        reti
)"));
  // This one makes edges on PD3, and captures the answers on ICP1 with Timer1 at full speed.
  const Image asks = *Image::open(test::assembled("asks", R"(
main:   sbi IO(DDRD), 3
        ldi r16, 0x41           ; rising edge, clk/1
        sts TCCR1B, r16
        ldi r17, 200
1:      dec r17
        brne 1b
        clr r16
        sts TCNT1H, r16
        sts TCNT1L, r16
        sbi IO(PIND), 3
2:      rjmp 2b
)"));
  for (const std::uint64_t hz : {16'000'000U, 8'000'000U, 18'432'000U, 1'000'000U}) {
    INFO(hz);
    Chip chip = loaded(with(answers, hz, {{"PD3", "other.PD2"}, {"other.PB0", "PB0"}}), asks);
    chip.run_for(4000);
    REQUIRE((byte_at(chip, 0x36) & 0x20) != 0);  // ICF1
    const double captured = byte_at(chip, 0x86) | byte_at(chip, 0x87) << 8;
    // TCNT1 is 0 at the end of its store; the `sbi` two cycles later makes the edge; ICP1 adds
    // three.
    const double mine = 16e6 / static_cast<double>(hz);
    CHECK(captured >= 2 + 3 + 9 * mine);
    CHECK(captured <= 2 + 3 + 11 * mine + 1);
  }
}

TEST_CASE("SPI, serial ports and pins between chips with different clocks") {
  struct Row {
    std::uint64_t hz;
    unsigned ubrr;
  };
  for (const Row& row : {Row{16'000'000, 25}, Row{8'000'000, 12}, Row{18'432'000, 29}}) {
    INFO(row.hz);
    const Image listener = built("listener", kListener, fmt::format("-Os -DUBRR={}", row.ubrr));
    const Image talker = built("talker", kTalker);
    Session session(loaded(with(listener, row.hz, kWires), talker));
    REQUIRE(session.open(test::scratch("talker.elf")));
    session.go_for(Picoseconds{20'000'000'000});
    const auto value = [&](const std::string& text) {
      return static_cast<unsigned>(session.evaluate(text)->integer);
    };
    // Each reply is the byte before, changed.
    for (unsigned i = 1; i < 64; ++i) {
      const unsigned sent = value(fmt::format("replies[{}]", i)) ^ 0x5a;
      CHECK((sent & 63) == i - 1);
    }
    CHECK(value("heard") != 0);
    CHECK(value("edges") > 20);
    const Chip other = *session.chip().companion("other");
    CHECK(other.time().count >= session.chip().time().count);
    CHECK(other.time().count < session.chip().time().count + 3'000'000);
    CHECK_FALSE(session.chip().companion("another"));
    test::record(session.chip().hash());
  }
}

TEST_CASE("lock-step: the same worlds for any piece, any look ahead, through copies and views") {
  const Image listener = built("listener", kListener, "-Os -DUBRR=12");
  const Image talker = built("talker", kTalker);
  Chip::Options options = with(listener, 7'372'800, kWires);
  const Chip start = loaded(options, talker);
  constexpr std::uint64_t kEnd = 60'000;
  Chip whole = start;
  whole.run_for(kEnd);
  const std::uint64_t hash = whole.hash();
  for (const std::uint64_t ahead : {1ULL, 1'000ULL, 700'000ULL, 50'000'000ULL, 5'000'000'000ULL}) {
    INFO("ahead " << ahead);
    options.companions_ahead = {ahead};
    Chip chip = loaded(options, talker);
    chip.run_for(kEnd);
    CHECK(chip.cycles() == whole.cycles());
    CHECK(chip.hash() == hash);
  }
  Chip stepped = start;
  while (stepped.cycles() < whole.cycles()) stepped.step();
  CHECK(stepped.hash() == hash);
  std::mt19937 random(test::fresh_seed());
  Chip pieces = start;
  while (pieces.cycles() < whole.cycles()) {
    pieces.run_for(std::min<std::uint64_t>(1 + random() % 400, whole.cycles() - pieces.cycles()));
    switch (random() % 8) {
      case 0: (void)pieces.parts(); break;
      case 1: (void)pieces.take_serial_output(); break;
      case 2: (void)pieces.companion("other")->pc(); break;
      case 3: {
        Chip copy = pieces;
        copy.run_for(random() % 1000);
        pieces = Chip(pieces);
        break;
      }
      default: break;
    }
    if (pieces.cycles() > whole.cycles()) break;
  }
  CHECK(pieces.cycles() == whole.cycles());
  CHECK(pieces.hash() == hash);
  CHECK(whole.hash() == hash);
  test::record(hash);
  // Another moment differs, and so does another companion's program.
  Chip later = whole;
  later.run_for(1000);
  CHECK(later.hash() != hash);
}

TEST_CASE("a wire has its pull-ups, its contention and its open ends; three chips share one") {
  const auto holds = [](const char* name, unsigned ddr, unsigned port) {
    return *Image::open(test::assembled(name, fmt::format("  ldi r16, {}\n  out IO(PORTB), r16\n"
                                                          "  ldi r16, {}\n  out IO(DDRB), r16\n"
                                                          "1: rjmp 1b\n",
                                                          port, ddr)));
  };
  // B0: nobody; B1: a pull-up at one end; B2: low against the pull-up; B3: both drive.
  const Image first = holds("first", 0b01000, 0b01000), second = holds("second", 0b01100, 0b00010),
              third = holds("third", 0b00000, 0b00100);
  Chip::Options options{"ATmega328P", 16'000'000};
  options.companions = {{"second", {"ATmega328P", 16'000'000}, second},
                        {"third", {"ATmega1284P", 8'000'000}, third}};
  for (const char* pin : {"PB0", "PB1", "PB2", "PB3"})  // the second wire joins the first
    for (const char* name : {"second.", "third."})
      options.wires.push_back({pin, std::string(name) + pin});
  Chip chip = loaded(options, first);
  chip.run_for(100);
  const auto pin = [&](const Chip& of, const char* name) {
    for (const PinState& state : of.pins())
      if (state.name == name) return state;
    return PinState{};
  };
  for (const char* name : {"", "second", "third"}) {
    INFO(name);
    const Chip of = *name == 0 ? chip : *chip.companion(name);
    CHECK(pin(of, "PB0").floating);
    CHECK(pin(of, "PB1").level);
    CHECK_FALSE(pin(of, "PB1").floating);
    CHECK_FALSE(pin(of, "PB2").level);
    CHECK(pin(of, "PB3").contention);
  }
  CHECK(chip.parts().size() == 2);
  CHECK(chip.parts()[1].state.find("ATmega1284P at 8 MHz, running") == 0);
  CHECK(chip.parts()[1].pins == std::vector<std::string>{"PB0", "PB1", "PB2", "PB3"});
}

TEST_CASE("a companion's text and faults are told; the chip's reset leaves it alone") {
  const Image speaks = built("speaks", R"(#include <avr/io.h>
int main(void) {
  UBRR0 = 0;
  UCSR0B = _BV(TXEN0);
  for (const char* s = "kiln"; *s; s++) {
    while (!(UCSR0A & _BV(UDRE0))) {
    }
    UDR0 = *s;
  }
  ((void (*)(void))0x3000)();
}
)");
  const Image waits = *Image::open(test::assembled("waits", "1: rjmp 1b\n"));
  Chip chip = loaded(with(speaks, 16'000'000, {{"PB0", "other.PB0"}}), waits);
  std::string text, port;
  for (int i = 0; i < 100; ++i) {
    chip.run_for(100);
    if (i == 30) chip.reset();
    for (const SerialText& part : chip.take_serial()) {
      text += part.bytes;
      port = part.port;
    }
  }
  CHECK(text == "ki");  // the fault came when the third letter had begun to leave
  CHECK(port == "other.USART0");
  const auto notes = chip.take_notes();
  REQUIRE(notes.size() == 1);
  CHECK(notes[0].rfind("other: ", 0) == 0);
  CHECK(notes[0].find("stands still") != std::string::npos);
  CHECK(chip.parts()[0].state.find("halted") != std::string::npos);
  // Power again: from the beginning.
  REQUIRE(chip.load(waits));
  chip.run_for(10'000);
  CHECK(chip.take_serial_output() == "ki");
}

TEST_CASE("chips that cannot be joined are refused") {
  const Image image = *Image::open(test::assembled("waits", "1: rjmp 1b\n"));
  const Chip::Options good = with(image, 16'000'000, {{"PB0", "other.PB0"}});
  REQUIRE(Chip::make(good));
  const auto refused = [&](const std::function<void(Chip::Options&)>& change) {
    Chip::Options options = good;
    change(options);
    const auto chip = Chip::make(options);
    return chip ? "accepted" : chip.error().text();
  };
  using O = Chip::Options;
  CHECK(refused([](O& o) { o.companions[0].name = "a.b"; }).find("a.b") != std::string::npos);
  CHECK(refused([](O& o) { o.companions.push_back(o.companions[0]); }).find("name") !=
        std::string::npos);
  CHECK(refused([](O& o) { o.companions[0].options.name = "ATmega329P1"; }).find("other: ") == 0);
  CHECK(refused([](O& o) { o.companions[0].options.companions = o.companions; }) != "accepted");
  CHECK(refused([](O& o) { o.wires[0][1] = "othre.PB0"; }).find("did you mean") !=
        std::string::npos);
  CHECK(refused([](O& o) { o.wires[0][1] = "other.PZ0"; }).find("PZ0") != std::string::npos);
  CHECK(refused([](O& o) { o.companions[0].options.name = "ATmega88"; }) == "accepted");
}

TEST_CASE("a bench file joins the kiln and its panel; either can be the one that is meant") {
  const std::string path = std::string(LUCID_KILN) + "/kiln-and-panel.bench.toml";
  const std::string images = std::string(LUCID_KILN) + "/images/";
  auto bench = Bench::open(path);
  REQUIRE(bench);
  Session kiln(*Chip::make(bench->chip));
  REQUIRE(kiln.open(images + "kiln-og.elf"));
  kiln.go_for(Picoseconds{8'000'000'000'000});
  // The panel has heard the report and shows one lamp for each 200 degrees.
  const auto number = [](const Session& session, const std::string& text) {
    auto value = session.evaluate(text);
    INFO(text);
    REQUIRE(value);
    return value->integer;
  };
  CHECK(number(kiln, "state") != 0);  // its button was pressed
  CHECK(number(kiln, "panel.DDRC") == 0x3f);
  CHECK(number(kiln, "panel.pin.PD1") == 1);
  CHECK(number(kiln, "panel.time") >= 8'000'000'000'000);
  CHECK(number(kiln, "panel.ram[0x8ff] >= 0 && panel.sp > 0x800") == 1);
  CHECK(kiln.evaluate("panel.PORTQ").error().where == "column 7");
  CHECK_FALSE(kiln.evaluate("panel"));
  CHECK(kiln.evaluate("panel.latest->is")->integer == number(kiln, "panel.shown"));
  CHECK_FALSE(kiln.let("panel.PORTC", "1"));
  CHECK_FALSE(kiln.evaluate("panl.PORTC"));
  BreakpointSpec change{"panel.PORTC"};
  change.kind = BreakpointSpec::Kind::kWrite;
  CHECK_FALSE(kiln.pause_at(change));
  BreakpointSpec when{"panel.cycles > 64001000"};
  when.kind = BreakpointSpec::Kind::kWhen;
  REQUIRE(kiln.pause_at(when));
  CHECK(kiln.go_for(Picoseconds{400'000'000'000}).cause == Pause::Cause::kHolds);
  CHECK(number(kiln, "panel.cycles") > 64'001'000);
  CHECK(number(kiln, "panel.cycles") < 64'010'000);  // asleep: looked at each millisecond

  auto other = Bench::open(path, "panel");
  REQUIRE(other);
  CHECK(other->chip.clock_hz == 8'000'000);
  Session panel(*Chip::make(other->chip));
  REQUIRE(panel.open(images + "panel.elf"));
  panel.go_for(Picoseconds{8'000'000'000'000});
  CHECK(number(panel, "reports") == 7);  // one a second
  CHECK(number(panel, "shown > 200 && shown < 400") == 1);
  CHECK(number(panel, "kiln.OCR1A") == number(kiln, "chip.OCR1A"));
  CHECK(Bench::open(path, "pannel").error().code == ErrorCode::kNotFound);
}

TEST_CASE("mistakes in a bench of several chips are told with their line") {
  const std::string good =
      "[chip]\n[[companion]]\nname = \"panel\"\nimage = \"images/panel.elf\"\n"
      "[[wire]]\npins = [\"PD1\", \"panel.PD0\"]\n";
  REQUIRE(Bench::parse(good, "good", LUCID_KILN));
  struct Row {
    const char *text, *says;
  };
  for (const Row& row :
       {Row{"[[companion]]\nname = \"panel\"\nimage = \"images/panel.elf\"\n", "line 8"},
        Row{"[[companion]]\nname = \"two\"\n", "'image'"},
        Row{"[[companion]]\nimage = \"images/panel.elf\"\n", "'name'"},
        Row{"[[companion]]\nname = \"two\"\nimage = \"none.elf\"\n", "none.elf"},
        Row{"[[companion]]\nname = \"two\"\nimage = \"kiln.bench.toml\"\n", "neither an ELF"},
        Row{"[[wire]]\npins = [\"PD1\"]\n", "two or more"}, Row{"[[wire]]\n", "'pins'"},
        Row{"[[part]]\non = \"pane\"\nname = \"x\"\nkind = \"lamp\"\npin = \"PB0\"\n", "panel?"},
        Row{"[[input]]\non = \"panel\"\nat = \"1s\"\npart = \"x\"\naction = \"press\"\n",
            "no part 'x'"}}) {
    INFO(row.text);
    const auto bench = Bench::parse(good + row.text, "wrong", LUCID_KILN);
    REQUIRE_FALSE(bench);
    INFO(bench.error().text());
    CHECK(bench.error().text().find(row.says) != std::string::npos);
  }
  CHECK_FALSE(Bench::parse(good, "unnamed", LUCID_KILN, "panel"));  // [chip] has no image
}
