// SPDX-License-Identifier: MIT
// The two-wire interface on its lines: waveforms, arbitration, stretching, waking up; and between
// chips. Source: the data sheet's chapter "2-wire Serial Interface" and its tables of status codes.
#include <fmt/format.h>

#include <map>

#include "bench.h"
#include "lucid/part.h"
#include "lucid/session.h"
#include "tools.h"

using namespace lucid;
using test::Bench;

namespace {

constexpr std::uint32_t kTwbr = 0xb8, kTwsr = 0xb9, kTwdr = 0xbb, kTwcr = 0xbc;
using Codes = std::vector<unsigned>;

/// A node that does one write of its own and answers others; it notes each status.
const char* const kNode = R"(#include <avr/interrupt.h>
#include <avr/io.h>
#include <avr/sleep.h>
volatile uint8_t statuses[32], count, heard[8], wants;
#ifndef SENDS
#define SENDS 0
#endif
ISR(TWI_vect) {
  uint8_t status = TWSR & 0xf8, control = _BV(TWEN) | _BV(TWEA) | _BV(TWIE) | _BV(TWINT);
  static uint8_t left = 3, fill;
  if (count < 32) statuses[count++] = status;
  switch (status) {
    case 0x08: wants = 0; TWDR = TARGET << 1; break;
    case 0x18:
    case 0x28:
      if (left == 0) {
        control |= _BV(TWSTO);
        break;
      }
      TWDR = SENDS + left--;
      break;
    case 0x20:
    case 0x30: control |= _BV(TWSTO); break;
    case 0x38:
    case 0x68: wants = 1; break;
    case 0x80: heard[fill++ & 7] = TWDR; break;
    case 0xa8:
    case 0xb0:
    case 0xb8: TWDR = 0xc0 + fill++; break;
  }
  if (status != 0x08 && wants) control |= _BV(TWSTA);
  TWCR = control;
}
int main(void) {
  TWAR = OWN << 1;
  TWBR = RATE;
  sei();
  TWCR = _BV(TWEN) | _BV(TWEA) | _BV(TWIE);
  if (SENDS != 0) {
    for (volatile uint16_t i = 0; i < 1000; i++) {
    }
    wants = 1;
    TWCR = _BV(TWEN) | _BV(TWEA) | _BV(TWIE) | _BV(TWSTA);
  }
  set_sleep_mode(SLEEPS);
  for (;;) sleep_mode();
}
)";

Image node(unsigned own, unsigned target, unsigned sends, const char* sleeps = "SLEEP_MODE_IDLE",
           unsigned rate = 32) {
  return *Image::open(test::compiled(
      fmt::format("node{}{}{}", own, target, sends), kNode,
      fmt::format("-Os -gdwarf-4 -DOWN={} -DTARGET={} -DSENDS={} -DSLEEPS={} -DRATE={}", own,
                  target, sends, sleeps, rate)));
}

struct Symbols {
  explicit Symbols(const Image& image) {
    for (const Symbol& symbol : image.symbols()) at[symbol.name] = symbol.address.offset;
  }
  std::map<std::string, std::uint32_t> at;
};

Codes statuses(const Chip& chip, const Image& image) {
  const Symbols symbols(image);
  Codes out;
  const unsigned count = *chip.peek({Space::kData, symbols.at.at("count")});
  for (unsigned i = 0; i < count; ++i)
    out.push_back(*chip.peek({Space::kData, symbols.at.at("statuses") + i}));
  return out;
}
unsigned heard(const Chip& chip, const Image& image, unsigned at) {
  return *chip.peek({Space::kData, Symbols(image).at.at("heard") + at});
}

/// Answers one address with bytes of its own, and holds SCL for a while before each of them.
class Slow final : public Part {
 public:
  Slow() : Part("slow") {}
  std::vector<std::string> pins() const override { return {"PC4", "PC5"}; }
  bool on_address(Wires& wires, std::uint8_t address, bool reading) const override {
    if (address != 0x31) return false;
    if (reading) {
      wires.drive(1, false);
      wires.wake_at(wires.now() + 1000);
    }
    return true;
  }
  void on_time(Wires& wires) const override { wires.drive(1, std::nullopt); }
  std::uint8_t bus_byte(Wires& /*wires*/) const override { return 0x96; }
  std::string describe(Wires& /*wires*/) const override { return {}; }
};

}  // namespace

TEST_CASE("SDA and SCL show START, each bit and STOP, at the rate of the generator") {
  struct Row {
    unsigned twbr, twps;
  };
  for (const Row& row : {Row{0, 0}, Row{10, 0}, Row{72, 0}, Row{3, 1}, Row{2, 2}}) {
    const std::uint64_t bit = 16 + (std::uint64_t{2} * row.twbr << (2 * row.twps));
    INFO("a bit in " << bit);
    Bench b;
    b.write(kTwbr, row.twbr);
    b.write(kTwsr, row.twps);
    const auto sda = [&] { return b.pin("PC4").level; };
    const auto scl = [&] { return b.pin("PC5").level; };
    b.write(kTwcr, 0xa4);
    CHECK(sda());
    CHECK(scl());
    const std::uint64_t started = b.chip().cycles();
    while (sda()) b.pass(2);
    CHECK(scl());
    while (scl()) b.pass(2);
    CHECK(!sda());
    CHECK(b.chip().cycles() - started <= bit + 4);
    CHECK((b.get(kTwcr) & 0x80) != 0);
    b.write(kTwdr, 0xa6);
    b.write(kTwcr, 0x84);
    unsigned bits = 0;
    std::uint64_t last = 0;
    for (unsigned i = 0; i < 9; ++i) {
      while (!scl()) b.pass(2);
      if (last != 0) CHECK(b.chip().cycles() - last >= bit - 3);
      if (last != 0) CHECK(b.chip().cycles() - last <= bit + 3);
      last = b.chip().cycles();
      bits = bits << 1 | (sda() ? 1 : 0);
      while (scl()) {
        CHECK(sda() == ((bits & 1) != 0));
        b.pass(2);
      }
    }
    CHECK(bits == (0xa6 << 1 | 1));  // nobody acknowledges
    CHECK((b.get(kTwsr) & 0xf8) == 0x20);
    b.write(kTwcr, 0x94);
    while (!scl()) b.pass(2);
    CHECK(!sda());
    while (!sda()) b.pass(2);
    CHECK(scl());
    b.pass(bit);
    CHECK((b.get(kTwcr) & 0x90) == 0);
    b.write(kTwcr, 0);  // off: the pins are the port's again
    CHECK_FALSE(b.pin("PC4").output);
    CHECK(b.pin("PC4").pulled_up_outside);
  }
}

TEST_CASE("who holds SCL makes the master wait") {
  Chip::Options options;
  options.parts = {std::make_shared<Slow>()};
  Bench b(options);
  b.write(kTwbr, 12);  // a bit in 40
  const auto act = [&](unsigned control) {
    b.write(kTwcr, 0x84 | control);
    const std::uint64_t since = b.chip().cycles();
    while ((b.get(kTwcr) & 0x80) == 0) b.pass(2);
    return b.chip().cycles() - since;
  };
  CHECK(act(0x20) <= 44);
  b.write(kTwdr, 0x31 << 1 | 1);
  const std::uint64_t address = act(0);
  CHECK(address >= 8 * 40 + 1000);  // held behind the eighth bit
  CHECK(address <= 9 * 40 + 1000 + 4);
  CHECK((b.get(kTwsr) & 0xf8) == 0x40);
  CHECK(act(0) <= 9 * 40 + 4);  // not acknowledged
  CHECK((b.get(kTwsr) & 0xf8) == 0x58);
  CHECK(b.get(kTwdr) == 0x96);
}

TEST_CASE("between chips: a master writes to a slave, whatever their clocks") {
  for (const std::uint64_t hz : {16'000'000U, 8'000'000U, 1'000'000U, 11'059'200U}) {
    INFO(hz);
    const Image master = node(0x11, 0x29, 0x40), slave = node(0x29, 0, 0);
    Chip::Options options;
    options.companions = {{"other", {"ATmega328P", hz}, slave}};
    options.wires = {{"PC4", "other.PC4"}, {"PC5", "other.PC5"}};
    Chip chip = *Chip::make(options);
    REQUIRE(chip.load(master));
    chip.run_for(Picoseconds{5'000'000'000});
    CHECK(statuses(chip, master) == Codes{0x08, 0x18, 0x28, 0x28, 0x28});
    const Chip other = *chip.companion("other");
    CHECK(statuses(other, slave) == Codes{0x60, 0x80, 0x80, 0x80, 0xa0});
    CHECK(heard(other, slave, 0) == 0x43);
    CHECK(heard(other, slave, 2) == 0x41);
  }
}

TEST_CASE("arbitration: two masters begin at once, one loses nothing and the other tries again") {
  struct Row {
    unsigned own, target, other_own, other_target;
    Codes winner, loser;
  };
  const Codes third{0x60, 0x80, 0x80, 0x80, 0xa0};
  for (const Row& row : {// 0x20 wins over 0x21 at the address; both are the third chip's
                         Row{0x11, 0x20, 0x12, 0x21, {0x08, 0x20}, {0x08, 0x38, 0x08, 0x20}},
                         // who loses is meant itself, and answers
                         Row{0x11,
                             0x12,
                             0x12,
                             0x21,
                             {0x08, 0x18, 0x28, 0x28, 0x28},
                             {0x08, 0x68, 0x80, 0x80, 0x80, 0xa0, 0x08, 0x20}}}) {
    INFO(row.target << " and " << row.other_target);
    const Image mine = node(row.own, row.target, 0x40),
                other = node(row.other_own, row.other_target, 0x50);
    Chip::Options options;
    options.companions = {{"other", {"ATmega328P", 16'000'000}, other}};
    options.wires = {{"PC4", "other.PC4"}, {"PC5", "other.PC5"}};
    Chip chip = *Chip::make(options);
    REQUIRE(chip.load(mine));
    chip.run_for(Picoseconds{10'000'000'000});
    CHECK(statuses(chip, mine) == row.winner);
    CHECK(statuses(*chip.companion("other"), other) == row.loser);
  }
  // The same address: the data decide, and both go on as if they were alone until then.
  const Image mine = node(0x11, 0x29, 0x40), other = node(0x12, 0x29, 0x50),
              slave = node(0x29, 0, 0);
  Chip::Options options;
  options.companions = {{"other", {"ATmega328P", 16'000'000}, other},
                        {"slave", {"ATmega328P", 8'000'000}, slave}};
  options.wires = {{"PC4", "other.PC4", "slave.PC4"}, {"PC5", "other.PC5", "slave.PC5"}};
  Chip chip = *Chip::make(options);
  REQUIRE(chip.load(mine));
  chip.run_for(Picoseconds{10'000'000'000});
  CHECK(statuses(chip, mine) == Codes{0x08, 0x18, 0x28, 0x28, 0x28});
  const Codes loser = statuses(*chip.companion("other"), other);
  REQUIRE(loser.size() == 7);
  CHECK(Codes(loser.begin(), loser.begin() + 4) == Codes{0x08, 0x18, 0x38, 0x08});
  const Chip third_chip = *chip.companion("slave");
  CHECK(statuses(third_chip, slave).size() == 9);  // 0x53 was taken as sent
  CHECK(heard(third_chip, slave, 0) == 0x43);
  CHECK(heard(third_chip, slave, 3) == 0x52);
}

TEST_CASE("the own address wakes the chip up from power-down; SCL is held until it has seen it") {
  const Image sleeper = node(0x29, 0, 0, "SLEEP_MODE_PWR_DOWN");
  Chip chip = *Chip::make({});
  REQUIRE(chip.load(sleeper));
  chip.run_for(1000);
  REQUIRE(chip.transfer({0x30, {1}}));  // somebody else's: it sleeps on
  chip.run_for(20'000);
  CHECK(statuses(chip, sleeper).empty());
  REQUIRE(chip.transfer({0x29, {0x77, 0x78}, 2}));
  chip.run_for(40'000);
  CHECK(statuses(chip, sleeper) == Codes{0x60, 0x80, 0x80, 0xa0, 0xa8, 0xb8, 0xc0});
  CHECK(heard(chip, sleeper, 1) == 0x78);
  CHECK(chip.take_serial_output() == "\xc2\xc3");
}

TEST_CASE("a controller outside and the chip's own transfer: one of them waits") {
  const Image master = node(0x11, 0x29, 0x40, "SLEEP_MODE_IDLE", 2);
  Chip chip = *Chip::make({});
  REQUIRE(chip.load(master));
  chip.run_for(1000);
  REQUIRE(chip.transfer({0x11, std::vector<std::uint8_t>(20, 0x55)}));
  chip.run_for(15'000);
  REQUIRE(chip.transfer({0x11, {0x66}}));
  chip.run_for(100'000);
  // It wants to send while it is addressed, and does so before the controller's next transfer.
  Codes expected{0x60};
  expected.insert(expected.end(), 20, 0x80);
  expected.insert(expected.end(), {0xa0, 0x08, 0x20, 0x60, 0x80, 0xa0});
  CHECK(statuses(chip, master) == expected);
  CHECK(heard(chip, master, 0) == 0x55);
}

TEST_CASE("START and STOP where none may be are a bus error; TWSTO recovers") {
  Bench b;
  b.write(kTwbr, 72);
  b.write(kTwcr, 0xa4);
  while ((b.get(kTwcr) & 0x80) == 0) b.pass(2);
  b.write(kTwdr, 0xff);
  b.write(kTwcr, 0x84);
  b.pass(3 * 160 + 120);  // SCL is high, SDA, too
  REQUIRE(b.chip().drive("PC4", false));
  REQUIRE(b.chip().drive("PC4", std::nullopt));
  CHECK((b.get(kTwsr) & 0xf8) == 0x00);
  CHECK((b.get(kTwcr) & 0x80) != 0);
  b.write(kTwcr, 0x94);
  CHECK((b.get(kTwcr) & 0x90) == 0);
  CHECK((b.get(kTwsr) & 0xf8) == 0xf8);
  b.pass(10);
  CHECK(b.pin("PC5").level);
  b.write(kTwcr, 0xa4);
  b.pass(200);
  CHECK((b.get(kTwsr) & 0xf8) == 0x08);
}

TEST_CASE("after a reset TWAR is 0xFE") {
  CHECK(Chip::make({"ATmega328P", 16'000'000})->peek({Space::kData, 0xba}) == 0xfe);
}
