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
#include <vector>

#include "lucid/signal.h"

namespace lucid {

enum class WaveformKind : std::uint8_t { kVcd, kCsv };
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
