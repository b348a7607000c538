// SPDX-License-Identifier: MIT
// Bench: what a bench file (`*.bench.toml`) describes: a chip with its clock, supply and fuses,
// perhaps companions on wires, the parts on their pins, and what happens at which time.
// docs/bench.md lists all keys.
//
//   auto bench = lucid::Bench::open("kiln.bench.toml");
//   auto chip = lucid::Chip::make(bench->chip);
#ifndef LUCID_BENCH_H
#define LUCID_BENCH_H

#include <string>
#include <string_view>
#include <vector>

#include "lucid/chip.h"
#include "lucid/input.h"
#include "lucid/part.h"

namespace lucid {

/// Reads `2.5V`, `300 mV` into microvolts, -1000 V to 1000 V. Error: kUsage.
[[nodiscard]] LUCID_API Result<std::int32_t> parse_voltage(const std::string& text);

struct Bench {
  Chip::Options chip;        ///< parts, timed inputs, companions and wires are in it
  bool names_chip = false;   ///< the file says which chip
  bool names_clock = false;  ///< and its clock

  /// Reads a file; images and tables of values are looked for beside it. `on` is the chip that is
  /// meant, by its name on the bench, if not the first: that one is then a companion. Errors: kIo;
  /// kNotFound for such a chip; kBadImage with file, line and key.
  /// `more` are further tables behind the file's; without a path they are all.
  static LUCID_API Result<Bench> open(const std::string& path, const std::string& on = {},
                                      const std::string& more = {});
  /// Reads a text; `name` stands for it in errors, `folder` is where other files are looked for.
  static LUCID_API Result<Bench> parse(std::string_view text, const std::string& name,
                                       const std::string& folder = ".", const std::string& on = {});
  /// An input as a table that a bench file can hold; `on` as there, empty for the first chip.
  static LUCID_API std::string table(const Input& input, const std::string& on = {});
  /// The kinds of parts, each with its keys, as text for people.
  static LUCID_API std::vector<std::string> kinds();
};

}  // namespace lucid

#endif  // LUCID_BENCH_H
