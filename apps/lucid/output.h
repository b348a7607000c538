// SPDX-License-Identifier: MIT
// What leaves the program: text for a terminal, on which nothing from outside may act, and files.
#ifndef LUCID_APP_OUTPUT_H
#define LUCID_APP_OUTPUT_H

#include <functional>
#include <ostream>
#include <string>
#include <string_view>

#include "lucid/error.h"

namespace lucid::app {

/// Can the locale's character set show what UTF-8 says?
bool locale_has_utf8();

/// Text as it may go to a terminal: line feeds, tabs and printable characters; where `colours`,
/// also the sequences that choose them. Other bytes are written as \xNN. Without `utf8`, the marks
/// of our views have stand-ins in ASCII and other characters are written as \xNN, too.
std::string visible(std::string_view text, bool colours, bool utf8);

/// How many columns text takes that goes out so, as long as no character is wide; colours take
/// none.
std::size_t columns(std::string_view text, bool utf8);

/// Is it well-formed UTF-8?
bool is_utf8(std::string_view text);
/// The same with the bytes that are not as \xNN.
std::string with_bytes_escaped(std::string_view text);

/// Writes a file whole: beside it first, then into its place, so that nobody meets half of it and a
/// failure leaves the old one. What is no plain file (/dev/stdout, a pipe) is written as it is.
/// Error: kIo.
Result<void> write_file(const std::string& name, const std::string& text);
Result<void> write_file(const std::string& name,
                        const std::function<Result<void>(std::ostream&)>& write);

}  // namespace lucid::app

#endif  // LUCID_APP_OUTPUT_H
