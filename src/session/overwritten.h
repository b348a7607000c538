// SPDX-License-Identifier: MIT
#ifndef LUCID_SESSION_OVERWRITTEN_H
#define LUCID_SESSION_OVERWRITTEN_H

#include "session/expression.h"

namespace lucid::session {

/// Whether registers still hold what the debug information says. GCC forgets to end a location when
/// a wider or neighbouring value is written that begins in another register; so a value in
/// registers from R on is taken to be gone once a value that does not begin at R has been written
/// over part of it since its location began.
class Overwritten {
 public:
  /// `look` stands within the location `since`.
  Overwritten(const Scope& scope, const Local::Range& since, std::uint32_t look)
      : scope_(scope), target_(scope.machine.target()), since_(since), look_(look) {}

  /// DWARF numbers.
  [[nodiscard]] bool any(int first, int count) const;

 private:
  [[nodiscard]] bool by_helper(const Instruction& call, int first, int count) const;
  [[nodiscard]] std::uint32_t loops_back_from() const;

  const Scope& scope_;
  const isa::Target& target_;
  const Local::Range since_;
  const std::uint32_t look_;
};

}  // namespace lucid::session

#endif  // LUCID_SESSION_OVERWRITTEN_H
