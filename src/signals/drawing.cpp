// SPDX-License-Identifier: MIT
#include "lucid/drawing.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>

namespace lucid {
namespace {

constexpr std::uint64_t kSecond = 1'000'000'000'000;

struct TimeUnit {
  std::uint64_t picoseconds;
  const char* name;
};
constexpr std::array<TimeUnit, 5> kUnits{
    {{kSecond, "s"}, {kSecond / 1000, "ms"}, {1'000'000, "us"}, {1000, "ns"}, {1, "ps"}}};

/// Steps that people count in.
std::vector<std::uint64_t> steps() {
  std::vector<std::uint64_t> out;
  for (std::uint64_t ten = 1; ten <= 10 * kSecond; ten *= 10)
    for (const std::uint64_t times : {1U, 2U, 5U})
      if (times * ten <= 30 * kSecond) out.push_back(times * ten);
  for (const std::uint64_t seconds : {30U, 60U, 120U, 300U, 600U, 900U, 1800U, 3600U, 7200U, 14400U,
                                      21600U, 43200U, 86400U, 172'800U, 604'800U, 2'419'200U})
    out.push_back(seconds * kSecond);
  std::sort(out.begin(), out.end());
  return out;
}

}  // namespace

std::vector<TimeTick> time_ticks(Picoseconds from, Picoseconds to, unsigned most) {
  const std::uint64_t span = to.count - from.count;
  std::uint64_t step = 1;
  for (const std::uint64_t s : steps()) {
    step = s;
    if (span / s <= most) break;
  }
  // In the unit of the latest, with as many digits as the step needs.
  TimeUnit unit = kUnits.back();
  for (const TimeUnit& u : kUnits)
    if (to.count >= u.picoseconds) {
      unit = u;
      break;
    }
  unsigned digits = 0;
  for (std::uint64_t part = unit.picoseconds; part > 1 && step % part != 0; part /= 10) ++digits;
  std::vector<TimeTick> out;
  const bool hours = to.count >= 600 * kSecond && step >= kSecond;
  for (std::uint64_t at = (from.count + step - 1) / step * step; at <= to.count; at += step) {
    if (hours) {
      const std::uint64_t seconds = at / kSecond;
      out.push_back(
          {{at}, fmt::format("{}:{:02}:{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60)});
      continue;
    }
    const std::uint64_t whole = at / unit.picoseconds;
    std::uint64_t rest = at % unit.picoseconds, scale = unit.picoseconds;
    std::string text = fmt::format("{}", whole);
    if (digits != 0) text += '.';
    for (unsigned i = 0; i < digits; ++i) {
      scale /= 10;
      text += static_cast<char>('0' + rest / scale);
      rest %= scale;
    }
    out.push_back({{at}, text + " " + unit.name});
  }
  return out;
}

std::vector<double> round_numbers(double least, double most, unsigned count) {
  if (!(most > least)) {
    const double half = least == 0 ? 1 : std::abs(least) / 2;
    least -= half;
    most += half;
  }
  const double rough = (most - least) / std::max(1U, count - 1);
  const double ten = std::pow(10.0, std::floor(std::log10(rough)));
  double step = 10 * ten;
  for (const double times : {1.0, 2.0, 5.0})
    if (times * ten >= rough) {
      step = times * ten;
      break;
    }
  std::vector<double> out;
  const double first = std::floor(least / step + 1e-9);
  for (double i = first; out.size() < 100; ++i) {
    out.push_back(i * step);
    if (out.back() >= most - step * 1e-9) break;
  }
  return out;
}

std::optional<std::pair<double, double>> extremes(const std::vector<Signal::Column>& columns) {
  std::optional<std::pair<double, double>> out;
  for (const Signal::Column& c : columns) {
    if (!c.known) continue;
    if (!out) out.emplace(c.least, c.most);
    out->first = std::min(out->first, c.least);
    out->second = std::max(out->second, c.most);
  }
  return out;
}

LaneKind lane_kind(const Signal& signal) {
  const Signal::Facts& facts = signal.facts();
  if (facts.kind == Signal::Kind::kLevel) return LaneKind::kLevel;
  if (facts.kind == Signal::Kind::kMoment) return LaneKind::kMoments;
  if (facts.kind == Signal::Kind::kReal || facts.scale != 1) return LaneKind::kCurve;
  const auto format = facts.format.kind;
  const bool boxes = !facts.names.empty() || format == Format::Kind::kHex ||
                     format == Format::Kind::kBinary || format == Format::Kind::kCharacter;
  return boxes ? LaneKind::kBoxes : LaneKind::kCurve;
}

std::string box_text(const Signal& signal, const Sample& sample) {
  if (!sample.known()) return {};
  const std::string text = signal.text(sample);
  return text == "-" ? std::string() : text;
}

std::string short_time(Picoseconds span) {
  TimeUnit unit = kUnits.back();
  for (const TimeUnit& u : kUnits)
    if (span.count >= u.picoseconds) {
      unit = u;
      break;
    }
  return fmt::format("{:.5g} {}",
                     static_cast<double>(span.count) / static_cast<double>(unit.picoseconds),
                     span.count == 0 ? "s" : unit.name);
}

}  // namespace lucid
