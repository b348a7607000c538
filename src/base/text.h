// SPDX-License-Identifier: MIT
// Small text services that every layer needs: spelling suggestions and number reading.
#ifndef LUCID_BASE_TEXT_H
#define LUCID_BASE_TEXT_H

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "lucid/error.h"

namespace lucid::base {

/// The candidates closest to `word` by edit distance, best first, at most `most`; none if nothing
/// is close enough to be a slip of the fingers.
std::vector<std::string> similar(std::string_view word, const std::vector<std::string>& candidates,
                                 std::size_t most = 3);

/// An unsigned integer: decimal, 0x hexadecimal, 0b binary. Nothing else in the text.
std::optional<std::uint64_t> parse_unsigned(std::string_view text);

/// True if both are the same but for the case of ASCII letters.
bool equal_ignoring_case(std::string_view a, std::string_view b);

/// `text` without blanks at either end.
std::string_view trim(std::string_view text);

/// The part of a path after its last slash.
std::string_view file_name(std::string_view path);

/// A path that is meant in a folder; one from the root stays.
std::string in_folder(const std::string& folder, const std::string& path);

/// The bytes of a file of at most 64 MiB. Errors: kIo, naming the path.
Result<std::vector<std::uint8_t>> read_file(const std::string& path);

}  // namespace lucid::base

#endif  // LUCID_BASE_TEXT_H
