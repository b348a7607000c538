// SPDX-License-Identifier: MIT
// Value: what an expression of the program comes to, and how it is written.
#ifndef LUCID_VALUE_H
#define LUCID_VALUE_H

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "lucid/address.h"
#include "lucid/error.h"

namespace lucid {

/// How a value is written: `as hex`.
struct Format {
  enum class Kind : std::uint8_t {
    kNatural,  ///< by its type
    kDecimal,  ///< by the type's own sign
    kSigned,
    kUnsigned,
    kHex,
    kBinary,
    kBits,  ///< the numbers of those that are set
    kCharacter,
    kText,   ///< a zero-terminated text
    kReal,   ///< the bits are an IEEE 754 single
    kFixed,  ///< fixed point: `q8.8` has 8 bits behind the point
    kTime,   ///< picoseconds as a time
    kRaw,    ///< bytes, lowest address first
  } kind = Kind::kNatural;
  std::uint8_t fraction_bits = 0;
  std::uint8_t depth = 3;  ///< to which structures and arrays are opened
};

/// Reads `dec signed unsigned hex bin bits char text real q8.8 time raw`, `depth 5`, or `hex depth
/// 5`. Error: kUsage with what there is.
[[nodiscard]] LUCID_API Result<Format> parse_format(const std::string& name);

struct Value {
  enum class Kind : std::uint8_t { kInteger, kReal, kTime, kAggregate } kind = Kind::kInteger;
  std::int64_t integer = 0;  ///< for kInteger and, in picoseconds, kTime
  double real = 0;           ///< for kReal
  bool is_signed = true;
  std::uint8_t bits = 16;  ///< width of an integer
  bool wrapped = false;    ///< an unsigned difference went below zero
  bool unknown = false;    ///< it could not be told; `text` says why
  bool past_end = false;   ///< the element behind the last one of an array
  std::string type;        ///< as C writes it
  std::optional<Address> address;
  std::string text;  ///< written in the format asked for
  /// Of a whole I/O register: its bits and fields, by the manual's names.
  struct Field {
    std::string name;
    std::uint32_t value = 0;
    std::string meaning;  ///< in words, where the manual has some
  };
  std::vector<Field> fields;
  /// Which one it is, if the program has several variables of this name: `hides 'n in kiln.c'` of a
  /// local, else `in kiln.c`.
  std::string which;
};

}  // namespace lucid

#endif  // LUCID_VALUE_H
