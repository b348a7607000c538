// SPDX-License-Identifier: MIT
// Findings: what checks that watch the whole run have found, each once a place.
//
//   session.set_check("torn-access", Session::CheckMode::kPause);   // others are listed
//   session.go_for({1'000'000'000'000});
//   for (const lucid::FindingView& f : session.findings()) …
#ifndef LUCID_FINDING_H
#define LUCID_FINDING_H

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "lucid/pause.h"
#include "lucid/time.h"

namespace lucid {

struct FindingView {
  std::string check;              ///< its name
  std::string text;               ///< one sentence
  std::optional<Location> where;  ///< the code it is about, if it is about some
  std::optional<Location> other;  ///< the other party: the handler
  Picoseconds at;                 ///< the first time, since power-on
  std::uint64_t times = 1;
  bool harmless = false;  ///< told for completeness: it is right as it is
};

/// Cells of EEPROM, or a page of flash, that have been programmed since power-on.
struct WearView {
  std::string memory;  ///< `eeprom`, `flash`
  std::uint32_t begin = 0, end = 0;
  std::uint64_t times = 0;      ///< each of them
  Location by;                  ///< the instruction that did it last
  std::uint64_t endurance = 0;  ///< times that the chip's manual promises
  /// So long, if it goes on as it has since power-on. Of what was programmed once nothing is known.
  std::optional<Picoseconds> lasts;
};

/// How near the watchdog has come since power-on: of all times that it was reset while it ran, the
/// one that came latest in its period.
struct WatchdogView {
  std::uint64_t times = 0;
  Picoseconds after, period;  ///< so long after it had been reset, of so long
  Picoseconds at;
  Location by;
};

/// What the C library's malloc() and its kind have given.
struct HeapView {
  std::uint32_t used = 0, most = 0;  ///< bytes asked for and not given back, now and at the most
  Picoseconds most_at;               ///< when that was first so
  std::uint64_t given = 0;           ///< blocks in all
  std::uint64_t refused = 0;         ///< how often there was no memory
  struct Holder {
    Location by;  ///< the call that asked for them
    std::uint64_t blocks = 0;
    std::uint32_t bytes = 0;
    Picoseconds since;  ///< of the oldest
  };
  std::vector<Holder> holders;  ///< of what has not been given back; the most bytes come first
};

}  // namespace lucid

#endif  // LUCID_FINDING_H
