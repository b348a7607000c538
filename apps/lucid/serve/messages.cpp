// SPDX-License-Identifier: MIT
#include "serve/messages.h"

#include <algorithm>
#include <cctype>
#include <charconv>
#include <optional>
#include <string_view>

namespace lucid::app {
namespace {

constexpr std::size_t kLongestHeader = 4096;
constexpr std::size_t kLongest = std::size_t{64} << 20;
constexpr std::string_view kDigits =
    "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";

Result<void> not_ours(std::string_view line) {
  return fail(ErrorCode::kUsage,
              "this is no message of the protocol: '" + std::string(line.substr(0, 60)) + "'",
              "messages begin with Content-Length: N");
}

/// The length that a line of a header gives; nothing if it is another field.
Result<std::optional<std::size_t>> length_in(std::string_view line) {
  const std::size_t colon = line.find(':');
  const auto is_token = [](char c) {
    return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '-';
  };
  if (colon == std::string_view::npos || colon == 0 ||
      !std::all_of(line.begin(), line.begin() + static_cast<std::ptrdiff_t>(colon), is_token))
    return fail(not_ours(line).error());
  if (line.substr(0, colon) != "Content-Length" && line.substr(0, colon) != "Content-Type")
    return fail(not_ours(line).error());
  if (line.substr(0, colon) != "Content-Length") return std::optional<std::size_t>();
  std::string_view value = line.substr(colon + 1);
  value.remove_prefix(std::min(value.find_first_not_of(' '), value.size()));
  std::size_t length = 0;
  const auto [end, error] = std::from_chars(value.data(), value.data() + value.size(), length);
  if (error != std::errc() || end != value.data() + value.size() || length > kLongest)
    return fail(not_ours(line).error());
  return std::optional<std::size_t>(length);
}

}  // namespace

Result<void> MessageReader::feed(const std::string& bytes,
                                 const std::function<void(std::string)>& take) {
  waiting_ += bytes;
  for (;;) {
    // A header is judged line by line: what is not ours need not end.
    std::optional<std::size_t> length;
    std::size_t at = 0;
    for (;;) {
      const std::size_t end = waiting_.find("\r\n", at);
      if (end == std::string::npos) {
        const std::string_view begun = std::string_view(waiting_).substr(at);
        constexpr std::string_view kField = "Content-";
        if (begun.size() > kLongestHeader ||
            begun.substr(0, kField.size()) != kField.substr(0, begun.size()))
          if (!(begun == "\r")) return not_ours(begun);
        return {};
      }
      const std::string_view line = std::string_view(waiting_).substr(at, end - at);
      at = end + 2;
      if (line.empty()) break;
      const auto found = length_in(line);
      if (!found) return fail(found.error());
      if (*found) length = **found;
    }
    if (!length) return not_ours("");
    if (waiting_.size() - at < *length) return {};
    std::string message = waiting_.substr(at, *length);
    waiting_.erase(0, at + *length);
    take(std::move(message));
  }
}

std::string framed(const std::string& content) {
  return "Content-Length: " + std::to_string(content.size()) + "\r\n\r\n" + content;
}

std::string base64(const std::string& bytes) {
  std::string out;
  for (std::size_t i = 0; i < bytes.size(); i += 3) {
    unsigned three = 0;
    for (std::size_t n = 0; n < 3; ++n)
      three = three << 8 | (i + n < bytes.size() ? static_cast<unsigned char>(bytes[i + n]) : 0U);
    for (std::size_t n = 0; n < 4; ++n)
      out += i + n > bytes.size() ? '=' : kDigits[three >> (18 - 6 * n) & 0x3f];
  }
  return out;
}

Result<std::string> from_base64(const std::string& text) {
  std::string out;
  unsigned bits = 0;
  unsigned held = 0;
  std::string_view rest = text;
  while (!rest.empty() && rest.back() == '=') rest.remove_suffix(1);
  for (const char c : rest) {
    const std::size_t digit = kDigits.find(c);
    if (digit == std::string_view::npos)
      return fail(ErrorCode::kUsage, "the data are not in base64");
    held = (held << 6 | static_cast<unsigned>(digit)) & 0xfff;
    bits += 6;
    if (bits >= 8) {
      bits -= 8;
      out += static_cast<char>(held >> bits & 0xff);
    }
  }
  return out;
}

}  // namespace lucid::app
