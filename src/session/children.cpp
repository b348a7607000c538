// SPDX-License-Identifier: MIT
// The parts of objects, each when it is asked for.
#include <fmt/format.h>

#include <algorithm>

#include "expression/object.h"
#include "session/core.h"

namespace lucid {
namespace {

constexpr unsigned kMostDepth = 16;  // of base classes and of members without names

/// Members as they can be named: those of base classes and of members without a name stand among
/// them, at their offset in the whole.
void add_members(const std::vector<Type>& types, unsigned type, std::uint32_t offset,
                 unsigned depth, std::vector<Type::Member>& out) {
  if (depth > kMostDepth) return;
  for (Type::Member member : types[type].members) {
    member.offset += offset;
    if (member.base || member.name.empty())
      add_members(types, member.type, member.offset, depth + 1, out);
    else
      out.push_back(std::move(member));
  }
}

std::vector<Type::Member> members_of(const std::vector<Type>& types, unsigned type) {
  std::vector<Type::Member> out;
  add_members(types, type, 0, 0, out);
  return out;
}

/// `name`, `a.b[3]` can be gone on from; other expressions in brackets.
std::string inner(const std::string& expression) {
  const bool plain = std::all_of(expression.begin(), expression.end(), [](char c) {
    return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '_' || c == '.' || c == '[' ||
           c == ']';
  });
  return plain ? expression : "(" + expression + ")";
}

}  // namespace

std::uint64_t Session::Core::count_children(unsigned type) const {
  const auto& types = program_.types();
  const Type& t = types[type];
  switch (t.kind) {
    case Type::Kind::kArray: return t.count;
    case Type::Kind::kStruct:
    case Type::Kind::kUnion: return members_of(types, type).size();
    case Type::Kind::kPointer: {
      const Type::Kind to = types[t.target].kind;
      return to == Type::Kind::kVoid || to == Type::Kind::kFunction || to == Type::Kind::kUnknown
                 ? 0U
                 : 1U;
    }
    default: return 0;
  }
}

Result<std::vector<VariableView>> Session::Core::children(const std::string& text,
                                                          std::uint64_t begin,
                                                          std::uint64_t count) const {
  const frames::Scope now = scope();
  const auto parsed = expression::Expression::parse(text, now);
  if (!parsed) return fail(parsed.error());
  const auto whole = parsed->evaluate(now);
  if (!whole) return fail(whole.error());
  const auto& types = program_.types();
  if (whole->type >= types.size()) return std::vector<VariableView>{};  // nothing is known of any
  const Type& type = types[whole->type];
  std::vector<VariableView> out;
  const auto add = [&](std::string name, std::string expression, unsigned of,
                       const Result<expression::Operand>& part) {
    VariableView view;
    view.name = std::move(name);
    view.expression = std::move(expression);
    view.type = types[of].name;
    view.children = count_children(of);
    if (part && part->value.address) view.address = *part->value.address;
    if (!part) view.unknown = part.error().unknown;
    view.value =
        part ? expression::written(*part, {}, now)
             : "(" + (part.error().hint.empty() ? part.error().what : part.error().hint) + ")";
    out.push_back(std::move(view));
  };
  const std::uint64_t end = begin + std::min(count, UINT64_MAX - begin);
  if (type.kind == Type::Kind::kArray) {
    const std::uint32_t bytes = types[type.target].bytes;
    for (std::uint64_t i = begin; i < std::min<std::uint64_t>(end, type.count); ++i)
      add(fmt::format("[{}]", i), fmt::format("{}[{}]", inner(text), i), type.target,
          expression::object_at(
              expression::place_within(whole->place, static_cast<std::uint32_t>(i) * bytes, bytes),
              type.target, now));
  } else if (type.kind == Type::Kind::kPointer) {
    if (begin == 0 && count != 0 && count_children(whole->type) != 0)
      add("*", "*" + inner(text), type.target,
          expression::object_at(expression::led_to(*whole, now), type.target, now));
  } else if (type.kind == Type::Kind::kStruct || type.kind == Type::Kind::kUnion) {
    const auto members = members_of(types, whole->type);
    for (std::uint64_t i = begin; i < std::min<std::uint64_t>(end, members.size()); ++i) {
      const Type::Member& member = members[static_cast<std::size_t>(i)];
      add(member.name, inner(text) + "." + member.name, member.type,
          expression::member_of(*whole, member, now));
    }
  }
  return out;
}

}  // namespace lucid
