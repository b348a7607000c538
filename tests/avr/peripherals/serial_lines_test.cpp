// SPDX-License-Identifier: MIT
// The levels of TXD, RXD and XCK, to the cycle. Source: the data sheet's chapter "USART0", its
// sections "Frame Formats", "Asynchronous Data Reception" and "Synchronous Clock Operation".
#include <functional>

#include "bench.h"
#include "lucid/part.h"

using namespace lucid;
using test::Bench;

namespace {

constexpr std::uint32_t kUcsr0a = 0xc0, kUcsr0b = 0xc1, kUcsr0c = 0xc2, kUbrr0 = 0xc4, kUdr0 = 0xc6;

struct Format {
  unsigned bits, parity, stops;  ///< parity as UPM: 0, 2 even, 3 odd
};
const Format kFormats[] = {{5, 0, 1}, {6, 2, 1}, {7, 3, 2}, {8, 0, 1},
                           {8, 2, 2}, {9, 0, 1}, {9, 3, 2}};

unsigned ucsrc(const Format& f) {
  return f.parity << 4 | (f.stops - 1) << 3 | (f.bits == 9 ? 3 : f.bits - 5) << 1;
}

/// "Frame Formats": start, data with the lowest bit first, parity, stop.
std::vector<bool> frame_of(const Format& f, unsigned data) {
  std::vector<bool> out{false};
  bool odd = f.parity == 3;
  for (unsigned i = 0; i < f.bits; ++i) {
    out.push_back((data >> i & 1) != 0);
    odd ^= out.back();
  }
  if (f.parity != 0) out.push_back(odd);
  out.insert(out.end(), f.stops, true);
  return out;
}

/// Plays levels on pins: what happens after so many ticks.
class Player final : public Part {
 public:
  using Step = std::pair<std::uint64_t, std::function<void(Wires&)>>;
  Player(std::vector<std::string> pins, std::vector<Step> steps)
      : Part("player"), pins_(std::move(pins)), steps_(std::move(steps)) {}
  std::vector<std::string> pins() const override { return pins_; }
  unsigned numbers() const override { return 1; }
  void start(Wires& wires) const override { wires.wake_at(steps_[0].first); }
  void on_time(Wires& wires) const override {
    auto& at = wires.number(0);
    steps_[static_cast<std::size_t>(at++)].second(wires);
    if (static_cast<std::size_t>(at) < steps_.size())
      wires.wake_at(steps_[static_cast<std::size_t>(at)].first);
  }
  std::string describe(Wires& /*wires*/) const override { return {}; }

 private:
  std::vector<std::string> pins_;
  std::vector<Step> steps_;
};

/// PD1 (TXD) is wired to PD0 (RXD).
class Joint final : public Part {
 public:
  Joint() : Part("joint") {}
  std::vector<std::string> pins() const override { return {"PD1", "PD0"}; }
  void start(Wires& wires) const override { wires.drive(1, true); }
  void on_pin(Wires& wires, unsigned pin, bool level) const override {
    if (pin == 0) wires.drive(1, level);
  }
  std::string describe(Wires& /*wires*/) const override { return {}; }
};

Player::Step level_at(std::uint64_t tick, unsigned pin, bool level) {
  return {tick, [pin, level](Wires& wires) { wires.drive(pin, level); }};
}

void set_up(Bench& b, const Format& f, unsigned ubrr, bool twice, unsigned on) {
  b.write(kUbrr0, ubrr);
  b.write(kUcsr0a, twice ? 2 : 0);
  b.write(kUcsr0c, ucsrc(f));
  b.write(kUcsr0b, on | (f.bits == 9 ? 4 : 0));
}

}  // namespace

TEST_CASE("TXD shows each bit of a frame for a bit's time") {
  for (const Format& f : kFormats) {
    for (const unsigned data : {0x155U, 0x0aaU, 0x001U, 0x1ffU, 0x000U}) {
      INFO(f.bits << " bits, parity " << f.parity << ", data " << data);
      Bench b;
      set_up(b, f, 3, false, 8);
      if ((data & 0x100) != 0) b.set(kUcsr0b, b.get(kUcsr0b) | 1);
      b.write(kUdr0, data & 0xff);
      const std::uint64_t started = b.chip().cycles();
      const auto frame = frame_of(f, data);
      bool before = true;
      for (unsigned i = 0; i < frame.size(); ++i) {
        if (i > 0) {
          b.pass(started + i * 64 - 2 - b.chip().cycles());
          CHECK(b.pin("PD1").level == before);
        }
        b.pass(started + i * 64 + 2 - b.chip().cycles());
        CHECK(b.pin("PD1").level == frame[i]);
        before = frame[i];
      }
    }
  }
}

TEST_CASE("a transmitter that is switched off first sends what it has") {
  Bench b;
  set_up(b, {8, 0, 1}, 3, false, 8);
  b.write(kUdr0, 0);
  b.write(kUdr0, 0);
  b.write(kUcsr0b, 0);
  b.pass(15 * 64);
  CHECK(b.pin("PD1").output);
  CHECK_FALSE(b.pin("PD1").level);
  b.pass(6 * 64);
  CHECK_FALSE(b.pin("PD1").output);
  CHECK(b.chip().take_serial_output().size() == 2);
}

TEST_CASE("what leaves on TXD arrives on RXD, in every format") {
  for (const Format& f : kFormats) {
    for (const bool twice : {false, true}) {
      Chip::Options options;
      options.parts = {std::make_shared<Joint>()};
      Bench b(options);
      set_up(b, f, twice ? 7 : 3, twice, 0x18);
      for (unsigned data = 0; data < 1U << f.bits; data += f.bits == 9 ? 37 : 5) {
        INFO(f.bits << " bits, parity " << f.parity << ", twice " << twice << ", data " << data);
        b.set(kUcsr0b, (b.get(kUcsr0b) & 0x1cU) | data >> 8);
        b.write(kUdr0, data & 0xff);
        const std::uint64_t started = b.chip().cycles();
        const std::uint64_t bits = 1 + f.bits + (f.parity != 0 ? 1 : 0);  // before the stop bit
        const std::uint64_t known = started + bits * 64 + (twice ? 6 * 8 : 10 * 4);
        b.pass(known - 2 - b.chip().cycles());
        CHECK((b.get(kUcsr0a) & 0x80) == 0);
        b.pass(4);
        CHECK((b.get(kUcsr0a) & 0x9c) == 0x80);
        CHECK((b.get(kUcsr0b) >> 1 & 1) == data >> 8);
        CHECK(b.read(kUdr0) == (data & 0xff));
        b.pass(3 * 64);
      }
    }
  }
}

// "Asynchronous Operational Range": the slowest and the fastest sender that can be understood.
TEST_CASE("a sender with another clock is understood as far as the formulas say") {
  for (const double error : {-0.040, -0.02, 0.0, 0.02, 0.042, -0.09, 0.09}) {
    for (const unsigned data : {0x55U, 0x80U, 0x00U, 0xffU}) {
      INFO("error " << error << ", data " << data);
      constexpr unsigned kD = 8, kS = 16, kSf = 8, kSm = 9;
      const double slowest = (kD + 1.0) * kS / (kS - 1.0 + kD * kS + kSf);
      const double fastest = (kD + 2.0) * kS / ((kD + 1.0) * kS + kSm);
      const bool good = 1 + error > slowest && 1 + error < fastest;
      std::vector<Player::Step> steps{level_at(10, 0, true)};
      const auto frame = frame_of({8, 0, 1}, data);
      for (unsigned byte = 0; byte < 3; ++byte)
        for (unsigned i = 0; i < frame.size(); ++i)
          steps.push_back(
              level_at(2000 + static_cast<std::uint64_t>((byte * 10 + i) * 1600 / (1 + error)), 0,
                       frame[i]));
      Chip::Options options;
      options.parts = {std::make_shared<Player>(std::vector<std::string>{"PD0"}, steps)};
      Bench b(options);
      set_up(b, {8, 0, 1}, 99, false, 0x10);
      b.pass(60'000);
      bool understood = true;
      for (unsigned byte = 0; byte < 3; ++byte) {
        understood &= (b.get(kUcsr0a) & 0x9c) == 0x80;
        understood &= b.read(kUdr0) == data;
      }
      if (good) CHECK(understood);
      if (!good && data == (error < 0 ? 0x55 : 0x80)) CHECK_FALSE(understood);
    }
  }
}

TEST_CASE("two of three samples decide; a short low level is no start bit") {
  // A bit is 1600 cycles: samples 8, 9 and 10 are 800, 900 and 1000 behind its start.
  struct Row {
    std::uint64_t from, to;  ///< a disturbance, behind the start of the frame
    bool frame;
    unsigned data;
  };
  for (const Row& row :
       {Row{0, 850, false, 0}, Row{0, 950, true, 0xff}, Row{1600 + 850, 1600 + 950, true, 0xff},
        Row{1600 + 750, 1600 + 950, true, 0xfe},
        Row{8 * 1600 + 850, 8 * 1600 + 1050, true, 0x7f}}) {
    INFO(row.from << " to " << row.to);
    std::vector<Player::Step> steps{level_at(10, 0, true), level_at(5000, 0, false)};
    if (row.from == 0) {
      steps.push_back(level_at(5000 + row.to, 0, true));
    } else {
      steps.push_back(level_at(5000 + 1600, 0, true));
      steps.push_back(level_at(5000 + row.from, 0, false));
      steps.push_back(level_at(5000 + row.to, 0, true));
    }
    Chip::Options options;
    options.parts = {std::make_shared<Player>(std::vector<std::string>{"PD0"}, steps)};
    Bench b(options);
    set_up(b, {8, 0, 1}, 99, false, 0x10);
    b.pass(30'000);
    CHECK((b.get(kUcsr0a) & 0x80) == (row.frame ? 0x80 : 0));
    if (row.frame) CHECK(b.read(kUdr0) == row.data);
  }
}

TEST_CASE("a low line is a frame error; parity is checked") {
  std::vector<Player::Step> steps{level_at(10, 0, true), level_at(5000, 0, false),
                                  level_at(50'000, 0, true)};
  unsigned i = 0;
  for (const bool level :
       {false, true, false, false, false, false, false, false, false, false, true})
    steps.push_back(level_at(60'000 + i++ * 1600, 0, level));  // 0x01 with even parity 0: wrong
  Chip::Options options;
  options.parts = {std::make_shared<Player>(std::vector<std::string>{"PD0"}, steps)};
  Bench b(options);
  set_up(b, {8, 2, 1}, 99, false, 0x10);
  b.pass(90'000);
  CHECK((b.get(kUcsr0a) & 0x9c) == 0x90);  // FE
  CHECK(b.read(kUdr0) == 0);
  CHECK((b.get(kUcsr0a) & 0x9c) == 0x84);  // UPE
  CHECK(b.read(kUdr0) == 1);
  CHECK((b.get(kUcsr0a) & 0x80) == 0);
}

TEST_CASE("synchronous mode with its own clock: data changes at one edge, is stable at the other") {
  for (const bool falling : {false, true}) {
    for (const Format& f : kFormats) {
      INFO(f.bits << " bits, UCPOL " << falling);
      Bench b;
      b.out(0x2a, 0x10);  // DDRD: XCK is an output
      b.write(kUbrr0, 9);
      b.write(kUcsr0c, 0x40 | ucsrc(f) | (falling ? 1 : 0));
      b.write(kUcsr0b, 0x08 | (f.bits == 9 ? 4 : 0));
      b.write(kUdr0, 0x4d);
      b.write(kUdr0, 0x32);
      std::vector<bool> seen;
      bool clock = b.pin("PD4").level;
      std::uint64_t last = 0;
      while (seen.size() < 40) {
        b.pass(2);
        if (b.pin("PD4").level == clock) continue;
        clock = !clock;
        if (last != 0) CHECK(b.chip().cycles() - last == 10);
        last = b.chip().cycles();
        if (clock == falling) seen.push_back(b.pin("PD1").level);
      }
      std::vector<bool> expected = frame_of(f, 0x4d);
      const auto second = frame_of(f, 0x32);
      expected.insert(expected.end(), second.begin(), second.end());
      while (!seen.empty() && seen.front()) seen.erase(seen.begin());  // the line at rest
      REQUIRE(seen.size() > expected.size());
      CHECK(std::vector<bool>(seen.begin(), seen.begin() + static_cast<long>(expected.size())) ==
            expected);
      CHECK(seen.back());
      CHECK((b.get(kUcsr0a) & 0x40) != 0);
    }
  }
}

TEST_CASE("synchronous mode with a clock from outside: both ways, and whole frames beside it") {
  for (const bool falling : {false, true}) {
    for (const Format& f : kFormats) {
      INFO(f.bits << " bits, UCPOL " << falling);
      const unsigned data = 0x16d & ((1U << f.bits) - 1);
      const auto frame = frame_of(f, data);
      std::vector<Player::Step> steps{level_at(10, 1, true), level_at(20, 0, falling)};
      for (unsigned i = 0; i < 40; ++i) {  // PD4 and PD0; an irregular clock
        const std::uint64_t at = 5000 + i * 300;
        const unsigned step = i - 2;
        const bool level = step >= frame.size() || frame[step];
        steps.push_back({at, [level, falling](Wires& wires) {
                           wires.drive(1, level);
                           wires.drive(0, !falling);
                         }});
        steps.push_back(level_at(at + 100 + i, 0, falling));
      }
      Chip::Options options;
      options.parts = {std::make_shared<Player>(std::vector<std::string>{"PD4", "PD0"}, steps)};
      Bench b(options);
      b.write(kUcsr0c, 0x40 | ucsrc(f) | (falling ? 1 : 0));
      b.write(kUcsr0b, 0x18 | (f.bits == 9 ? 4 : 0));
      b.write(kUdr0, 0x4d);
      std::vector<bool> seen;
      b.pass(100);
      bool clock = b.pin("PD4").level;
      while (b.chip().cycles() < 5000 + 40 * 300) {
        b.pass(2);
        if (b.pin("PD4").level == clock) continue;
        clock = !clock;
        if (clock == falling) seen.push_back(b.pin("PD1").level);
      }
      const auto expected = frame_of(f, 0x4d & ((1U << f.bits) - 1));
      REQUIRE(seen.size() >= expected.size());
      CHECK(std::vector<bool>(seen.begin(), seen.begin() + static_cast<long>(expected.size())) ==
            expected);
      CHECK((b.get(kUcsr0a) & 0x9c) == 0x80);
      CHECK((b.get(kUcsr0b) >> 1 & 1) == data >> 8);
      CHECK(b.read(kUdr0) == (data & 0xff));
    }
  }
}
