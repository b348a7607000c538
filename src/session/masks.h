// SPDX-License-Identifier: MIT
// Masks: where in the code interrupts may come, as far as that can be read off it.
#ifndef LUCID_SESSION_MASKS_H
#define LUCID_SESSION_MASKS_H

#include <map>
#include <set>
#include <vector>

#include "session/core.h"

namespace lucid {

/// Start-up code, main and handlers begin with interrupts off, as the hardware does; functions that
/// are called begin as their callers stand. A status that is written back is as at the function's
/// entry; if it has been saved elsewhere, they are on if one that calls it ever has them on. What
/// only pointers lead to may be interrupted.
class Session::Core::Masks {
 public:
  Masks(const Core& core, frames::Flows& flows);

  /// Whether interrupts may come before an instruction, by node of the function's graph.
  [[nodiscard]] const std::vector<bool>& open_in(const Function& function) {
    return ways(function, begins_on_.count(function.begin) != 0).open;
  }

 private:
  struct Ways {
    std::vector<bool> open;
    bool behind = false;  ///< they may be on when it has returned
  };
  /// With interrupts on, or off, where it begins.
  const Ways& ways(const Function& function, bool on);
  void go_through(const Function& function, Ways& ways);
  [[nodiscard]] const Function* callee_of(const frames::FlowGraph::Node& node) const;

  const Core& core_;
  frames::Flows& flows_;
  std::map<std::pair<std::uint32_t, bool>, Ways> ways_;  ///< by a function's begin
  std::set<std::uint32_t> begins_on_;                    ///< functions, by their begin
  std::set<std::uint32_t> allows_, saves_;               ///< themselves
  std::set<std::uint32_t> restores_on_;  ///< what was saved elsewhere may be that they are on
};

}  // namespace lucid

#endif  // LUCID_SESSION_MASKS_H
