// SPDX-License-Identifier: MIT
// Lists, rings and trees: structures followed by the members that point at their own type.
#include <fmt/format.h>

#include <functional>
#include <map>
#include <set>

#include "expression/object.h"
#include "session/core.h"

namespace lucid {
namespace {

using expression::Operand;

class Walker {
 public:
  Walker(const frames::Scope& scope, unsigned most) : scope_(scope), most_(most) {}

  Result<GraphView> walk(Operand root) {
    if (root.target != 0) {
      if (root.value.integer == 0)
        return fail(ErrorCode::kOutOfRange, "it is a null pointer", "there are no nodes");
      auto there = expression::object_at(expression::led_to(root, scope_), root.target, scope_);
      if (!there) return fail(there.error());
      root = *there;
    }
    const Type& type = scope_.program.types()[root.type];
    type_ = &type;
    node_ = plain_name(root.type);
    view_.type = type.name;
    bool points_on = false;
    for (const Type::Member& m : type.members) points_on = points_on || leads_on(m);
    if (!points_on || root.place.kind != frames::Place::Kind::kMemory)
      return fail(ErrorCode::kUsage, "no member of it points at its own type",
                  "name a node of a list or tree, or a pointer to one");
    (void)visit(root);
    return view_;
  }

 private:
  /// Units have their own copies of a type: the name tells.
  [[nodiscard]] bool leads_on(const Type::Member& member) const {
    const Type& t = scope_.program.types()[member.type];
    return t.kind == Type::Kind::kPointer && plain_name(t.target) == node_;
  }
  /// Behind its typedefs.
  [[nodiscard]] const std::string& plain_name(unsigned type) const {
    const auto& types = scope_.program.types();
    while (types[type].alias_of != 0 && !ends_in_blank(types[types[type].alias_of].name))
      type = types[type].alias_of;
    return types[type].name;
  }
  /// `struct `: it has no name but that of its typedef.
  static bool ends_in_blank(const std::string& name) { return name.empty() || name.back() == ' '; }

  /// The node's number; nothing if the view is full.
  std::optional<unsigned> visit(const Operand& object) {
    const Address address = object.place.address;
    const auto key = std::make_pair(address.space, address.offset);
    if (const auto known = numbers_.find(key); known != numbers_.end()) {
      view_.circle = view_.circle || under_way_.count(known->second) != 0;
      return known->second;
    }
    if (view_.nodes.size() >= most_) {
      view_.cut = true;
      return std::nullopt;
    }
    const auto number = static_cast<unsigned>(view_.nodes.size());
    numbers_[key] = number;
    under_way_.insert(number);
    view_.nodes.push_back({address, name_of(address), value_of(object)});
    for (const Type::Member& m : type_->members) {
      if (!leads_on(m)) continue;
      const auto pointer = expression::member_of(object, m, scope_);
      if (!pointer || pointer->value.integer == 0) continue;
      const auto next =
          expression::object_at(expression::led_to(*pointer, scope_), pointer->target, scope_);
      const std::size_t edge = view_.edges.size();
      view_.edges.push_back({number, m.name, {}, expression::written(*pointer, {}, scope_)});
      if (next && in_memory(*next)) {
        const auto to = visit(*next);
        view_.edges[edge].to = to;
      }
    }
    under_way_.erase(number);
    return number;
  }

  [[nodiscard]] bool in_memory(const Operand& object) const {
    return frames::byte_of(object.place, 0, scope_.machine) &&
           frames::byte_of(object.place, type_->bytes - 1, scope_.machine);
  }

  [[nodiscard]] std::string name_of(Address address) const {
    for (const Variable& v : scope_.program.variables())
      if (v.address.space == address.space && address.offset >= v.address.offset &&
          address.offset < v.address.offset + scope_.program.types()[v.type].bytes) {
        const std::uint32_t into = address.offset - v.address.offset;
        return into == 0 ? v.name : fmt::format("{}[{}]", v.name, into / type_->bytes);
      }
    return "";
  }

  [[nodiscard]] std::string value_of(const Operand& object) const {
    std::string out;
    for (const Type::Member& m : type_->members) {
      if (leads_on(m)) continue;
      const auto value = expression::member_of(object, m, scope_);
      out += fmt::format("{}{} = {}", out.empty() ? "" : ", ", m.name,
                         value ? expression::written(*value, {}, scope_) : "?");
    }
    return out;
  }

  const frames::Scope& scope_;
  const unsigned most_;
  const Type* type_ = nullptr;
  std::string node_;  ///< its name
  GraphView view_;
  std::map<std::pair<Space, std::uint32_t>, unsigned> numbers_;
  std::set<unsigned> under_way_;
};

std::string quoted(const std::string& text) {
  std::string out;
  for (const char c : text) {
    if (c == '"' || c == '\\') out += '\\';
    out += c;
  }
  return '"' + out + '"';
}

}  // namespace

Result<GraphView> Session::Core::graph(const std::string& expression, unsigned most) const {
  const frames::Scope now = scope();
  auto parsed = expression::Expression::parse(expression, now);
  if (!parsed) return fail(parsed.error());
  auto root = parsed->evaluate(now);
  if (!root) return fail(root.error());
  constexpr unsigned kMost = 2000;  // nodes are visited one within the other
  return Walker(now, std::min(most, kMost)).walk(std::move(*root));
}

std::string GraphView::dot() const {
  std::string out = "digraph " + quoted(type) + " {\n  node [shape=box];\n";
  for (std::size_t i = 0; i < nodes.size(); ++i)
    out +=
        fmt::format("  n{} [label={}];\n", i + 1,
                    quoted((nodes[i].name.empty() ? fmt::format("{:#06x}", nodes[i].address.offset)
                                                  : nodes[i].name) +
                           ": " + nodes[i].value));
  for (std::size_t i = 0; i < edges.size(); ++i) {
    if (!edges[i].to)
      out += fmt::format("  x{} [shape=plaintext, label={}];\n", i + 1, quoted(edges[i].text));
    out += fmt::format("  n{} -> {}{} [label={}];\n", edges[i].from + 1, edges[i].to ? "n" : "x",
                       edges[i].to ? *edges[i].to + 1 : i + 1, quoted(edges[i].member));
  }
  return out + "}\n";
}

}  // namespace lucid
