// SPDX-License-Identifier: MIT
#include "frames/resource.h"

#include <dwarf.h>

#include <algorithm>

#include "frames/held.h"

namespace lucid::frames {

std::uint64_t mask_of(int first, int count) {
  if (first < 0 || first >= 64 || count <= 0) return 0;
  const std::uint64_t ones = count >= 64 ? ~std::uint64_t{0} : (std::uint64_t{1} << count) - 1;
  return ones << first;
}

namespace {

unsigned width(const Scope& scope, int dwarf) {
  const auto index = scope.machine.find_dwarf_register(dwarf);
  return index ? std::max(1, scope.machine.target().registers()[*index].bits / 8) : 1U;
}

/// Of the registers that an operation reads, from the lowest: a mask may take some of them only.
int bytes_used(const std::vector<LocationOp>& ops, std::size_t at, std::uint32_t end) {
  const bool masked = at + 2 < ops.size() && ops[at].a == 0 && ops[at + 2].atom == DW_OP_and &&
                      (ops[at + 1].atom == DW_OP_const1u || ops[at + 1].atom == DW_OP_const2u);
  int bytes = static_cast<int>(end);
  for (; masked && bytes > 1 && ops[at + 1].a >> (8 * (bytes - 1)) == 0; --bytes) {
  }
  return bytes;
}

/// Bytes `[from, to)` of a local, in a part of its place that begins at `byte`.
void add_part(const Scope& scope, const Function& function, Resource& out,
              const std::vector<LocationOp>& ops, std::uint32_t byte, std::uint32_t from,
              std::uint32_t to) {
  const LocationOp& op = ops[0];
  int reg = -1;
  if (op.atom >= DW_OP_reg0 && op.atom <= DW_OP_reg31) reg = op.atom - DW_OP_reg0;
  if (op.atom == DW_OP_regx) reg = static_cast<int>(op.a);
  for (const LocationOp& o : ops) {
    out.key.push_back(o.atom);
    out.key.push_back(o.a);
    out.key.push_back(o.b);
  }
  if (reg >= 0 && ops.size() == 1) {
    const int first = reg + static_cast<int>((from - byte) / width(scope, reg));
    const int count =
        static_cast<int>(std::max(1U, (to - from + width(scope, reg) - 1) / width(scope, reg)));
    const bool follows = out.kind == Resource::Kind::kRegisters && out.first + out.count == first;
    if (out.kind == Resource::Kind::kNone) {
      out.first = first;
      out.count = count;
      out.kind = Resource::Kind::kRegisters;
    } else if (follows) {
      out.count += count;
    } else {
      out.kind = Resource::Kind::kComputed;
    }
    out.mask |= mask_of(first, count);
    return;
  }
  bool memory = true;
  bool reads = false;
  for (std::size_t n = 0; n < ops.size(); ++n) {
    const LocationOp& o = ops[n];
    memory = memory && o.atom != DW_OP_stack_value && o.atom != DW_OP_implicit_value;
    if (o.atom < DW_OP_breg0 || o.atom > DW_OP_breg31) continue;
    reads = true;
    const int base = o.atom - DW_OP_breg0;
    const int span = std::clamp(bytes_used(ops, n, to), 1, 4);
    const int address = scope.machine.target().convention().pointer_bytes;
    const bool value = ops.back().atom == DW_OP_stack_value;
    if (!value && frame_offset(scope, function, base)) continue;
    out.mask |=
        mask_of(base, std::max(1, (value ? span : address) / static_cast<int>(width(scope, base))));
  }
  const auto kind = memory  ? Resource::Kind::kMemory
                    : reads ? Resource::Kind::kComputed
                            : Resource::Kind::kConstant;
  out.kind = out.kind == Resource::Kind::kNone ? kind : Resource::Kind::kComputed;
}

/// Registers as far as they are known from the code.
class KnownRegisters final : public Surroundings {
 public:
  KnownRegisters(const Scope& scope, const machine::FrameState& state)
      : scope_(scope), state_(state) {}
  [[nodiscard]] Slot registers(int dwarf, unsigned bytes) const override {
    Slot out;
    const unsigned each = width(scope_, dwarf);
    for (unsigned i = 0; i < std::min(bytes, 8U); ++i) {
      const std::size_t at = static_cast<std::size_t>(dwarf) + i / each;
      if (at >= state_.registers.size() ||
          state_.registers[at].kind != machine::Known::Kind::kConstant) {
        out.known = 8 * i;
        break;
      }
      const auto number = static_cast<std::uint32_t>(state_.registers[at].number);
      out.raw |= std::uint64_t{number >> 8 * (i % each) & 0xffU} << (8 * i);
    }
    return out;
  }
  [[nodiscard]] std::optional<std::uint64_t> memory(std::uint64_t /*address*/,
                                                    unsigned /*bytes*/) const override {
    return std::nullopt;
  }
  [[nodiscard]] std::optional<std::uint64_t> cfa() const override { return std::nullopt; }
  [[nodiscard]] std::optional<std::uint64_t> frame_base() const override { return std::nullopt; }
  [[nodiscard]] std::optional<std::uint64_t> at_entry(int /*dwarf*/,
                                                      unsigned /*bytes*/) const override {
    return std::nullopt;
  }

 private:
  const Scope& scope_;
  const machine::FrameState& state_;
};

}  // namespace

std::optional<Slot> known_value(const Scope& scope, const std::vector<LocationOp>& ops,
                                const machine::FrameState& state) {
  const auto found = compute(ops, KnownRegisters(scope, state));
  return found && found->is_value ? std::optional<Slot>(found->top) : std::nullopt;
}

Resource resource(const Scope& scope, const Function& function, const std::vector<LocationOp>& ops,
                  std::uint32_t begin, std::uint32_t end) {
  Resource out;
  std::uint32_t byte = 0;
  std::vector<LocationOp> part;
  bool pieces = false;
  const auto add = [&](std::uint32_t bytes) {
    if (byte < end && begin < byte + bytes && !part.empty())
      add_part(scope, function, out, part, byte, std::max(byte, begin),
               std::min(byte + bytes, end));
    byte += bytes;
    part.clear();
  };
  for (const LocationOp& op : ops) {
    if (op.atom == DW_OP_piece) {
      pieces = true;
      add(static_cast<std::uint32_t>(op.a));
    } else if (op.atom == DW_OP_bit_piece) {
      pieces = true;
      add(static_cast<std::uint32_t>((op.a + 7) / 8));
    } else {
      part.push_back(op);
    }
  }
  if (!pieces) add(end);
  return out;
}

}  // namespace lucid::frames
