// SPDX-License-Identifier: MIT
// What the instructions of a function write together: the registers of one value of several bytes,
// and those that are put away for a while. It tells a variable's next value from something else
// that lies in its registers.
#ifndef LUCID_FRAMES_RUNS_H
#define LUCID_FRAMES_RUNS_H

#include <map>
#include <optional>
#include <vector>

#include "frames/place.h"

namespace lucid::frames {

/// By node of the function's flow graph.
class Runs {
 public:
  Runs(const Scope& scope, const Function& function);

  /// The registers that an instruction leaves a result in.
  [[nodiscard]] const machine::RegisterSpan& result(unsigned node) const { return results_[node]; }
  /// The same, together with what adjoining ones write of the same value.
  [[nodiscard]] const machine::RegisterSpan& run(unsigned node) const { return runs_[node]; }
  /// It changes what is there, rather than bring a new value.
  [[nodiscard]] bool goes_on(unsigned node) const { return goes_on_[node]; }
  /// 0: not known.
  [[nodiscard]] unsigned line(unsigned node) const { return lines_[node]; }
  /// Is a line's code one stretch? Then it is in no loop's head and end.
  [[nodiscard]] bool is_one_stretch(unsigned line) const;
  /// What a call of one of the compiler's own routines leaves; null: it is none.
  [[nodiscard]] const std::vector<machine::RegisterSpan>* helper(unsigned node) const {
    const auto found = helpers_.find(node);
    return found == helpers_.end() ? nullptr : &found->second;
  }
  /// Of an instruction that brings a register back: the one that has put it away.
  [[nodiscard]] std::optional<unsigned> put_away_at(unsigned node) const {
    const auto found = shelves_.find(node);
    return found == shelves_.end() ? std::nullopt : std::optional(found->second);
  }

 private:
  class Maker;

  std::vector<machine::RegisterSpan> results_, runs_;
  std::vector<unsigned> lines_;
  std::vector<bool> goes_on_;
  std::map<unsigned, unsigned> shelves_;  ///< where a register is brought back, and put away
  std::map<unsigned, std::vector<machine::RegisterSpan>> helpers_;
};

}  // namespace lucid::frames

#endif  // LUCID_FRAMES_RUNS_H
