// SPDX-License-Identifier: MIT
#include "session/accesses.h"

#include <fmt/format.h>

#include <algorithm>

namespace lucid {

const std::vector<Session::Core::Accesses::Open>& Session::Core::Accesses::open_at(
    std::uint32_t pc) {
  Recent& recent = recent_[pc / 2 % recent_.size()];
  if (recent.open != nullptr && recent.pc == pc) return *recent.open;
  const auto known = open_.find(pc);
  recent = {pc, known != open_.end() ? &known->second : &(open_[pc] = find_open(pc))};
  return *recent.open;
}

const Session::Core::Accesses::Fixed& Session::Core::Accesses::fixed_in(const Function& function) {
  const auto [known, is_new] = fixed_.try_emplace(function.begin);
  if (is_new) {
    const machine::Machine& machine = core_.machine();
    const frames::FlowGraph& graph = flows_.of(core_.program_, machine, function);
    for (unsigned node = 0; node < graph.nodes().size(); ++node)
      known->second.push_back(machine.target().fixed_access(
          machine.instruction_at(graph.nodes()[node].address, false), graph.state_at(node)));
  }
  return known->second;
}

/// Accesses of one kind to the bytes of an object follow each other until all have been accessed,
/// or one again. Those that the one at `index` goes with, if they lie on both sides of `split`.
template <class IsPart>
auto Session::Core::Accesses::split_parts(const std::vector<Seen>& all, std::size_t split,
                                          std::size_t index, std::uint32_t bytes,
                                          const IsPart& is_part) -> std::vector<Access> {
  std::set<std::uint32_t> seen;
  std::vector<Access> parts;
  bool holds = false, before = false, behind = false;
  const auto is_it = [&] { return holds && before && behind; };
  for (std::size_t i = 0; i < all.size(); ++i) {
    if (!is_part(all[i]) || all[i].access.write != all[index].access.write) continue;
    if (seen.size() == bytes || seen.count(all[i].access.address) != 0) {
      if (is_it()) return parts;
      seen.clear();
      parts.clear();
      holds = before = behind = false;
    }
    seen.insert(all[i].access.address);
    parts.push_back(all[i].access);
    holds = holds || i == index;
    (i < split ? before : behind) = true;
  }
  return is_it() ? parts : std::vector<Access>();
}

/// As far as execution has come by one way only, and goes on by one: a statement's accesses before
/// the instruction, and behind it.
std::vector<Session::Core::Accesses::Open> Session::Core::Accesses::find_open(std::uint32_t pc) {
  std::vector<Open> out;
  const machine::Machine& machine = core_.machine();
  const Function* function = core_.program_.function_at(pc);
  if (function == nullptr || !function->has_lines) return out;
  const Fixed& fixed = fixed_in(*function);
  const frames::FlowGraph& graph = flows_.of(core_.program_, machine, *function);
  const auto here = graph.node_at(pc);
  if (!here || graph.nodes()[*here].address != pc) return out;
  const auto seen_at = [&](unsigned node, std::vector<Seen>& into) {
    const auto& access = fixed[node];
    if (!access || access->by_itself) return;
    const std::uint32_t address = graph.nodes()[node].address;
    if (const auto line = core_.program_.line_at(address))
      into.push_back({{access->address, address, access->write}, line->file, line->line});
  };
  constexpr unsigned kFarthest = 64;  // instructions
  std::vector<Seen> before, behind;
  unsigned node = *here;
  for (unsigned i = 0; i < kFarthest && graph.nodes()[node].before.size() == 1; ++i) {
    node = graph.nodes()[node].before.front();
    if (node == *here) break;
    seen_at(node, before);
  }
  node = *here;
  for (unsigned i = 0; i < kFarthest; ++i) {
    seen_at(node, behind);
    if (graph.nodes()[node].next.size() != 1) break;
    node = graph.nodes()[node].next.front();
    if (node == *here) break;
  }
  // In the order in which they execute; those from `split` on are still to come.
  std::vector<Seen> all(before.rbegin(), before.rend());
  const std::size_t split = all.size();
  all.insert(all.end(), behind.begin(), behind.end());
  for (std::size_t i = 0; i < split; ++i) {
    const auto object = object_at(all[i].access.address);
    if (!object) continue;
    const auto is_part = [&](const Seen& seen) {
      return seen.file == all[i].file && seen.line == all[i].line &&
             object->holds(seen.access.address);
    };
    Open open;
    open.object = *object;
    // A byte that is loaded, and stored the next time it is accessed.
    const auto next = std::find_if(
        all.begin() + static_cast<std::ptrdiff_t>(i) + 1, all.end(), [&](const Seen& seen) {
          return is_part(seen) && seen.access.address == all[i].access.address;
        });
    if (!all[i].access.write && next != all.end() && next->access.write &&
        static_cast<std::size_t>(next - all.begin()) >= split) {
      open.how = Open::How::kChanges;
      for (auto seen = all.begin() + static_cast<std::ptrdiff_t>(i); seen <= next; ++seen)
        if (is_part(*seen)) open.parts.push_back(seen->access);
    } else {
      open.how = all[i].access.write ? Open::How::kWrites : Open::How::kReads;
      open.parts = split_parts(all, split, i, object->bytes, is_part);
      if (open.parts.empty()) continue;
      open.again = open.how == Open::How::kReads && is_read_again(*function, *object, pc);
    }
    const auto known = std::find_if(out.begin(), out.end(), [&](const Open& other) {
      return other.object.begin == object->begin;
    });
    if (known == out.end())
      out.push_back(std::move(open));
    else if (open.how == Open::How::kChanges && known->how != open.how)
      *known = std::move(open);
  }
  return out;
}

/// Is an object read twice in a loop around an instruction, as one does until both are the same?
bool Session::Core::Accesses::is_read_again(const Function& function, const Object& object,
                                            std::uint32_t pc) {
  const Fixed& fixed = fixed_in(function);
  const frames::FlowGraph& graph = flows_.of(core_.program_, core_.machine(), function);
  for (const auto& end : graph.nodes()) {
    if (!end.reached || end.flow != Flow::kBranch || !end.target || *end.target > end.address ||
        *end.target > pc || end.address < pc)
      continue;
    unsigned reads = 0, writes = 0;
    for (unsigned node = 0; node < graph.nodes().size(); ++node) {
      const std::uint32_t address = graph.nodes()[node].address;
      const auto& access = fixed[node];
      if (address < *end.target || address > end.address || !access ||
          access->address < object.begin || access->address >= object.begin + object.bytes)
        continue;
      ++(access->write ? writes : reads);
    }
    if (writes == 0 && reads == 2 * object.bytes) return true;
  }
  return false;
}

/// The number, pointer or other object of several bytes, or the byte, that lies at an address.
std::optional<Session::Core::Accesses::Object> Session::Core::Accesses::object_at(
    std::uint32_t address) const {
  for (const Variable& v : core_.program_.variables())
    if (v.address.space == Space::kData)
      if (auto part = part_at(v.name, v.type, v.address.offset, address, 0)) return part;
  for (const IoRegister& io : core_.machine().info().io)
    if (io.address == address && io.bytes == 1) return Object{io.name, address, 1, true};
  return std::nullopt;
}

std::optional<Session::Core::Accesses::Object> Session::Core::Accesses::part_at(
    const std::string& name, unsigned type_index, std::uint32_t begin, std::uint32_t address,
    unsigned depth) const {
  constexpr unsigned kDeepestPart = 8;
  const Type& type = core_.program_.types()[type_index];
  if (address < begin || address - begin >= std::max(type.bytes, 1U) || depth > kDeepestPart)
    return std::nullopt;
  if (type.kind == Type::Kind::kStruct) {
    for (const Type::Member& member : type.members) {
      const std::string its_name = member.base ? name : name + "." + member.name;
      const std::uint32_t at = begin + member.offset;
      if (member.bit_size != 0) {  // its type may be wider than what there is of it
        const std::uint32_t first = at + member.bit_offset / 8;
        const std::uint32_t end = at + (member.bit_offset + member.bit_size + 7U) / 8U;
        if (address >= first && address < end) return Object{its_name, first, end - first};
      } else if (auto part = part_at(its_name, member.type, at, address, depth + 1)) {
        return part;
      }
    }
    return std::nullopt;
  }
  if (type.kind == Type::Kind::kArray) {
    const std::uint32_t bytes = std::max(core_.program_.types()[type.target].bytes, 1U);
    const std::uint32_t n = (address - begin) / bytes;
    return part_at(fmt::format("{}[{}]", name, n), type.target, begin + n * bytes, address,
                   depth + 1);
  }
  return Object{name, begin, std::max(type.bytes, 1U)};
}

/// By a handler and what it calls, as far as addresses are fixed.
const std::vector<Session::Core::Accesses::Access>& Session::Core::Accesses::of(unsigned vector) {
  const auto [known, is_new] = by_vector_.try_emplace(vector);
  if (is_new) {
    std::set<std::uint32_t> seen;
    collect(handler(vector), seen, known->second);
  }
  return known->second;
}

std::uint32_t Session::Core::Accesses::handler(unsigned vector) const {
  const auto begins = core_.handler_begins();
  const auto at = begins.find(vector);
  return at != begins.end() ? at->second : core_.machine().info().vectors[vector].address;
}

auto Session::Core::Accesses::at(const Function& function, unsigned node) -> std::optional<Access> {
  const auto& fixed = fixed_in(function)[node];
  if (!fixed) return std::nullopt;
  const auto& nodes = flows_.of(core_.program_, core_.machine(), function).nodes();
  return Access{fixed->address, nodes[node].address, fixed->write};
}

void Session::Core::Accesses::forget() {
  open_.clear();
  recent_ = {};
  fixed_.clear();
  by_vector_.clear();
  flows_.forget();
}

void Session::Core::Accesses::collect(std::uint32_t begin, std::set<std::uint32_t>& seen,
                                      std::vector<Access>& out) {
  const Function* function = core_.program_.function_at(begin);
  if (function == nullptr || !seen.insert(function->begin).second) return;
  std::vector<std::uint32_t> further;
  const Fixed& fixed = fixed_in(*function);
  const auto& nodes = flows_.of(core_.program_, core_.machine(), *function).nodes();
  for (unsigned i = 0; i < nodes.size(); ++i) {
    if (!nodes[i].reached) continue;
    if (fixed[i]) out.push_back({fixed[i]->address, nodes[i].address, fixed[i]->write});
    if (nodes[i].target && core_.program_.function_at(*nodes[i].target) != function)
      further.push_back(*nodes[i].target);
  }
  for (const std::uint32_t callee : further) collect(callee, seen, out);
}

}  // namespace lucid
