// SPDX-License-Identifier: MIT
// Bench files and the parts they describe.
#include <fmt/format.h>

#include <catch2/catch.hpp>
#include <random>

#include "lucid/bench.h"
#include "lucid/session.h"
#include "tools.h"

using namespace lucid;

namespace {

/// A chip that does nothing, with the parts of a bench.
Chip on_bench(const std::string& text) {
  auto bench = Bench::parse(text, "test", test::scratch("."));
  INFO((bench ? "" : bench.error().text()));
  REQUIRE(bench.has_value());
  auto chip = Chip::make(bench->chip);
  INFO((chip ? "" : chip.error().text()));
  REQUIRE(chip.has_value());
  chip->poke({Space::kCode, 0}, 0xff);
  chip->poke({Space::kCode, 1}, 0xcf);
  return *chip;
}

PinState pin(const Chip& chip, const std::string& name) {
  for (const PinState& state : chip.pins())
    if (state.name == name) return state;
  FAIL(name);
  return {};
}

std::string state_of(const Chip& chip, const std::string& name) {
  for (const PartState& part : chip.parts())
    if (part.name == name) return part.state;
  return "no such part";
}

void output(Chip& chip, char port, unsigned bits) {  // DDRx and PORTx
  const std::uint32_t base = port == 'B' ? 0x23 : port == 'C' ? 0x26 : 0x29;
  chip.poke({Space::kData, base + 1}, 0xff);
  chip.poke({Space::kData, base + 2}, static_cast<std::uint8_t>(bits));
}

std::string part(const std::string& keys) { return "[[part]]\nname = \"x\"\n" + keys + "\n"; }

}  // namespace

TEST_CASE("what is wrong in a bench file is said with line, key and a suggestion") {
  struct Row {
    std::string text;
    const char* says;
  };
  for (const Row& row :
       {Row{"[chip\n", "test, line 1"},
        Row{"[\n", "test: this is not TOML"},
        Row{"x = 1\n\"\xce\xbe\" = 2\n", "test, line 2: letters beyond ASCII"},
        Row{"[chop]\n", "there is no table 'chop' in a bench (did you mean chip?)"},
        Row{"chip = 3\n", "'chip' must be a table: [chip] or [[chip]]"},
        Row{"[chip]\nclock = 16\n", "test, line 2, chip: key 'clock' must be a text in quotes"},
        Row{"[chip]\nclock = \"fast\"\n", "must be a frequency such as \"16MHz\""},
        Row{"[chip]\nsupply = \"5\"\n", "must be a voltage such as \"2.5V\""},
        Row{"[chip]\nfuses = [\"0x100\"]\n", "must be low, high and extended"},
        Row{"[[part]]\nkind = \"lamp\"\n", "key 'name' is missing"},
        Row{part("kind = \"lmap\"\npin = \"PB0\""), "did you mean lamp?"},
        Row{part("kind = \"lamp\""), "test, line 1, part 'x': key 'pin' is missing"},
        Row{part("kind = \"lamp\"\npin = \"PB0\"\nlitt = \"low\""),
            "line 5, part 'x': key 'litt' is not known here (did you mean lit?)"},
        Row{part("kind = \"lamp\"\npin = \"PB0\"\nlit = \"up\""), "it can be low, high"},
        Row{part("kind = \"potentiometer\"\npin = \"PC0\"\npercent = 101"), "from 0 to 100"},
        Row{part("kind = \"button\"\npin = \"PB0\"\nbounce = \"4 parsecs\""), "a time such as"},
        Row{part("kind = \"table\"\npin = \"PC0\"\nfile = \"none.csv\""), "cannot be read"},
        Row{part("kind = \"sine\"\npin = \"PC0\"\nmiddle = \"1V\"\namplitude = \"1V\"\nperiod = "
                 "\"1us\""),
            "must be 256 us at least"},
        Row{"[[input]]\nat = \"1s\"\n", "key 'pin' is missing"},
        Row{"[[input]]\nat = \"1s\"\npin = \"PB0\"\nlevel = \"hihg\"\n", "did you mean high?"}}) {
    INFO(row.text);
    const auto bench = Bench::parse(row.text, "test");
    REQUIRE_FALSE(bench.has_value());
    INFO(bench.error().text());
    CHECK(bench.error().text().find(row.says) != std::string::npos);
  }
  const auto make = [](const std::string& text) {
    return Chip::make(Bench::parse(text, "test")->chip).error().text();
  };
  CHECK(make(part("kind = \"lamp\"\npin = \"PC7\"")).find("there is no pin 'PC7' on ATmega328P") !=
        std::string::npos);
  CHECK(make(part("kind = \"lamp\"\npin = \"PB0\"") + part("kind = \"lamp\"\npin = \"PB1\""))
            .find("two parts are called 'x'") != std::string::npos);
  CHECK(make("[chip]\nsupply = \"12V\"\n").find("1.8 V to 5.5 V") != std::string::npos);
  test::write(test::scratch("holes.csv"), "0,1\n1,\n");
  const auto holes = Bench::parse(part("kind = \"table\"\npin = \"PC0\"\nfile = \"holes.csv\""),
                                  "test", test::scratch("."));
  CHECK(holes.error().text().find("whose line 2 is not SECONDS,VOLTS") != std::string::npos);
}

TEST_CASE("a contact bounces for its time, always the same way, and settles") {
  const std::string text =
      part("kind = \"button\"\npin = \"PD2\"\nopen = \"high\"\nbounce = \"5ms\"");
  Chip chip = on_bench(text);
  CHECK(pin(chip, "PD2").level);
  REQUIRE(chip.act("x", "press"));
  const Chip pressed = chip;
  unsigned edges = 0;
  bool last = false;
  for (int us = 0; us < 6000; us += 10) {
    chip.run_for(160);
    edges += pin(chip, "PD2").level != last ? 1 : 0;
    last = pin(chip, "PD2").level;
  }
  CHECK(edges >= 6);
  CHECK_FALSE(last);
  CHECK(state_of(chip, "x") == "pressed");
  Chip again = pressed;
  while (again.cycles() < chip.cycles()) again.run_for(chip.cycles() - again.cycles());
  CHECK(again.hash() == chip.hash());
  REQUIRE(chip.act("x", "release"));
  chip.run_for(160'000);
  CHECK(pin(chip, "PD2").level);
  CHECK_FALSE(chip.act("x", "turn", "on").has_value());
  CHECK_FALSE(chip.act("y", "press").has_value());
}

TEST_CASE("lamp, buzzer, shift register and loop-back tell what they have seen") {
  Chip chip = on_bench(
      "[[part]]\nname = \"lamp\"\nkind = \"lamp\"\npin = \"PB0\"\nlit = \"low\"\n"
      "[[part]]\nname = \"buzzer\"\nkind = \"buzzer\"\npin = \"PB1\"\n"
      "[[part]]\nname = \"chain\"\nkind = \"shift-register\"\ndata = \"PC0\"\nclock = \"PC1\"\n"
      "latch = \"PC2\"\nbits = 16\n");
  output(chip, 'B', 1);
  CHECK(state_of(chip, "lamp").find("off, lit 1 times") == 0);
  output(chip, 'B', 0);
  chip.run_for(16'000);
  output(chip, 'B', 1);
  CHECK(state_of(chip, "lamp") == "off, lit 2 times, 1.000 ms in all");
  for (int i = 0; i < 10; ++i) {
    chip.run_for(2000);
    output(chip, 'B', 1U | (i % 2 == 0 ? 2U : 0U));
  }
  CHECK(state_of(chip, "buzzer") == "4000 Hz, 5 periods so far");
  chip.run_for(100'000);
  CHECK(state_of(chip, "buzzer").find("silent") == 0);
  for (int bit = 15; bit >= 0; --bit) {
    const unsigned data = 0xa53cU >> bit & 1U;
    output(chip, 'C', data);
    output(chip, 'C', data | 2);
    output(chip, 'C', data);
  }
  CHECK(state_of(chip, "chain") == "shows 0x0000");
  output(chip, 'C', 4);
  CHECK(state_of(chip, "chain") == "shows 0xa53c");
}

TEST_CASE("voltages follow time, knobs and tables") {
  test::write(test::scratch("curve.csv"), "# seconds, volts\n0,0.5\n0.01,1.5\n");
  Chip chip = on_bench(
      "[chip]\nsupply = \"3.3V\"\n"
      "[[part]]\nname = \"ramp\"\nkind = \"ramp\"\npin = \"PC0\"\nfrom = \"1V\"\nto = \"2V\"\nover "
      "= \"10ms\"\nafter = \"5ms\"\n"
      "[[part]]\nname = \"sine\"\nkind = \"sine\"\npin = \"PC1\"\nmiddle = \"1V\"\namplitude = "
      "\"500mV\"\nperiod = \"20ms\"\n"
      "[[part]]\nname = \"table\"\nkind = \"table\"\npin = \"PC2\"\nfile = \"curve.csv\"\n"
      "[[part]]\nname = \"knob\"\nkind = \"potentiometer\"\npin = \"PC3\"\n"
      "[[part]]\nname = \"source\"\nkind = \"voltage\"\npin = \"PC4\"\nvolts = \"300mV\"\n");
  const auto volts = [&](const char* name) { return *pin(chip, name).microvolts; };
  CHECK(volts("PC0") == 1'000'000);
  CHECK(volts("PC3") == 1'650'000);
  CHECK(volts("PC4") == 300'000);
  chip.run_for(16 * 5000 + 8);  // 5 ms: a quarter of the sine
  CHECK(std::abs(volts("PC1") - 1'500'000) < 1000);
  CHECK(std::abs(volts("PC2") - 1'000'000) < 100);
  chip.run_for(16 * 5000);
  CHECK(std::abs(volts("PC0") - 1'500'000) < 100);
  CHECK(std::abs(volts("PC1") - 1'000'000) < 1000);
  chip.run_for(16 * 10'000);
  CHECK(volts("PC0") == 2'000'000);
  CHECK(volts("PC2") == 1'500'000);
  REQUIRE(chip.act("knob", "turn", "25%"));
  REQUIRE(chip.act("source", "turn", "1.2V"));
  CHECK(volts("PC3") == 825'000);
  CHECK(volts("PC4") == 1'200'000);
  CHECK_FALSE(chip.act("knob", "turn", "101%").has_value());
}

TEST_CASE("an oven warms by its heater's energy and cools towards the ambient temperature") {
  const std::string text = part(
      "kind = \"oven\"\nheater = \"PB5\"\nsensor = \"PC0\"\nwatts = 1000\nloss = 0\ncapacity = "
      "500\nambient = 20\nscale = \"10mV\"");
  Chip chip = on_bench(text);
  CHECK(*pin(chip, "PC0").microvolts == 200'000);
  output(chip, 'B', 0x20);
  chip.run_for(16'000'000);  // 1000 J into 500 J a degree: 2 degrees
  CHECK(std::abs(*pin(chip, "PC0").microvolts - 220'000) <= 210);
  output(chip, 'B', 0);
  CHECK(state_of(chip, "x").find("heater off") != std::string::npos);
}

TEST_CASE("timed inputs happen at their time, and runs with parts are the same in pieces") {
  std::string text = test::read(std::string(LUCID_KILN) + "/kiln.bench.toml");
  text += "[[input]]\nat = \"10ms\"\npin = \"PB3\"\nlevel = \"high\"\n";
  text += "[[input]]\nat = \"20ms\"\npin = \"PC5\"\nvolts = \"1V\"\n";
  const auto bench = Bench::parse(text, "kiln", ".");
  REQUIRE(bench.has_value());
  Chip straight = *Chip::make(bench->chip);
  REQUIRE(straight.load(*Image::open(test::kKilnOg)));
  REQUIRE(straight.act("door", "turn", "on"));
  Chip pieces = straight;
  straight.run_for(160'000 - 2);
  CHECK_FALSE(pin(straight, "PB3").level);
  straight.run_for(8);
  CHECK(pin(straight, "PB3").level);
  straight.run_for(52'000'000);
  CHECK(*pin(straight, "PC5").microvolts == 1'000'000);
  CHECK(straight.take_serial_output().find("ramp") != std::string::npos);
  std::mt19937 random(test::fresh_seed());
  while (pieces.cycles() < straight.cycles()) {
    const std::uint64_t left = straight.cycles() - pieces.cycles();
    pieces.run_for(std::min<std::uint64_t>(left, 1 + random() % 5'000'000));
    Chip copy = pieces;
    (void)pieces.parts();
    (void)pieces.pins();
    pieces = copy;
  }
  CHECK(pieces.cycles() == straight.cycles());
  CHECK(pieces.hash() == straight.hash());
}

namespace {

class Heard final : public Listener {
 public:
  void on_serial(const std::string& /*port*/, const std::string& bytes) override { text += bytes; }
  std::string text;
};

}  // namespace

TEST_CASE("what has come from outside, written as a bench file, repeats the run") {
  const std::string kiln = test::read(std::string(LUCID_KILN) + "/kiln.bench.toml");
  const auto session_on = [](const std::string& text, Heard& heard) {
    auto bench = Bench::parse(text, "repeated", LUCID_KILN);
    INFO(text << (bench ? "" : bench.error().text()));
    REQUIRE(bench);
    Session session(*Chip::make(bench->chip));
    session.set_listener(&heard);
    REQUIRE(session.open(test::kKilnOg));
    return session;
  };
  Heard by_hand;
  Session first = session_on(kiln, by_hand);
  first.go_for(1'234'567);
  REQUIRE(first.act("door", "turn", "on"));
  first.go_for(30'000'001);
  REQUIRE(first.feed("USART0", std::string("P\nT\x80\n\0\"\n", 8)));
  REQUIRE(first.feed_frame("USART0", {0x10a, true, true}));
  REQUIRE(first.transfer({0x29, {1, 0xa0}, 3}));
  REQUIRE(first.drive_for("PD7", true, {2'000'000'000}));
  REQUIRE(first.let("pin.PC3", "1"));
  first.go_for(7'654'321);
  REQUIRE(first.apply_voltage("PC1", 1.234567));
  REQUIRE(first.drive("PC3", std::nullopt));
  CHECK_FALSE(first.drive("PZ9", true));
  first.go_for(40'000'000);
  REQUIRE(first.act("door", "turn", "off"));
  first.go_for(50'000'000);
  first.reset();
  first.go_for(20'000'000);
  CHECK(first.inputs().size() == 11);

  std::string text = kiln;
  for (const Input& input : first.inputs()) text += "\n" + Bench::table(input);
  Heard by_file;
  Session second = session_on(text, by_file);
  second.go_for(first.chip().cycles());
  CHECK(second.chip().cycles() == first.chip().cycles());
  CHECK(by_file.text == by_hand.text);
  INFO(by_hand.text);
  CHECK(by_hand.text.find("door open") != std::string::npos);
  for (std::uint32_t address = 0; address < 0x900; ++address)
    if (first.chip().peek({Space::kData, address}) != second.chip().peek({Space::kData, address}))
      FAIL_CHECK("different at " << std::hex << address);
  CHECK(second.chip().pc() == first.chip().pc());
  CHECK(second.chip().sp() == first.chip().sp());

  for (const char* wrong :
       {"part = \"dor\"\naction = \"press\"", "part = \"door\"\naction = \"kick\"",
        "part = \"door\"\naction = \"turn\"", "serial = \"USART0\"\nhex = \"4\"",
        "serial = \"USART0\"\nhex = \"xy\"", "serial = \"USART0\"\nframe = \"0x41 late\"",
        "transfer = \"0x29 wrte 01\"", "reset = \"soon\""}) {
    INFO(wrong);
    CHECK_FALSE(Bench::parse(kiln + "[[input]]\nat = \"1s\"\n" + wrong, "wrong", LUCID_KILN));
  }

  // What a part refuses when the time has come is said.
  Chip chip = on_bench(kiln + "[[input]]\nat = \"1ms\"\npart = \"door\"\naction = \"press\"\n");
  chip.run_for(32'000);
  std::string notes;
  for (const std::string& note : chip.take_notes()) notes += note;
  CHECK(notes.find("an input was not taken: 'door' is a switch") != std::string::npos);
}

TEST_CASE("a serial flash is identified, erased, programmed and read over SPI") {
  const std::string mode = GENERATE("0", "3");
  const std::string elf = test::compiled("spi_flash", R"(
#include <avr/io.h>
volatile uint8_t identity[3], status_before, status_after, status_busy, got[6], far[2], ignored;
volatile uint16_t waits;
static uint8_t byte(uint8_t out) { SPDR = out; while (!(SPSR & 1 << SPIF)) {} return SPDR; }
static void on(void) { PORTB &= ~(1 << PB2); }
static void off(void) { PORTB |= 1 << PB2; }
static void command(uint8_t code) { on(); byte(code); off(); }
static void at(uint8_t code, uint32_t address) {
  on(); byte(code); byte(address >> 16); byte(address >> 8); byte(address);
}
static uint8_t status(void) { on(); byte(0x05); uint8_t now = byte(0); off(); return now; }
static void wait(void) { while (status() & 1) waits++; }
static void program(uint32_t address, uint8_t a, uint8_t b, uint8_t c) {
  command(0x06); at(0x02, address); byte(a); byte(b); byte(c); off();
}
int main(void) {
  PORTB |= 1 << PB2;
  DDRB = 1 << PB2 | 1 << PB3 | 1 << PB5;
  SPCR = 1 << SPE | 1 << MSTR | MODE << CPHA;
  on(); byte(0x9f); for (uint8_t i = 0; i < 3; i++) identity[i] = byte(0); off();
  program(0x0100fe, 0x12, 0x34, 0x56);  /* the third byte goes to the start of the page */
  status_busy = status();
  at(0x02, 0x000000); byte(0); off();   /* busy: ignored */
  wait();
  status_before = status();
  at(0x02, 0x0100ff); byte(0); off();   /* without write enable: ignored */
  command(0x06); status_after = status(); command(0x04);
  at(0x03, 0x0100fe); got[0] = byte(0); got[1] = byte(0); got[2] = byte(0); off();
  at(0x0b, 0x010000); byte(0); got[3] = byte(0); off();
  program(0x0100fe, 0xf0, 0xff, 0xff); wait();  /* bits can only be cleared */
  at(0x03, 0x0100fe); got[4] = byte(0); off();
  command(0x06); at(0x20, 0x010abc); off(); wait();
  at(0x03, 0x0100fe); got[5] = byte(0); off();
  at(0x03, 0x01ffff); far[0] = byte(0); far[1] = byte(0); off();
  for (;;) {}
}
)",
                                         "-Os -gdwarf-4 -DMODE=" + mode);
  const auto bench = Bench::parse(
      "[chip]\nname = \"ATmega328P\"\n[[part]]\nname = \"store\"\nkind = \"spi-flash\"\nselect = "
      "\"PB2\"\n"
      "clock = \"PB5\"\nin = \"PB3\"\nout = \"PB4\"\nid = 0x0a0b0c\n",
      "flash");
  REQUIRE(bench);
  Session session(*Chip::make(bench->chip));
  REQUIRE(session.open(elf));
  session.go_for(16'000'000);
  const auto is = [&](const std::string& what, int expected) {
    INFO(what);
    const auto value = session.evaluate(what);
    REQUIRE(value);
    CHECK(value->integer == expected);
  };
  is("identity[0]", 0x0a);
  is("identity[2]", 0x0c);
  is("status_busy", 1);
  is("status_before", 0);
  is("status_after", 2);
  is("got[0]", 0x12);
  is("got[1]", 0x34);
  is("got[2]", 0xff);
  is("got[3]", 0x56);
  is("got[4]", 0x10);
  is("got[5]", 0xff);
  is("far[1]", 0xff);
  CHECK(session.evaluate("waits")->integer > 100);
  CHECK(session.chip().parts()[0].state == "128 KiB, 2 pages programmed, 1 erased");
}

TEST_CASE("a terminal follows its script: what it says, awaits and waits for") {
  const std::string folder = test::scratch(".");
  const auto kiln_with = [&](const std::string& keys) {
    auto bench = Bench::parse(
        "[[part]]\nname = \"x\"\nkind = \"terminal\"\nport = \"USART0\"\n" + keys, "test", folder);
    INFO((bench ? "" : bench.error().text()));
    REQUIRE(bench);
    Chip chip = *Chip::make(bench->chip);
    REQUIRE(chip.load(*Image::open(std::string(LUCID_KILN) + "/images/kiln-og.elf")));
    return chip;
  };
  test::write(test::scratch("talk"),
              "# what an operator would do\nawait \"ready\\r\\n\" within 2s\nwait 100ms\n\n"
              "say \"x\\n\\x50\\n\"\nawait \"what?\"\nawait \"1: to 200 C\" within 500ms\n");
  Chip chip = kiln_with("script = \"talk\"");
  chip.run_for(16'000);
  CHECK(state_of(chip, "x") == "at USART0, awaits an answer in line 2");
  chip.run_for(16'000'000 + 800'000);  // the lamp test takes a second
  CHECK(state_of(chip, "x") == "at USART0, waits in line 3");
  const Chip copy = chip;
  chip.run_for(8'000'000);
  CHECK(state_of(chip, "x") == "at USART0, has said all");
  CHECK(chip.take_serial_output().find("what?\r\n1: to 200 C") != std::string::npos);
  CHECK(chip.take_notes().empty());
  Chip again = copy;
  again.run_for(chip.cycles() - again.cycles());
  CHECK(again.hash() == chip.hash());

  // A text that begins again within itself; one that does not come.
  test::write(test::scratch("talk"),
              "say \"P\\n\"\nawait \"C, 0\" within 3s\n"
              "await \"never\" within 20ms\nsay \"G\\n\"\n");
  chip = kiln_with("script = \"talk\"");
  chip.run_for(Picoseconds{4'000'000'000'000});
  CHECK(state_of(chip, "x") == "gave up at line 2");
  CHECK(chip.take_notes() ==
        std::vector<std::string>{"x: line 2 of its script: the answer did not come in time"});
  chip = kiln_with("text = \"P\\n\"");
  chip.run_for(Picoseconds{1'500'000'000'000});
  CHECK(chip.take_serial_output().find("1: to 200 C") != std::string::npos);

  for (const char* wrong : {"sya \"x\"", "say x", "say \"x", "say \"\\q\"", "say \"x\" now",
                            "await \"x\" in 2s", "await \"\"", "wait long", "say \"\\x4\""}) {
    test::write(test::scratch("talk"), std::string("# one\n") + wrong + "\n");
    const auto bench = Bench::parse(
        part("kind = \"terminal\"\nport = \"USART0\"\nscript = \"talk\""), "test", folder);
    INFO(wrong);
    REQUIRE_FALSE(bench);
    CHECK(bench.error().text().find("whose line 2 ") != std::string::npos);
  }
  for (const char* keys : {"script = \"none\"", "", "text = \"a\"\nscript = \"talk\""})
    CHECK_FALSE(Bench::parse(part("kind = \"terminal\"\nport = \"USART0\"\n" + std::string(keys)),
                             "test", folder));
}

TEST_CASE(
    "two parts on one pin: low wins and is shown as contention; who lets go leaves the other") {
  Chip chip = on_bench(
      "[[part]]\nname = \"a\"\nkind = \"switch\"\npin = \"PD2\"\nclosed = \"high\"\n"
      "[[part]]\nname = \"b\"\nkind = \"switch\"\npin = \"PD2\"\n"
      "[[part]]\nname = \"knob\"\nkind = \"voltage\"\npin = \"PC0\"\nvolts = \"2V\"\n");
  const auto is = [&](const char* name, bool level, bool contention) {
    const PinState state = pin(chip, name);
    CHECK(state.level == level);
    CHECK(state.contention == contention);
  };
  CHECK(pin(chip, "PD2").floating);
  REQUIRE(chip.act("a", "turn", "on"));
  is("PD2", true, false);
  REQUIRE(chip.act("b", "turn", "on"));
  is("PD2", false, true);
  REQUIRE(chip.act("b", "turn", "off"));
  is("PD2", true, false);
  REQUIRE(chip.drive("PD2", false));  // a hand goes before both
  is("PD2", false, true);
  REQUIRE(chip.act("b", "turn", "on"));
  REQUIRE(chip.drive("PD2", true));
  is("PD2", true, true);
  REQUIRE(chip.drive("PD2", std::nullopt));
  is("PD2", false, true);
  REQUIRE(chip.drive("PC0", true));
  is("PC0", true, true);
  REQUIRE(chip.drive("PC0", std::nullopt));
  CHECK(pin(chip, "PC0").microvolts == 2'000'000);
}

TEST_CASE("bench files include others, once each and never themselves") {
  const auto file = [](const char* name, const std::string& text) {
    test::write(test::scratch(name), text);
    return test::scratch(name);
  };
  file("knob.inc",
       "[[part]]\nname = \"knob\"\nkind = \"table\"\npin = \"PC0\"\nfile = \"volts.csv\"\n");
  file("volts.csv", "0,1\n1,2\n");
  file("lamp.inc",
       "include = [\"knob.inc\"]\n[[part]]\nname = \"lamp\"\nkind = \"lamp\"\npin = \"PB0\"\n");
  const auto good = Bench::open(
      file("top.inc", "include = [\"lamp.inc\", \"./knob.inc\"]\n[chip]\nclock = \"1MHz\"\n"));
  INFO((good ? "" : good.error().text()));
  REQUIRE(good);
  CHECK(good->chip.clock_hz == 1'000'000);
  CHECK(good->chip.parts.size() == 2);
  struct Row {
    const char *text, *says;
  };
  for (const Row& row :
       {Row{"include = [\"round.inc\"]\n", "line 1"}, Row{"\ninclude = [\"none.inc\"]\n", "line 2"},
        Row{"include = \"lamp.inc\"\n", "a list"}, Row{"include = [1]\n", "a list"},
        Row{"include = [\"bad.inc\"]\n", "bad.inc, line 3"},
        Row{"include = [\"lamp.inc\"]\n[[input]]\nat = \"1s\"\npart = \"lmp\"\naction = "
            "\"press\"\n",
            "lamp?"}}) {
    file("round.inc", "include = [\"over.inc\"]\n");
    file("bad.inc", "[[part]]\nname = \"x\"\nkind = \"lamb\"\npin = \"PB0\"\n");
    const auto bench = Bench::open(file("over.inc", row.text));
    INFO(row.text);
    REQUIRE_FALSE(bench);
    INFO(bench.error().text());
    CHECK(bench.error().text().find(row.says) != std::string::npos);
  }
}

TEST_CASE("a memory answers a master that makes the levels by hand") {
  const std::string elf = test::compiled("by_hand", R"(#define F_CPU 16000000
#include <avr/io.h>
#include <util/delay.h>
volatile uint8_t acknowledged, others, got[3];
static void sda(uint8_t high) { if (high) DDRC &= ~_BV(4); else DDRC |= _BV(4); _delay_us(5); }
static void scl(uint8_t high) { if (high) DDRC &= ~_BV(5); else DDRC |= _BV(5); _delay_us(5); }
static void start(void) { sda(1); scl(1); sda(0); scl(0); }
static void stop(void) { sda(0); scl(1); sda(1); }
static uint8_t bit(uint8_t out) {
  sda(out);
  scl(1);
  uint8_t in = PINC >> 4 & 1;
  scl(0);
  return in;
}
static uint8_t put(uint8_t byte) {
  for (uint8_t i = 0; i < 8; i++, byte <<= 1) bit(byte >> 7);
  return !bit(1);
}
static uint8_t get(uint8_t more) {
  uint8_t byte = 0;
  for (uint8_t i = 0; i < 8; i++) byte = byte << 1 | bit(1);
  bit(!more);
  return byte;
}
int main(void) {
  start();
  acknowledged = put(0xa0) + put(3) + put(0x5a) + put(0xa5);
  stop();
  _delay_ms(6);
  start();
  others = put(0x42);
  stop();
  start();
  acknowledged += put(0xa0) + put(3);
  start();
  acknowledged += put(0xa1);
  for (uint8_t i = 0; i < 3; i++) got[i] = get(i < 2);
  stop();
  for (;;) {
  }
}
)",
                                         "-Os -std=gnu11 -gdwarf-4");
  auto bench = Bench::parse(
      "[[part]]\nname = \"memory\"\nkind = \"two-wire-eeprom\"\nsda = \"PC4\"\nscl = \"PC5\"\n",
      "by hand");
  REQUIRE(bench);
  Session session(*Chip::make(bench->chip));
  REQUIRE(session.open(elf));
  session.go_for(Picoseconds{20'000'000'000});
  const auto is = [&](const char* what, int value) {
    INFO(what);
    CHECK(session.evaluate(what)->integer == value);
  };
  is("acknowledged", 7);
  is("others", 0);
  is("got[0]", 0x5a);
  is("got[1]", 0xa5);
  is("got[2]", 0xff);
}

namespace {

/// Throws where it is told to.
class Faulty final : public Part {
 public:
  enum class Where { kStart, kPin, kTime, kByte, kAct, kDescribe };
  explicit Faulty(Where where) : Part("faulty"), where_(where) {}
  std::vector<std::string> pins() const override { return {"PB5"}; }
  void start(Wires& wires) const override {
    wires.wake_at(2000);
    at(Where::kStart);
  }
  void on_pin(Wires& /*wires*/, unsigned /*pin*/, bool /*level*/) const override {
    at(Where::kPin);
  }
  void on_time(Wires& /*wires*/) const override { at(Where::kTime); }
  void on_byte(Wires& /*wires*/, const std::string& /*port*/,
               std::uint8_t /*byte*/) const override {
    at(Where::kByte);
  }
  Result<void> act(Wires& /*wires*/, const std::string& /*action*/,
                   const std::string& /*value*/) const override {
    at(Where::kAct);
    return {};
  }
  std::string describe(Wires& /*wires*/) const override {
    at(Where::kDescribe);
    return "well";
  }

 private:
  void at(Where where) const {
    if (where == where_) throw std::runtime_error("a wire came off");
  }
  Where where_;
};

}  // namespace

TEST_CASE("a part that throws is off from there; the run ends naming it, in both gears") {
  using Where = Faulty::Where;
  for (const Where where : {Where::kStart, Where::kPin, Where::kTime, Where::kByte, Where::kAct})
    for (const std::uint32_t after : {0U, 1U}) {
      Chip::Options options{"ATmega328P", 16'000'000};
      options.parts.push_back(std::make_shared<Faulty>(where));
      options.translate_after = after;
      Session session(*Chip::make(options));
      REQUIRE(session.open(test::compiled("faulty", R"(#include <avr/io.h>
int main(void) {
  UCSR0B = 1 << TXEN0;
  DDRB = 0xff;
  for (unsigned i = 0; i < 3000; i++) asm volatile("nop");
  for (;;) { PINB = 0x20; UDR0 = 'x'; for (unsigned i = 0; i < 3000; i++) asm volatile("nop"); }
})",
                                          "-Os -gdwarf-4")));
      if (where == Where::kAct) CHECK_FALSE(session.act("faulty", "press"));
      const Pause pause = session.go_for(1'000'000);
      CHECK(pause.cause == Pause::Cause::kFault);
      CHECK(
          pause.detail.find("the part 'faulty' has failed and is off from here: a wire came off") !=
          std::string::npos);
      CHECK(session.chip().parts()[0].state == "off: it has failed");
      CHECK_FALSE(session.act("faulty", "press"));
      CHECK(session.go_for(100'000).cause == Pause::Cause::kTimeUp);
    }
  Chip::Options options{"ATmega328P", 16'000'000};
  options.parts.push_back(std::make_shared<Faulty>(Where::kDescribe));
  CHECK(Chip::make(options)->parts()[0].state == "off: it has failed");
}

TEST_CASE("wires between pins of one chip, without any other; a loop-back is one") {
  const std::string elf = test::compiled("looped", R"(#include <avr/io.h>
volatile unsigned got[4], when, bad;
int main(void) {
  DDRB = 1;
  PORTB = 1; asm volatile("nop"); if (!(PINC & 1)) bad |= 1;
  PORTB = 0; asm volatile("nop"); if (PINC & 1) bad |= 2;
  DDRB = 0; DDRC = 1; PORTC = 1; asm volatile("nop"); if (!(PINB & 1)) bad |= 4;
  UBRR0 = 3; UCSR0C = 6; UCSR0B = 1 << TXEN0 | 1 << RXEN0 | 1 << UCSZ02;
  for (unsigned char i = 0; i < 4; i++) {
    TCCR1B = 1; TCNT1 = 0;
    UCSR0B = (UCSR0B & ~1) | (i & 1);
    UDR0 = 0x51 + i;
    while (!(UCSR0A & 1 << RXC0)) {}
    when = TCNT1;
    got[i] = (UCSR0B & 2) << 7;
    got[i] |= UDR0;
  }
  for (;;) {}
})",
                                         "-Os -gdwarf-4");
  const auto bench = Bench::parse(
      "[[part]]\nname = \"loop\"\nkind = \"loop-back\"\nport = \"USART0\"\n"
      "[[wire]]\npins = [\"PB0\", \"PC0\"]\n",
      "test", ".");
  REQUIRE(bench);
  Session session(*Chip::make(bench->chip));
  REQUIRE(session.open(elf));
  session.go_for(20'000);
  CHECK(session.evaluate("bad")->integer == 0);
  for (unsigned i = 0; i < 4; ++i)
    CHECK(session.evaluate("got[" + std::to_string(i) + "]")->integer == 0x51 + i + 256 * (i & 1));
  // Eleven bits of 64 cycles, all but the second half of the stop bit; not a frame later.
  CHECK(session.evaluate("when")->integer > 10 * 64);
  CHECK(session.evaluate("when")->integer < 12 * 64);
  CHECK(session.chip().parts()[0].state == "USART0 has sent itself 4 bytes");
}

TEST_CASE("a companion slower than anything else does not hold the others up") {
  const Image image = *Image::open(
      test::assembled("slow", "main: sbi IO(DDRB), 0\n1: sbi IO(PINB), 0\n rjmp 1b\n"));
  for (const std::uint64_t hz : {1U, 100U, 4'000U, 7'999U, 8'001U}) {
    INFO(hz);
    Chip::Options options{"ATmega328P", 16'000'000};
    Chip::Companion slow;
    slow.name = "slow";
    slow.image = image;
    slow.options.clock_hz = hz;
    options.companions.push_back(slow);
    options.wires = {{"PD2", "slow.PB0"}};
    auto chip = Chip::make(options);
    REQUIRE(chip);
    chip->poke({Space::kCode, 0}, 0xff);
    chip->poke({Space::kCode, 1}, 0xcf);
    chip->run_for(200'000);
    CHECK(chip->cycles() >= 200'000);
  }
}

TEST_CASE("a capture from a board drives pins, aligned as it is said") {
  const std::string vcd = test::scratch("board.vcd");
  test::write(vcd,
              "$timescale 1 us $end $var wire 1 ! D0 $end $var wire 1 \" D1 $end $var wire 8 # n "
              "$end $enddefinitions $end\n#1000 1! 0\" #2000 0! #2500 1! #3000 0! 1\" #4000 z\"\n");
  const auto bench = [&](const std::string& input) {
    return Bench::parse("[chip]\nname = \"ATmega328P\"\nclock = \"16MHz\"\n[[input]]\nfrom = \"" +
                            vcd + "\"\n" + input,
                        "board");
  };
  struct Row {
    const char* keys;
    std::vector<std::pair<unsigned, bool>> d0;  ///< when PD2 changes, in microseconds
  };
  for (const Row& row :
       {Row{"pins = { D0 = \"PD2\" }", {{1000, true}, {2000, false}, {2500, true}, {3000, false}}},
        Row{"pins = { D0 = \"PD2\" }\nat = \"5ms\"",
            {{6000, true}, {7000, false}, {7500, true}, {8000, false}}},
        Row{"pins = { D0 = \"PD2\", D1 = \"PD3\" }\nat = \"5ms\"\nstart = \"first fall(PD2)\"",
            {{4000, true}, {5000, false}, {5500, true}, {6000, false}}},
        Row{"pins = { D0 = \"PD2\", D1 = \"PD3\" }\nat = \"1ms\"\nstart = \"first rise(PD3)\"",
            {{500, true}, {1000, false}}}}) {
    INFO(row.keys);
    const auto made = bench(row.keys);
    if (!made) FAIL(made.error().text());
    Session session(*Chip::make(made->chip));
    REQUIRE(session.open(test::assembled("capture-loop", "1: rjmp 1b\n")));
    REQUIRE(session.trace({"pin.PD2"}));
    session.go_for(Picoseconds{10'000'000'000});
    const Signal pin = *session.signal("pin.PD2");
    for (const auto& [microseconds, high] : row.d0) {
      CHECK(pin.at(16ULL * microseconds + 1).value == (high ? 1U : 0U));
      CHECK(pin.at(16ULL * microseconds + 1).known());
      const Sample before = pin.at(16ULL * microseconds - 1);
      CHECK((!before.known() || (before.value != 0) != high));
    }
  }
  const std::pair<const char*, const char*> wrong[] = {
      {"pins = { D7 = \"PD2\" }", "did you mean"},
      {"pins = { n = \"PD2\" }", "no level 'n'"},
      {"pins = \"PD2\"", "must be a table"},
      {"", "pins"},
      {"pins = { D0 = \"PD2\" }\nstart = \"first fall\"", "first fall(PD2)"},
      {"pins = { D0 = \"PD2\" }\nstart = \"first fall(PD9)\"", "no fall on PD9"},
      {"pins = { D0 = \"PD2\" }\nlevel = \"low\"", "level"},
  };
  for (const auto& [keys, text] : wrong) {
    INFO(keys);
    const auto made = bench(keys);
    REQUIRE_FALSE(made);
    CHECK_THAT(made.error().text(), Catch::Contains(text));
  }
  CHECK_FALSE(Bench::parse("[[input]]\nfrom = \"nowhere.vcd\"\npins = { D0 = \"PD2\" }\n", "x"));
}
