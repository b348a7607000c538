// SPDX-License-Identifier: MIT
#include "record/around.h"

#include <algorithm>

namespace lucid::record {

namespace {

/// A lane with fewer changes is left as it is.
constexpr std::uint64_t kMany = 4096;

std::uint64_t less(std::uint64_t tick, std::uint64_t ticks) {
  return tick > ticks ? tick - ticks : 0;
}
std::uint64_t more(std::uint64_t tick, std::uint64_t ticks) {
  return tick < UINT64_MAX - ticks ? tick + ticks : UINT64_MAX;
}

/// The same signal without what it had before a tick.
Signal rest_of(const Signal& signal, std::uint64_t from) {
  Signal out(signal.facts(), signal.hz(), from);
  auto samples = signal.samples(from);
  while (const auto sample = samples.next()) out.add(*sample);
  out.end_at(signal.end());
  return out;
}

}  // namespace

Around::Around(AroundSpec spec, const Recorded& lane)
    : spec_(spec),
      kept_{Signal(lane.signal.facts(), lane.signal.hz(), lane.signal.begin())},
      looks_at_(kMany) {
  if (lane.places)
    kept_.places = Signal(lane.places->facts(), lane.signal.hz(), lane.signal.begin());
}

void Around::mark(std::uint64_t tick) {
  const auto place = std::lower_bound(marks_.begin(), marks_.end(), tick);
  if (place != marks_.end() && *place == tick) return;
  marks_.insert(place, tick);
  // What lies between two whose windows meet says nothing more.
  const auto says_nothing = [&] {
    const std::size_t n = marks_.size();
    return n > 2 && marks_[n - 1] - marks_[n - 3] <= more(spec_.before, spec_.after);
  };
  while (says_nothing()) marks_.erase(marks_.end() - 2);
}

/// Those that reach into `[from, to]`, from their first tick to their last, without overlap.
std::vector<std::pair<std::uint64_t, std::uint64_t>> Around::windows(std::uint64_t from,
                                                                     std::uint64_t to) const {
  std::vector<std::pair<std::uint64_t, std::uint64_t>> out;
  for (auto mark = std::lower_bound(marks_.begin(), marks_.end(), less(from, spec_.after));
       mark != marks_.end() && less(*mark, spec_.before) <= to; ++mark) {
    const std::uint64_t begin = less(*mark, spec_.before), end = more(*mark, spec_.after);
    if (!out.empty() && begin <= more(out.back().second, 1))
      out.back().second = end;
    else
      out.emplace_back(begin, end);
  }
  return out;
}

std::size_t Around::windows() const { return windows(0, UINT64_MAX).size(); }

/// What a signal has within windows, up to `end` and without it. What holds on tells at a window's
/// beginning what is from earlier.
void Around::add_windows(const Signal& from, std::uint64_t end, Signal& into, bool holds_on) const {
  if (from.begin() > into.end() && !is_moment(from))  // the oldest has been given up
    into.add({into.end(), 0, Sample::State::kUnknown});
  if (end <= from.begin()) return;
  for (const auto& [first, last] : windows(from.begin(), end - 1)) {
    auto samples = from.samples(std::max(first, from.begin()), std::min(last, end - 1));
    while (auto sample = samples.next()) {
      if (!holds_on && sample->tick == first) sample->state = Sample::State::kUnknown;
      into.add(*sample);
    }
    if (last < end - 1 && !is_moment(from)) into.add({last + 1, 0, Sample::State::kUnknown});
  }
}

void Around::take(Recorded& lane, std::uint64_t end) {
  if (lane.signal.changes() < looks_at_) return;
  // No window to come begins before that.
  const std::uint64_t settled = less(end, spec_.before);
  if (settled > lane.signal.begin()) {
    add_windows(lane.signal, settled, kept_.signal, true);
    kept_.signal.end_at(settled);
    if (lane.places) {
      add_windows(*lane.places, settled, *kept_.places, false);
      kept_.places->end_at(settled);
      lane.places = rest_of(*lane.places, settled);
    }
    lane.signal = rest_of(lane.signal, settled);
  }
  looks_at_ = 2 * lane.signal.changes() + kMany;
}

Recorded Around::all(Recorded lane, std::uint64_t end) const {
  Recorded out = kept_;
  lane.signal.end_at(end);
  add_windows(lane.signal, more(end, 1), out.signal, true);
  out.signal.end_at(end);
  if (!lane.places) return out;
  lane.places->end_at(end);
  add_windows(*lane.places, more(end, 1), *out.places, false);
  out.places->end_at(end);
  return out;
}

void Around::cut_at(std::uint64_t tick, Recorded& lane) {
  const auto behind = std::upper_bound(marks_.begin(), marks_.end(), tick);
  const bool dense = behind != marks_.begin() && behind != marks_.end() &&
                     *behind - *(behind - 1) <= more(spec_.before, spec_.after);
  marks_.erase(behind, marks_.end());
  if (dense) marks_.push_back(tick);  // there may have been some up to here
  const bool is_settled = tick < lane.signal.begin();
  for (auto [own, kept] : {std::pair(&lane.signal, &kept_.signal),
                           std::pair(lane.places ? &*lane.places : nullptr,
                                     kept_.places ? &*kept_.places : nullptr)}) {
    if (own == nullptr) continue;
    if (!is_settled) {
      own->cut_at(tick);
      continue;
    }
    kept->cut_at(tick);
    *own = rest_of(*kept, tick);
    kept->cut_at(less(tick, 1));
  }
}

std::size_t Around::bytes() const {
  return kept_.signal.bytes() + (kept_.places ? kept_.places->bytes() : 0) +
         marks_.size() * sizeof(std::uint64_t);
}

void Around::forget_before(std::uint64_t tick) {
  marks_.erase(marks_.begin(),
               std::lower_bound(marks_.begin(), marks_.end(), less(tick, spec_.after)));
}

}  // namespace lucid::record
