// SPDX-License-Identifier: MIT
// The call stack, from the machine's state alone.
#ifndef LUCID_SESSION_CALLERS_H
#define LUCID_SESSION_CALLERS_H

#include <map>
#include <vector>

#include "isa/machine.h"
#include "lucid/program.h"

namespace lucid::session {

struct Frame {
  std::uint32_t pc = 0;   ///< of a caller: where the call returns to
  std::uint32_t cfa = 0;  ///< the caller's stack pointer
  const Function* function = nullptr;
  bool known = false;                             ///< cfa was found
  bool guessed = false;                           ///< by scanning code
  bool interrupt = false;                         ///< this function was entered by an interrupt
  std::uint32_t return_slot = 0;                  ///< lowest address of the return address
  std::vector<FrameRow::Saved> saved;             ///< offsets from cfa
  std::uint32_t sp = 0;                           ///< in this frame
  std::map<std::uint32_t, std::uint32_t> pushed;  ///< bytes by address: which instruction did it
  std::map<int, std::uint32_t> registers;         ///< of this frame: where callees have saved them
  std::uint64_t lost = 0;  ///< registers, a bit each, that callees may have overwritten
  bool at_call = false;    ///< pc is where a call returns to
  bool left = false;       ///< by a tail call: it has no frame any more
  const InlinedCall* inlined = nullptr;  ///< the level is this body, within `function`
  const InlinedCall* inner = nullptr;    ///< and stands at this inlined call
};

/// Innermost first. Three sources, best first: straight code down to the return; the image's frame
/// information, corrected where the compiler forgets an interrupt handler's first push; counting
/// the pushes from the function's start (guessed).
std::vector<Frame> unwind(const Program& program, const isa::Machine& machine);

/// The same with a level for each inlined call that a frame stands in, and for each function that
/// was left by a tail call, where the debug information leaves only one way to get here.
std::vector<Frame> call_levels(const Program& program, const isa::Machine& machine);

/// Where a level stands: within its call, not behind it. Not an instruction's address: compilers
/// end what holds only before a call one byte before its return.
std::uint32_t look_address(const Frame& frame);

}  // namespace lucid::session

#endif  // LUCID_SESSION_CALLERS_H
