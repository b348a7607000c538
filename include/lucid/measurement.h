// SPDX-License-Identifier: MIT
// Measurement: what can be read off a signal, or off two.
#ifndef LUCID_MEASUREMENT_H
#define LUCID_MEASUREMENT_H

#include <cstdint>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "lucid/signal.h"

namespace lucid {

/// Lengths of time: how many, and the extremes with where they began. Exact to the tick; the mean
/// is rounded to a picosecond.
struct Spans {
  std::uint64_t count = 0;
  Picoseconds least, mean, most;
  Picoseconds least_at, most_at;
  Picoseconds last, last_at;
  Picoseconds deviation;  ///< the standard deviation
  struct Length {
    Picoseconds length;
    std::uint64_t times = 0;
  };
  std::vector<Length> lengths;  ///< the shortest first; none if more than 1000 are different
};

struct Measurement {
  Signal::Kind kind = Signal::Kind::kLevel;
  Picoseconds from, to;       ///< what was looked at, as far as it was recorded
  Picoseconds unknown;        ///< of that, so much is not known
  std::uint64_t changes = 0;  ///< or moments
  // Of a level
  std::uint64_t rising = 0, falling = 0;
  Spans high, low;              ///< complete ones: an edge at both ends
  Spans period;                 ///< from a rising edge to the next
  std::optional<double> duty;   ///< the share of high, of whole periods
  std::optional<double> hertz;  ///< of whole periods
  // Of moments, and of a level's edges
  Spans gaps;  ///< from one to the next
  // Of numbers
  struct Values {
    double least = 0, mean = 0, most = 0;  ///< the mean by time
    Picoseconds least_at, most_at;         ///< where they began to hold first
    std::string unit;
  };
  std::optional<Values> values;
  bool named = false;  ///< values have names: that one is more than another says nothing
  /// Of numbers: how long each held, the longest first; at most twenty.
  struct Held {
    std::string text;
    Picoseconds time;
    std::uint64_t times = 0;
  };
  std::vector<Held> held;
  std::uint64_t different = 0;  ///< values, if they are so few that they were counted
};

/// Of what a signal is in [from, to]. Error: kOutOfRange if nothing of it was recorded then.
[[nodiscard]] LUCID_API Result<Measurement> measure(const Signal& signal, Picoseconds from,
                                                    Picoseconds to);

enum class Edge : std::uint8_t { kAny, kRising, kFalling };
/// Edges of a level, changes of anything else: from each of the one to the next of the other, which
/// may be at the same time unless both are of one name. One that another follows first has no delay
/// of its own.
[[nodiscard]] LUCID_API Result<Spans> measure_delays(const Signal& one, Edge edge,
                                                     const Signal& other, Edge other_edge,
                                                     Picoseconds from, Picoseconds to);
/// Whether two levels do the same: a trace, and a capture of the real thing.
struct Match {
  std::uint64_t edges = 0;      ///< that are the same, from the first one on
  std::int64_t offset = 0;      ///< picoseconds that the other one's first edge comes later
  double ppm = 0;               ///< by so much the other one's clock is slower, in millionths
  Picoseconds worst, worst_at;  ///< the largest deviation that is left, and where
  struct Difference {
    Picoseconds at;                       ///< in the one
    std::optional<Picoseconds> other_at;  ///< in the other; nothing: it has no such edge
    bool rises = false;                   ///< in the one
    bool other_rises = false;
    bool extra = false;  ///< it is the other one that has an edge more
  };
  std::optional<Difference> difference;  ///< the first one
};
/// From the first edge of this kind on in both. Where one ends, nothing is compared any more. The
/// clocks may differ by up to a tenth. Errors: kUsage for what is no level; kNotFound without such
/// an edge.
[[nodiscard]] LUCID_API Result<Match> match(const Signal& one, const Signal& other, Edge from,
                                            Picoseconds tolerance);
/// The stretches during which a number is within [least, most].
[[nodiscard]] LUCID_API Result<Spans> measure_within(const Signal& signal, double least,
                                                     double most, Picoseconds from, Picoseconds to);

}  // namespace lucid

#endif  // LUCID_MEASUREMENT_H
