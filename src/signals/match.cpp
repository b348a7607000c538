// SPDX-License-Identifier: MIT
// Two recordings of what should be the same, by clocks that are not.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <utility>

#include "lucid/measurement.h"

namespace lucid {
namespace {

struct Turn {
  std::uint64_t time;  ///< picoseconds
  bool rises;
};

/// From the first one of a kind on.
std::vector<Turn> turns_of(const Signal& signal, Edge from) {
  std::vector<Turn> out;
  std::optional<bool> level;
  auto samples = signal.samples();
  while (const auto sample = samples.next()) {
    if (!sample->known()) continue;
    const bool high = sample->value != 0;
    const bool first = !level.has_value();
    if (std::exchange(level, high) == high || first) continue;
    if (out.empty() && from != Edge::kAny && high != (from == Edge::kRising)) continue;
    out.push_back({signal.time(sample->tick).count, high});
  }
  return out;
}

/// b - b0 = offset + rate * (a - a0), by least squares.
struct Line {
  double offset = 0, rate = 1;
};
Line fitted(const std::vector<Turn>& a, const std::vector<Turn>& b, std::size_t count) {
  double n = 0, x = 0, y = 0, xx = 0, xy = 0;
  for (std::size_t i = 0; i < count; ++i) {
    const auto da = static_cast<double>(a[i].time - a[0].time);
    const auto db = static_cast<double>(b[i].time - b[0].time);
    n += 1;
    x += da;
    y += db;
    xx += da * da;
    xy += da * db;
  }
  const double spread = n * xx - x * x;
  if (count < 3 || spread <= 0) return {};
  const double rate = (n * xy - x * y) / spread;
  return {(y - rate * x) / n, rate};
}

}  // namespace

Result<Match> match(const Signal& one, const Signal& other, Edge from, Picoseconds tolerance) {
  for (const Signal* signal : {&one, &other})
    if (signal->facts().kind != Signal::Kind::kLevel)
      return fail(ErrorCode::kUsage, fmt::format("'{}' is not high or low", signal->name()),
                  "levels are matched");
  const std::vector<Turn> a = turns_of(one, from), b = turns_of(other, from);
  for (const auto& [turns, signal] : {std::pair{&a, &one}, std::pair{&b, &other}})
    if (turns->empty())
      return fail(ErrorCode::kNotFound, fmt::format("'{}' has no such edge", signal->name()));
  // As far as lengths are alike, whatever the clocks.
  constexpr double kSlack = 0.1;
  const auto near = static_cast<double>(tolerance.count);
  std::size_t alike = 1;
  for (; alike < std::min(a.size(), b.size()); ++alike) {
    const auto da = static_cast<double>(a[alike].time - a[alike - 1].time);
    const auto db = static_cast<double>(b[alike].time - b[alike - 1].time);
    if (a[alike].rises != b[alike].rises || std::abs(db - da) > kSlack * da + 2 * near) break;
  }
  Match out;
  out.offset = static_cast<std::int64_t>(b[0].time - a[0].time);
  if (a[0].rises != b[0].rises) alike = 0;
  Line line;
  const auto deviation = [&](std::size_t i) {
    return static_cast<double>(b[i].time - b[0].time) - line.offset -
           line.rate * static_cast<double>(a[i].time - a[0].time);
  };
  // As many as lie on one line together: the next one is the first difference.
  const auto lie_on_it = [&](std::size_t count) {
    line = fitted(a, b, count);
    for (std::size_t i = 0; i < count; ++i)
      if (std::abs(deviation(i)) > near) return false;
    return true;
  };
  std::size_t same = alike;
  if (!lie_on_it(same)) {
    std::size_t good = 1;
    while (same - good > 1) {
      const std::size_t middle = (good + same) / 2;
      (lie_on_it(middle) ? good : same) = middle;
    }
    same = good;
    lie_on_it(same);
  }
  out.edges = same;
  out.ppm = (line.rate - 1) * 1e6;
  double worst = -1;
  for (std::size_t i = 0; i < same; ++i)
    if (std::abs(deviation(i)) > worst) {
      worst = std::abs(deviation(i));
      out.worst = {static_cast<std::uint64_t>(std::llround(worst))};
      out.worst_at = {a[i].time};
    }
  // An edge that the other recording has ended before is none that is missing.
  const auto expected = [&](std::uint64_t time) {
    return static_cast<double>(b[0].time) + line.offset +
           line.rate * static_cast<double>(time - a[0].time);
  };
  const bool more_a = same < a.size(), more_b = same < b.size();
  const bool a_counts =
      more_a && expected(a[same].time) + near < static_cast<double>(other.time(other.end()).count);
  const double back =
      more_b ? (static_cast<double>(b[same].time - b[0].time) - line.offset) / line.rate : 0;
  const bool b_counts = more_b && static_cast<double>(a[0].time) + back + near <
                                      static_cast<double>(one.time(one.end()).count);
  if (more_a && (more_b || a_counts)) {
    Match::Difference difference;
    difference.at = {a[same].time};
    difference.rises = a[same].rises;
    if (more_b) {
      difference.other_at = Picoseconds{b[same].time};
      difference.other_rises = b[same].rises;
    }
    out.difference = difference;
  } else if (b_counts) {
    Match::Difference difference;
    difference.at = {
        static_cast<std::uint64_t>(std::max(0.0, static_cast<double>(a[0].time) + back))};
    difference.other_at = Picoseconds{b[same].time};
    difference.other_rises = b[same].rises;
    difference.extra = true;
    out.difference = difference;
  }
  return out;
}

}  // namespace lucid
