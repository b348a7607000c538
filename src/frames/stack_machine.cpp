// SPDX-License-Identifier: MIT
#include "frames/stack_machine.h"

#include <dwarf.h>

#include <algorithm>
#include <cstring>

namespace lucid::frames {
namespace {

constexpr unsigned kAddressBits = 32;  // the size of an address in the debug information
constexpr unsigned kMostSteps = 10'000;

std::uint64_t low(std::uint64_t raw, unsigned bits) {
  return bits >= 64 ? raw : raw & ((std::uint64_t{1} << bits) - 1);
}
std::int64_t extended(std::uint64_t raw, unsigned bits) {
  if (bits >= 64 || (raw >> (bits - 1) & 1U) == 0) return static_cast<std::int64_t>(low(raw, bits));
  return static_cast<std::int64_t>(raw | ~std::uint64_t{0} << bits);
}

unsigned bits_of(const LocationType& type) {
  return type.bytes == 0 ? kAddressBits : 8U * type.bytes;
}

double real_of(const Slot& slot) {
  if (slot.type.bytes == 8) {
    double real = 0;
    std::memcpy(&real, &slot.raw, 8);
    return real;
  }
  const auto word = static_cast<std::uint32_t>(slot.raw);
  float real = 0;
  std::memcpy(&real, &word, 4);
  return static_cast<double>(real);
}

Slot from_real(double real, LocationType type) {
  Slot out{0, Slot::kAll, type};
  if (type.bytes == 8) {
    std::memcpy(&out.raw, &real, 8);
  } else {
    const auto single = static_cast<float>(real);
    std::memcpy(&out.raw, &single, 4);
  }
  return out;
}

class StackMachine {
 public:
  StackMachine(const std::vector<LocationOp>& ops, const Surroundings& in) : ops_(ops), in_(in) {}

  std::optional<Computed> run() {
    for (unsigned steps = 0; at_ < ops_.size(); ++steps) {
      if (steps > kMostSteps || !execute(ops_[at_++])) return std::nullopt;
    }
    if (stack_.empty()) return std::nullopt;
    return Computed{stack_.back(), is_value_};
  }

 private:
  /// An empty stack gives something unknown.
  Slot pop() {
    if (stack_.empty()) return {0, 0, {}};
    const Slot top = stack_.back();
    stack_.pop_back();
    return top;
  }
  void push(std::uint64_t raw) { push({raw, Slot::kAll, {}}); }
  void push(Slot slot) {
    slot.raw = low(slot.raw, bits_of(slot.type));
    slot.known = std::min(slot.known, Slot::kAll);
    if (slot.known >= bits_of(slot.type)) slot.known = Slot::kAll;
    stack_.push_back(slot);
  }
  bool push(std::optional<std::uint64_t> raw, std::int64_t offset) {
    if (raw) push(*raw + static_cast<std::uint64_t>(offset));
    return raw.has_value();
  }
  bool push_register(int dwarf, std::int64_t offset) {
    Slot slot = in_.registers(dwarf, kAddressBits / 8);
    slot.raw += static_cast<std::uint64_t>(offset);
    push(slot);
    return slot.known != 0;
  }

  bool execute(const LocationOp& op) {
    if (op.atom >= DW_OP_lit0 && op.atom <= DW_OP_lit31) {
      push(std::uint64_t{op.atom} - DW_OP_lit0);
      return true;
    }
    if (op.atom >= DW_OP_breg0 && op.atom <= DW_OP_breg31)
      return push_register(op.atom - DW_OP_breg0, op.a);
    switch (op.atom) {
      case DW_OP_addr:
      case DW_OP_const1u:
      case DW_OP_const1s:
      case DW_OP_const2u:
      case DW_OP_const2s:
      case DW_OP_const4u:
      case DW_OP_const4s:
      case DW_OP_const8u:
      case DW_OP_const8s:
      case DW_OP_constu:
      case DW_OP_consts: push(static_cast<std::uint64_t>(op.a)); return true;
      case DW_OP_bregx: return push_register(static_cast<int>(op.a), op.b);
      case DW_OP_call_frame_cfa: return push(in_.cfa(), 0);
      case DW_OP_fbreg: return push(in_.frame_base(), op.a);
      case DW_OP_GNU_entry_value:
        if (op.a < 0) return false;
        if (const auto raw = in_.at_entry(static_cast<int>(op.a),
                                          op.type.bytes != 0 ? op.type.bytes : kAddressBits / 8))
          push({*raw, Slot::kAll, op.type});
        else
          return false;
        return true;
      case DW_OP_GNU_regval_type: {
        Slot slot = in_.registers(static_cast<int>(op.a), op.type.bytes);
        slot.type = op.type;
        push(slot);
        return slot.known != 0;
      }
      case DW_OP_GNU_const_type:
        push({static_cast<std::uint64_t>(op.a), Slot::kAll, op.type});
        return true;
      case DW_OP_GNU_convert:
      case DW_OP_GNU_reinterpret: return convert(op);
      case DW_OP_deref: return load(kAddressBits / 8, {});
      case DW_OP_deref_size: return load(static_cast<unsigned>(op.a), {});
      case DW_OP_GNU_deref_type: return load(op.type.bytes, op.type);
      case DW_OP_dup: return pick(0);
      case DW_OP_over: return pick(1);
      case DW_OP_pick: return pick(static_cast<std::size_t>(op.a));
      case DW_OP_drop: pop(); return true;
      case DW_OP_swap:
        if (stack_.size() < 2) return false;
        std::swap(stack_[stack_.size() - 1], stack_[stack_.size() - 2]);
        return true;
      case DW_OP_stack_value: is_value_ = true; return true;
      case DW_OP_nop: return true;
      case DW_OP_skip: return jump(op.a);
      case DW_OP_bra: {
        const Slot condition = pop();
        if (condition.known != Slot::kAll) return false;
        return condition.raw == 0 || jump(op.a);
      }
      case DW_OP_plus_uconst: {
        Slot slot = pop();
        slot.raw += static_cast<std::uint64_t>(op.a);
        push(slot);
        return true;
      }
      case DW_OP_neg:
      case DW_OP_not:
      case DW_OP_abs: return unary(op.atom);
      default: return binary(op.atom);
    }
  }

  /// To the operation that begins `a` of them further on; the reader has counted them.
  bool jump(std::int64_t a) {
    const std::int64_t to = static_cast<std::int64_t>(at_) + a;
    if (to < 0 || to > static_cast<std::int64_t>(ops_.size())) return false;
    at_ = static_cast<std::size_t>(to);
    return true;
  }

  bool pick(std::size_t depth) {
    if (depth >= stack_.size()) return false;
    push(stack_[stack_.size() - 1 - depth]);
    return true;
  }

  bool load(unsigned bytes, LocationType type) {
    const Slot address = pop();
    if (address.known < 16 || bytes == 0 || bytes > 8) return false;
    const auto raw = in_.memory(address.raw, bytes);
    if (raw) push({*raw, Slot::kAll, type});
    return raw.has_value();
  }

  bool convert(const LocationOp& op) {
    Slot slot = pop();
    const bool whole = slot.known == Slot::kAll;
    if (op.atom == DW_OP_GNU_reinterpret) {
      slot.type = op.type;
    } else if (slot.type.kind == Type::Kind::kFloat && op.type.kind != Type::Kind::kFloat) {
      const double real = real_of(slot);
      if (!whole || real < -9e18 || real > 9e18) return false;
      slot = {static_cast<std::uint64_t>(static_cast<std::int64_t>(real)), Slot::kAll, op.type};
    } else if (slot.type.kind == Type::Kind::kFloat) {
      if (!whole) return false;
      slot = from_real(real_of(slot), op.type);
    } else if (op.type.kind == Type::Kind::kFloat) {
      if (!whole) return false;
      slot = from_real(slot.type.kind == Type::Kind::kSigned
                           ? static_cast<double>(extended(slot.raw, bits_of(slot.type)))
                           : static_cast<double>(slot.raw),
                       op.type);
    } else {
      if (slot.type.kind == Type::Kind::kSigned && whole)
        slot.raw = static_cast<std::uint64_t>(extended(slot.raw, bits_of(slot.type)));
      slot.type = op.type;
    }
    push(slot);
    return true;
  }

  bool unary(std::uint8_t atom) {
    Slot slot = pop();
    if (slot.type.kind == Type::Kind::kFloat) {
      if (atom != DW_OP_neg || slot.known != Slot::kAll) return false;
      push(from_real(-real_of(slot), slot.type));
      return true;
    }
    if (atom == DW_OP_abs) {
      if (slot.known != Slot::kAll) return false;
      const std::int64_t value = extended(slot.raw, bits_of(slot.type));
      if (value < 0) slot.raw = 0 - slot.raw;
    } else {
      slot.raw = atom == DW_OP_neg ? 0 - slot.raw : ~slot.raw;
    }
    push(slot);
    return true;
  }

  bool binary(std::uint8_t atom) {
    const Slot y = pop();
    const Slot x = pop();
    if (x.type.kind == Type::Kind::kFloat) return real(atom, x, y);
    Slot out{0, std::min(x.known, y.known), x.type};
    const unsigned bits = bits_of(x.type);
    switch (atom) {
      case DW_OP_plus: out.raw = x.raw + y.raw; break;
      case DW_OP_minus: out.raw = x.raw - y.raw; break;
      case DW_OP_mul: out.raw = x.raw * y.raw; break;
      case DW_OP_and:
        out.raw = x.raw & y.raw;
        // What a mask takes away need not be known.
        if (y.known == Slot::kAll && low(y.raw, x.known) == y.raw) out.known = Slot::kAll;
        if (x.known == Slot::kAll && low(x.raw, y.known) == x.raw) out.known = Slot::kAll;
        break;
      case DW_OP_or: out.raw = x.raw | y.raw; break;
      case DW_OP_xor: out.raw = x.raw ^ y.raw; break;
      case DW_OP_shl:
        if (y.known != Slot::kAll) return false;
        out.raw = y.raw < 64 ? x.raw << y.raw : 0;
        out.known = x.known + static_cast<unsigned>(std::min<std::uint64_t>(y.raw, 64));
        break;
      default: return whole(atom, x, y, bits);
    }
    push(out);
    return true;
  }

  /// Operations that need all bits of both sides.
  bool whole(std::uint8_t atom, const Slot& x, const Slot& y, unsigned bits) {
    if (x.known != Slot::kAll || y.known != Slot::kAll) return false;
    const std::int64_t a = extended(x.raw, bits);
    const std::int64_t b = extended(y.raw, bits);
    const bool is_unsigned = x.type.bytes != 0 && x.type.kind != Type::Kind::kSigned;
    const auto order = [&](bool signed_result, bool unsigned_result) {
      push(is_unsigned ? unsigned_result : signed_result ? 1 : 0);
      return true;
    };
    Slot out{0, Slot::kAll, x.type};
    switch (atom) {
      case DW_OP_shr: out.raw = y.raw < 64 ? x.raw >> y.raw : 0; break;
      case DW_OP_shra:
        out.raw = static_cast<std::uint64_t>(a >> std::min<std::uint64_t>(y.raw, 63));
        break;
      case DW_OP_div:
        if (b == 0) return false;
        out.raw = is_unsigned ? x.raw / y.raw
                  : b == -1   ? 0 - x.raw
                              : static_cast<std::uint64_t>(a / b);
        break;
      case DW_OP_mod:
        if (y.raw == 0) return false;
        out.raw = x.raw % y.raw;
        break;
      case DW_OP_eq: return order(a == b, a == b);
      case DW_OP_ne: return order(a != b, a != b);
      case DW_OP_lt: return order(a < b, x.raw < y.raw);
      case DW_OP_le: return order(a <= b, x.raw <= y.raw);
      case DW_OP_gt: return order(a > b, x.raw > y.raw);
      case DW_OP_ge: return order(a >= b, x.raw >= y.raw);
      default: return false;
    }
    push(out);
    return true;
  }

  bool real(std::uint8_t atom, const Slot& x, const Slot& y) {
    if (x.known != Slot::kAll || y.known != Slot::kAll) return false;
    const double a = real_of(x);
    const double b = real_of(y);
    switch (atom) {
      case DW_OP_plus: push(from_real(a + b, x.type)); return true;
      case DW_OP_minus: push(from_real(a - b, x.type)); return true;
      case DW_OP_mul: push(from_real(a * b, x.type)); return true;
      case DW_OP_div: push(from_real(a / b, x.type)); return true;
      default: return false;
    }
  }

  const std::vector<LocationOp>& ops_;
  const Surroundings& in_;
  std::size_t at_ = 0;
  std::vector<Slot> stack_;
  bool is_value_ = false;
};

}  // namespace

std::optional<Computed> compute(const std::vector<LocationOp>& ops, const Surroundings& in) {
  return StackMachine(ops, in).run();
}

}  // namespace lucid::frames
