// SPDX-License-Identifier: MIT
#include "expression/integers.h"

namespace lucid::expression {

Number promoted(Number n, unsigned int_bits) {
  if (n.bits < int_bits) {
    n.bits = static_cast<std::uint8_t>(int_bits);
    n.is_signed = true;
  }
  return n;
}

void convert(Number& a, Number& b) {
  if (a.bits == b.bits) {
    a.is_signed = b.is_signed = a.is_signed && b.is_signed;
  } else {
    const Number& wider = a.bits > b.bits ? a : b;
    const std::uint8_t bits = wider.bits;
    const bool is_signed = wider.is_signed;
    a.bits = b.bits = bits;
    a.is_signed = b.is_signed = is_signed;
  }
  a.value = fit(static_cast<std::uint64_t>(a.value), a.bits, a.is_signed);
  b.value = fit(static_cast<std::uint64_t>(b.value), b.bits, b.is_signed);
}

std::optional<Number> worked_out(char op, Number a, Number b, unsigned int_bits) {
  const auto ua = static_cast<std::uint64_t>(a.value);
  const auto ub = static_cast<std::uint64_t>(b.value);
  if (is_comparison(op)) {
    const bool holds = a.is_signed ? compared(op, a.value, b.value) : compared(op, ua, ub);
    return Number{holds ? 1 : 0, static_cast<std::uint8_t>(int_bits), true};
  }
  std::uint64_t result = 0;
  switch (op) {
    case '+': result = ua + ub; break;
    case '-': result = ua - ub; break;
    case '*': result = ua * ub; break;
    case '/':
    case '%':
      if (b.value == 0) return std::nullopt;
      if (a.is_signed && b.value == -1)
        result = op == '/' ? 0 - ua : 0;
      else if (a.is_signed)
        result = static_cast<std::uint64_t>(op == '/' ? a.value / b.value : a.value % b.value);
      else
        result = op == '/' ? ua / ub : ua % ub;
      break;
    case '&': result = ua & ub; break;
    case '|': result = ua | ub; break;
    case '^': result = ua ^ ub; break;
    default:
      if (b.value < 0 || b.value >= a.bits) return std::nullopt;
      if (op == kShiftLeft)
        result = ua << ub;
      else
        result = a.is_signed ? static_cast<std::uint64_t>(a.value >> b.value) : ua >> ub;
      break;
  }
  return Number{fit(result, a.bits, a.is_signed), a.bits, a.is_signed};
}

namespace {

/// Of an object at one place in the code: a local, or a part of one that stays where it is in it.
bool stands_in_frame(const Node& node) {
  switch (node.kind) {
    case NodeKind::kLocal: return node.of.empty();
    case NodeKind::kMember: return node.op != '>' && stands_in_frame(*node.a);
    case NodeKind::kIndex:
      return stands_in_frame(*node.a) && node.b->kind == NodeKind::kConstant && node.c == nullptr;
    default: return false;
  }
}

/// The register that an object's address moves with; false: there is none, or more than one.
bool find_base(const Node& node, const Scope& scope, Node::Quick& quick) {
  constexpr std::uint32_t kAway = 64;
  const auto& registers = scope.machine.target().registers();
  for (unsigned index = 0; index < registers.size(); ++index) {
    if (registers[index].bits != 8U * scope.machine.target().convention().pointer_bytes) continue;
    const auto moved = scope.machine.clone();
    moved->set_register(index, (moved->register_value(index) + kAway) & 0xffffU);
    Scope there{scope.program, *moved, scope.flows, scope.static_end, 0, {}};
    there.as_described = true;
    const auto operand = value_of(node, there);
    if (!operand || operand->place.kind != Place::Kind::kMemory) return false;
    const std::uint32_t offset = operand->place.address.offset;
    if (offset == quick.place.address.offset) continue;
    if (offset != quick.place.address.offset + kAway || quick.base) return false;
    quick.base = index;
  }
  if (quick.base)
    quick.place.address.offset -=
        static_cast<std::uint32_t>(scope.machine.register_value(*quick.base));
  return true;
}

/// An object that stays where it is, with a whole number in it.
bool is_quick_leaf(const Node& node, const Scope& scope, Node::Quick& quick) {
  switch (node.kind) {
    case NodeKind::kConstant:
    case NodeKind::kVariable:
    case NodeKind::kMember:
    case NodeKind::kIndex:
    case NodeKind::kRegister:
    case NodeKind::kPair:
    case NodeKind::kLocal: break;
    default: return false;
  }
  const bool in_frame = scope.at_one_place && stands_in_frame(node);
  if (!in_frame && !stands_still(node) && node.kind != NodeKind::kRegister &&
      node.kind != NodeKind::kPair)
    return false;
  const auto operand = value_of(node, scope);
  if (!operand || operand->value.kind != Value::Kind::kInteger || operand->target != 0)
    return false;
  const Place::Kind kind = operand->place.kind;
  if (node.kind != NodeKind::kConstant && kind != Place::Kind::kMemory &&
      kind != Place::Kind::kRegister && kind != Place::Kind::kFlag && kind != Place::Kind::kPieces)
    return false;
  quick.place = operand->place;
  quick.value = operand->value.integer;
  quick.bits = operand->value.bits;
  quick.is_signed = operand->value.is_signed;
  return !in_frame || kind != Place::Kind::kMemory || find_base(node, scope, quick);
}

}  // namespace

void prepare_quick(Node& node, const Scope& scope) {
  if (node.kind == NodeKind::kElsewhere) return;  // below it are another chip and its program
  for (Node* child : {node.a.get(), node.b.get(), node.c.get()}) {
    if (child == nullptr) continue;
    prepare_quick(*child, scope);
  }
  const auto quick = [](const std::unique_ptr<Node>& child) { return child->quick.has_value(); };
  const auto type = [](const std::unique_ptr<Node>& child) {
    return Number{0, child->quick->bits, child->quick->is_signed};
  };
  const unsigned int_bits = 8U * scope.machine.target().convention().int_bytes;
  const Number truth{0, static_cast<std::uint8_t>(int_bits), true};
  Number result = truth;
  Node::Quick made;
  switch (node.kind) {
    case NodeKind::kUnary:
      if (!quick(node.a)) return;
      if (node.op != '!') result = promoted(type(node.a), int_bits);
      break;
    case NodeKind::kAnd:
    case NodeKind::kOr:
      if (!quick(node.a) || !quick(node.b)) return;
      break;
    case NodeKind::kBinary: {
      if (!quick(node.a) || !quick(node.b)) return;
      Number x = promoted(type(node.a), int_bits);
      Number y = promoted(type(node.b), int_bits);
      if (node.op != kShiftLeft && node.op != kShiftRight) convert(x, y);
      made.common_bits = x.bits;
      made.common_signed = x.is_signed;
      if (!is_comparison(node.op)) result = x;
      break;
    }
    default:
      if (is_quick_leaf(node, scope, made)) node.quick = made;
      return;
  }
  made.bits = result.bits;
  made.is_signed = result.is_signed;
  node.quick = made;
}

namespace {

/// Works a marked tree out; types are known already.
class Quick {
 public:
  Quick(const machine::Machine& machine, unsigned int_bits)
      : machine_(machine), int_bits_(int_bits) {}

  [[gnu::always_inline]] std::int64_t operand(const Node& node) {
    if (node.kind == NodeKind::kConstant) return node.quick->value;
    return node.kind == NodeKind::kVariable ? leaf(*node.quick) : value(node);
  }
  std::int64_t value(const Node& node) {
    const Node::Quick& quick = *node.quick;
    switch (node.kind) {
      case NodeKind::kConstant: return quick.value;
      case NodeKind::kUnary: {
        const std::int64_t a = value(*node.a);
        if (node.op == '!') return a == 0 ? 1 : 0;
        const auto raw = static_cast<std::uint64_t>(a);
        if (node.op == '-') return fit(std::uint64_t{0} - raw, quick.bits, quick.is_signed);
        return node.op == '~' ? fit(~raw, quick.bits, quick.is_signed) : a;
      }
      case NodeKind::kAnd: return value(*node.a) != 0 && value(*node.b) != 0 ? 1 : 0;
      case NodeKind::kOr: return value(*node.a) != 0 || value(*node.b) != 0 ? 1 : 0;
      case NodeKind::kBinary: return binary(node, quick);
      default: return leaf(quick);
    }
  }
  [[nodiscard]] bool failed() const { return failed_; }

 private:
  std::int64_t binary(const Node& node, const Node::Quick& quick) {
    std::int64_t a = operand(*node.a);
    std::int64_t b = operand(*node.b);
    if (node.op == kShiftLeft || node.op == kShiftRight) {
      const Number count = promoted({b, node.b->quick->bits, node.b->quick->is_signed}, int_bits_);
      return work_out(node.op, {a, quick.common_bits, quick.common_signed}, count);
    }
    // Converted: what is signed and shorter keeps its value in a longer signed type.
    if (!quick.common_signed || quick.common_bits < node.a->quick->bits)
      a = fit(static_cast<std::uint64_t>(a), quick.common_bits, quick.common_signed);
    if (!quick.common_signed || quick.common_bits < node.b->quick->bits)
      b = fit(static_cast<std::uint64_t>(b), quick.common_bits, quick.common_signed);
    if (is_comparison(node.op)) {
      const bool holds = quick.common_signed ? compared(node.op, a, b)
                                             : compared(node.op, static_cast<std::uint64_t>(a),
                                                        static_cast<std::uint64_t>(b));
      return holds ? 1 : 0;
    }
    return work_out(node.op, {a, quick.common_bits, quick.common_signed},
                    {b, quick.common_bits, quick.common_signed});
  }

  std::int64_t work_out(char op, Number a, Number b) {
    const auto result = worked_out(op, a, b, int_bits_);
    failed_ = failed_ || !result;
    return result ? result->value : 0;
  }

  std::int64_t leaf(const Node::Quick& quick) {
    const Place& place = quick.place;
    std::uint64_t raw = 0;
    if (place.kind == Place::Kind::kPieces || quick.base) {
      failed_ = true;
    } else if (place.kind == Place::Kind::kRegister) {
      raw = machine_.register_value(place.index);
    } else if (place.kind == Place::Kind::kFlag) {
      raw = machine_.flags() >> place.index & 1U;
    } else if (const std::uint8_t* bytes = machine_.plain_bytes(place.address, place.bytes);
               bytes != nullptr) {
      for (unsigned i = place.bytes; i-- > 0;) raw = raw << 8 | bytes[i];
    } else {
      for (unsigned i = place.bytes; i-- > 0;) {
        const auto byte = machine_.peek({place.address.space, place.address.offset + i});
        failed_ = failed_ || !byte;
        raw = raw << 8 | byte.value_or(0);
      }
    }
    return fit(raw >> place.bit_offset, quick.bits, quick.is_signed);
  }

  const machine::Machine& machine_;
  const unsigned int_bits_;
  bool failed_ = false;
};

}  // namespace

std::optional<std::int64_t> quick_value(const Node& node, const machine::Machine& machine,
                                        unsigned int_bits) {
  Quick quick(machine, int_bits);
  const std::int64_t value = quick.value(node);
  return quick.failed() ? std::nullopt : std::optional<std::int64_t>(value);
}

namespace {

/// Writes a marked tree down in the order in which it is worked out.
class Postfix {
 public:
  explicit Postfix(const machine::Machine& machine) : machine_(machine) {}

  void write(const Node& node) {
    const Node::Quick& quick = *node.quick;
    if (quick.bits > 32 && !never_negative(node)) possible_ = false;
    switch (node.kind) {
      case NodeKind::kConstant: constant(static_cast<std::uint32_t>(quick.value)); break;
      case NodeKind::kUnary: unary(node, quick); break;
      case NodeKind::kAnd:
      case NodeKind::kOr:
        truth(*node.a);
        truth(*node.b);
        add({node.kind == NodeKind::kAnd ? Kind::kAnd : Kind::kOr});
        break;
      case NodeKind::kBinary: binary(node, quick); break;
      default: leaf(quick);
    }
  }
  [[nodiscard]] std::optional<machine::Predicate> written() && {
    if (!possible_) return std::nullopt;
    return std::move(predicate_);
  }

 private:
  using Kind = machine::Predicate::Kind;

  void add(const machine::Predicate::Operation& operation) {
    predicate_.operations.push_back(operation);
  }
  void constant(std::uint32_t value) { add({Kind::kConstant, value}); }
  void fit_to(unsigned bits, bool is_signed) {
    if (bits < 32) add({Kind::kFit, 0, static_cast<std::uint8_t>(bits), is_signed});
  }
  void truth(const Node& node) {
    write(node);
    add({Kind::kNot});
    add({Kind::kNot});
  }
  void unary(const Node& node, const Node::Quick& quick) {
    if (node.op == '-') constant(0);
    write(*node.a);
    if (node.op == '!') add({Kind::kNot});
    if (node.op == '-') add({Kind::kSubtract});
    if (node.op == '~') {
      constant(~std::uint32_t{0});
      add({Kind::kXor});
    }
    if (node.op != '!') fit_to(quick.bits, quick.is_signed);
  }
  void operand(const Node& node, const Node::Quick& quick) {
    write(node);
    fit_to(quick.common_bits, quick.common_signed);
  }
  /// And no more than 32 bits, whatever its type.
  static bool never_negative(const Node& node) {
    if (node.kind == NodeKind::kConstant)
      return node.quick->value >= 0 && node.quick->value <= std::int64_t{0xffffffff};
    return !node.quick->is_signed && node.quick->bits <= 32;
  }
  void binary(const Node& node, const Node::Quick& quick) {
    const bool unsigned32 = never_negative(*node.a) && never_negative(*node.b);
    if (quick.common_bits > 32 && !(unsigned32 && is_comparison(node.op))) possible_ = false;
    if (node.op == '/' || node.op == '%' || node.op == kShiftLeft || node.op == kShiftRight) {
      by_constant(node, quick);
      return;
    }
    const bool swapped = node.op == '>' || node.op == kLessEqual;
    operand(swapped ? *node.b : *node.a, quick);
    operand(swapped ? *node.a : *node.b, quick);
    switch (node.op) {
      case '+': add({Kind::kAdd}); break;
      case '-': add({Kind::kSubtract}); break;
      case '*': add({Kind::kMultiply}); break;
      case '&': add({Kind::kAnd}); break;
      case '|': add({Kind::kOr}); break;
      case '^': add({Kind::kXor}); break;
      case kEqual:
      case kNotEqual: add({Kind::kEqual}); break;
      case '<':
      case '>':
      case kLessEqual:
      case kGreaterEqual: add({Kind::kLess, 0, 32, quick.common_signed && !unsigned32}); break;
      default: possible_ = false;
    }
    if (node.op == kNotEqual || node.op == kLessEqual || node.op == kGreaterEqual)
      add({Kind::kNot});
    if (!is_comparison(node.op)) fit_to(quick.bits, quick.is_signed);
  }
  void by_constant(const Node& node, const Node::Quick& quick) {
    operand(*node.a, quick);
    const std::int64_t by = node.b->quick->value;
    const bool shift = node.op == kShiftLeft || node.op == kShiftRight;
    if (node.b->kind != NodeKind::kConstant || by < (shift ? 0 : 1) ||
        by >= (shift ? std::int64_t{quick.common_bits} : std::int64_t{0x10000}) ||
        (!shift && quick.common_bits > 16))
      possible_ = false;
    const Kind kind = node.op == '/'          ? Kind::kDivide
                      : node.op == '%'        ? Kind::kRemainder
                      : node.op == kShiftLeft ? Kind::kShiftLeft
                                              : Kind::kShiftRight;
    add({kind, static_cast<std::uint32_t>(by), 32, quick.common_signed});
    fit_to(quick.bits, quick.is_signed);
  }
  void add_register(unsigned index, bool is_signed) {
    const unsigned bits = machine_.target().registers()[index].bits;
    if (bits != 8 && bits != 16) possible_ = false;
    add({Kind::kRegister, index, static_cast<std::uint8_t>(bits), is_signed});
  }
  /// Whole registers, the lowest first.
  void pieces(const Node::Quick& quick) {
    const std::vector<frames::Piece>& all = quick.place.pieces;
    if (all.empty() || 8 * all.size() != quick.bits || all.size() > 4) possible_ = false;
    for (std::size_t i = all.size(); possible_ && i-- > 0;) {
      const frames::Piece& piece = all[i];
      if (piece.kind != frames::Piece::Kind::kRegister || piece.byte != 0 ||
          machine_.target().registers()[piece.index].bits != 8) {
        possible_ = false;
        return;
      }
      if (i + 1 < all.size()) add({Kind::kShiftLeft, 8});
      add_register(piece.index, false);
      if (i + 1 < all.size()) add({Kind::kOr});
    }
    fit_to(quick.bits, quick.is_signed);
  }
  void leaf(const Node::Quick& quick) {
    const Place& place = quick.place;
    const unsigned bits = 8 * place.bytes;
    if (place.kind == Place::Kind::kRegister && place.bit_offset == 0 && place.bit_size == 0) {
      add_register(place.index, quick.is_signed);
      return;
    }
    if (place.kind == Place::Kind::kFlag) {
      add({Kind::kFlag, place.index});
      return;
    }
    if (place.kind == Place::Kind::kPieces) {
      pieces(quick);
      return;
    }
    if (quick.base && place.bit_offset == 0 && quick.bits == bits &&
        (bits == 8 || bits == 16 || bits == 32)) {
      add_register(*quick.base, false);
      constant(place.address.offset);
      add({Kind::kAdd});
      add({Kind::kLoad, 0, static_cast<std::uint8_t>(bits), quick.is_signed});
      return;
    }
    if (place.kind != Place::Kind::kMemory || place.address.space != Space::kData ||
        (bits != 8 && bits != 16 && bits != 32) ||
        machine_.plain_bytes(place.address, place.bytes) == nullptr) {
      possible_ = false;
      return;
    }
    const bool whole = place.bit_offset == 0 && quick.bits == bits;
    if (!whole) possible_ = false;  // a bit field
    add({Kind::kBytes, place.address.offset, static_cast<std::uint8_t>(bits), quick.is_signed});
  }

  const machine::Machine& machine_;
  machine::Predicate predicate_;
  bool possible_ = true;
};

}  // namespace

std::optional<machine::Predicate> predicate_of(const Node& node, const machine::Machine& machine) {
  if (!node.quick) return std::nullopt;
  Postfix postfix(machine);
  postfix.write(node);
  return std::move(postfix).written();
}

}  // namespace lucid::expression
