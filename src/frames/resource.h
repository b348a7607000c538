// SPDX-License-Identifier: MIT
// What a described place of a local rests on: registers, a value worked out from some, memory.
#ifndef LUCID_FRAMES_RESOURCE_H
#define LUCID_FRAMES_RESOURCE_H

#include <cstdint>
#include <vector>

#include "frames/place.h"
#include "frames/stack_machine.h"

namespace lucid::frames {

/// `count` registers from `first` on, a bit each.
std::uint64_t mask_of(int first, int count);

/// What a described place rests on.
struct Resource {
  enum class Kind : std::uint8_t {
    kNone,
    kRegisters,
    kComputed,
    kConstant,
    kMemory
  } kind = Kind::kNone;
  int first = -1, count = 0;      ///< kRegisters
  std::uint64_t mask = 0;         ///< registers it depends on
  std::vector<std::int64_t> key;  ///< tells places apart
  friend bool operator==(const Resource& a, const Resource& b) {
    return a.kind == b.kind && a.mask == b.mask && a.key == b.key;
  }
};

/// Of bytes `[begin, end)` of a local, by the operations that describe its place in a function.
Resource resource(const Scope& scope, const Function& function, const std::vector<LocationOp>& ops,
                  std::uint32_t begin, std::uint32_t end);

/// What a place without memory gives where that much is known of the registers.
std::optional<Slot> known_value(const Scope& scope, const std::vector<LocationOp>& ops,
                                const machine::FrameState& state);

}  // namespace lucid::frames

#endif  // LUCID_FRAMES_RESOURCE_H
