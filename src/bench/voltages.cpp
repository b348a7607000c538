// SPDX-License-Identifier: MIT
// Parts with a voltage: constant, ramp, sine, a table of values, a potentiometer, an oven with its
// sensor. Whole numbers only, so that every machine computes the same.
#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>

#include "base/text.h"
#include "bench/parts.h"
#include "lucid/bench.h"
#include "lucid/time.h"

namespace lucid::bench {
namespace {

constexpr std::uint64_t kStep = 100;  // microseconds between two values of a voltage that moves

std::string volts(std::int64_t microvolts) { return fmt::format("{:.3f} V", microvolts / 1e6); }

class Constant final : public Part {
 public:
  Constant(const std::string& name, std::string pin, std::int32_t microvolts)
      : Part(name), pin_(std::move(pin)), microvolts_(microvolts) {}
  [[nodiscard]] std::vector<std::string> pins() const override { return {pin_}; }
  [[nodiscard]] unsigned numbers() const override { return 1; }
  void start(Wires& wires) const override { set(wires, microvolts_); }
  Result<void> act(Wires& wires, const std::string& action,
                   const std::string& value) const override {
    const auto microvolts = parse_voltage(value);
    if (action != "turn" || !microvolts)
      return fail(ErrorCode::kUsage, "'" + name() + "' is a voltage", "turn it to 2.5V");
    set(wires, *microvolts);
    return {};
  }
  [[nodiscard]] std::vector<Action> actions() const override { return {{"turn", "2.5V", true}}; }
  [[nodiscard]] std::string describe(Wires& wires) const override { return volts(wires.number(0)); }

 private:
  static void set(Wires& wires, std::int32_t microvolts) {
    wires.number(0) = microvolts;
    wires.apply(0, microvolts);
  }
  std::string pin_;
  std::int32_t microvolts_;
};

class Potentiometer final : public Part {
 public:
  Potentiometer(const std::string& name, Keys& keys)
      : Part(name), pin_(keys.text("pin")), percent_(keys.number("percent", 0, 100, 50)) {}
  [[nodiscard]] std::vector<std::string> pins() const override { return {pin_}; }
  [[nodiscard]] unsigned numbers() const override { return 1; }
  void start(Wires& wires) const override { set(wires, percent_); }
  Result<void> act(Wires& wires, const std::string& action,
                   const std::string& value) const override {
    std::int64_t percent = -1;
    const char* end = value.data() + value.size();
    const auto [rest, error] = std::from_chars(value.data(), end, percent);
    const std::string_view unit(rest, static_cast<std::size_t>(end - rest));
    if (action != "turn" || error != std::errc() || unit != "%" || percent < 0 || percent > 100)
      return fail(ErrorCode::kUsage, "'" + name() + "' is a potentiometer", "turn it to 40%");
    set(wires, percent);
    return {};
  }
  [[nodiscard]] std::vector<Action> actions() const override { return {{"turn", "40%", true}}; }
  [[nodiscard]] std::string describe(Wires& wires) const override {
    return fmt::format("{} %, {}", wires.number(0), volts(wires.supply() * wires.number(0) / 100));
  }

 private:
  static void set(Wires& wires, std::int64_t percent) {
    wires.number(0) = percent;
    wires.apply(0, static_cast<std::int32_t>(wires.supply() * percent / 100));
  }
  std::string pin_;
  std::int64_t percent_;
};

/// A voltage that follows time: between its points along a line, before and behind them constant.
class Curve final : public Part {
 public:
  struct Point {
    std::uint64_t at;  ///< microseconds
    std::int32_t microvolts;
  };
  /// `repeats`: begins again behind the last point.
  Curve(const std::string& name, std::string pin, std::vector<Point> points, bool repeats = false)
      : Part(name), pin_(std::move(pin)), points_(std::move(points)), repeats_(repeats) {}
  [[nodiscard]] std::vector<std::string> pins() const override { return {pin_}; }
  [[nodiscard]] unsigned numbers() const override { return 1; }
  void start(Wires& wires) const override { on_time(wires); }
  void on_time(Wires& wires) const override {
    const std::uint64_t hz = wires.clock_hz();
    std::uint64_t now = to_time(wires.now(), hz).count / 1'000'000;
    if (repeats_) now %= points_.back().at;
    const std::int32_t microvolts = at(now);
    wires.number(0) = microvolts;
    wires.apply(0, microvolts);
    if (repeats_ || now < points_.back().at) wires.wake_at(wires.now() + wires.ticks(kStep));
  }
  [[nodiscard]] std::string describe(Wires& wires) const override { return volts(wires.number(0)); }

 private:
  [[nodiscard]] std::int32_t at(std::uint64_t now) const {
    const auto next = std::upper_bound(points_.begin(), points_.end(), now,
                                       [](std::uint64_t t, const Point& p) { return t < p.at; });
    if (next == points_.begin()) return points_.front().microvolts;
    if (next == points_.end()) return points_.back().microvolts;
    const Point& a = *(next - 1);
    const auto width = static_cast<std::int64_t>(next->at - a.at);
    const auto passed = static_cast<std::int64_t>(now - a.at);
    return static_cast<std::int32_t>(
        a.microvolts + (std::int64_t{next->microvolts} - a.microvolts) * passed / width);
  }
  std::string pin_;
  std::vector<Point> points_;
  bool repeats_;
};

/// An oven: a mass that a heater warms, that loses heat to its surroundings, and whose temperature
/// a sensor turns into a voltage.
class Oven final : public Part {
 public:
  Oven(const std::string& name, Keys& keys)
      : Part(name),
        pins_{keys.text("heater"), keys.text("sensor")},
        high_(keys.choice("heats", {"low", "high"}, 1) == 1),
        milliwatts_(1000 * keys.number("watts", 1, 100'000, 2000)),
        loss_(keys.number("loss", 0, 1'000'000, 2000)),
        capacity_(keys.number("capacity", 1, 10'000'000, 5000)),
        ambient_(keys.number("ambient", -50, 100, 20)),
        scale_(keys.microvolts("scale", "4mV")),
        offset_(keys.microvolts("offset", "0V")) {}

  [[nodiscard]] std::vector<std::string> pins() const override { return pins_; }
  [[nodiscard]] unsigned numbers() const override { return 4; }
  void start(Wires& wires) const override {
    wires.number(kOn) = wires.level(0) == high_ ? 1 : 0;
    on_time(wires);
  }
  void on_pin(Wires& wires, unsigned pin, bool level) const override {
    if (pin != 0) return;
    account(wires);
    wires.number(kOn) = level == high_ ? 1 : 0;
  }
  /// Every 10 ms: heat in, heat out, and the sensor's new voltage.
  void on_time(Wires& wires) const override {
    constexpr std::int64_t kMilliseconds = 10;
    account(wires);
    const auto hz = static_cast<std::int64_t>(wires.clock_hz());
    std::int64_t& heat = wires.number(kHeat);  // microjoules above the surroundings
    heat += milliwatts_ * (wires.number(kTicks) * 1000 / (hz / 1000)) / 1000;
    wires.number(kTicks) = 0;
    heat -= loss_ * above(heat) / 1000 * kMilliseconds / 1000;
    wires.apply(1, static_cast<std::int32_t>(offset_ + scale_ * celsius_milli(heat) / 1000));
    wires.wake_at(wires.now() + wires.ticks(kMilliseconds * 1000));
  }
  [[nodiscard]] std::vector<Quantity> quantities() const override {
    return {{"temperature", "°C"}};
  }
  [[nodiscard]] std::int32_t measure(Wires& wires, unsigned /*quantity*/) const override {
    return static_cast<std::int32_t>(celsius_milli(wires.number(kHeat)));
  }
  [[nodiscard]] std::string describe(Wires& wires) const override {
    return fmt::format("{:.1f} degrees, heater {}", celsius_milli(wires.number(kHeat)) / 1e3,
                       wires.number(kOn) != 0 ? "on" : "off");
  }

 private:
  enum : unsigned { kHeat, kTicks, kSince, kOn };
  void account(Wires& wires) const {
    const auto now = static_cast<std::int64_t>(wires.now());
    if (wires.number(kOn) != 0) wires.number(kTicks) += now - wires.number(kSince);
    wires.number(kSince) = now;
  }
  /// Thousandths of a degree above the surroundings.
  [[nodiscard]] std::int64_t above(std::int64_t heat) const { return heat / capacity_ / 1000; }
  [[nodiscard]] std::int64_t celsius_milli(std::int64_t heat) const {
    return ambient_ * 1000 + above(heat);
  }

  std::vector<std::string> pins_;
  bool high_;
  std::int64_t milliwatts_, loss_, capacity_, ambient_, scale_, offset_;
};

/// A quarter of a sine, 65 values up to 32768.
constexpr std::int32_t kQuarter[] = {
    0,     804,   1608,  2411,  3212,  4011,  4808,  5602,  6393,  7180,  7962,  8740,  9512,
    10279, 11039, 11793, 12540, 13279, 14010, 14733, 15447, 16151, 16846, 17531, 18205, 18868,
    19520, 20160, 20788, 21403, 22006, 22595, 23170, 23732, 24279, 24812, 25330, 25833, 26320,
    26791, 27246, 27684, 28106, 28511, 28899, 29269, 29622, 29957, 30274, 30572, 30853, 31114,
    31357, 31581, 31786, 31972, 32138, 32286, 32413, 32522, 32610, 32679, 32729, 32758, 32768};

}  // namespace

Made make_constant(const std::string& name, Keys& keys, const Surroundings& /*around*/) {
  std::string pin = keys.text("pin");
  return std::make_shared<Constant>(name, std::move(pin), keys.microvolts("volts"));
}

Made make_ramp(const std::string& name, Keys& keys, const Surroundings& /*around*/) {
  std::string pin = keys.text("pin");
  const std::int32_t from = keys.microvolts("from");
  const std::int32_t to = keys.microvolts("to");
  const std::uint64_t after = keys.microseconds("after", "0s");
  const std::uint64_t over = keys.microseconds("over");
  if (over == 0) keys.wrong("over", "must be longer than a microsecond");
  return std::make_shared<Curve>(name, std::move(pin),
                                 std::vector<Curve::Point>{{after, from}, {after + over, to}});
}

Made make_sine(const std::string& name, Keys& keys, const Surroundings& /*around*/) {
  std::string pin = keys.text("pin");
  const std::int64_t middle = keys.microvolts("middle");
  const std::int64_t amplitude = keys.microvolts("amplitude");
  const std::uint64_t period = keys.microseconds("period");
  if (period < 256) keys.wrong("period", "must be 256 us at least");
  std::vector<Curve::Point> points;
  for (unsigned i = 0; i <= 256; ++i) {
    const unsigned quarter = i / 64 % 4;
    const unsigned place = i % 64;
    const std::int64_t value = quarter % 2 == 0 ? kQuarter[place] : kQuarter[64 - place];
    points.push_back(
        {period * i / 256,
         static_cast<std::int32_t>(middle + (quarter < 2 ? 1 : -1) * value * amplitude / 32768)});
  }
  return std::make_shared<Curve>(name, std::move(pin), std::move(points), true);
}

/// A file of lines `SECONDS,VOLTS`, times rising.
Made make_table(const std::string& name, Keys& keys, const Surroundings& around) {
  std::string pin = keys.text("pin");
  const std::string file = keys.text("file");
  std::vector<Curve::Point> points;
  if (!file.empty()) {
    const auto bytes = base::read_file(base::in_folder(around.folder, file));
    if (!bytes) keys.wrong("file", "names a file that cannot be read: " + bytes.error().text());
    const std::string text = bytes ? std::string(bytes->begin(), bytes->end()) : std::string();
    unsigned line = 0;
    for (std::size_t at = 0; at < text.size();) {
      const std::size_t end = std::min(text.find('\n', at), text.size());
      const std::string row(base::trim(std::string_view(text).substr(at, end - at)));
      at = end + 1;
      ++line;
      if (row.empty() || row[0] == '#') continue;
      double seconds = -1;
      double value = 0;
      const char* last = row.data() + row.size();
      const auto first = std::from_chars(row.data(), last, seconds);
      const bool comma = first.ec == std::errc() && first.ptr != last && *first.ptr == ',';
      const auto second = comma ? std::from_chars(first.ptr + 1, last, value) : first;
      const bool good = comma && second.ec == std::errc() && second.ptr == last && seconds >= 0 &&
                        seconds < 1e6 && value > -100 && value < 100;
      const auto when = good ? static_cast<std::uint64_t>(std::llround(seconds * 1e6)) : 0;
      if (!good || (!points.empty() && when <= points.back().at)) {
        keys.wrong("file",
                   fmt::format("names {}, whose line {} is not SECONDS,VOLTS behind the line "
                               "before it",
                               file, line));
        break;
      }
      points.push_back({when, static_cast<std::int32_t>(value * 1e6 + (value < 0 ? -0.5 : 0.5))});
    }
    if (points.empty()) keys.wrong("file", "names a file without values");
  }
  if (points.empty()) points.push_back({0, 0});
  return std::make_shared<Curve>(name, std::move(pin), std::move(points));
}

Made make_potentiometer(const std::string& name, Keys& keys, const Surroundings& /*around*/) {
  return std::make_shared<Potentiometer>(name, keys);
}

Made make_oven(const std::string& name, Keys& keys, const Surroundings& /*around*/) {
  return std::make_shared<Oven>(name, keys);
}

}  // namespace lucid::bench
