// SPDX-License-Identifier: MIT
// Bench: what a bench file (`*.bench.toml`) describes: a chip with its clock, supply and fuses, the
// parts on its pins, and what happens at which time. docs/bench.md lists all keys.
//
//   auto bench = lucid::Bench::open("kiln.bench.toml");
//   auto chip = lucid::Chip::make(bench->chip);
#ifndef LUCID_BENCH_H
#define LUCID_BENCH_H

#include <string>
#include <string_view>
#include <vector>

#include "lucid/chip.h"
#include "lucid/part.h"

namespace lucid {

/// Reads `2.5V`, `300 mV` into microvolts, -1000 V to 1000 V. Error: kUsage.
[[nodiscard]] LUCID_API Result<std::int32_t> parse_voltage(const std::string& text);

struct Bench {
  Chip::Options chip;        ///< the parts and the timed inputs are in it
  bool names_chip = false;   ///< the file says which chip
  bool names_clock = false;  ///< and its clock

  /// Reads a file; tables of values are looked for beside it. Errors: kIo; kBadImage with file,
  /// line and key.
  static LUCID_API Result<Bench> open(const std::string& path);
  /// Reads a text; `name` stands for it in errors, `folder` is where other files are looked for.
  static LUCID_API Result<Bench> parse(std::string_view text, const std::string& name,
                                       const std::string& folder = ".");
  /// The kinds of parts, each with its keys, as text for people.
  static LUCID_API std::vector<std::string> kinds();
};

}  // namespace lucid

#endif  // LUCID_BENCH_H
