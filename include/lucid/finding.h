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

}  // namespace lucid

#endif  // LUCID_FINDING_H
