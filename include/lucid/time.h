// SPDX-License-Identifier: MIT
// Time: oscillator ticks inside a chip, picoseconds outside. Integers only.
#ifndef LUCID_TIME_H
#define LUCID_TIME_H

#include <cstdint>
#include <string>

#include "lucid/error.h"

namespace lucid {

/// A length of simulated time in picoseconds (213 days fit).
struct Picoseconds {
  std::uint64_t count = 0;
};

/// The time that `ticks` of a clock of `hz` take, rounded down to a picosecond.
/// REQUIRES: hz > 0.
[[nodiscard]] LUCID_API Picoseconds to_time(std::uint64_t ticks, std::uint64_t hz);

/// The ticks of a clock of `hz` that have begun within `span`, rounded up: going for a span never
/// ends before it. REQUIRES: hz > 0.
[[nodiscard]] LUCID_API std::uint64_t to_ticks(Picoseconds span, std::uint64_t hz);

/// For people: `0 s`, `62.500 ns`, `12.504 ms`, `3.250 s`, `2 min 05.100 s`.
[[nodiscard]] LUCID_API std::string to_text(Picoseconds span);

/// Reads `20ms`, `1.5 s`, `10min`, `250us`, `40 ns`. Error: kUsage, with what units there are.
[[nodiscard]] LUCID_API Result<Picoseconds> parse_time(const std::string& text);

/// Reads `16MHz`, `8000000`, `32768 Hz`, `1 MHz` into hertz (1 Hz to 1 GHz).
[[nodiscard]] LUCID_API Result<std::uint64_t> parse_frequency(const std::string& text);

}  // namespace lucid

#endif  // LUCID_TIME_H
