// SPDX-License-Identifier: MIT
// Objects in a function's frame: the parameters and locals that live in memory all the time, by
// their distance from the frame's register.
#ifndef LUCID_FRAMES_FRAME_OBJECTS_H
#define LUCID_FRAMES_FRAME_OBJECTS_H

#include "lucid/program.h"
#include "machine/target.h"
#include "machine/values.h"

namespace lucid::frames {

/// By address, apart: what overlaps (locals of different blocks share memory) is one.
std::vector<machine::Extent> frame_objects(const Program& program, const Function& function,
                                           const machine::CallConvention& convention);

/// Bytes of an element of an array; 1 of other types.
std::int32_t unit_of(const Program& program, unsigned type);

/// Those that overlap become one.
std::vector<machine::Extent> apart(std::vector<machine::Extent> extents);

}  // namespace lucid::frames

#endif  // LUCID_FRAMES_FRAME_OBJECTS_H
