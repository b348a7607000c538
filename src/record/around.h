// SPDX-License-Identifier: MIT
// Around: of what a lane records, the stretches around certain moments are kept, and nothing else.
#ifndef LUCID_RECORD_AROUND_H
#define LUCID_RECORD_AROUND_H

#include <cstdint>
#include <memory>
#include <optional>
#include <utility>
#include <vector>

#include "lucid/signal.h"

namespace lucid::record {

inline bool is_moment(const Signal& signal) { return signal.facts().kind == Signal::Kind::kMoment; }

/// Which moments, and how much around them.
struct AroundSpec {
  unsigned id = 0;                      ///< of a breakpoint: where it would pause or writes its log
  std::uint64_t before = 0, after = 0;  ///< ticks
};

/// A signal and, if wanted, the places of its changes.
struct Recorded {
  Signal signal;
  std::optional<Signal> places = {};
};

/// A lane records on as always; what is older than any window to come may reach is moved over here
/// as far as it lies within a window, now and then.
class Around {
 public:
  Around(AroundSpec spec, const Recorded& lane);
  [[nodiscard]] const AroundSpec& spec() const { return spec_; }
  /// One of the moments. Earlier ones are taken, too.
  void mark(std::uint64_t tick);
  /// The lane has been recorded up to `end`: what is settled of it comes over here, if it is much.
  void take(Recorded& lane, std::uint64_t end);
  /// All that lies within windows.
  [[nodiscard]] Recorded all(Recorded lane, std::uint64_t end) const;
  /// Behind a tick another future begins.
  void cut_at(std::uint64_t tick, Recorded& lane);
  [[nodiscard]] std::size_t windows() const;

  [[nodiscard]] Recorded& kept() { return kept_; }
  [[nodiscard]] std::size_t bytes() const;
  /// Forgets the moments whose windows nothing is left of.
  void forget_before(std::uint64_t tick);

 private:
  [[nodiscard]] std::vector<std::pair<std::uint64_t, std::uint64_t>> windows(
      std::uint64_t from, std::uint64_t to) const;
  void add_windows(const Signal& from, std::uint64_t end, Signal& into, bool holds_on) const;

  AroundSpec spec_;
  std::vector<std::uint64_t> marks_;  ///< rising
  Recorded kept_;                     ///< up to the beginning of the lane's own
  std::uint64_t looks_at_ = 0;        ///< so many changes are much
};

}  // namespace lucid::record

#endif  // LUCID_RECORD_AROUND_H
