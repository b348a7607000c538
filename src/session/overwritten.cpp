// SPDX-License-Identifier: MIT
#include "session/overwritten.h"

#include <algorithm>

namespace lucid::session {
namespace {

constexpr std::uint32_t kMostScanned = 16384;

bool overlaps(const isa::RegisterSpan& span, int first, int count) {
  return span.count != 0 && span.first < first + count && first < span.first + span.count;
}

/// Adds registers that adjoin; false if they do not.
bool extend(isa::RegisterSpan& run, const isa::RegisterSpan& more) {
  if (run.count == 0 || more.count == 0) return false;
  if (more.first == run.first + run.count) {
    run.count += more.count;
    return true;
  }
  if (more.first + more.count != run.first) return false;
  run.first = more.first;
  run.count += more.count;
  return true;
}

}  // namespace

bool Overwritten::any(int first, int count) const {
  if (since_.end - since_.begin > kMostScanned) return true;  // too long to be told
  const auto spoils = [&](const isa::RegisterSpan& run) {
    return run.first != first && overlaps(run, first, count);
  };
  isa::RegisterSpan run;  // what adjoining instructions write
  std::uint32_t end = look_;
  for (std::uint32_t pc = since_.begin + since_.begin % 2; pc < end;) {
    const Instruction instruction = scope_.machine.instruction_at(pc, false);
    const isa::RegisterSpan result = target_.result_of(instruction);
    if (!extend(run, result)) {
      if (spoils(run)) return true;
      run = result;
    }
    if (by_helper(instruction, first, count)) return true;
    pc += std::max<std::uint32_t>(1, instruction.size);
    // What comes further down has happened, too, if a loop leads back over it.
    if (pc >= end && end == look_) end = std::max(look_, loops_back_from());
  }
  return spoils(run);
}

bool Overwritten::by_helper(const Instruction& call, int first, int count) const {
  if (call.flow != Flow::kCall || !call.target) return false;
  const Function* callee = scope_.program.function_at(*call.target);
  if (callee == nullptr || callee->begin != *call.target) return false;
  const auto results = target_.helper_results(callee->name);
  return std::any_of(results.begin(), results.end(), [&](const isa::RegisterSpan& span) {
    return span.first != first && overlaps(span, first, count);
  });
}

/// Behind the last jump within the location that leads back into it, up to where we stand.
std::uint32_t Overwritten::loops_back_from() const {
  std::uint32_t out = 0;
  for (std::uint32_t pc = look_ + look_ % 2; pc < since_.end;) {
    const Instruction instruction = scope_.machine.instruction_at(pc, false);
    pc += std::max<std::uint32_t>(1, instruction.size);
    const bool jumps = instruction.flow == Flow::kJump || instruction.flow == Flow::kBranch;
    if (jumps && instruction.target && *instruction.target > since_.begin &&
        *instruction.target <= look_)
      out = pc;
  }
  return out;
}

}  // namespace lucid::session
