// SPDX-License-Identifier: MIT
// Whether the place that the debug information describes for a local holds it: a forward dataflow
// over its function's flow graph. Compilers do not end a place at back edges and joins, when its
// register is written for something else, or where a comparison spoils its operand; they begin one
// before the first assignment.
#ifndef LUCID_FRAMES_HELD_H
#define LUCID_FRAMES_HELD_H

#include <map>
#include <vector>

#include "frames/place.h"

namespace lucid::frames {

enum class Holding : std::uint8_t {
  kHolds,
  kOverwritten,
  kNotSet,  ///< nothing has been stored there yet
};

/// Bytes `[begin, end)` of a local at an address in its function, by the places described there.
/// REQUIRES: a place covers `address`; it is not in memory.
Holding register_holding(const Scope& scope, const Local& local, const Function& function,
                         std::uint32_t address, std::uint32_t begin, std::uint32_t end);

/// Of an object in the frame, `bytes` from `offset` on (counted from the stack pointer at the
/// function's entry): which bytes may have been stored on a way to an address, or, with `in_call`,
/// by what is called there?
std::vector<bool> slot_stores(const Scope& scope, const Function& function, std::uint32_t address,
                              bool in_call, std::int32_t offset, std::uint32_t bytes);

/// Is a local's place in the frame, at `offset`, its own while that is described? Nothing else is
/// stored there, and where the code comes in from where it was elsewhere, it has just been stored.
bool slot_is_its_own(const Scope& scope, const Local& local, const Local::Place& place,
                     const Function& function, std::int32_t offset);

/// Of a place in a list: has something been stored in `bytes` of its slot, at `offset`, on a way to
/// an address on which that place is described all along? A value of its own begins another place.
bool slot_was_given_away(const Scope& scope, const Local& local, const Local::Place& place,
                         const Function& function, std::uint32_t address, std::int32_t offset,
                         std::uint32_t bytes);

/// Where in the frame a register points for most of a function, counted from the stack pointer at
/// its entry; nullopt if it does not point there.
std::optional<std::int32_t> frame_offset(const Scope& scope, const Function& function, int dwarf);

/// Does a register point there at an address?
bool is_frame_pointer(const Scope& scope, const Function& function, std::uint32_t address,
                      int dwarf);

}  // namespace lucid::frames

#endif  // LUCID_FRAMES_HELD_H
