// SPDX-License-Identifier: MIT
// Kept: all that a session is at a moment.
#ifndef LUCID_SESSION_KEPT_H
#define LUCID_SESSION_KEPT_H

#include <map>
#include <memory>
#include <vector>

#include "session/core.h"

namespace lucid {

struct Session::Core::Kept {
  const Core* owner = nullptr;
  unsigned loads = 0;  ///< which image
  std::shared_ptr<const machine::Machine> machine, before;
  std::vector<Entry> breakpoints;
  std::vector<std::shared_ptr<const Entry>> spent;
  std::vector<WatchView> watched;
  std::vector<record::Act> acts;
  std::size_t done = 0;
  record::Moment end;  ///< of the timeline
  std::map<std::uint32_t, std::pair<std::uint32_t, std::uint32_t>> came_from;
  std::optional<std::pair<std::uint32_t, std::uint64_t>> counted;
  std::pair<std::uint32_t, std::uint64_t> stood_at;
  Instant started;
  Pause pause;
  unsigned level = 0;
  std::uint64_t heard = 0;
};

}  // namespace lucid

#endif  // LUCID_SESSION_KEPT_H
