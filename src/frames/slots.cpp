// SPDX-License-Identifier: MIT
// Objects in a function's frame: where its register points, and what has been stored in them.
#include <dwarf.h>

#include <algorithm>
#include <deque>
#include <set>

#include "frames/held.h"
#include "frames/resource.h"

namespace lucid::frames {

namespace {

/// The nodes from which there is a way to another, itself if it is in a loop.
std::vector<bool> leading_to(const std::vector<FlowGraph::Node>& nodes, unsigned to) {
  std::vector<bool> lead(nodes.size());
  std::deque<unsigned> waiting{to};
  while (!waiting.empty()) {
    const unsigned at = waiting.front();
    waiting.pop_front();
    for (const unsigned before : nodes[at].before)
      if (!lead[before]) {
        lead[before] = true;
        waiting.push_back(before);
      }
  }
  return lead;
}

/// Does a pointer into the frame, below `end`, begin to move here, so that where it leads is no
/// longer known behind? A loop copies an object so.
bool walks_from(const FlowGraph& graph, const machine::Target& target, const Instruction& now,
                unsigned node, std::int32_t end) {
  machine::FrameState behind = *graph.state_at(node);
  target.follow(now, behind);
  const auto led = target.stack_pointers(behind, 0);
  if (led.empty()) return false;
  for (const unsigned next : graph.nodes()[node].next) {
    const machine::FrameState* state = graph.state_at(next);
    if (state == nullptr) continue;
    const auto leads = target.stack_pointers(*state, 0);
    for (const std::int32_t pointer : led)
      if (pointer < end && std::find(leads.begin(), leads.end(), pointer) == leads.end())
        return true;
  }
  return false;
}

/// Pointers into the frame to which an instruction adds a number that is not known: what comes out
/// leads anywhere in the same object. One to the frame's begin may lead to any of them.
std::vector<std::int32_t> strays(const machine::Target& target, const Instruction& now,
                                 const machine::FrameState& state) {
  using Kind = machine::Known::Kind;
  const auto led = [](const machine::FrameState& at, std::uint64_t registers) {
    std::vector<std::int32_t> out;
    for (unsigned i = 0; i < at.registers.size() && registers >> i != 0; ++i)
      if ((registers >> i & 1U) != 0 && at.registers[i].kind == Kind::kStack)
        out.push_back(at.registers[i].number);
    return out;
  };
  const std::uint64_t writes = target.writes(now);
  if (writes == 0 || target.pointed_access(now)) return {};
  const auto from = led(state, target.reads(now));
  if (from.empty()) return {};
  machine::FrameState behind = state;
  target.follow(now, behind);
  return led(behind, writes).empty() ? from : std::vector<std::int32_t>();
}

}  // namespace

/// Where a local's place is in the frame, if it is always there.
static std::optional<std::int32_t> object_offset(const Scope& scope, const Function& function,
                                                 const Local::Place& place) {
  if (place.ops.size() != 1) return std::nullopt;
  const LocationOp& op = place.ops[0];
  const auto by_register = [&](int dwarf, std::int64_t more) -> std::optional<std::int32_t> {
    const auto at = frame_offset(scope, function, dwarf);
    return at ? std::optional<std::int32_t>(*at + static_cast<std::int32_t>(more)) : std::nullopt;
  };
  if (op.atom >= DW_OP_breg0 && op.atom <= DW_OP_breg31)
    return by_register(op.atom - DW_OP_breg0, op.a);
  if (op.atom != DW_OP_fbreg) return std::nullopt;
  const auto base = scope.program.frame_base_at(place.range.begin);
  if (base.size() != 1) return std::nullopt;
  const machine::CallConvention convention = scope.machine.target().convention();
  const std::uint8_t atom = base[0].atom;
  if (atom == DW_OP_call_frame_cfa)
    return static_cast<std::int32_t>(op.a) + static_cast<std::int32_t>(convention.return_bytes);
  if (atom >= DW_OP_reg0 && atom <= DW_OP_reg31)
    return by_register(atom - DW_OP_reg0, op.a + convention.stack_gap);
  if (atom >= DW_OP_breg0 && atom <= DW_OP_breg31)
    return by_register(atom - DW_OP_breg0, op.a + base[0].a);
  return std::nullopt;
}

static const std::set<std::int32_t>& objects_in_frame(const Scope& scope,
                                                      const Function& function) {
  auto& known = scope.flows.findings(scope.program, scope.machine, function).objects;
  if (known) return *known;
  std::set<std::int32_t> found;
  std::set<const Local*> locals;
  for (const FlowGraph::Node& node : scope.flows.of(scope.program, scope.machine, function).nodes())
    for (const Local* local : scope.program.locals_at(node.address)) locals.insert(local);
  for (const Local* local : locals)
    for (const Local::Place& place : local->places)
      if (const auto at = object_offset(scope, function, place)) found.insert(*at);
  return *(known = std::move(found));
}

static std::vector<bool> find_slot_stores(const Scope& scope, const Function& function,
                                          std::uint32_t address, bool in_call, std::int32_t offset,
                                          std::uint32_t bytes) {
  const FlowGraph& graph = scope.flows.of(scope.program, scope.machine, function);
  const machine::Target& target = scope.machine.target();
  const auto& nodes = graph.nodes();
  const auto here = graph.node_at(address);
  std::vector<bool> any(bytes, true);
  if (!here || graph.state_at(*here) == nullptr) return any;
  std::vector<bool> before = leading_to(nodes, *here);
  if (in_call) before[*here] = true;  // what is called has been given its pointers
  std::vector<bool> out(bytes);
  const auto end = offset + static_cast<std::int32_t>(bytes);
  // One to its very end may go down into it, unless that is where another object begins.
  const std::int32_t last = objects_in_frame(scope, function).count(end) != 0 ? end - 1 : end;
  for (unsigned i = 0; i < nodes.size(); ++i) {
    const machine::FrameState* state = graph.state_at(i);
    if (state == nullptr) continue;
    if (!target.anchor(*state)) return any;  // then nothing is known
    if (!before[i]) continue;
    const Instruction now = scope.machine.instruction_at(nodes[i].address, false);
    if (const auto at = target.stack_store(now, *state))
      for (std::int32_t n = std::max(at->offset, offset); n < std::min(at->offset + at->bytes, end);
           ++n)
        out[static_cast<std::size_t>(n - offset)] = true;
    // One that is being reckoned is none yet.
    const std::uint64_t moving = target.stays_in_registers(now) ? nodes[i].writes : 0;
    for (const std::int32_t pointer : target.stack_pointers(*state, moving))
      if (pointer >= offset - 1 && pointer <= last) return any;
    if (walks_from(graph, target, now, i, end)) return any;
    const auto strayed = strays(target, now, *state);
    const int frame_dwarf = target.convention().frame_dwarf;
    const auto frame = strayed.empty() || frame_dwarf < 0
                           ? std::nullopt
                           : target.stack_offset_in(*state, frame_dwarf);
    for (const std::int32_t pointer : strayed)
      if ((frame && (pointer == *frame || pointer == *frame + 1)) ||
          (pointer >= offset - 1 && pointer <= last))
        return any;
  }
  return out;
}

std::vector<bool> slot_stores(const Scope& scope, const Function& function, std::uint32_t address,
                              bool in_call, std::int32_t offset, std::uint32_t bytes) {
  auto& known = scope.flows.findings(scope.program, scope.machine, function).stored;
  const std::tuple key{address, in_call, offset, bytes};
  auto found = known.find(key);
  if (found == known.end())
    found = known.emplace(key, find_slot_stores(scope, function, address, in_call, offset, bytes))
                .first;
  return found->second;
}

/// Does an instruction store to any of these bytes of the frame by an address that is known?
static bool stores_to(const Scope& scope, const FlowGraph& graph, unsigned node,
                      std::int32_t offset, std::uint32_t bytes) {
  const machine::FrameState* state = graph.state_at(node);
  if (state == nullptr) return false;
  const Instruction now = scope.machine.instruction_at(graph.nodes()[node].address, false);
  const auto at = scope.machine.target().stack_store(now, *state);
  return at && at->offset < offset + static_cast<std::int32_t>(bytes) &&
         at->offset + at->bytes > offset;
}

bool slot_is_its_own(const Scope& scope, const Local& local, const Local::Place& place,
                     const Function& function, std::int32_t offset) {
  const FlowGraph& graph = scope.flows.of(scope.program, scope.machine, function);
  const auto& nodes = graph.nodes();
  const std::uint32_t bytes = scope.program.types()[local.type].bytes;
  const auto covers = [](const Local::Place& p, std::uint32_t address) {
    return address >= p.range.begin && address < p.range.end;
  };
  const Resource here = resource(scope, function, place.ops, 0, bytes);
  // Is it nowhere at a node, in registers, or elsewhere in memory? A value that is worked out may
  // be in the slot all the same.
  const auto is_elsewhere = [&](unsigned node) {
    return std::none_of(local.places.begin(), local.places.end(), [&](const Local::Place& other) {
      if (!covers(other, nodes[node].address)) return false;
      const Resource there = resource(scope, function, other.ops, 0, bytes);
      return there == here || there.kind == Resource::Kind::kComputed ||
             there.kind == Resource::Kind::kConstant;
    });
  };
  for (unsigned i = graph.node_at(place.range.begin).value_or(0);
       i < nodes.size() && nodes[i].address < place.range.end; ++i) {
    if (stores_to(scope, graph, i, offset, bytes)) return false;
    for (const unsigned before : nodes[i].before)
      if (!covers(place, nodes[before].address) && is_elsewhere(before) &&
          !stores_to(scope, graph, before, offset, bytes))
        return false;
  }
  return true;
}

bool slot_was_given_away(const Scope& scope, const Local& local, const Local::Place& place,
                         const Function& function, std::uint32_t address, std::int32_t offset,
                         std::uint32_t bytes) {
  constexpr unsigned kMostBytes = 8;  // that are stored one after the other
  const FlowGraph& graph = scope.flows.of(scope.program, scope.machine, function);
  const auto& nodes = graph.nodes();
  const auto here = graph.node_at(address);
  if (!here) return false;
  const std::uint32_t all = scope.program.types()[local.type].bytes;
  const Resource its = resource(scope, function, place.ops, 0, all);
  std::set<std::uint32_t> begins;
  std::vector<Local::Range> ranges;  // in which it is said to be in the slot
  for (const Local::Place& p : local.places) {
    begins.insert(p.range.begin);
    if (resource(scope, function, p.ops, 0, all) == its) ranges.push_back(p.range);
  }
  const auto is_there = [&](unsigned node) {
    return std::any_of(ranges.begin(), ranges.end(), [&](const Local::Range& r) {
      return nodes[node].address >= r.begin && nodes[node].address < r.end;
    });
  };
  const auto is_its_value = [&](unsigned node) {
    const auto next = begins.upper_bound(nodes[node].address);
    return next != begins.end() && graph.node_at(*next).value_or(nodes.size()) <= node + kMostBytes;
  };
  std::vector<unsigned> waiting{*here};
  std::set<unsigned> seen{*here};
  while (!waiting.empty()) {
    const unsigned at = waiting.back();
    waiting.pop_back();
    for (const unsigned before : nodes[at].before) {
      if (!is_there(before)) continue;
      if (stores_to(scope, graph, before, offset, bytes)) {
        if (!is_its_value(before)) return true;
        continue;
      }
      if (seen.insert(before).second) waiting.push_back(before);
    }
  }
  return false;
}

std::optional<std::int32_t> frame_offset(const Scope& scope, const Function& function, int dwarf) {
  const FlowGraph& graph = scope.flows.of(scope.program, scope.machine, function);
  auto& known = scope.flows.findings(scope.program, scope.machine, function).frame_offsets;
  const auto [found, is_new] = known.try_emplace(dwarf);
  if (!is_new) return found->second;
  // Where the frame is too large to be reached with one displacement, its register is moved for an
  // access, and back: between two lines it is where it belongs.
  std::map<std::int32_t, std::pair<unsigned, unsigned>> counts;  // at beginnings of lines; in all
  for (unsigned i = 0; i < graph.nodes().size(); ++i)
    if (const machine::FrameState* state = graph.state_at(i))
      if (const auto at = scope.machine.target().stack_offset_in(*state, dwarf)) {
        const auto line = scope.program.line_at(graph.nodes()[i].address);
        counts[*at].first += line && line->begin == graph.nodes()[i].address ? 1 : 0;
        ++counts[*at].second;
      }
  std::optional<std::int32_t> out;
  for (const auto& [offset, count] : counts)
    if (!out || count > counts[*out]) out = offset;
  return found->second = out;
}

bool is_frame_pointer(const Scope& scope, const Function& function, std::uint32_t address,
                      int dwarf) {
  const FlowGraph& graph = scope.flows.of(scope.program, scope.machine, function);
  const auto node = graph.node_at(address);
  const machine::FrameState* state = node ? graph.state_at(*node) : nullptr;
  if (state == nullptr) return false;
  const auto now = scope.machine.target().stack_offset_in(*state, dwarf);
  return now && now == frame_offset(scope, function, dwarf);
}

}  // namespace lucid::frames
