// SPDX-License-Identifier: MIT
// What all drawings of signals share, pictures and lanes of characters: the ticks of an axis of
// time, round numbers, and how a signal is drawn.
#ifndef LUCID_DRAWING_H
#define LUCID_DRAWING_H

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "lucid/signal.h"

namespace lucid {

struct TimeTick {
  Picoseconds at;
  std::string text;
};
/// Round moments within a stretch of time, at most `most` of them or a few more, written alike.
[[nodiscard]] LUCID_API std::vector<TimeTick> time_ticks(Picoseconds from, Picoseconds to,
                                                         unsigned most);
/// Round numbers from `least` or a little below to `most` or a little above, about `count` of them.
[[nodiscard]] LUCID_API std::vector<double> round_numbers(double least, double most,
                                                          unsigned count);

/// The least and the most of all columns; nothing if none has a known value.
[[nodiscard]] LUCID_API std::optional<std::pair<double, double>> extremes(
    const std::vector<Signal::Column>& columns);

enum class LaneKind : std::uint8_t {
  kLevel,
  kBoxes,  ///< a text for each value: it has names, or is hexadecimal, binary, a character
  kCurve,
  kMoments,
};
[[nodiscard]] LUCID_API LaneKind lane_kind(const Signal& signal);

/// What a box says; empty for a value that is nothing, as that no interrupt is at work.
[[nodiscard]] LUCID_API std::string box_text(const Signal& signal, const Sample& sample);

/// A length of time in its unit, with five digits: `20 ms`, `1.0412 ms`.
[[nodiscard]] LUCID_API std::string short_time(Picoseconds span);

}  // namespace lucid

#endif  // LUCID_DRAWING_H
