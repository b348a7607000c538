// SPDX-License-Identifier: MIT
// What is known of registers and stack at an instruction, in terms of how they were when the
// function was entered. Instructions are followed by Target::follow; where paths meet, what they do
// not agree on is not known.
#ifndef LUCID_MACHINE_FRAME_STATE_H
#define LUCID_MACHINE_FRAME_STATE_H

#include <algorithm>
#include <array>
#include <cstdint>
#include <optional>
#include <utility>
#include <vector>

namespace lucid::machine {

/// What a register or a slot of the stack holds.
struct Known {
  enum class Kind : std::uint8_t {
    kNothing,
    kConstant,  ///< `number`
    kEntry,     ///< what the register `number` held when the function was entered
    kStack,     ///< byte `part` of (stack pointer at entry + `number`)
    kOffset,    ///< byte `part` of (something unknown + `number`)
    kLoaded,    ///< what memory held, when the function was entered, at stack pointer + `number`
  } kind = Kind::kNothing;
  std::uint8_t part = 0;
  std::int32_t number = 0;

  friend bool operator==(const Known& a, const Known& b) {
    return a.kind == b.kind && a.part == b.part && a.number == b.number;
  }
  friend bool operator!=(const Known& a, const Known& b) { return !(a == b); }
};

struct FrameState {
  static constexpr std::size_t kRegisters = 64;
  /// By DWARF number; a stack pointer of two bytes takes two places from its number on.
  std::array<Known, kRegisters> registers{};
  /// Bytes of the frame at (stack pointer at entry + first), ascending.
  std::vector<std::pair<std::int32_t, Known>> slots;
  /// Of an addition in two halves, the lower half's operands: the upper one follows at once.
  struct Halves {
    bool active = false, subtract = false;
    std::uint8_t low_register = 0;
    Known low, other;
  } halves;
  bool loads_are_places = false;  ///< a load from an unknown slot gives kLoaded

  [[nodiscard]] Known slot(std::int32_t offset) const {
    const auto at = find(offset);
    if (at != slots.end() && at->first == offset) return at->second;
    if (loads_are_places) return {Known::Kind::kLoaded, 0, offset};
    return {};
  }
  void set_slot(std::int32_t offset, Known what) {
    const auto at = slots.begin() + (find(offset) - slots.begin());
    if (at != slots.end() && at->first == offset)
      at->second = what;
    else
      slots.insert(at, {offset, what});
  }
  /// What lies at an offset or below it is free: whoever comes may write over it.
  void drop_slots_up_to(std::int32_t offset) {
    slots.erase(slots.begin(), slots.begin() + (find(offset + 1) - slots.begin()));
  }
  /// Keeps what both know. True: something is no longer known.
  bool join(const FrameState& other) {
    bool changed = false;
    for (std::size_t i = 0; i < kRegisters; ++i)
      if (registers[i].kind != Known::Kind::kNothing && registers[i] != other.registers[i]) {
        registers[i] = {};
        changed = true;
      }
    const auto gone = [&](const std::pair<std::int32_t, Known>& s) {
      const auto at = other.find(s.first);
      return at == other.slots.end() || at->first != s.first || at->second != s.second;
    };
    const auto keep = std::remove_if(slots.begin(), slots.end(), gone);
    changed = changed || keep != slots.end();
    slots.erase(keep, slots.end());
    const Halves& theirs = other.halves;
    const bool same = halves.active && theirs.active && halves.subtract == theirs.subtract &&
                      halves.low_register == theirs.low_register;
    const auto meet = [&](Known& own, const Known& their) {
      if (!same || own.kind == Known::Kind::kNothing || own == their) return;
      own = {};
      changed = true;
    };
    meet(halves.low, theirs.low);
    meet(halves.other, theirs.other);
    changed = changed || (halves.active && !same);
    halves.active = same;
    return changed;
  }

 private:
  [[nodiscard]] std::vector<std::pair<std::int32_t, Known>>::const_iterator find(
      std::int32_t offset) const {
    return std::lower_bound(slots.begin(), slots.end(), offset,
                            [](const auto& s, std::int32_t o) { return s.first < o; });
  }
};

/// A register that holds the stack pointer at entry + `offset`.
struct Anchor {
  int dwarf_register = 0;
  std::int32_t offset = 0;
};

}  // namespace lucid::machine

#endif  // LUCID_MACHINE_FRAME_STATE_H
