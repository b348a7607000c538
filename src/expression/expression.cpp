// SPDX-License-Identifier: MIT
#include "expression/expression.h"

#include <fmt/format.h>

#include <algorithm>

#include "expression/integers.h"
#include "expression/node.h"
#include "expression/object.h"
#include "frames/callers.h"
#include "lucid/time.h"

namespace lucid::expression {
namespace {

Error at(const Node& node, std::string what, std::string hint = {},
         ErrorCode code = ErrorCode::kUsage) {
  return {code, std::move(what), fmt::format("column {}", node.column), std::move(hint),
          Unknown::kNone};
}

}  // namespace

std::int64_t whole_number(double real) {
  constexpr double kMost = 9.2e18;
  return real > -kMost && real < kMost ? static_cast<std::int64_t>(real) : 0;
}

namespace {

std::optional<std::uint64_t> read_bytes(const machine::Machine& machine, Address address,
                                        unsigned bytes) {
  std::uint64_t raw = 0;
  for (unsigned i = 0; i < bytes; ++i) {
    const auto byte = machine.peek({address.space, address.offset + i});
    if (!byte) return std::nullopt;
    raw |= std::uint64_t{*byte} << (8 * i);
  }
  return raw;
}

class Evaluator {
 public:
  explicit Evaluator(const Scope& scope) : scope_(scope) {}

  Result<Operand> value(const Node& node) {
    switch (node.kind) {
      case NodeKind::kConstant: return node.operand;
      case NodeKind::kVariable: return typed(node, node.operand.place, node.operand.type);
      case NodeKind::kLocal: return local(node);
      case NodeKind::kRegister: return processor(node);
      case NodeKind::kPair: return io(node);
      case NodeKind::kPin: return pin(node);
      case NodeKind::kArea: return area(node);
      case NodeKind::kCycles:
        return number(static_cast<std::int64_t>(scope_.machine.cycles()), 64, false);
      case NodeKind::kTime: {
        Operand out;
        out.value.kind = Value::Kind::kTime;
        out.value.integer = static_cast<std::int64_t>(
            to_time(scope_.machine.ticks(), scope_.machine.info().clock_hz).count);
        return out;
      }
      case NodeKind::kStackFree:
      case NodeKind::kStackDeepest:
      case NodeKind::kStackUsed: return stack(node);
      case NodeKind::kElsewhere: return elsewhere(node);
      case NodeKind::kMeasure: {
        auto measured = measure(node);
        if (!measured) return fail(measured.error());
        Operand out;
        out.value = measured->last;
        return out;
      }
      case NodeKind::kWithin: return within(node);
      case NodeKind::kUnary: return unary(node);
      case NodeKind::kBinary: return binary(node);
      case NodeKind::kAnd:
      case NodeKind::kOr: return logical(node);
      case NodeKind::kChoice: {
        auto condition = truth(*node.a);
        if (!condition) return fail(condition.error());
        return value(*condition ? *node.b : *node.c);
      }
      case NodeKind::kIndex: return index(node);
      case NodeKind::kMember: return member(node);
      case NodeKind::kDereference: return dereference(node);
      case NodeKind::kAddressOf: return address_of(node);
      case NodeKind::kCast: return cast(node);
    }
    return fail(at(node, "this cannot be evaluated"));
  }

  Result<bool> truth(const Node& node) {
    auto operand = value(node);
    if (!operand) return fail(operand.error());
    if (operand->value.kind == Value::Kind::kAggregate)
      return fail(at(node, "a structure or array is neither true nor false"));
    return operand->value.kind == Value::Kind::kReal ? operand->value.real != 0
                                                     : operand->value.integer != 0;
  }

 private:
  Result<frames::Measures::Measured> measure(const Node& node) {
    if (scope_.measures == nullptr)
      return fail(at(node, "nothing is measured here", "", ErrorCode::kUnsupported));
    std::vector<std::string> arguments;
    for (std::size_t begin = 0; begin <= node.of.size();) {
      const std::size_t end = std::min(node.of.find('\n', begin), node.of.size());
      arguments.push_back(node.of.substr(begin, end - begin));
      begin = end + 1;
    }
    auto out = scope_.measures->measure(node.name, arguments);
    if (!out) return fail(at(node, out.error().what, out.error().hint, out.error().code));
    return out;
  }

  static long double plain(const Value& value) {
    return value.kind == Value::Kind::kReal ? static_cast<long double>(value.real)
                                            : static_cast<long double>(value.integer);
  }

  /// Of what was measured all must be within.
  Result<Operand> within(const Node& node) {
    Value least, most;
    if (node.a->kind == NodeKind::kMeasure) {
      auto measured = measure(*node.a);
      if (!measured) return fail(measured.error());
      least = measured->least;
      most = measured->most;
    } else {
      auto operand = value(*node.a);
      if (!operand) return operand;
      least = most = operand->value;
    }
    auto from = value(*node.b);
    if (!from) return from;
    auto to = value(*node.c);
    if (!to) return to;
    for (const Value* v : {&least, &from->value, &to->value})
      if (v->kind == Value::Kind::kAggregate)
        return fail(at(node, "a structure or array is in no range"));
    for (const Value* v : {&from->value, &to->value})
      if ((v->kind == Value::Kind::kTime) != (least.kind == Value::Kind::kTime))
        return fail(at(node, "a time is compared with times: in 998ms..1002ms"));
    const bool holds = plain(least) >= plain(from->value) && plain(most) <= plain(to->value);
    return number(holds ? 1 : 0, static_cast<std::uint8_t>(int_bits()), true);
  }

  static Operand number(std::int64_t value, std::uint8_t bits, bool is_signed) {
    Operand out;
    out.value.integer = fit(static_cast<std::uint64_t>(value), bits, is_signed);
    out.value.bits = bits;
    out.value.is_signed = is_signed;
    return out;
  }
  [[nodiscard]] unsigned int_bits() const {
    return 8U * scope_.machine.target().convention().int_bytes;
  }
  [[nodiscard]] const Type& type(unsigned index) const { return scope_.program.types()[index]; }

  /// The object of a type at a place.
  Result<Operand> typed(const Node& node, const Place& place, unsigned type_index) {
    return told(node, object_at(place, type_index, scope_));
  }
  static Result<Operand> told(const Node& node, Result<Operand> found) {
    if (found) return found;
    Error error = at(node, found.error().what, found.error().hint, found.error().code);
    error.unknown = found.error().unknown;
    return fail(error);
  }

  Result<Operand> local(const Node& node) {
    Scope there = scope_;
    if (!node.of.empty()) {
      const auto level = level_of(node.of, scope_);
      if (!level) {
        Error error = at(node, fmt::format("'{}' is not being called here", node.of),
                         "a local is there only while its function is", ErrorCode::kNotFound);
        error.unknown = Unknown::kNotInScope;
        return fail(error);
      }
      there.level = *level;
      there.names_at.reset();
    }
    for (const Local* l : frames::locals_of(there)) {
      if (l->name != node.name) continue;
      return told(node, local_value(*l, there));
    }
    Error error =
        at(node, fmt::format("'{}' is not in scope here", node.name), "", ErrorCode::kNotFound);
    error.unknown = Unknown::kNotInScope;
    return fail(error);
  }

  Result<Operand> processor(const Node& node) {
    const Place& place = node.operand.place;
    Operand out;
    if (place.kind == Place::Kind::kFlag) {
      out = number(scope_.machine.flags() >> place.index & 1, 8, false);
    } else {
      const RegisterName& r = scope_.machine.target().registers()[place.index];
      out = number(static_cast<std::int64_t>(scope_.machine.register_value(place.index)), r.bits,
                   false);
    }
    out.place = place;
    return out;
  }

  Result<Operand> io(const Node& node) {
    const Place& place = node.operand.place;
    const auto raw = read_bytes(scope_.machine, place.address, place.bytes);
    if (!raw) return fail(at(node, "it cannot be read", "", ErrorCode::kOutOfRange));
    const unsigned bits = place.bit_size != 0 ? place.bit_size : 8U * place.bytes;
    Operand out = number(static_cast<std::int64_t>(*raw >> place.bit_offset),
                         static_cast<std::uint8_t>(bits), false);
    out.place = place;
    return out;
  }

  /// What another chip holds at this time; it cannot be changed from here.
  Result<Operand> elsewhere(const Node& node) {
    const auto companion = scope_.machine.companion(node.name);
    if (companion == nullptr)
      return fail(ErrorCode::kNotFound, "there is no chip '" + node.name + "' here");
    const Scope there = scope_on(node.name, *companion, scope_);
    auto found = Evaluator(there).value(*node.a);
    if (!found) return found;
    Operand out;
    out.value = found->value;
    out.value.address.reset();
    out.elsewhere = std::make_shared<const Operand::Elsewhere>(
        Operand::Elsewhere{node.name, std::move(*found)});
    return out;
  }

  Result<Operand> pin(const Node& node) {
    for (const PinState& state : scope_.machine.pins()) {
      if (state.name != node.operand.place.pin) continue;
      Operand out = number(state.level ? 1 : 0, 8, false);
      out.place = node.operand.place;
      return out;
    }
    return fail(at(node, "there is no such pin", "", ErrorCode::kNotFound));
  }

  Result<Operand> area(const Node& node) {
    const MemoryArea* memory = scope_.machine.area(node.name);
    auto first = integer(*node.a);
    if (!first) return fail(first.error());
    std::int64_t last = *first;
    if (node.b != nullptr) {
      auto second = integer(*node.b);
      if (!second) return fail(second.error());
      // What is too long for the memory is too long, wherever it would end.
      const std::int64_t most = memory->end;
      last = node.op == 'f' && *first <= most
                 ? *first - 1 + std::clamp<std::int64_t>(*second, -1, most)
                 : *second;
    }
    if (*first < memory->begin || last >= memory->end || last < *first)
      return fail(at(node,
                     fmt::format("{} reaches from {:#06x} to {:#06x}", node.name, memory->begin,
                                 memory->end - 1),
                     "", ErrorCode::kOutOfRange));
    Operand out;
    out.place.kind = Place::Kind::kMemory;
    out.place.address = {memory->space, static_cast<std::uint32_t>(*first)};
    out.value.address = out.place.address;
    if (node.b == nullptr) {
      const auto raw = read_bytes(scope_.machine, out.place.address, 1);
      const Place place = out.place;
      out = number(static_cast<std::int64_t>(raw.value_or(0)), 8, false);
      out.place = place;
      return out;
    }
    out.value.kind = Value::Kind::kAggregate;
    out.value.bits = 0;
    out.value.integer = last - *first + 1;  // its length in bytes
    return out;
  }

  Result<Operand> stack(const Node& node) {
    const machine::Machine& machine = scope_.machine;
    const MemoryArea* ram = machine.area("ram");
    const std::uint32_t gap = machine.target().convention().stack_gap;
    if (ram == nullptr) return fail(at(node, "this chip has no RAM to hold a stack"));
    const std::int64_t top = std::int64_t{ram->end} - gap;
    if (node.kind == NodeKind::kStackUsed) return number(top - machine.sp(), 16, false);
    if (node.kind == NodeKind::kStackDeepest)
      return number(
          top - std::int64_t{machine.deepest_sp().value_or(static_cast<std::uint32_t>(top))}, 16,
          false);
    if (!scope_.static_end)
      return fail(
          at(node, "the image does not say where its static data ends", "", ErrorCode::kNotFound));
    return number(std::int64_t{machine.sp()} + gap - std::int64_t{*scope_.static_end}, 32, true);
  }

  Result<std::int64_t> integer(const Node& node) {
    auto operand = value(node);
    if (!operand) return fail(operand.error());
    if (operand->value.kind != Value::Kind::kInteger)
      return fail(at(node, "a whole number is needed here"));
    return operand->value.integer;
  }

  /// C's integer promotion.
  void promote(Value& v) const {
    if (v.kind != Value::Kind::kInteger || v.bits >= int_bits()) return;
    v.bits = static_cast<std::uint8_t>(int_bits());
    v.is_signed = true;
  }

  Result<Operand> unary(const Node& node) {
    auto operand = value(*node.a);
    if (!operand) return operand;
    Value v = operand->value;
    if (v.kind == Value::Kind::kAggregate)
      return fail(at(node, "a structure or array has no single value"));
    if (node.op == '!') {
      const bool zero = v.kind == Value::Kind::kReal ? v.real == 0 : v.integer == 0;
      return number(zero ? 1 : 0, static_cast<std::uint8_t>(int_bits()), true);
    }
    promote(v);
    if (v.kind == Value::Kind::kReal) {
      if (node.op == '~') return fail(at(node, "'~' needs a whole number"));
      if (node.op == '-') v.real = -v.real;
    } else if (node.op == '-') {
      v.integer =
          fit(std::uint64_t{0} - static_cast<std::uint64_t>(v.integer), v.bits, v.is_signed);
    } else if (node.op == '~') {
      v.integer = fit(~static_cast<std::uint64_t>(v.integer), v.bits, v.is_signed);
    }
    Operand out;
    out.value = v;
    out.value.type.clear();
    out.value.address.reset();
    return out;
  }

  Result<Operand> logical(const Node& node) {
    auto left = truth(*node.a);
    if (!left) return fail(left.error());
    const bool decided = node.kind == NodeKind::kAnd ? !*left : *left;
    bool result = *left;
    if (!decided) {
      auto right = truth(*node.b);
      if (!right) return fail(right.error());
      result = *right;
    }
    return number(result ? 1 : 0, static_cast<std::uint8_t>(int_bits()), true);
  }

  Operand truth_value(bool value) const {
    return number(value ? 1 : 0, static_cast<std::uint8_t>(int_bits()), true);
  }

  Result<Operand> binary(const Node& node) {
    auto left = value(*node.a);
    if (!left) return left;
    auto right = value(*node.b);
    if (!right) return right;
    Value a = left->value;
    Value b = right->value;
    if (a.kind == Value::Kind::kAggregate || b.kind == Value::Kind::kAggregate)
      return fail(at(node, "a structure or array has no single value"));
    if (a.kind == Value::Kind::kTime || b.kind == Value::Kind::kTime) return timed(node, a, b);
    if (a.kind == Value::Kind::kReal || b.kind == Value::Kind::kReal) return real(node, a, b);
    const bool shift = node.op == kShiftLeft || node.op == kShiftRight;
    scale_pointer(*left, *right, node.op, a, b);
    const auto whole = [](const Value& v) { return Number{v.integer, v.bits, v.is_signed}; };
    Number x = promoted(whole(a), int_bits());
    Number y = promoted(whole(b), int_bits());
    if (!shift) convert(x, y);
    const auto result = worked_out(node.op, x, y, int_bits());
    if (!result && shift)
      return fail(at(node, fmt::format("a shift by {} of a {}-bit value has no result in C",
                                       y.value, x.bits)));
    if (!result) return fail(at(node, "division by zero"));
    Operand out = number(result->value, result->bits, result->is_signed);
    if (is_comparison(node.op)) return out;
    out.value.wrapped = node.op == '-' && !x.is_signed &&
                        static_cast<std::uint64_t>(y.value) > static_cast<std::uint64_t>(x.value);
    const bool moved =
        (node.op == '+' || node.op == '-') && (left->target != 0) != (right->target != 0);
    if (moved) {
      const Operand& pointer = left->target != 0 ? *left : *right;
      out.type = pointer.type;
      out.target = pointer.target;
    }
    return out;
  }

  /// Pointer arithmetic counts in elements.
  void scale_pointer(const Operand& left, const Operand& right, char op, Value& a, Value& b) const {
    if (op != '+' && op != '-') return;
    const auto wrapped = [](std::int64_t x, std::int64_t y) {
      return static_cast<std::int64_t>(static_cast<std::uint64_t>(x) *
                                       static_cast<std::uint64_t>(y));
    };
    const auto element = [&](const Operand& o) -> std::int64_t {
      return o.target == 0 ? 0 : std::max<std::int64_t>(1, type(o.target).bytes);
    };
    if (element(left) != 0 && element(right) == 0) b.integer = wrapped(b.integer, element(left));
    if (element(right) != 0 && element(left) == 0) a.integer = wrapped(a.integer, element(right));
  }

  Result<Operand> timed(const Node& node, const Value& a, const Value& b) {
    const bool both = a.kind == Value::Kind::kTime && b.kind == Value::Kind::kTime;
    if (is_comparison(node.op)) {
      if (!both)
        return fail(
            at(node, "a time can only be compared with a time", "write a unit, as in 20ms"));
      return truth_value(compared(node.op, a.integer, b.integer));
    }
    Operand out;
    out.value.kind = Value::Kind::kTime;
    std::int64_t& result = out.value.integer;
    const bool whole = a.kind != Value::Kind::kReal && b.kind != Value::Kind::kReal;
    bool overflow = false;
    if (both && node.op == '+') {
      overflow = __builtin_add_overflow(a.integer, b.integer, &result);
    } else if (both && node.op == '-') {
      overflow = __builtin_sub_overflow(a.integer, b.integer, &result);
    } else if (node.op == '*' && !both && whole) {
      overflow = __builtin_mul_overflow(a.integer, b.integer, &result);
    } else if (node.op == '/' && whole && a.kind == Value::Kind::kTime && b.integer > 0) {
      if (both) return number(a.integer / b.integer, 64, true);
      result = a.integer / b.integer;
    } else {
      return fail(at(node, "this cannot be worked out with a time"));
    }
    if (overflow) return fail(at(node, "this time is longer than can be told"));
    return out;
  }

  Result<Operand> real(const Node& node, const Value& a, const Value& b) {
    const double x = a.kind == Value::Kind::kReal ? a.real : static_cast<double>(a.integer);
    const double y = b.kind == Value::Kind::kReal ? b.real : static_cast<double>(b.integer);
    if (is_comparison(node.op)) return truth_value(compared(node.op, x, y));
    Operand out;
    out.value.kind = Value::Kind::kReal;
    switch (node.op) {
      case '+': out.value.real = x + y; break;
      case '-': out.value.real = x - y; break;
      case '*': out.value.real = x * y; break;
      case '/': out.value.real = x / y; break;
      default: return fail(at(node, "this operator needs whole numbers"));
    }
    return out;
  }

  Result<Operand> index(const Node& node) {
    auto base = value(*node.a);
    if (!base) return base;
    auto i = integer(*node.b);
    if (!i) return fail(i.error());
    unsigned element = base->target;
    bool past_end = false;
    const Place whole = element != 0 ? led_to(*base, scope_) : base->place;
    if (element == 0) {
      if (base->type == 0) return fail(at(node, "only arrays and pointers have elements"));
      const Type& t = type(base->type);
      if (t.kind != Type::Kind::kArray)
        return fail(at(node, fmt::format("'{}' has no elements", t.name)));
      // One past the end is where firmware goes wrong: it can be looked at, and says so.
      past_end = t.count != 0 && *i == std::int64_t{t.count} && whole.kind == Place::Kind::kMemory;
      if (t.count != 0 && !past_end && (*i < 0 || *i >= std::int64_t{t.count}))
        return fail(at(node, fmt::format("the array has elements 0 to {}", t.count - 1), "",
                       ErrorCode::kOutOfRange));
      element = t.target;
    }
    const std::uint32_t bytes = type(element).bytes;
    const auto offset = static_cast<std::uint32_t>(static_cast<std::uint64_t>(*i) * bytes);
    auto out = typed(node, place_within(whole, offset, bytes), element);
    if (out && past_end) out->value.past_end = true;
    return out;
  }

  Result<Operand> member(const Node& node) {
    auto base = value(*node.a);
    if (!base) return base;
    if (node.op == '>' && base->target != 0) {
      const unsigned target = base->target;
      base->place = led_to(*base, scope_);
      base->type = target;
    } else if (node.op == '>') {
      return fail(at(node, "'->' needs a pointer", "use '.'"));
    }
    const Type& t = type(base->type);
    if (const auto member = find_member(scope_.program, base->type, node.name))
      return told(node, member_of(*base, *member, scope_));
    std::vector<std::string> names;
    for (const Type::Member& m : t.members) names.push_back(m.name);
    if (t.kind == Type::Kind::kPointer)
      return fail(at(node, "this is a pointer", fmt::format("write ->{}", node.name)));
    return fail(at(node,
                   t.members.empty() ? "this has no members"
                                     : fmt::format("'{}' has no member '{}'", t.name, node.name),
                   did_you_mean(node.name, names), ErrorCode::kNotFound));
  }

  Result<Operand> dereference(const Node& node) {
    auto base = value(*node.a);
    if (!base) return base;
    if (base->target != 0) return typed(node, led_to(*base, scope_), base->target);
    if (base->type != 0 && type(base->type).kind == Type::Kind::kArray)
      return typed(node, place_within(base->place, 0, type(type(base->type).target).bytes),
                   type(base->type).target);
    return fail(at(node, "only a pointer can be followed"));
  }

  Result<Operand> address_of(const Node& node) {
    auto base = value(*node.a);
    if (!base) return base;
    if (base->place.kind != Place::Kind::kMemory)
      return fail(at(node, "this has no address in memory"));
    Operand out = number(
        base->place.address.offset,
        static_cast<std::uint8_t>(8 * scope_.machine.target().convention().pointer_bytes), false);
    out.value.address = base->place.address;
    out.value.type = base->value.type + " *";
    out.target = base->type;
    return out;
  }

  Result<Operand> cast(const Node& node) {
    auto operand = value(*node.a);
    if (!operand) return operand;
    if (operand->value.kind == Value::Kind::kAggregate)
      return fail(at(node, "a structure or array cannot be cast"));
    if (node.operand.type == 0 && node.operand.value.kind == Value::Kind::kReal) {
      Operand out;
      out.value.kind = Value::Kind::kReal;
      out.value.real = static_cast<float>(operand->value.kind == Value::Kind::kReal
                                              ? operand->value.real
                                              : static_cast<double>(operand->value.integer));
      return out;
    }
    const auto whole = operand->value.kind == Value::Kind::kReal ? whole_number(operand->value.real)
                                                                 : operand->value.integer;
    if (node.operand.type == 0) {
      Operand out = number(whole, node.operand.value.bits, node.operand.value.is_signed);
      out.target = node.operand.target;
      return out;
    }
    const Type& t = type(node.operand.type);
    Operand out;
    if (t.kind == Type::Kind::kFloat) {
      out.value.kind = Value::Kind::kReal;
      out.value.real = operand->value.kind == Value::Kind::kReal ? operand->value.real
                                                                 : static_cast<double>(whole);
    } else if (t.bytes >= 1 && t.bytes <= 8 && t.members.empty()) {
      out = number(whole, static_cast<std::uint8_t>(8 * t.bytes),
                   t.kind == Type::Kind::kSigned || t.kind == Type::Kind::kChar);
    } else {
      return fail(at(node, fmt::format("nothing can be cast to '{}'", t.name)));
    }
    out.type = node.operand.type;
    out.target = t.kind == Type::Kind::kPointer ? t.target : 0;
    out.value.type = t.name;
    return out;
  }

  const Scope& scope_;
};

}  // namespace

Scope scope_on(const std::string& chip, const machine::Machine& companion, const Scope& scope) {
  static const Program kNone;
  const auto known = scope.others != nullptr ? scope.others->find(chip)
                                             : std::optional<frames::OtherPrograms::Known>();
  Scope out{
      known ? *known->program : kNone,          companion, known ? *known->flows : scope.flows,
      known ? known->static_end : std::nullopt, 0,         std::nullopt};
  out.globals_only = true;
  return out;
}

Result<Operand> Expression::evaluate(const Scope& scope) const {
  return Evaluator(scope).value(*root_);
}
Result<bool> Expression::holds(const Scope& scope) const {
  if (const auto quick = quick_truth(scope.machine)) return *quick;
  return Evaluator(scope).truth(*root_);
}
std::optional<bool> Expression::quick_truth(const machine::Machine& machine) const {
  if (!root_->quick) return std::nullopt;
  const auto number = quick_value(*root_, machine, int_bits_);
  return number ? std::optional<bool>(*number != 0) : std::nullopt;
}

std::optional<machine::Predicate> Expression::predicate(const machine::Machine& machine) const {
  return predicate_of(*root_, machine);
}

Result<Operand> value_of(const Node& node, const Scope& scope) {
  return Evaluator(scope).value(node);
}

}  // namespace lucid::expression
