// SPDX-License-Identifier: MIT
// Waveforms: files of signals. The value change dump (VCD) of IEEE 1364, "Value change dump (VCD)
// files", and tables (CSV).
//
// In a VCD a level is a wire, a number a vector, what has a unit a real; a moment is an event with
// a vector `NAME_value` beside it. What floats is z, what is unknown or fought over x; a real that
// is unknown keeps its last value, as the form has none for it. Names of values stand in $comment.
#ifndef LUCID_WAVEFORM_H
#define LUCID_WAVEFORM_H

#include <cstdint>
#include <ostream>
#include <string>
#include <string_view>
#include <vector>

#include "lucid/signal.h"

namespace lucid {

enum class WaveformKind : std::uint8_t { kVcd, kCsv };
/// Reads such a file; `name` stands for it in errors. Of a table the first column is the time, in
/// seconds or in what its title says (`time in ms`); an empty field is unknown, `z` floats. Vectors
/// of more than 64 bits are kUnsupported. Errors: kBadImage with name and line.
[[nodiscard]] LUCID_API Result<std::vector<Signal>> read_waveforms(std::string_view text,
                                                                   WaveformKind kind,
                                                                   const std::string& name);

/// The same from a file, of a kind by its name. Errors: also kIo.
[[nodiscard]] LUCID_API Result<std::vector<Signal>> open_waveforms(const std::string& path);

/// By the end of a file's name. Error: kUsage for another one.
[[nodiscard]] LUCID_API Result<WaveformKind> waveform_kind(const std::string& path);

/// Writes what the signals are in [from, to]. Times are absolute, in the coarsest unit of the
/// standard in which all of them are whole; else in picoseconds, rounded to the nearest. Result:
/// how many changes. Errors: kOutOfRange if nothing is recorded there; kIo.
LUCID_API Result<std::uint64_t> write_waveforms(std::ostream& out, WaveformKind kind,
                                                const std::vector<Signal>& signals,
                                                Picoseconds from, Picoseconds to);

}  // namespace lucid

#endif  // LUCID_WAVEFORM_H
