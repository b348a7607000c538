// SPDX-License-Identifier: MIT
#include "lucid/time.h"

#include <fmt/format.h>

#include <array>
#include <string_view>

#include "base/text.h"

namespace lucid {
namespace {

// Products of two 64-bit numbers need 128 bits; the result is clamped to 64.
__extension__ using Wide = unsigned __int128;
constexpr std::uint64_t kPerSecond = 1'000'000'000'000;

std::uint64_t clamp(Wide value) {
  return value > UINT64_MAX ? UINT64_MAX : static_cast<std::uint64_t>(value);
}

struct Unit {
  std::string_view name;
  std::uint64_t scale;
};
constexpr std::array<Unit, 7> kTimeUnits{{{"ps", 1},
                                          {"ns", 1'000},
                                          {"us", 1'000'000},
                                          {"ms", 1'000'000'000},
                                          {"s", kPerSecond},
                                          {"min", 60 * kPerSecond},
                                          {"h", 3600 * kPerSecond}}};
constexpr std::array<Unit, 4> kFrequencyUnits{
    {{"", 1}, {"Hz", 1}, {"kHz", 1'000}, {"MHz", 1'000'000}}};

/// `number[.fraction] unit` times the unit's scale, exact while the fraction has at most 12 digits.
template <std::size_t N>
std::optional<std::uint64_t> scaled(std::string_view text, const std::array<Unit, N>& units) {
  text = base::trim(text);
  const std::size_t end = text.find_first_not_of("0123456789.");
  std::string_view number = text.substr(0, end);
  const std::string_view name =
      end == std::string_view::npos ? std::string_view{} : base::trim(text.substr(end));
  const std::size_t dot = number.find('.');
  const std::string_view whole = number.substr(0, dot);
  const std::string_view fraction =
      dot == std::string_view::npos ? std::string_view{} : number.substr(dot + 1);
  const auto whole_value = base::parse_unsigned(whole);
  if (!whole_value || fraction.size() > 12) return std::nullopt;
  std::uint64_t fraction_value = 0;
  std::uint64_t fraction_scale = 1;
  for (const char c : fraction) {
    if (c < '0' || c > '9') return std::nullopt;
    fraction_value = fraction_value * 10 + static_cast<std::uint64_t>(c - '0');
    fraction_scale *= 10;
  }
  for (const Unit& unit : units) {
    if (!base::equal_ignoring_case(unit.name, name)) continue;
    const Wide value =
        Wide{*whole_value} * unit.scale + Wide{fraction_value} * unit.scale / fraction_scale;
    if (value > UINT64_MAX) return std::nullopt;
    return static_cast<std::uint64_t>(value);
  }
  return std::nullopt;
}

}  // namespace

Picoseconds to_time(std::uint64_t ticks, std::uint64_t hz) {
  return {clamp(Wide{ticks} * kPerSecond / hz)};
}

std::uint64_t to_ticks(Picoseconds span, std::uint64_t hz) {
  return clamp((Wide{span.count} * hz + kPerSecond - 1) / kPerSecond);
}

std::string to_text(Picoseconds span) {
  const std::uint64_t ps = span.count;
  if (ps == 0) return "0 s";
  if (ps >= 60 * kPerSecond) {
    const std::uint64_t ms = ps / 1'000'000'000 % 60'000;
    return fmt::format("{} min {:02}.{:03} s", ps / (60 * kPerSecond), ms / 1000, ms % 1000);
  }
  std::uint64_t scale = 1;
  std::string_view name = "ps";
  for (const Unit& unit : kTimeUnits)
    if (ps >= unit.scale && unit.scale <= kPerSecond) {
      scale = unit.scale;
      name = unit.name;
    }
  if (scale == 1) return fmt::format("{} ps", ps);
  return fmt::format("{}.{:03} {}", ps / scale, ps % scale * 1000 / scale, name);
}

Result<Picoseconds> parse_time(const std::string& text) {
  if (const auto value = scaled(text, kTimeUnits)) return Picoseconds{*value};
  // As it is told: 2 min 05.100 s
  if (const std::size_t minutes = text.find("min "); minutes != std::string::npos) {
    const std::size_t end = minutes + 3;
    const auto whole = scaled(text.substr(0, end), kTimeUnits);
    const auto rest = scaled(text.substr(end), kTimeUnits);
    if (whole && rest && *whole <= UINT64_MAX - *rest) return Picoseconds{*whole + *rest};
  }
  return fail(ErrorCode::kUsage, "'" + text + "' is not a time",
              "write a number and one of ps ns us ms s min h, such as 20ms");
}

Result<std::uint64_t> parse_frequency(const std::string& text) {
  // A few hertz are nobody's clock: 16 is meant otherwise.
  constexpr std::size_t kShort = 3;
  if (!text.empty() && text.size() <= kShort &&
      text.find_first_not_of("0123456789.") == std::string::npos)
    return fail(ErrorCode::kUsage, "'" + text + "' says no unit",
                fmt::format("{0}MHz, {0}kHz or {0}Hz?", text));
  const auto value = scaled(text, kFrequencyUnits);
  if (value && *value >= 1 && *value <= 1'000'000'000) return *value;
  return fail(ErrorCode::kUsage, "'" + text + "' is not a clock frequency",
              "write hertz, kHz or MHz between 1 Hz and 1000 MHz, such as 16MHz");
}

}  // namespace lucid
