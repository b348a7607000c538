// SPDX-License-Identifier: MIT
// The call stack, from the machine's state alone.
#ifndef LUCID_FRAMES_CALLERS_H
#define LUCID_FRAMES_CALLERS_H

#include <map>
#include <optional>
#include <vector>

#include "frames/flow.h"
#include "lucid/program.h"
#include "lucid/views.h"
#include "machine/machine.h"

namespace lucid::frames {

/// Functions that jump on, one after the other, are followed so far.
constexpr unsigned kMostTailCalls = 8;

/// Where a register of a frame is kept by now: on the stack, or in a register.
struct Kept {
  std::optional<std::uint32_t> address;  ///< in data space
  int dwarf_register = -1;               ///< if there is no address
};

struct Frame {
  std::uint32_t pc = 0;   ///< of a caller: where the call returns to
  std::uint32_t cfa = 0;  ///< the caller's stack pointer
  const Function* function = nullptr;
  bool known = false;                    ///< cfa was found
  bool interrupt = false;                ///< this function was entered by an interrupt
  CallersEnd end = CallersEnd::kNone;    ///< of the outermost: why there is no other
  std::uint32_t return_slot = 0;         ///< lowest address of the return address; 0: none
  std::uint32_t returns_to = 0;          ///< what it says
  std::vector<FrameRow::Saved> saved;    ///< offsets from cfa
  std::uint32_t sp = 0;                  ///< in this frame
  std::map<int, Kept> registers;         ///< of this frame: those that are elsewhere by now
  std::uint64_t lost = 0;                ///< registers, a bit each, that callees have overwritten
  bool at_call = false;                  ///< pc is where a call returns to
  bool left = false;                     ///< by a tail call: it has no frame any more
  const InlinedCall* inlined = nullptr;  ///< the level is this body, within `function`
  const InlinedCall* inner = nullptr;    ///< and stands at this inlined call
};

/// Innermost first. A frame's size and what it has saved come from following its function's code;
/// where nothing leads there, from the image's frame information. A caller is one only if a call
/// that could have come here stands before the return address, or an interrupt has come from it.
/// At most so many of them: whoever wants the innermost alone need not go through the whole stack.
std::vector<Frame> unwind(const Program& program, const machine::Machine& machine, Flows& flows,
                          std::size_t most = SIZE_MAX);

/// The same with a level for each inlined call that a frame stands in, and for each function that
/// was left by a tail call, where the debug information leaves only one way to get here.
/// At least the innermost `most`, if there are so many.
std::vector<Frame> call_levels(const Program& program, const machine::Machine& machine,
                               Flows& flows, std::size_t most = SIZE_MAX);

/// The bytes that a frame's function has pushed, by address, each with the instruction that did it:
/// if straight code leads to where it stands.
std::map<std::uint32_t, std::uint32_t> pushes_in(const Program& program,
                                                 const machine::Machine& machine, Flows& flows,
                                                 const Frame& frame);

/// Does an interrupt's vector lead to a function?
bool is_handler_of(const machine::Machine& machine, const Function& function,
                   const InterruptVector& vector);

/// A register as it is in a frame, by its number in Target::registers(); nullopt if a callee has
/// overwritten it, or nothing says.
std::optional<std::uint64_t> register_in(const Frame& frame, const machine::Machine& machine,
                                         unsigned index);

/// Where a level stands: within its call, not behind it. Not an instruction's address: compilers
/// end what holds only before a call one byte before its return.
std::uint32_t look_address(const Frame& frame);

}  // namespace lucid::frames

#endif  // LUCID_FRAMES_CALLERS_H
