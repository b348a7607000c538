// SPDX-License-Identifier: MIT
// What an expression depends on: the parts that its value is made of, the pointers that lead there,
// the call level, the type; without its value as far as that goes.
#include "base/names.h"
#include "expression/expression.h"
#include "expression/node.h"
#include "expression/object.h"
#include "frames/callers.h"

namespace lucid::expression {

std::optional<unsigned> level_of(const std::string& function, const Scope& scope) {
  for (const std::size_t most : {std::size_t{1}, SIZE_MAX}) {  // mostly it is the innermost
    const auto levels = frames::call_levels(scope.program, scope.machine, scope.flows, most);
    for (unsigned i = 0; i < levels.size(); ++i) {
      const frames::Frame& frame = levels[i];
      const std::string* name = frame.inlined != nullptr    ? &frame.inlined->name
                                : frame.function != nullptr ? &frame.function->name
                                                            : nullptr;
      if (name != nullptr && base::means(*name, function)) return i;
    }
  }
  return std::nullopt;
}

bool stands_still(const Node& node) {
  switch (node.kind) {
    case NodeKind::kConstant:
    case NodeKind::kVariable: return true;
    case NodeKind::kMember: return node.op != '>' && stands_still(*node.a);
    case NodeKind::kIndex:
      return stands_still(*node.a) && node.b->kind == NodeKind::kConstant && node.c == nullptr;
    case NodeKind::kArea:
      return node.a->kind == NodeKind::kConstant &&
             (node.b == nullptr || node.b->kind == NodeKind::kConstant);
    default: return false;
  }
}

namespace {

/// A local of the call level.
bool any_local(const Node& node) {
  if (node.kind == NodeKind::kLocal) return node.of.empty();
  if (node.kind == NodeKind::kElsewhere) return false;
  for (const Node* child : {node.a.get(), node.b.get(), node.c.get()})
    if (child != nullptr && any_local(*child)) return true;
  return false;
}

bool any_that_moves(const Node& node) {
  if (node.kind == NodeKind::kLocal || node.kind == NodeKind::kElsewhere ||
      node.kind == NodeKind::kMeasure || node.kind == NodeKind::kWithin)
    return true;
  for (const Node* child : {node.a.get(), node.b.get(), node.c.get()})
    if (child != nullptr && any_that_moves(*child)) return true;
  return false;
}

bool collect_parts(const Node& node, const Scope& scope, std::vector<Operand>& out) {
  switch (node.kind) {
    case NodeKind::kConstant: return true;
    case NodeKind::kVariable:
    case NodeKind::kMember:
    case NodeKind::kIndex:
    case NodeKind::kArea:
      // An index into a pointer follows what the pointer holds.
      if (stands_still(node)) {
        auto operand = value_of(node, scope);
        if (operand && (node.a == nullptr || node.kind == NodeKind::kArea || operand->target == 0 ||
                        node.kind == NodeKind::kMember)) {
          out.push_back(*operand);
          return true;
        }
      }
      break;
    case NodeKind::kRegister:
    case NodeKind::kPin:
    case NodeKind::kPair: {
      auto operand = value_of(node, scope);
      if (operand) out.push_back(*operand);
      return operand.has_value();
    }
    case NodeKind::kLocal:
    case NodeKind::kCycles:
    case NodeKind::kTime:
    case NodeKind::kStackFree:
    case NodeKind::kStackDeepest:
    case NodeKind::kStackUsed:
    case NodeKind::kElsewhere:
    case NodeKind::kMeasure:
    case NodeKind::kDereference: return false;
    default: break;
  }
  if (node.kind == NodeKind::kMember || node.kind == NodeKind::kIndex ||
      node.kind == NodeKind::kArea)
    return false;
  bool all = true;
  for (const Node* child : {node.a.get(), node.b.get(), node.c.get()})
    if (child != nullptr) all = collect_parts(*child, scope, out) && all;
  return all;
}

}  // namespace

bool Expression::parts(const Scope& scope, std::vector<Operand>& out) const {
  return collect_parts(*root_, scope, out);
}
Result<std::vector<Operand>> Expression::pointers(const Scope& scope) const {
  std::vector<Operand> out;
  for (const Node* node = root_.get(); node != nullptr; node = node->a.get()) {
    const bool through = node->kind == NodeKind::kDereference || node->kind == NodeKind::kIndex ||
                         (node->kind == NodeKind::kMember && node->op == '>');
    if (!through) continue;
    auto base = value_of(*node->a, scope);
    if (!base) return fail(base.error());
    if (base->target != 0) out.push_back(*base);
  }
  return out;
}

bool Expression::names_variable() const {
  const Node* node = root_.get();
  while (node->kind == NodeKind::kMember || node->kind == NodeKind::kIndex) node = node->a.get();
  return node->kind == NodeKind::kVariable || node->kind == NodeKind::kLocal;
}

bool Expression::uses_locals() const { return any_local(*root_); }
bool Expression::keeps_its_meaning() const { return !any_that_moves(*root_); }

namespace {

std::optional<unsigned> level_in(const Node& node, const Scope& scope) {
  if (node.kind == NodeKind::kLocal)
    return node.of.empty() ? scope.level : level_of(node.of, scope);
  if (node.kind == NodeKind::kElsewhere) return std::nullopt;
  for (const Node* child : {node.a.get(), node.b.get(), node.c.get()})
    if (child != nullptr)
      if (const auto level = level_in(*child, scope)) return level;
  return std::nullopt;
}

/// The type of the object that a tree names, without looking at the object.
std::optional<unsigned> type_in(const Node& node, const Scope& scope) {
  const auto& types = scope.program.types();
  const auto led = [&](const Node& to) -> std::optional<unsigned> {
    const auto type = type_in(to, scope);
    if (!type) return type;
    const Type& t = types[*type];
    return t.kind == Type::Kind::kPointer || t.kind == Type::Kind::kArray
               ? std::optional<unsigned>(t.target)
               : std::nullopt;
  };
  switch (node.kind) {
    case NodeKind::kVariable: return node.operand.type;
    case NodeKind::kLocal:
      for (const Local* local : frames::locals_of(scope))
        if (local->name == node.name) return local->type;
      return std::nullopt;
    case NodeKind::kCast:
      if (node.operand.type != 0) return node.operand.type;
      for (unsigned i = 1; i < types.size() && node.operand.target != 0; ++i)
        if (types[i].kind == Type::Kind::kPointer && types[i].target == node.operand.target)
          return i;
      return std::nullopt;
    case NodeKind::kIndex:
    case NodeKind::kDereference: return led(*node.a);
    case NodeKind::kMember: {
      const auto whole = node.op == '>' ? led(*node.a) : type_in(*node.a, scope);
      const auto member = whole ? find_member(scope.program, *whole, node.name) : std::nullopt;
      return member ? std::optional<unsigned>(member->type) : std::nullopt;
    }
    default: return std::nullopt;
  }
}

}  // namespace

std::optional<unsigned> Expression::local_level(const Scope& scope) const {
  return level_in(*root_, scope);
}

std::optional<unsigned> Expression::type(const Scope& scope) const {
  auto type = type_in(*root_, scope);
  if (type && scope.program.types()[*type].reference) type = scope.program.types()[*type].target;
  return type;
}

}  // namespace lucid::expression
