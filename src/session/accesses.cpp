// SPDX-License-Identifier: MIT
#include "session/accesses.h"

#include <fmt/format.h>

#include <algorithm>

namespace lucid {
namespace {

constexpr unsigned kAround = 32;  // instructions before and behind one that a change may take

}  // namespace

Session::Core::Accesses::Accesses(const Core& core)
    : core_(core), pointer_bytes_(core.machine().target().convention().pointer_bytes) {}

const std::vector<Session::Core::Accesses::Open>& Session::Core::Accesses::open_at(
    std::uint32_t pc) {
  Recent& recent = recent_[pc / 2 % recent_.size()];
  if (recent.open != nullptr && recent.pc == pc) return *recent.open;
  const Way& way = way_at(pc);
  const auto [known, is_new] = open_.try_emplace(pc);
  if (is_new) {
    Way fixed;
    for (std::size_t i = 0; i < way.all.size(); ++i) {
      if (way.all[i].pointer >= 0) continue;
      fixed.split += i < way.split ? 1 : 0;
      fixed.all.push_back(way.all[i]);
    }
    for (const Change& change : way.changes)
      if (change.load.pointer < 0) fixed.changes.push_back(change);
    known->second = find_open(pc, fixed);
  }
  recent = {pc, &known->second, &way};
  return known->second;
}

/// The registers of a pointer, by DWARF number: one for each of its bytes.
std::uint64_t Session::Core::Accesses::held_in(int pointer) const {
  return ((std::uint64_t{1} << pointer_bytes_) - 1) << pointer;
}

std::uint32_t Session::Core::Accesses::pointed_by(const std::uint8_t* registers, int pointer,
                                                  std::uint32_t offset) const {
  std::uint32_t out = 0;
  for (unsigned i = pointer_bytes_; i > 0; --i)
    out = out << 8U | registers[static_cast<unsigned>(pointer) + i - 1];
  return static_cast<std::uint32_t>((out + offset) &
                                    ((std::uint64_t{1} << 8 * pointer_bytes_) - 1));
}

/// May what a handler accesses be of an object that is accessed through a pointer?
bool Session::Core::Accesses::meets(Handler& handler, const Way& way,
                                    const std::uint8_t* registers) const {
  using Touches = Handler::Touches;
  if (handler.stores_anywhere || handler.may_nest) return true;
  return std::any_of(way.through.begin(), way.through.end(), [&](const auto& access) {
    const std::uint32_t address = pointed_by(registers, access.first, access.second);
    if (address >= handler.touches.size()) handler.touches.resize(address + 1);
    Touches& touches = handler.touches[address];
    if (touches == Touches::kUnknown) {
      const auto object = object_at(address);
      const auto& all = handler.accesses;
      const bool any = object && std::any_of(all.begin(), all.end(), [&](const Access& one) {
                         return object->holds(one.address);
                       });
      touches = any ? Touches::kYes : Touches::kNo;
    }
    return touches == Touches::kYes;
  });
}

auto Session::Core::Accesses::open_at(std::uint32_t pc, unsigned vector,
                                      const std::uint8_t* registers)
    -> std::shared_ptr<const std::vector<Open>> {
  constexpr std::size_t kMost = 10'000;
  const std::vector<Open>& fixed = open_at(pc);
  const Way& way = *recent_[pc / 2 % recent_.size()].way;
  if (way.through.empty() || !meets(handler_of(vector), way, registers))
    return {std::shared_ptr<void>(), &fixed};
  looked_for_.pc = pc;
  looked_for_.addresses.clear();
  for (const auto& [pointer, offset] : way.through)
    looked_for_.addresses.push_back(pointed_by(registers, pointer, offset));
  if (pointed_.size() > kMost) pointed_.clear();
  auto& known = pointed_[looked_for_];
  if (known == nullptr) {
    Way now = way;
    const auto resolve = [&](Seen& seen) {
      if (seen.pointer >= 0)
        seen.access.address = pointed_by(registers, seen.pointer, seen.access.address);
      return seen.pointer >= 0;
    };
    for (Seen& seen : now.all) resolve(seen);
    for (Change& change : now.changes)
      if (resolve(change.load)) change.store.address = change.load.access.address;
    known = std::make_shared<std::vector<Open>>(find_open(pc, now));
  }
  return known;
}

const Session::Core::Accesses::Way& Session::Core::Accesses::way_at(std::uint32_t pc) {
  const auto known = ways_.find(pc);
  return known != ways_.end() ? known->second : ways_[pc] = find_way(pc);
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

/// An access by a node; through a pointer its address is the distance from what that holds.
auto Session::Core::Accesses::seen_at(const Function& function, unsigned node)
    -> std::optional<Seen> {
  const machine::Target& target = core_.machine().target();
  const frames::FlowGraph& graph = flows_.of(core_.program_, core_.machine(), function);
  const std::uint32_t address = graph.nodes()[node].address;
  const auto line = core_.program_.line_at(address);
  if (!line) return std::nullopt;
  if (const auto& fixed = fixed_in(function)[node]) {
    if (fixed->by_itself) return std::nullopt;
    return Seen{{fixed->address, address, fixed->write}, line->file, line->line};
  }
  const auto pointed = target.pointed_access(core_.machine().instruction_at(address, false));
  const machine::FrameState* const state = graph.state_at(node);
  // Of a frame's locals nobody else knows.
  if (!pointed || state == nullptr || target.stack_offset_in(*state, pointed->pointer))
    return std::nullopt;
  return Seen{{static_cast<std::uint32_t>(pointed->by), address, pointed->write},
              line->file,
              line->line,
              pointed->pointer};
}

/// As far as execution has come by one way only, and goes on by one. Pointers count from what they
/// hold at the instruction.
auto Session::Core::Accesses::find_way(std::uint32_t pc) -> Way {
  Way way;
  const machine::Machine& machine = core_.machine();
  const Function* function = core_.program_.function_at(pc);
  if (function == nullptr || !function->has_lines) return way;
  const frames::FlowGraph& graph = flows_.of(core_.program_, machine, *function);
  const auto here = graph.node_at(pc);
  if (!here || graph.nodes()[*here].address != pc) return way;
  constexpr unsigned kFarthest = 64;  // instructions
  std::map<int, std::int32_t> moved;  // by pointer, while it is known
  std::uint64_t lost = 0;             // pointers that hold something else there
  const auto add = [&](unsigned node, bool behind, std::vector<Seen>& into) {
    const Instruction instruction = machine.instruction_at(graph.nodes()[node].address, false);
    const auto pointed = machine.target().pointed_access(instruction);
    std::uint64_t written = machine.target().writes(instruction);
    if (graph.nodes()[node].flow == Flow::kCall || graph.nodes()[node].flow == Flow::kIndirectCall)
      written = ~std::uint64_t{0};
    const std::int32_t moves = pointed ? pointed->moves : 0;
    if (pointed && !behind) moved[pointed->pointer] -= moves;
    // A pointer that an instruction loads over is another one before it.
    const std::uint64_t own = pointed && moves != 0 ? held_in(pointed->pointer) : 0;
    if (!behind) lost |= written & ~own;
    if (auto seen = seen_at(*function, node)) {
      const bool known = seen->pointer < 0 || (lost & held_in(seen->pointer)) == 0;
      if (seen->pointer >= 0)
        seen->access.address += static_cast<std::uint32_t>(moved[seen->pointer]);
      if (known) into.push_back(*seen);
    }
    if (pointed && behind) moved[pointed->pointer] += moves;
    if (behind) lost |= written & ~own;
  };
  std::vector<Seen> before;
  unsigned node = *here;
  for (unsigned i = 0; i < kFarthest && graph.nodes()[node].before.size() == 1; ++i) {
    node = graph.nodes()[node].before.front();
    if (node == *here) break;
    add(node, false, before);
  }
  way.all.assign(before.rbegin(), before.rend());
  way.split = way.all.size();
  moved.clear();
  lost = 0;
  node = *here;
  for (unsigned i = 0; i < kFarthest; ++i) {
    add(node, true, way.all);
    if (graph.nodes()[node].next.size() != 1) break;
    node = graph.nodes()[node].next.front();
    if (node == *here) break;
  }
  way.changes = changes_at(*function, *here);
  std::set<std::pair<int, std::uint32_t>> through;
  for (const Seen& seen : way.all)
    if (seen.pointer >= 0) through.emplace(seen.pointer, seen.access.address);
  for (const auto& [load, store] : way.changes)
    if (load.pointer >= 0) through.emplace(load.pointer, load.access.address);
  way.through.assign(through.begin(), through.end());
  return way;
}

/// Bytes that have been loaded, whichever way has led here, and are stored with what has been made
/// from them, whichever way leads on.
auto Session::Core::Accesses::changes_at(const Function& function, unsigned here)
    -> std::vector<Change> {
  std::vector<Change> out;
  const auto& nodes = flows_.of(core_.program_, core_.machine(), function).nodes();
  std::set<unsigned> near{here};
  std::vector<unsigned> ways{here};
  for (std::size_t i = 0; i < ways.size() && near.size() < kAround; ++i)
    for (const unsigned before : nodes[ways[i]].before)
      if (near.insert(before).second) ways.push_back(before);
  for (const unsigned node : near) {
    const auto load = node != here ? seen_at(function, node) : std::nullopt;
    if (!load || load->access.write) continue;
    const auto made = made_from(function, node, *load, here);
    if (const auto store = made != 0 ? store_of(function, *load, made, here) : std::nullopt)
      out.push_back({*load, *store});
  }
  return out;
}

/// What an instruction does to a change that is under way.
auto Session::Core::Accesses::step_of(const Function& function, unsigned node, const Seen& load)
    -> Step {
  const machine::Target& target = core_.machine().target();
  const auto& at = flows_.of(core_.program_, core_.machine(), function).nodes()[node];
  const Instruction instruction = core_.machine().instruction_at(at.address, false);
  Step out;
  out.reads = target.reads(instruction);
  out.writes = target.writes(instruction);
  if (const auto pointed = target.pointed_access(instruction))
    out.reads &= ~held_in(pointed->pointer);  // of a store, the value
  const auto seen = seen_at(function, node);
  out.accesses =
      seen && seen->pointer == load.pointer && seen->access.address == load.access.address;
  if (out.accesses && seen->access.write) out.store = seen->access;
  out.loses = at.flow == Flow::kCall || at.flow == Flow::kIndirectCall ||
              (load.pointer >= 0 && (out.writes & held_in(load.pointer)) != 0);
  return out;
}

/// The registers that hold something made from a byte, if all ways to `here` come from loads of it;
/// 0: they do not.
std::uint64_t Session::Core::Accesses::made_from(const Function& function, unsigned from,
                                                 const Seen& load, unsigned here) {
  const auto& nodes = flows_.of(core_.program_, core_.machine(), function).nodes();
  const Step loads = step_of(function, from, load);
  if (loads.loses) return 0;
  std::map<unsigned, std::uint64_t> between;  // by node, behind it
  std::set<unsigned> all{from};               // loads
  std::vector<unsigned> ways{here};
  for (std::size_t i = 0; i < ways.size(); ++i) {
    if (nodes[ways[i]].before.empty() || between.size() > kAround) return 0;
    for (const unsigned before : nodes[ways[i]].before) {
      if (before == from || between.count(before) != 0) continue;
      const Step step = step_of(function, before, load);
      if (before == here || step.store || step.loses) return 0;
      if (step.accesses) all.insert(before);
      between.emplace(before, step.accesses ? step.writes : 0);
      if (!step.accesses) ways.push_back(before);
    }
  }
  between[from] = loads.writes;
  const auto into = [&](unsigned node) {
    std::uint64_t made = 0;
    for (const unsigned before : nodes[node].before) made |= between[before];
    return made;
  };
  for (bool more = true; more;) {
    more = false;
    for (auto& [node, behind] : between) {
      if (all.count(node) != 0) continue;
      const Step step = step_of(function, node, load);
      const std::uint64_t made = into(node);
      const std::uint64_t now = (step.reads & made) != 0 ? made | step.writes : made & ~step.writes;
      more = more || now != behind;
      behind = now;
    }
  }
  return into(here);
}

/// The store to which all ways lead, of something in the registers `made`.
auto Session::Core::Accesses::store_of(const Function& function, const Seen& load,
                                       std::uint64_t made, unsigned here) -> std::optional<Access> {
  const auto& nodes = flows_.of(core_.program_, core_.machine(), function).nodes();
  std::optional<Access> store;
  std::set<unsigned> seen;
  std::vector<std::pair<unsigned, std::uint64_t>> ways{{here, made}};
  while (!ways.empty()) {
    auto [node, held] = ways.back();
    ways.pop_back();
    if (!seen.insert(node).second) continue;
    const Step step = step_of(function, node, load);
    if (step.accesses && (!step.store || (step.reads & held) == 0)) return std::nullopt;
    if (step.accesses) store = step.store;
    if (step.accesses) continue;
    held = (step.reads & held) != 0 ? held | step.writes : held & ~step.writes;
    const auto& next = nodes[node].next;
    if (step.loses || held == 0 || next.empty() || seen.size() > kAround) return std::nullopt;
    for (const unsigned further : next) ways.emplace_back(further, held);
  }
  return store;
}

/// A statement's accesses before the instruction, and behind it.
std::vector<Session::Core::Accesses::Open> Session::Core::Accesses::find_open(std::uint32_t pc,
                                                                              const Way& way) {
  std::vector<Open> out;
  const auto add = [&](Open open) {
    const auto known = std::find_if(out.begin(), out.end(), [&](const Open& other) {
      return other.object.begin == open.object.begin;
    });
    if (known == out.end())
      out.push_back(std::move(open));
    else if (open.how == Open::How::kChanges && known->how != open.how)
      *known = std::move(open);
  };
  const std::vector<Seen>& all = way.all;
  const std::size_t split = way.split;
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
      open.again = open.how == Open::How::kReads && is_read_again(*object, pc);
    }
    add(std::move(open));
  }
  for (const Change& change : way.changes)
    if (const auto object = object_at(change.load.access.address)) {
      Open open;
      open.object = *object;
      open.how = Open::How::kChanges;
      open.parts = {change.load.access, change.store};
      add(std::move(open));
    }
  return out;
}

/// Is an object read twice in a loop around an instruction, as one does until both are the same?
bool Session::Core::Accesses::is_read_again(const Object& object, std::uint32_t pc) {
  const Function& function = *core_.program_.function_at(pc);
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

auto Session::Core::Accesses::handler_of(unsigned vector) -> Handler& {
  if (vector >= by_vector_.size()) by_vector_.resize(vector + 1);
  std::unique_ptr<Handler>& known = by_vector_[vector];
  if (known == nullptr) {
    known = std::make_unique<Handler>();
    std::set<std::uint32_t> seen;
    collect(handler(vector), seen, *known);
  }
  return *known;
}

const std::vector<Session::Core::Accesses::Access>& Session::Core::Accesses::of(unsigned vector) {
  return handler_of(vector).accesses;
}

bool Session::Core::Accesses::stores_anywhere(unsigned vector) {
  return handler_of(vector).stores_anywhere;
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
  ways_.clear();
  open_.clear();
  pointed_.clear();
  recent_ = {};
  fixed_.clear();
  by_vector_.clear();
  flows_.forget();
}

void Session::Core::Accesses::collect(std::uint32_t begin, std::set<std::uint32_t>& seen,
                                      Handler& out) {
  const Function* function = core_.program_.function_at(begin);
  if (function == nullptr) out.stores_anywhere = true;
  if (function == nullptr || !seen.insert(function->begin).second) return;
  std::vector<std::uint32_t> further;
  const Fixed& fixed = fixed_in(*function);
  const frames::FlowGraph& graph = flows_.of(core_.program_, core_.machine(), *function);
  const auto& nodes = graph.nodes();
  if (graph.has_unknown_jump()) out.stores_anywhere = true;
  for (unsigned i = 0; i < nodes.size(); ++i) {
    if (!nodes[i].reached) continue;
    if (fixed[i]) out.accesses.push_back({fixed[i]->address, nodes[i].address, fixed[i]->write});
    const auto pointed = fixed[i] ? std::nullopt : seen_at(*function, i);
    if (nodes[i].flow == Flow::kIndirectCall || (pointed && pointed->access.write))
      out.stores_anywhere = true;
    if (core_.machine().target().interrupt_effect(core_.machine().instruction_at(
            nodes[i].address, false)) == machine::InterruptEffect::kAllows)
      out.may_nest = true;
    if (nodes[i].target && core_.program_.function_at(*nodes[i].target) != function)
      further.push_back(*nodes[i].target);
  }
  for (const std::uint32_t callee : further) collect(callee, seen, out);
}

}  // namespace lucid
