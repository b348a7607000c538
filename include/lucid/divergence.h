// SPDX-License-Identifier: MIT
// Where two runs part: two builds, two inputs or two chips, aligned by what happens in the source,
// not by cycles.
#ifndef LUCID_DIVERGENCE_H
#define LUCID_DIVERGENCE_H

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "lucid/error.h"
#include "lucid/session.h"

namespace lucid {

struct DivergenceOptions {
  enum class Align : std::uint8_t {
    kCalls,   ///< of functions that both have, with arguments and what they return
    kWrites,  ///< of `object`
    kSerial,  ///< bytes that are sent
    kPins,    ///< edges
  } align = Align::kCalls;
  std::string object;
  Picoseconds span = {10'000'000'000'000};  ///< simulated, of each
  /// Asked now and then, with the time that both have come to; false ends it.
  std::function<bool(Picoseconds)> go_on;
};

struct Divergence {
  struct Side {
    Picoseconds time;
    std::string event;  ///< `control_step(setpoint = 600) returns 1000`
    Location where;
    std::vector<CallLevel> callers;
  };
  std::uint64_t same = 0;       ///< events before it that are the same
  std::string last_same;        ///< the last of them
  std::string handler;          ///< in which it is; empty: outside of interrupts
  std::vector<std::string> in;  ///< what of it differs: names, or `what it returns`
  std::optional<Side> a, b;     ///< neither: no difference was found. One: the other has no more
  Picoseconds until;            ///< so far both were run
};

/// Runs two sessions from where they stand to the first event that differs, and leaves each before
/// it; at the end of the span if there is none. Events are compared in their order: those outside
/// of interrupts, and those of each handler, by themselves. Calls that are only made again, with
/// the same values, count once. A value that is not known on one side, or that is only an address,
/// is not compared. Both keep a timeline. Errors: those of pause_at() for the object; kUsage if
/// somebody ended it, or for two sessions that are one.
[[nodiscard]] LUCID_API Result<Divergence> first_divergence(Session& a, Session& b,
                                                            const DivergenceOptions& options = {});

}  // namespace lucid

#endif  // LUCID_DIVERGENCE_H
