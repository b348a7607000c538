// SPDX-License-Identifier: MIT
#include "bench/keys.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>

#include "base/text.h"
#include "lucid/bench.h"
#include "lucid/time.h"

namespace lucid {

Result<std::int32_t> parse_voltage(const std::string& text) {
  double value = 0;
  const char* end = text.data() + text.size();
  const auto [rest, error] = std::from_chars(text.data(), end, value);
  const std::string_view unit =
      base::trim(std::string_view(rest, static_cast<std::size_t>(end - rest)));
  const double volts = unit == "mV" ? value / 1000 : value;
  if (error != std::errc() || (unit != "V" && unit != "mV") || !(std::fabs(volts) <= 1000))
    return fail(ErrorCode::kUsage, "'" + text + "' is not a voltage", "such as 2.5V or 300mV");
  return static_cast<std::int32_t>(std::lround(volts * 1e6));
}

namespace bench {

void Keys::wrong(const std::string& key, const std::string& what, const std::string& hint) {
  if (error_) return;
  const auto found = table_.settings.find(key);
  const std::uint32_t line = found != table_.settings.end() ? found->second.line : table_.line;
  const auto name = table_.settings.find("name");
  const auto* named =
      name != table_.settings.end() ? std::get_if<std::string>(&name->second.value) : nullptr;
  error_ = Error{ErrorCode::kBadImage, fmt::format("key '{}' {}", key, what),
                 fmt::format("{}, line {}, {}{}", file_, line, table_.kind,
                             named != nullptr ? " '" + *named + "'" : ""),
                 hint};
}

const Setting* Keys::find(const std::string& key, bool needed) {
  asked_.push_back(key);
  const auto found = table_.settings.find(key);
  if (found != table_.settings.end()) return &found->second;
  if (needed) wrong(key, "is missing");
  return nullptr;
}

std::string Keys::text(const std::string& key, const std::optional<std::string>& or_else) {
  const Setting* setting = find(key, !or_else);
  if (setting == nullptr) return or_else.value_or("");
  if (const auto* value = std::get_if<std::string>(&setting->value)) return *value;
  wrong(key, "must be a text in quotes");
  return {};
}

std::vector<std::string> Keys::texts(const std::string& key) {
  const Setting* setting = find(key, true);
  if (setting == nullptr) return {};
  if (const auto* value = std::get_if<std::vector<std::string>>(&setting->value)) return *value;
  wrong(key, "must be a list of texts");
  return {};
}

Setting::Words Keys::words(const std::string& key) {
  const Setting* setting = find(key, true);
  if (setting == nullptr) return {};
  if (const auto* value = std::get_if<Setting::Words>(&setting->value); value && !value->empty())
    return *value;
  wrong(key, "must be a table of texts, such as { D0 = \"PD2\" }");
  return {};
}

std::int64_t Keys::number(const std::string& key, std::int64_t least, std::int64_t most,
                          std::optional<std::int64_t> or_else) {
  const Setting* setting = find(key, !or_else);
  if (setting == nullptr) return or_else.value_or(least);
  const auto* value = std::get_if<std::int64_t>(&setting->value);
  if (value != nullptr && *value >= least && *value <= most) return *value;
  wrong(key, fmt::format("must be a whole number from {} to {}", least, most));
  return least;
}

std::uint64_t Keys::picoseconds(const std::string& key, const std::optional<std::string>& or_else) {
  const std::string value = text(key, or_else);
  if (error_) return 0;
  const auto time = parse_time(value);
  if (time) return time->count;
  wrong(key, "must be a time such as \"5ms\"");
  return 0;
}

std::uint64_t Keys::microseconds(const std::string& key,
                                 const std::optional<std::string>& or_else) {
  return picoseconds(key, or_else) / 1'000'000;
}

std::uint64_t Keys::hertz(const std::string& key) {
  const std::string value = text(key);
  if (error_) return 0;
  const auto hz = parse_frequency(value);
  if (hz) return *hz;
  wrong(key, "must be a frequency such as \"16MHz\"");
  return 0;
}

std::int32_t Keys::microvolts(const std::string& key, const std::optional<std::string>& or_else) {
  const std::string value = text(key, or_else);
  if (error_) return 0;
  if (const auto volts = parse_voltage(value)) return *volts;
  wrong(key, "must be a voltage such as \"2.5V\"");
  return 0;
}

unsigned Keys::choice(const std::string& key, const std::vector<std::string>& words,
                      std::optional<unsigned> or_else) {
  const std::string value =
      text(key, or_else ? std::optional<std::string>(words[*or_else]) : std::nullopt);
  if (error_) return 0;
  const auto found = std::find(words.begin(), words.end(), value);
  if (found != words.end()) return static_cast<unsigned>(found - words.begin());
  std::string list;
  for (const std::string& word : words) list += (list.empty() ? "" : ", ") + word;
  std::string hint = did_you_mean(value, words);
  wrong(key, fmt::format("is '{}'; it can be {}", value, list), hint);
  return 0;
}

Result<void> Keys::finish() {
  for (const auto& [key, setting] : table_.settings)
    if (std::find(asked_.begin(), asked_.end(), key) == asked_.end())
      wrong(key, "is not known here", did_you_mean(key, asked_));
  if (error_) return fail(*error_);
  return {};
}

}  // namespace bench
}  // namespace lucid
