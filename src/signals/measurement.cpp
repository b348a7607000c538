// SPDX-License-Identifier: MIT
#include "lucid/measurement.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <unordered_map>

namespace lucid {
namespace {

/// Collects lengths in ticks.
class Collector {
 public:
  explicit Collector(const Signal& signal) : signal_(signal) {}
  void add(std::uint64_t begin, std::uint64_t end) {
    const std::uint64_t length = end - begin;
    if (count_ == 0 || length < least_) {
      least_ = length;
      least_at_ = begin;
    }
    if (count_ == 0 || length > most_) {
      most_ = length;
      most_at_ = begin;
    }
    last_ = length;
    last_at_ = begin;
    if (lengths_.size() <= kMostLengths) ++lengths_[length];
    ++count_;
    sum_ += length;
    square_ += static_cast<long double>(length) * static_cast<long double>(length);
  }
  [[nodiscard]] std::uint64_t sum() const { return sum_; }
  [[nodiscard]] std::uint64_t count() const { return count_; }
  [[nodiscard]] Spans spans() const {
    Spans out;
    out.count = count_;
    if (count_ == 0) return out;
    out.least = signal_.time(least_);
    out.most = signal_.time(most_);
    out.last = signal_.time(last_);
    out.least_at = signal_.time(least_at_);
    out.most_at = signal_.time(most_at_);
    out.last_at = signal_.time(last_at_);
    const auto n = static_cast<long double>(count_);
    const long double mean = static_cast<long double>(sum_) / n;
    const long double tick = 1e12L / static_cast<long double>(signal_.hz());
    out.mean.count = static_cast<std::uint64_t>(std::llroundl(mean * tick));
    const long double variance = std::max(0.0L, square_ / n - mean * mean);
    if (least_ != most_)
      out.deviation.count = static_cast<std::uint64_t>(std::llroundl(std::sqrt(variance) * tick));
    if (lengths_.size() <= kMostLengths)
      for (const auto& [length, times] : lengths_)
        out.lengths.push_back({signal_.time(length), times});
    return out;
  }

 private:
  static constexpr std::size_t kMostLengths = 1000;
  const Signal& signal_;
  std::uint64_t count_ = 0, sum_ = 0, least_ = 0, most_ = 0, last_ = 0;
  std::uint64_t least_at_ = 0, most_at_ = 0, last_at_ = 0;
  long double square_ = 0;
  std::map<std::uint64_t, std::uint64_t> lengths_;  ///< and how often each
};

/// The ticks of a stretch of time, as far as something is recorded there.
Result<std::pair<std::uint64_t, std::uint64_t>> window(const Signal& signal, Picoseconds from,
                                                       Picoseconds to) {
  const std::uint64_t begin = std::max(signal.begin(), to_ticks(from, signal.hz()));
  const std::uint64_t end =
      std::min(signal.end(), to.count == UINT64_MAX ? UINT64_MAX : to_ticks(to, signal.hz()));
  if (begin > end)
    return fail(ErrorCode::kOutOfRange,
                fmt::format("nothing of {} is recorded there", signal.name()),
                fmt::format("it is from {} to {}", to_text(signal.time(signal.begin())),
                            to_text(signal.time(signal.end()))));
  return std::pair(begin, end);
}

void measure_level(const Signal& signal, std::uint64_t begin, std::uint64_t end, Measurement& out) {
  Collector high(signal), low(signal), period(signal), gaps(signal);
  constexpr std::uint64_t kNone = UINT64_MAX;
  std::uint64_t rose = kNone, edge = kNone;  // the last ones
  std::uint64_t high_ticks = 0, first_rise = 0, last_rise = 0;
  std::uint64_t high_at_first = 0, high_at_last = 0;
  std::optional<Sample> before;
  auto samples = signal.samples(begin, end);
  while (const auto sample = samples.next()) {
    const bool both = before && before->known() && sample->known();
    if (before && before->known() && before->value != 0) high_ticks += sample->tick - before->tick;
    if (both && sample->value != before->value) {
      const std::uint64_t at = sample->tick;
      const bool rises = sample->value != 0;
      ++(rises ? out.rising : out.falling);
      if (edge != kNone) {
        (rises ? low : high).add(edge, at);
        gaps.add(edge, at);
      }
      if (rises) {
        if (rose != kNone) period.add(rose, at);
        if (out.rising == 1) {
          first_rise = at;
          high_at_first = high_ticks;
        }
        last_rise = at;
        high_at_last = high_ticks;
        rose = at;
      }
      edge = at;
    } else if (!both) {
      rose = edge = kNone;
    }
    before = sample;
  }
  if (out.rising >= 2 && period.count() + 1 == out.rising)  // whole periods throughout
    out.duty = static_cast<double>(high_at_last - high_at_first) /
               static_cast<double>(last_rise - first_rise);
  if (period.count() != 0)
    out.hertz = static_cast<double>(period.count()) * static_cast<double>(signal.hz()) /
                static_cast<double>(period.sum());
  out.high = high.spans();
  out.low = low.spans();
  out.period = period.spans();
  out.gaps = gaps.spans();
}

void measure_number(const Signal& signal, std::uint64_t begin, std::uint64_t end,
                    Measurement& out) {
  constexpr std::size_t kMostDifferent = 100'000;
  struct Times {
    std::uint64_t ticks = 0, times = 0;
    Sample sample;
  };
  std::unordered_map<std::uint64_t, Times> held;
  Measurement::Values values;
  long double sum = 0;
  std::uint64_t known = 0;
  bool any = false, too_many = false;
  std::optional<Sample> before;
  const auto account = [&](std::uint64_t until) {
    if (!before || !before->known()) return;
    const std::uint64_t ticks = until - before->tick;
    known += ticks;
    sum += static_cast<long double>(signal.number(*before)) * static_cast<long double>(ticks);
    if (too_many) return;
    Times& times = held[before->value];
    times.ticks += ticks;
    ++times.times;
    times.sample = *before;
    too_many = held.size() > kMostDifferent;
  };
  auto samples = signal.samples(begin, end);
  while (const auto sample = samples.next()) {
    account(sample->tick);
    before = sample;
    if (!sample->known()) continue;
    const double number = signal.number(*sample);
    if (!any || number < values.least) {
      values.least = number;
      values.least_at = signal.time(sample->tick);
    }
    if (!any || number > values.most) {
      values.most = number;
      values.most_at = signal.time(sample->tick);
    }
    any = true;
  }
  account(end);
  if (!any) return;
  values.mean =
      known != 0 ? static_cast<double>(sum / static_cast<long double>(known)) : values.least;
  values.unit = signal.facts().unit;
  out.values = values;
  out.named = !signal.facts().names.empty();
  if (too_many) return;
  out.different = held.size();
  std::vector<Times> all;
  all.reserve(held.size());
  for (const auto& [value, times] : held) all.push_back(times);
  std::sort(all.begin(), all.end(), [&](const Times& a, const Times& b) {
    return a.ticks != b.ticks ? a.ticks > b.ticks
                              : signal.number(a.sample) < signal.number(b.sample);
  });
  constexpr std::size_t kMost = 20;
  for (std::size_t i = 0; i < std::min(all.size(), kMost); ++i)
    out.held.push_back({signal.text(all[i].sample), signal.time(all[i].ticks), all[i].times});
}

void measure_moments(const Signal& signal, std::uint64_t begin, std::uint64_t end,
                     Measurement& out) {
  Collector gaps(signal);
  std::optional<std::uint64_t> before;
  auto samples = signal.samples(begin, end);
  while (const auto sample = samples.next()) {
    if (!sample->known()) continue;
    if (before) gaps.add(*before, sample->tick);
    before = sample->tick;
    ++out.changes;
  }
  out.gaps = gaps.spans();
  if (gaps.sum() != 0)
    out.hertz = static_cast<double>(gaps.count()) * static_cast<double>(signal.hz()) /
                static_cast<double>(gaps.sum());
}

/// Edges, changes or moments, one after the other.
class Edges {
 public:
  Edges(const Signal& signal, Edge edge, std::uint64_t begin, std::uint64_t end)
      : level_(signal.facts().kind == Signal::Kind::kLevel),
        moments_(signal.facts().kind == Signal::Kind::kMoment),
        edge_(edge),
        samples_(signal.samples(begin, end)) {}
  std::optional<std::uint64_t> next() {
    while (const auto sample = samples_.next()) {
      const auto before = std::exchange(before_, sample);
      if (moments_) return sample->tick;
      if (!before || !before->known() || !sample->known()) continue;
      const bool rises = level_ ? sample->value != 0 : true;
      if (level_ && edge_ != Edge::kAny && rises != (edge_ == Edge::kRising)) continue;
      return sample->tick;
    }
    return std::nullopt;
  }

 private:
  bool level_, moments_;
  Edge edge_;
  Signal::Samples samples_;
  std::optional<Sample> before_;
};

}  // namespace

Result<Measurement> measure(const Signal& signal, Picoseconds from, Picoseconds to) {
  const auto ticks = window(signal, from, to);
  if (!ticks) return fail(ticks.error());
  const auto [begin, end] = *ticks;
  Measurement out;
  out.kind = signal.facts().kind;
  out.from = signal.time(begin);
  out.to = signal.time(end);
  std::uint64_t unknown = 0;
  std::optional<Sample> before;
  auto samples = signal.samples(begin, end);
  bool first = true;
  while (const auto sample = samples.next()) {
    if (before && !before->known()) unknown += sample->tick - before->tick;
    if (!first && out.kind != Signal::Kind::kMoment) ++out.changes;
    first = false;
    before = sample;
  }
  if (before && !before->known()) unknown += end - before->tick;
  if (out.kind != Signal::Kind::kMoment) out.unknown = signal.time(unknown);
  switch (out.kind) {
    case Signal::Kind::kLevel: measure_level(signal, begin, end, out); break;
    case Signal::Kind::kMoment: measure_moments(signal, begin, end, out); break;
    case Signal::Kind::kNumber:
    case Signal::Kind::kReal: measure_number(signal, begin, end, out); break;
  }
  return out;
}

Result<Spans> measure_delays(const Signal& one, Edge edge, const Signal& other, Edge other_edge,
                             Picoseconds from, Picoseconds to) {
  const auto first = window(one, from, to);
  if (!first) return fail(first.error());
  const auto second = window(other, from, to);
  if (!second) return fail(second.error());
  Edges begins(one, edge, first->first, first->second);
  Edges ends(other, other_edge, second->first, second->second);
  // Compared as times: the clocks may be two. A tick of either is far longer than a picosecond.
  const Signal in_time({}, 1'000'000'000'000, 0);
  const bool same = one.hz() == other.hz();
  Collector delays(same ? one : in_time);
  const auto at = [&](const Signal& signal, const std::optional<std::uint64_t>& tick) {
    return !tick || same ? tick : std::optional(signal.time(*tick).count);
  };
  auto begin = at(one, begins.next());
  auto end = at(other, ends.next());
  // The other one may do so at the same time, as the ends of a wire do: not after itself, though.
  const bool itself = one.name() == other.name();
  const auto is_before = [itself](std::uint64_t a, std::uint64_t b) {
    return itself ? a <= b : a < b;
  };
  while (begin && end) {
    if (is_before(*end, *begin)) {
      end = at(other, ends.next());
      continue;
    }
    const auto next = at(one, begins.next());
    if (!next || is_before(*end, *next)) delays.add(*begin, *end);
    begin = next;
  }
  return delays.spans();
}

Result<Spans> measure_within(const Signal& signal, double least, double most, Picoseconds from,
                             Picoseconds to) {
  const auto ticks = window(signal, from, to);
  if (!ticks) return fail(ticks.error());
  Collector spans(signal);
  std::optional<std::uint64_t> since;
  auto samples = signal.samples(ticks->first, ticks->second);
  while (const auto sample = samples.next()) {
    const double number = sample->known() ? signal.number(*sample) : 0;
    const bool within = sample->known() && number >= least && number <= most;
    if (within && !since) since = sample->tick;
    if (!within && since) {
      spans.add(*since, sample->tick);
      since.reset();
    }
  }
  if (since && *since < ticks->second) spans.add(*since, ticks->second);
  return spans.spans();
}

}  // namespace lucid
