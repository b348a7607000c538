// SPDX-License-Identifier: MIT
// Words of a command line.
#ifndef LUCID_APP_WORDS_H
#define LUCID_APP_WORDS_H

#include <charconv>
#include <optional>
#include <string>
#include <vector>

#include "lucid/error.h"

namespace lucid::app {

/// By blanks; a text in quotes is one word and keeps them.
inline std::vector<std::string> split_quoted(const std::string& text) {
  std::vector<std::string> out;
  bool quoted = false;
  bool in_word = false;
  for (std::size_t i = 0; i < text.size(); ++i) {
    const char c = text[i];
    if (c == ' ' && !quoted) {
      in_word = false;
      continue;
    }
    if (!in_word) out.emplace_back();
    in_word = true;
    out.back() += c;
    if (c == '\\' && quoted && i + 1 < text.size())
      out.back() += text[++i];
    else if (c == '"')
      quoted = !quoted;
  }
  return out;
}

inline std::vector<std::string> split(const std::string& text) {
  std::vector<std::string> out;
  std::size_t at = 0;
  while ((at = text.find_first_not_of(' ', at)) != std::string::npos) {
    const std::size_t end = std::min(text.find(' ', at), text.size());
    out.push_back(text.substr(at, end - at));
    at = end;
  }
  return out;
}

/// Decimal, or hexadecimal with 0x.
inline std::optional<std::uint64_t> parse_number(const std::string& text) {
  const bool hex = text.rfind("0x", 0) == 0;
  const char* begin = text.data() + (hex ? 2 : 0);
  const char* end = text.data() + text.size();
  std::uint64_t value = 0;
  const auto [at, error] = std::from_chars(begin, end, value, hex ? 16 : 10);
  if (begin == end || error != std::errc{} || at != end) return std::nullopt;
  return value;
}

/// The contents of a text in quotes, its escapes replaced.
inline Result<std::string> unquoted(const std::string& text) {
  if (text.size() < 2 || text.front() != '"' || text.back() != '"')
    return fail(ErrorCode::kUsage, "a text stands in quotes: \"…\"");
  std::string out;
  for (std::size_t i = 1; i + 1 < text.size(); ++i) {
    if (text[i] != '\\') {
      out += text[i];
      continue;
    }
    const char c = text[++i];
    switch (c) {
      case 'n': out += '\n'; break;
      case 'r': out += '\r'; break;
      case 't': out += '\t'; break;
      case '\\':
      case '"': out += c; break;
      case 'x': {
        unsigned value = 0;
        const char* begin = text.data() + i + 1;
        const char* limit = text.data() + std::min(i + 3, text.size() - 1);
        const auto [at, error] = std::from_chars(begin, limit, value, 16);
        if (error != std::errc{} || at != limit || limit - begin != 2)
          return fail(ErrorCode::kUsage, "\\x takes two hexadecimal digits");
        out += static_cast<char>(value);
        i += 2;
        break;
      }
      default:
        return fail(ErrorCode::kUsage, std::string("the escape \\") + c + " is not known",
                    "there are \\n \\r \\t \\\\ \\\" \\xNN");
    }
  }
  return out;
}

}  // namespace lucid::app

#endif  // LUCID_APP_WORDS_H
