// SPDX-License-Identifier: MIT
// Where a local lives: DWARF location expressions, evaluated against a call level ("DWARF Version
// 4", chapter "General Description", section on DWARF expressions). What is not understood is said
// to be unknown, never guessed.
#include <dwarf.h>
#include <fmt/format.h>

#include <cstring>

#include "session/callers.h"
#include "session/expression.h"

namespace lucid::session {
namespace {

class LocationReader {
 public:
  LocationReader(const Local& local, const Scope& scope, const Frame& frame, std::uint32_t look)
      : local_(local),
        scope_(scope),
        frame_(frame),
        look_(look),
        pointer_mask_(
            (std::uint64_t{1} << (8 * scope.machine.target().convention().pointer_bytes)) - 1) {}

  Result<Operand> read() {
    const Local::Place* place = nullptr;
    for (const Local::Place& p : local_.places)
      if (look_ >= p.range.begin && look_ < p.range.end) place = &p;
    if (place == nullptr || place->ops.empty())
      return fail(ErrorCode::kNotFound, fmt::format("'{}' has no value here", local_.name),
                  "not set yet, or optimised away");
    const Type& type = scope_.program.types()[local_.type];
    const std::uint32_t bytes = type.bytes;
    if (!pieces_of(place->ops, bytes)) return unknown();
    if (value_) return constant(type);
    if (pieces_.size() < bytes) return unknown();
    if (all_in_memory()) return object_at(pieces_[0].address, local_.type, scope_);
    return gathered(type, bytes);
  }

 private:
  tl::unexpected<Error> unknown() const {
    return fail(ErrorCode::kUnsupported, fmt::format("'{}' cannot be told here", local_.name),
                "overwritten by now");
  }

  [[nodiscard]] bool all_in_memory() const {
    for (std::size_t i = 0; i < pieces_.size(); ++i)
      if (pieces_[i].is_register || pieces_[i].address.offset != pieces_[0].address.offset + i)
        return false;
    return !pieces_.empty();
  }

  /// A register as it is in this frame: a piece in memory if a callee has saved it.
  [[nodiscard]] std::optional<Piece> piece_of(int dwarf) const {
    Piece piece;
    if (const auto saved = frame_.registers.find(dwarf); saved != frame_.registers.end()) {
      piece.address = {Space::kData, saved->second};
      return piece;
    }
    const auto index = scope_.machine.find_dwarf_register(dwarf);
    if (!index) return std::nullopt;
    piece.is_register = true;
    piece.index = *index;
    return piece;
  }
  [[nodiscard]] std::uint8_t byte_of(const Piece& piece) const {
    return static_cast<std::uint8_t>(piece.is_register
                                         ? scope_.machine.register_value(piece.index)
                                         : scope_.machine.peek(piece.address).value_or(0));
  }

  /// What a register-relative operation starts from: on targets whose pointers are wider than a
  /// register, the pair that begins with it.
  [[nodiscard]] std::optional<std::uint64_t> base_of(int dwarf) const {
    const isa::CallConvention convention = scope_.machine.target().convention();
    if (dwarf == convention.sp_dwarf) return frame_.sp;
    const auto index = scope_.machine.find_dwarf_register(dwarf);
    if (!index) return std::nullopt;
    const unsigned width = scope_.machine.target().registers()[*index].bits / 8;
    if (width >= convention.pointer_bytes) return scope_.machine.register_value(*index);
    std::uint64_t value = 0;
    for (unsigned i = 0; i * width < convention.pointer_bytes; ++i) {
      const auto piece = piece_of(dwarf + static_cast<int>(i));
      if (!piece) return std::nullopt;
      value |= std::uint64_t{byte_of(*piece)} << (8 * i);
    }
    return value;
  }

  /// Splits a composite location; false if something is not understood.
  bool pieces_of(const std::vector<LocationOp>& ops, std::uint32_t bytes) {
    std::vector<LocationOp> part;
    bool composite = false;
    for (const LocationOp& op : ops) {
      if (op.atom != DW_OP_piece) {
        part.push_back(op);
        continue;
      }
      composite = true;
      if (part.empty() || !simple(part, static_cast<std::uint32_t>(op.a)) || value_) return false;
      part.clear();
    }
    return composite ? part.empty() : simple(part, bytes);
  }

  bool simple(const std::vector<LocationOp>& ops, std::uint32_t bytes) {
    const std::uint8_t atom = ops[0].atom;
    if (ops.size() == 1 && ((atom >= DW_OP_reg0 && atom <= DW_OP_reg31) || atom == DW_OP_regx)) {
      const int first = atom == DW_OP_regx ? static_cast<int>(ops[0].a) : atom - DW_OP_reg0;
      for (std::uint32_t i = 0; i < bytes; ++i) {
        const auto piece = piece_of(first + static_cast<int>(i));
        if (!piece) return false;
        pieces_.push_back(*piece);
      }
      return true;
    }
    const auto result = computed(ops);
    if (!result) return false;
    if (is_value_) {
      value_ = *result;
      return true;
    }
    const std::uint64_t address =
        *result &
        (*result >= 0x800000 && pointer_mask_ == 0xffff ? std::uint64_t{0xffff} : pointer_mask_);
    for (std::uint32_t i = 0; i < bytes && i < 65536; ++i)
      pieces_.push_back({false, 0, {Space::kData, static_cast<std::uint32_t>(address) + i}});
    return true;
  }

  /// Runs a stack machine; the top is an address, or a value behind DW_OP_stack_value.
  std::optional<std::uint64_t> computed(const std::vector<LocationOp>& ops, unsigned depth = 0) {
    std::vector<std::uint64_t> stack;
    const auto pop = [&]() -> std::uint64_t {
      if (stack.empty()) return 0;
      const std::uint64_t top = stack.back();
      stack.pop_back();
      return top;
    };
    for (const LocationOp& op : ops) {
      const auto a = static_cast<std::uint64_t>(op.a);
      if (op.atom >= DW_OP_lit0 && op.atom <= DW_OP_lit31) {
        stack.push_back(op.atom - DW_OP_lit0);
        continue;
      }
      if (op.atom >= DW_OP_breg0 && op.atom <= DW_OP_breg31) {
        const auto base = base_of(op.atom - DW_OP_breg0);
        if (!base) return std::nullopt;
        stack.push_back(*base + a);
        continue;
      }
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
        case DW_OP_consts: stack.push_back(a); break;
        case DW_OP_bregx: {
          const auto base = base_of(static_cast<int>(op.a));
          if (!base) return std::nullopt;
          stack.push_back(*base + static_cast<std::uint64_t>(op.b));
          break;
        }
        case DW_OP_call_frame_cfa:
          if (!frame_.known) return std::nullopt;
          stack.push_back(frame_.cfa);
          break;
        case DW_OP_fbreg: {
          const auto base_ops = scope_.program.frame_base_at(look_);
          if (base_ops.empty() || depth > 0) return std::nullopt;
          const auto base = frame_base(base_ops);
          if (!base) return std::nullopt;
          stack.push_back(*base + a);
          break;
        }
        case DW_OP_plus_uconst: stack.push_back(pop() + a); break;
        case DW_OP_dup: stack.push_back(stack.empty() ? 0 : stack.back()); break;
        case DW_OP_drop: pop(); break;
        case DW_OP_neg: stack.push_back(0 - pop()); break;
        case DW_OP_not: stack.push_back(~pop()); break;
        case DW_OP_deref: {
          const std::uint64_t from = pop() & pointer_mask_;
          std::uint64_t value = 0;
          for (unsigned i = 0; pointer_mask_ >> (8 * i) != 0 && i < 8; ++i) {
            const auto byte =
                scope_.machine.peek({Space::kData, static_cast<std::uint32_t>(from) + i});
            if (!byte) return std::nullopt;
            value |= std::uint64_t{*byte} << (8 * i);
          }
          stack.push_back(value);
          break;
        }
        case DW_OP_stack_value: is_value_ = true; break;
        case DW_OP_plus:
        case DW_OP_minus:
        case DW_OP_mul:
        case DW_OP_and:
        case DW_OP_or:
        case DW_OP_xor:
        case DW_OP_shl:
        case DW_OP_shr: {
          const std::uint64_t y = pop();
          const std::uint64_t x = pop();
          stack.push_back(op.atom == DW_OP_plus    ? x + y
                          : op.atom == DW_OP_minus ? x - y
                          : op.atom == DW_OP_mul   ? x * y
                          : op.atom == DW_OP_and   ? x & y
                          : op.atom == DW_OP_or    ? x | y
                          : op.atom == DW_OP_xor   ? x ^ y
                          : op.atom == DW_OP_shl   ? (y < 64 ? x << y : 0)
                                                   : (y < 64 ? x >> y : 0));
          break;
        }
        default: return std::nullopt;  // entry values, implicit pointers, …
      }
    }
    if (stack.empty()) return std::nullopt;
    return stack.back();
  }

  /// A frame base may be a register by name: then it is what the register holds.
  std::optional<std::uint64_t> frame_base(const std::vector<LocationOp>& ops) {
    if (ops.size() == 1 && ops[0].atom >= DW_OP_reg0 && ops[0].atom <= DW_OP_reg31)
      return base_of(ops[0].atom - DW_OP_reg0);
    return computed(ops, 1);
  }

  void describe(Operand& out, const Type& type, std::uint64_t raw) const {
    out.type = local_.type;
    out.value.type = type.name;
    out.value.bits = static_cast<std::uint8_t>(8 * type.bytes);
    out.value.is_signed = type.kind == Type::Kind::kSigned || type.kind == Type::Kind::kChar;
    if (type.kind == Type::Kind::kPointer) out.target = type.target;
    if (out.value.bits < 64) {
      raw &= (std::uint64_t{1} << out.value.bits) - 1;
      if (out.value.is_signed && (raw >> (out.value.bits - 1) & 1U) != 0)
        raw |= ~std::uint64_t{0} << out.value.bits;
    }
    out.value.integer = static_cast<std::int64_t>(raw);
    if (type.kind == Type::Kind::kFloat && type.bytes == 4) {
      const auto word = static_cast<std::uint32_t>(raw);
      float real = 0;
      std::memcpy(&real, &word, 4);
      out.value.kind = Value::Kind::kReal;
      out.value.real = static_cast<double>(real);
    }
  }

  [[nodiscard]] Result<Operand> constant(const Type& type) const {
    if (type.bytes == 0 || type.bytes > 8) return unknown();
    Operand out;
    describe(out, type, *value_);
    return out;
  }

  [[nodiscard]] Result<Operand> gathered(const Type& type, std::uint32_t bytes) const {
    const bool plain = type.kind != Type::Kind::kStruct && type.kind != Type::Kind::kUnion &&
                       type.kind != Type::Kind::kArray;
    if (!plain || bytes == 0 || bytes > 8) return unknown();
    Operand out;
    std::uint64_t raw = 0;
    for (std::uint32_t i = 0; i < bytes; ++i) raw |= std::uint64_t{byte_of(pieces_[i])} << (8 * i);
    describe(out, type, raw);
    out.place.kind = Place::Kind::kPieces;
    out.place.bytes = static_cast<std::uint8_t>(bytes);
    out.place.pieces.assign(pieces_.begin(), pieces_.begin() + bytes);
    return out;
  }

  const Local& local_;
  const Scope& scope_;
  const Frame& frame_;
  const std::uint32_t look_;
  const std::uint64_t pointer_mask_;
  std::vector<Piece> pieces_;
  std::optional<std::uint64_t> value_;
  bool is_value_ = false;
};

}  // namespace

std::uint32_t names_address(const Scope& scope) {
  if (scope.names_at) return *scope.names_at;
  if (scope.level == 0) return scope.machine.pc();
  const auto levels = call_levels(scope.program, scope.machine);
  return scope.level < levels.size() ? look_address(levels[scope.level], scope.machine)
                                     : scope.machine.pc();
}

std::vector<const Local*> locals_of(const Scope& scope) {
  const std::uint32_t look = names_address(scope);
  const InlinedCall* body = nullptr;  // whose names are meant
  if (scope.level == 0 || scope.names_at) {
    const auto inlined = scope.program.inlined_at(look);
    if (!inlined.empty()) body = inlined.front();
  } else if (const auto levels = call_levels(scope.program, scope.machine);
             scope.level < levels.size()) {
    body = levels[scope.level].inlined;
  }
  std::vector<const Local*> out;
  for (const Local* local : scope.program.locals_at(look)) {
    const InlinedCall* owner =
        local->inlined < 0
            ? nullptr
            : &scope.program.inlined_calls()[static_cast<std::size_t>(local->inlined)];
    if (owner == body) out.push_back(local);
  }
  return out;
}

Result<Operand> local_value(const Local& local, const Scope& scope) {
  const auto levels = call_levels(scope.program, scope.machine);
  if (scope.level >= levels.size())
    return fail(ErrorCode::kNotFound, "there is no such call level any more");
  const std::uint32_t look = look_address(levels[scope.level], scope.machine);
  bool in_scope = false;
  for (const Local::Range& range : local.scope)
    in_scope = in_scope || (look >= range.begin && look < range.end);
  if (!in_scope)
    return fail(ErrorCode::kNotFound, fmt::format("'{}' is not in scope here", local.name));
  return LocationReader(local, scope, levels[scope.level], look).read();
}

}  // namespace lucid::session
