// SPDX-License-Identifier: MIT
// The reader of TOML, set up alike in the few files that use it: they would share its functions. It
// needs nothing of the library's but its errors: the program uses it beside the shared library,
// too.
#ifndef LUCID_BASE_TOML_H
#define LUCID_BASE_TOML_H

#include <algorithm>
#include <stdexcept>
#include <string>
#include <string_view>

// This parser asserts what some broken input does not keep, and takes it for granted where
// assertions are off. Here each is an error of the file.
#undef NDEBUG
#define TOML_ASSERT(expr) \
  (static_cast<bool>(expr) ? void() : throw std::logic_error("this is not TOML"))
#pragma GCC diagnostic push  // where it is noexcept, an assertion still aborts
#ifdef __clang__
#pragma GCC diagnostic ignored "-Wexceptions"
#else
#pragma GCC diagnostic ignored "-Wterminate"
#endif
#include <toml++/toml.h>
#pragma GCC diagnostic pop

#include "lucid/error.h"

namespace lucid::base {

/// The first line with letters beyond ASCII outside a line of comment, or 0: some of them lead the
/// parser astray.
inline unsigned stray_line(std::string_view text) {
  unsigned line = 0;
  while (!text.empty()) {
    ++line;
    const std::size_t end = std::min(text.find('\n'), text.size());
    std::string_view row = text.substr(0, end);
    text.remove_prefix(std::min(end + 1, text.size()));
    row.remove_prefix(std::min(row.find_first_not_of(" \t\r"), row.size()));
    const bool comment = !row.empty() && row[0] == '#';
    const auto beyond = [](char c) { return static_cast<unsigned char>(c) >= 0x80; };
    if (!comment && std::any_of(row.begin(), row.end(), beyond)) return line;
  }
  return 0;
}

/// `name` stands for the text in errors, `hint` is for what cannot be read at all. Errors: `code`,
/// with name and line.
inline Result<toml::table> read_toml(std::string_view text, const std::string& name, ErrorCode code,
                                     const std::string& hint) {
  const auto at = [&](unsigned line) { return name + ", line " + std::to_string(line); };
  if (const unsigned line = stray_line(text); line != 0)
    return fail(code, "letters beyond ASCII belong into lines of comment",
                "in a text write \\u00b0 and so on", at(line));
  try {
    return Result<toml::table>(toml::parse(text));
  } catch (const toml::parse_error& error) {
    return fail(code, std::string(error.description()), "", at(error.source().begin.line));
  } catch (const std::logic_error& error) {
    return fail(code, error.what(), hint, name);
  }
}

}  // namespace lucid::base

#endif  // LUCID_BASE_TOML_H
