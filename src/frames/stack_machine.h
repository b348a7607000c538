// SPDX-License-Identifier: MIT
// The stack machine of DWARF expressions ("DWARF Version 4", chapter "General Description", section
// "DWARF Expressions"), with the typed operations that GCC writes.
#ifndef LUCID_FRAMES_STACK_MACHINE_H
#define LUCID_FRAMES_STACK_MACHINE_H

#include <optional>
#include <vector>

#include "lucid/program.h"

namespace lucid::frames {

/// A value on the stack, of which perhaps only the low bits are known.
struct Slot {
  static constexpr unsigned kAll = 64;
  std::uint64_t raw = 0;
  unsigned known = kAll;  ///< low bits
  LocationType type;      ///< bytes = 0: an address or a number of the machine's own size
};

/// What an expression asks of the frame it is evaluated in.
class Surroundings {
 public:
  virtual ~Surroundings() = default;
  /// `bytes` bytes of registers from this one on.
  [[nodiscard]] virtual Slot registers(int dwarf, unsigned bytes) const = 0;
  [[nodiscard]] virtual std::optional<std::uint64_t> memory(std::uint64_t address,
                                                            unsigned bytes) const = 0;
  [[nodiscard]] virtual std::optional<std::uint64_t> cfa() const = 0;
  [[nodiscard]] virtual std::optional<std::uint64_t> frame_base() const = 0;
  /// What a register held when the function was entered.
  [[nodiscard]] virtual std::optional<std::uint64_t> at_entry(int dwarf, unsigned bytes) const = 0;
};

struct Computed {
  Slot top;
  bool is_value = false;  ///< otherwise it is an address
};

/// nullopt: something in it is not understood or not known.
std::optional<Computed> compute(const std::vector<LocationOp>& ops, const Surroundings& in);

}  // namespace lucid::frames

#endif  // LUCID_FRAMES_STACK_MACHINE_H
