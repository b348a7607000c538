// SPDX-License-Identifier: MIT
// A call level as DWARF expressions see it: its registers, which callees may have saved, its frame,
// and what its caller has passed.
#ifndef LUCID_FRAMES_LEVEL_H
#define LUCID_FRAMES_LEVEL_H

#include <algorithm>
#include <optional>
#include <vector>

#include "frames/callers.h"
#include "frames/place.h"
#include "frames/stack_machine.h"

namespace lucid::frames {

class Level final : public Surroundings {
 public:
  Level(const std::vector<Frame>& levels, unsigned number, const Scope& scope)
      : levels_(levels),
        number_(number),
        scope_(scope),
        convention_(scope.machine.target().convention()),
        pointer_mask_((std::uint64_t{1} << (8 * convention_.pointer_bytes)) - 1) {}

  [[nodiscard]] const Frame& frame() const { return levels_[number_]; }
  [[nodiscard]] std::uint32_t look() const { return look_address(frame()); }

  /// An address of data space out of a computed one, which may carry the space's bias.
  [[nodiscard]] Address data_address(std::uint64_t computed) const {
    return {Space::kData, static_cast<std::uint32_t>(computed & pointer_mask_)};
  }

  /// Is enough of it known to lead somewhere?
  [[nodiscard]] bool is_address(const Slot& slot) const {
    return slot.known >= 8U * convention_.pointer_bytes;
  }

  /// How many bytes a register has.
  [[nodiscard]] unsigned width_of(int dwarf) const {
    const auto index = scope_.machine.find_dwarf_register(dwarf);
    return index ? std::max(1U, scope_.machine.target().registers()[*index].bits / 8U) : 1U;
  }

  /// A byte of registers that follow each other, as they are in this level: in memory if a callee
  /// has saved its register.
  [[nodiscard]] Piece piece(int first, unsigned number) const {
    const unsigned width = width_of(first);
    int dwarf = first + static_cast<int>(number / width);
    Piece out;
    out.byte = number % width;
    bool lost = dwarf >= 0 && dwarf < 64 && (frame().lost >> dwarf & 1U) != 0;
    if (const auto kept = frame().registers.find(dwarf); kept != frame().registers.end()) {
      if (kept->second.address) {
        out.kind = Piece::Kind::kMemory;
        out.address = {Space::kData, *kept->second.address + out.byte};
        return out;
      }
      dwarf = kept->second.dwarf_register;
      lost = false;
    }
    const auto index = scope_.machine.find_dwarf_register(dwarf);
    if (lost || !index) return out;
    out.kind = Piece::Kind::kRegister;
    out.index = *index;
    return out;
  }

  [[nodiscard]] Slot registers(int dwarf, unsigned bytes) const override {
    Slot out;
    if (dwarf == convention_.sp_dwarf) {
      out.raw = frame().sp;
      return out;
    }
    const auto first = scope_.machine.find_dwarf_register(dwarf);
    if (!first) return {0, 0, {}};
    Place place;
    place.kind = Place::Kind::kPieces;
    for (unsigned i = 0; i < bytes && i < 8; ++i) {
      place.pieces.push_back(piece(dwarf, i));
      const auto byte = byte_of(place, i, scope_.machine);
      if (!byte) {
        out.known = 8 * i;
        break;
      }
      out.raw |= std::uint64_t{*byte} << (8 * i);
    }
    // GCC reckons in four bytes, and forgets that the registers beside a narrow value are not its:
    // what is shifted down from there, or divided, is not known.
    const unsigned pointer = convention_.pointer_bytes;
    if (value_bytes_ != 0 && value_bytes_ < bytes && pointer < bytes)
      out.known = std::min(out.known, 8 * std::max(pointer, value_bytes_));
    return out;
  }
  /// Of what is worked out from registers next.
  void set_value_bytes(unsigned bytes) const { value_bytes_ = bytes; }

  [[nodiscard]] std::optional<std::uint64_t> memory(std::uint64_t address,
                                                    unsigned bytes) const override {
    std::uint64_t raw = 0;
    for (unsigned i = 0; i < bytes; ++i) {
      const auto byte = scope_.machine.peek(data_address(address + i));
      if (!byte) return std::nullopt;
      raw |= std::uint64_t{*byte} << (8 * i);
    }
    return raw;
  }

  [[nodiscard]] std::optional<std::uint64_t> cfa() const override {
    return frame().known ? std::optional<std::uint64_t>(frame().cfa) : std::nullopt;
  }

  /// A frame base may be a register by name: then it is what the register holds. Clang names the
  /// stack pointer or its copy and counts from the first byte in use: where a push stores before it
  /// decrements, that is behind where the register points.
  [[nodiscard]] std::optional<std::uint64_t> frame_base() const override {
    const auto ops = scope_.program.frame_base_at(look());
    if (ops.empty() || ops[0].atom == DW_OP_fbreg) return std::nullopt;
    const bool named = ops[0].atom >= DW_OP_reg0 && ops[0].atom <= DW_OP_reg31;
    if (ops.size() == 1 && (named || ops[0].atom == DW_OP_regx)) {
      const Slot slot = registers(named ? ops[0].atom - DW_OP_reg0 : static_cast<int>(ops[0].a),
                                  convention_.pointer_bytes);
      return is_address(slot) ? std::optional<std::uint64_t>(slot.raw + convention_.stack_gap)
                              : std::nullopt;
    }
    const auto base = compute(ops, *this);
    return base && is_address(base->top) ? std::optional<std::uint64_t>(base->top.raw)
                                         : std::nullopt;
  }

  /// What the caller says it passed in a register, in the caller's own values.
  [[nodiscard]] std::optional<std::uint64_t> at_entry(int dwarf, unsigned bytes) const override {
    unsigned caller = number_;  // inlined bodies share the frame of the function around them
    while (caller < levels_.size() && levels_[caller].inlined != nullptr) ++caller;
    const auto all = call_levels(scope_.program, scope_.machine, scope_.flows, caller + 2);
    if (++caller >= all.size() || caller > number_ + kMostCallers) return std::nullopt;
    const Level above(all, caller, scope_);
    const CallSite* site =
        above.frame().at_call ? scope_.program.call_site_at(above.frame().pc) : nullptr;
    if (site == nullptr || depth_ > kMostCallers) return std::nullopt;
    for (const CallSite::Passed& passed : site->passed) {
      if (passed.dwarf_register != dwarf) continue;
      above.depth_ = depth_ + 1;
      const auto value = compute(passed.value, above);
      if (!value || value->top.known < 8 * bytes) return std::nullopt;
      return value->top.raw;
    }
    return std::nullopt;
  }

 private:
  static constexpr unsigned kMostCallers = 16;

  const std::vector<Frame>& levels_;
  const unsigned number_;
  const Scope& scope_;
  const machine::CallConvention convention_;
  const std::uint64_t pointer_mask_;
  mutable unsigned depth_ = 0;  ///< of entry values that rest on entry values
  mutable unsigned value_bytes_ = 0;
};

}  // namespace lucid::frames

#endif  // LUCID_FRAMES_LEVEL_H
