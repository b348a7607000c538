// SPDX-License-Identifier: MIT
// Parts with a level: button, switch, lamp, buzzer, shift register; and inputs at stated times.
#include <fmt/format.h>

#include "base/text.h"
#include "bench/parts.h"
#include "lucid/time.h"

namespace lucid::bench {
namespace {

/// A push button or a switch. Its contact bounces: after each change it opens and closes in an
/// irregular pattern, always the same, for a given time.
class Contact final : public Part {
 public:
  Contact(const std::string& name, Keys& keys, bool stays)
      : Part(name),
        pin_(keys.text("pin")),
        high_(keys.choice("closed", {"low", "high"}, 0) == 1),
        rest_(keys.choice("open", {"open", "low", "high"}, 0)),
        bounce_(keys.microseconds("bounce", "0ms")),
        stays_(stays) {}

  [[nodiscard]] std::vector<std::string> pins() const override { return {pin_}; }
  [[nodiscard]] unsigned numbers() const override { return 4; }
  void start(Wires& wires) const override { show(wires, false); }
  Result<void> act(Wires& wires, const std::string& action,
                   const std::string& value) const override {
    bool closed = action == "press";
    if (stays_) {
      if (action != "turn" || (value != "on" && value != "off"))
        return fail(ErrorCode::kUsage, "'" + name() + "' is a switch", "turn it on or off");
      closed = value == "on";
    } else if (action == "turn") {
      return fail(ErrorCode::kUsage, "'" + name() + "' is a button", "press or release it");
    }
    if (closed == (wires.number(kClosed) != 0)) return {};
    wires.number(kClosed) = closed ? 1 : 0;
    show(wires, closed);
    if (bounce_ == 0) return {};
    wires.number(kEnd) = static_cast<std::int64_t>(wires.now() + wires.ticks(bounce_));
    wires.number(kContact) = closed ? 1 : 0;
    bounce(wires);
    return {};
  }
  [[nodiscard]] std::vector<Action> actions() const override {
    if (stays_) return {{"turn", "on"}, {"turn", "off"}};
    return {{"press"}, {"release"}};
  }
  void on_time(Wires& wires) const override {
    const bool closed = wires.number(kClosed) != 0;
    if (static_cast<std::int64_t>(wires.now()) >= wires.number(kEnd)) {
      show(wires, closed);
      return;
    }
    wires.number(kContact) = 1 - wires.number(kContact);
    show(wires, wires.number(kContact) != 0);
    bounce(wires);
  }
  [[nodiscard]] std::string describe(Wires& wires) const override {
    const bool closed = wires.number(kClosed) != 0;
    std::string out = stays_ ? (closed ? "on" : "off") : closed ? "pressed" : "released";
    if (static_cast<std::int64_t>(wires.now()) < wires.number(kEnd)) out += ", bouncing";
    return out;
  }

 private:
  enum : unsigned { kClosed, kContact, kEnd, kRandom };
  void show(Wires& wires, bool closed) const {
    std::optional<bool> level;
    if (closed)
      level = high_;
    else if (rest_ != 0)
      level = rest_ == 2;
    wires.drive(0, level);
  }
  void bounce(Wires& wires) const {
    std::int64_t& random = wires.number(kRandom);  // a small congruential generator
    random = (random * 1103515245 + 12345) & 0x7fffffff;
    const std::uint64_t step =
        1 + bounce_ / 40 + static_cast<std::uint64_t>(random) % (bounce_ / 8 + 1);
    const std::uint64_t end = static_cast<std::uint64_t>(wires.number(kEnd));
    wires.wake_at(std::min(wires.now() + wires.ticks(step), end));
  }

  std::string pin_;
  bool high_;
  unsigned rest_;
  std::uint64_t bounce_;
  bool stays_;
};

/// A lamp: counts how often and how long it has been lit.
class Lamp final : public Part {
 public:
  Lamp(const std::string& name, Keys& keys)
      : Part(name), pin_(keys.text("pin")), high_(keys.choice("lit", {"low", "high"}, 1) == 1) {}

  [[nodiscard]] std::vector<std::string> pins() const override { return {pin_}; }
  [[nodiscard]] unsigned numbers() const override { return 3; }
  void start(Wires& wires) const override { on_pin(wires, 0, wires.level(0)); }
  void on_pin(Wires& wires, unsigned /*pin*/, bool level) const override {
    const auto now = static_cast<std::int64_t>(wires.now());
    const bool lit = level == high_;
    if (lit && wires.number(kSince) == 0) {
      wires.number(kSince) = now + 1;
      ++wires.number(kTimes);
    } else if (!lit && wires.number(kSince) != 0) {
      wires.number(kTicks) += now + 1 - wires.number(kSince);
      wires.number(kSince) = 0;
    }
  }
  [[nodiscard]] std::string describe(Wires& wires) const override {
    const std::int64_t since = wires.number(kSince);
    std::int64_t ticks = wires.number(kTicks);
    if (since != 0) ticks += static_cast<std::int64_t>(wires.now()) + 1 - since;
    return fmt::format("{}, lit {} times, {} in all", since != 0 ? "on" : "off",
                       wires.number(kTimes),
                       to_text(to_time(static_cast<std::uint64_t>(ticks), wires.clock_hz())));
  }

 private:
  enum : unsigned { kSince, kTimes, kTicks };
  std::string pin_;
  bool high_;
};

/// A buzzer: says its pitch, from the last two rising edges.
class Buzzer final : public Part {
 public:
  Buzzer(const std::string& name, Keys& keys) : Part(name), pin_(keys.text("pin")) {}

  [[nodiscard]] std::vector<std::string> pins() const override { return {pin_}; }
  [[nodiscard]] unsigned numbers() const override { return 3; }
  void on_pin(Wires& wires, unsigned /*pin*/, bool level) const override {
    if (!level) return;
    const auto now = static_cast<std::int64_t>(wires.now());
    wires.number(kPeriod) = wires.number(kEdges) == 0 ? 0 : now - wires.number(kLast);
    wires.number(kLast) = now;
    ++wires.number(kEdges);
  }
  [[nodiscard]] std::string describe(Wires& wires) const override {
    const std::int64_t period = wires.number(kPeriod);
    const auto now = static_cast<std::int64_t>(wires.now());
    const bool sounding = period > 0 && now - wires.number(kLast) <= 2 * period;
    std::string out = "silent";
    if (sounding)
      out =
          fmt::format("{} Hz", (static_cast<std::int64_t>(wires.clock_hz()) + period / 2) / period);
    return out + fmt::format(", {} periods so far", wires.number(kEdges));
  }

 private:
  enum : unsigned { kEdges, kLast, kPeriod };
  std::string pin_;
};

/// Shift registers in a chain: a bit is taken at each rising edge of `clock`, and all are shown at
/// a rising edge of `latch`.
class ShiftRegister final : public Part {
 public:
  ShiftRegister(const std::string& name, Keys& keys)
      : Part(name),
        pins_{keys.text("data"), keys.text("clock"), keys.text("latch")},
        bits_(keys.number("bits", 8, 56, 8)) {}

  [[nodiscard]] std::vector<std::string> pins() const override { return pins_; }
  [[nodiscard]] unsigned numbers() const override { return 2; }
  void on_pin(Wires& wires, unsigned pin, bool level) const override {
    if (!level) return;
    std::int64_t& bits = wires.number(0);
    if (pin == 1) bits = (bits << 1 | (wires.level(0) ? 1 : 0)) & ((std::int64_t{1} << bits_) - 1);
    if (pin == 2) wires.number(1) = bits;
  }
  [[nodiscard]] std::string describe(Wires& wires) const override {
    return fmt::format("shows 0x{:0{}x}", wires.number(1), (bits_ + 3) / 4);
  }

 private:
  std::vector<std::string> pins_;
  std::int64_t bits_;
};

/// A serial port whose TXD is joined to its RXD.
class LoopBack final : public Part {
 public:
  LoopBack(const std::string& name, Keys& keys) : Part(name), port_(keys.text("port")) {}

  [[nodiscard]] std::vector<std::string> pins() const override { return {}; }
  [[nodiscard]] unsigned numbers() const override { return 1; }
  [[nodiscard]] std::string joins() const override { return port_; }
  void on_byte(Wires& wires, const std::string& port, std::uint8_t /*byte*/) const override {
    if (base::equal_ignoring_case(port, port_)) ++wires.number(0);
  }
  [[nodiscard]] std::string describe(Wires& wires) const override {
    return fmt::format("{} has sent itself {} bytes", port_, wires.number(0));
  }

 private:
  std::string port_;
};

class TimedInputs final : public Part {
 public:
  explicit TimedInputs(std::vector<Input> inputs) : Part("inputs"), inputs_(std::move(inputs)) {
    for (const Input& input : inputs_)
      if (!input.pin.empty() && !is_supply(input)) pins_.push_back(input.pin);
  }
  [[nodiscard]] std::vector<std::string> pins() const override { return pins_; }
  [[nodiscard]] unsigned numbers() const override { return 2; }
  [[nodiscard]] bool is_a_hand() const override { return true; }
  void start(Wires& wires) const override { on_time(wires); }
  void on_time(Wires& wires) const override {
    std::int64_t& next = wires.number(0);  // of the inputs
    std::int64_t& pin = wires.number(1);   // of the pins
    while (next < static_cast<std::int64_t>(inputs_.size())) {
      const Input& input = inputs_[static_cast<std::size_t>(next)];
      const std::uint64_t due = to_ticks(input.at, wires.clock_hz());
      if (due > wires.now()) {
        wires.wake_at(due);
        return;
      }
      ++next;
      if (!input.part.empty())
        (void)wires.act(input.part, input.action, input.value).has_value();
      else if (input.reset)
        wires.reset();
      else if (input.transfer)
        wires.transfer(*input.transfer);
      else if (input.frame)
        wires.send_frame(input.serial, *input.frame);
      else if (!input.serial.empty())
        wires.send(input.serial, input.bytes);
      else if (is_supply(input))
        wires.set_supply(*input.microvolts);
      else if (input.microvolts)
        wires.apply(static_cast<unsigned>(pin++), *input.microvolts);
      else
        wires.drive(static_cast<unsigned>(pin++), input.level);
    }
  }
  [[nodiscard]] std::string describe(Wires& wires) const override {
    return fmt::format("{} of {} done", wires.number(0), inputs_.size());
  }

 private:
  static bool is_supply(const Input& input) {
    return input.microvolts && base::equal_ignoring_case(input.pin, "VCC");
  }
  std::vector<Input> inputs_;
  std::vector<std::string> pins_;
};

template <class T>
std::shared_ptr<const Part> plain(const std::string& name, Keys& keys, const Surroundings&) {
  return std::make_shared<T>(name, keys);
}

}  // namespace

std::shared_ptr<const Part> timed_inputs(std::vector<Input> inputs) {
  return std::make_shared<TimedInputs>(std::move(inputs));
}

const std::vector<Kind>& kinds() {
  static const std::vector<Kind> kKinds{
      {"button", "pin, closed = \"low\", open = \"open\", bounce = \"0ms\"",
       [](const std::string& name, Keys& keys, const Surroundings&) -> std::shared_ptr<const Part> {
         return std::make_shared<Contact>(name, keys, false);
       }},
      {"switch", "pin, closed = \"low\", open = \"open\", bounce = \"0ms\"",
       [](const std::string& name, Keys& keys, const Surroundings&) -> std::shared_ptr<const Part> {
         return std::make_shared<Contact>(name, keys, true);
       }},
      {"lamp", "pin, lit = \"high\"", plain<Lamp>},
      {"buzzer", "pin", plain<Buzzer>},
      {"shift-register", "data, clock, latch, bits = 8", plain<ShiftRegister>},
      {"loop-back", "port", plain<LoopBack>},
      {"terminal", "port, text or script", make_terminal},
      {"two-wire-eeprom",
       "sda, scl, address = 0x50, bytes = 256, page = 8 (from 4096 bytes on 32), write_time = "
       "\"5ms\"",
       make_two_wire_eeprom},
      {"spi-flash",
       "select, clock, in, out, bytes = 131072, id = 0x002511, program_time = \"700us\", "
       "erase_time = "
       "\"45ms\"",
       make_spi_flash},
      {"voltage", "pin, volts", make_constant},
      {"ramp", "pin, from, to, over, after = \"0s\"", make_ramp},
      {"sine", "pin, middle, amplitude, period", make_sine},
      {"table", "pin, file", make_table},
      {"potentiometer", "pin, percent = 50", make_potentiometer},
      {"oven",
       "heater, heats = \"high\", sensor, watts = 2000, loss = 2000 (mW a degree), capacity = 5000 "
       "(J a degree), ambient = 20 (degrees), scale = \"4mV\" (a degree), offset = \"0V\"",
       make_oven},
  };
  return kKinds;
}

}  // namespace lucid::bench
