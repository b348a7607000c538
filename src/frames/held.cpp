// SPDX-License-Identifier: MIT
#include "frames/held.h"

#include <dwarf.h>

#include <algorithm>
#include <deque>
#include <set>

namespace lucid::frames {
namespace {

constexpr unsigned kMostBack = 200;  // instructions between a value's last byte and its place

std::uint64_t mask_of(int first, int count) {
  if (first < 0 || first >= 64 || count <= 0) return 0;
  const std::uint64_t ones = count >= 64 ? ~std::uint64_t{0} : (std::uint64_t{1} << count) - 1;
  return ones << first;
}

/// What a described place rests on.
struct Resource {
  enum class Kind : std::uint8_t {
    kNone,
    kRegisters,
    kComputed,
    kConstant,
    kMemory
  } kind = Kind::kNone;
  int first = -1, count = 0;      ///< kRegisters
  std::uint64_t mask = 0;         ///< registers it depends on
  std::vector<std::int64_t> key;  ///< tells places apart
  friend bool operator==(const Resource& a, const Resource& b) {
    return a.kind == b.kind && a.mask == b.mask && a.key == b.key;
  }
};

class RegisterFlow {
 public:
  RegisterFlow(const Scope& scope, const Local& local, const Function& function,
               std::uint32_t begin, std::uint32_t end)
      : scope_(scope),
        target_(scope.machine.target()),
        local_(local),
        graph_(scope.flows.of(scope.program, scope.machine, function)),
        function_(function),
        begin_(begin),
        end_(end) {
    const auto& nodes = graph_.nodes();
    place_.resize(nodes.size(), -1);
    for (const Local::Place& place : local.places) resources_.push_back(resource(place.ops));
    for (unsigned i = 0; i < nodes.size(); ++i)
      for (std::size_t p = 0; p < local.places.size(); ++p)
        if (nodes[i].address >= local.places[p].range.begin &&
            nodes[i].address < local.places[p].range.end)
          place_[i] = static_cast<int>(p);
    find_runs();
    solve();
  }

  /// By node; true where nothing is known of the code.
  [[nodiscard]] std::vector<bool> held() const {
    std::vector<bool> out(holds_.size());
    for (std::size_t i = 0; i < out.size(); ++i)
      out[i] = place_[i] < 0 || !graph_.nodes()[i].reached || holds_[i];
    return out;
  }

 private:
  [[nodiscard]] const Resource& at_node(unsigned node) const {
    static const Resource kNone;
    return place_[node] < 0 ? kNone : resources_[static_cast<std::size_t>(place_[node])];
  }

  [[nodiscard]] Resource resource(const std::vector<LocationOp>& ops) const {
    Resource out;
    std::uint32_t byte = 0;
    std::vector<LocationOp> part;
    bool pieces = false;
    const auto add = [&](std::uint32_t bytes) {
      if (byte < end_ && begin_ < byte + bytes && !part.empty()) add_part(out, part, byte, bytes);
      byte += bytes;
      part.clear();
    };
    for (const LocationOp& op : ops) {
      if (op.atom == DW_OP_piece) {
        pieces = true;
        add(static_cast<std::uint32_t>(op.a));
      } else if (op.atom == DW_OP_bit_piece) {
        pieces = true;
        add(static_cast<std::uint32_t>((op.a + 7) / 8));
      } else {
        part.push_back(op);
      }
    }
    if (!pieces) add(end_);
    return out;
  }

  void add_part(Resource& out, const std::vector<LocationOp>& ops, std::uint32_t byte,
                std::uint32_t bytes) const {
    const std::uint32_t from = std::max(byte, begin_);
    const std::uint32_t to = std::min(byte + bytes, end_);
    const LocationOp& op = ops[0];
    int reg = -1;
    if (op.atom >= DW_OP_reg0 && op.atom <= DW_OP_reg31) reg = op.atom - DW_OP_reg0;
    if (op.atom == DW_OP_regx) reg = static_cast<int>(op.a);
    for (const LocationOp& o : ops) {
      out.key.push_back(o.atom);
      out.key.push_back(o.a);
      out.key.push_back(o.b);
    }
    if (reg >= 0 && ops.size() == 1) {
      const int first = reg + static_cast<int>((from - byte) / width(reg));
      const int count = static_cast<int>(std::max(1U, (to - from + width(reg) - 1) / width(reg)));
      const bool follows = out.kind == Resource::Kind::kRegisters && out.first + out.count == first;
      if (out.kind == Resource::Kind::kNone) {
        out.first = first;
        out.count = count;
        out.kind = Resource::Kind::kRegisters;
      } else if (follows) {
        out.count += count;
      } else {
        out.kind = Resource::Kind::kComputed;
      }
      out.mask |= mask_of(first, count);
      return;
    }
    bool memory = true;
    bool reads = false;
    for (std::size_t n = 0; n < ops.size(); ++n) {
      const LocationOp& o = ops[n];
      memory = memory && o.atom != DW_OP_stack_value && o.atom != DW_OP_implicit_value;
      if (o.atom < DW_OP_breg0 || o.atom > DW_OP_breg31) continue;
      reads = true;
      const int base = o.atom - DW_OP_breg0;
      const int span = std::clamp(bytes_used(ops, n), 1, 4);
      const int address = scope_.machine.target().convention().pointer_bytes;
      const bool value = ops.back().atom == DW_OP_stack_value;
      if (!value && frame_offset(scope_, function_, base)) continue;
      out.mask |=
          mask_of(base, std::max(1, (value ? span : address) / static_cast<int>(width(base))));
    }
    const auto kind = memory  ? Resource::Kind::kMemory
                      : reads ? Resource::Kind::kComputed
                              : Resource::Kind::kConstant;
    out.kind = out.kind == Resource::Kind::kNone ? kind : Resource::Kind::kComputed;
  }

  /// Of the registers that an operation reads, from the lowest: a mask may take some of them only.
  [[nodiscard]] int bytes_used(const std::vector<LocationOp>& ops, std::size_t at) const {
    const bool masked = at + 2 < ops.size() && ops[at].a == 0 && ops[at + 2].atom == DW_OP_and &&
                        (ops[at + 1].atom == DW_OP_const1u || ops[at + 1].atom == DW_OP_const2u);
    int bytes = static_cast<int>(end_);
    for (; masked && bytes > 1 && ops[at + 1].a >> (8 * (bytes - 1)) == 0; --bytes) {
    }
    return bytes;
  }

  [[nodiscard]] unsigned width(int dwarf) const {
    const auto index = scope_.machine.find_dwarf_register(dwarf);
    return index ? std::max(1, target_.registers()[*index].bits / 8) : 1U;
  }

  /// What adjoining instructions write together, as one value of several bytes.
  void find_runs() {
    const auto& nodes = graph_.nodes();
    results_.resize(nodes.size());
    runs_.resize(nodes.size());
    goes_on_.resize(nodes.size());
    std::vector<unsigned> lines(nodes.size());
    for (unsigned i = 0; i < nodes.size(); ++i) {
      const Instruction now = scope_.machine.instruction_at(nodes[i].address, false);
      results_[i] = target_.result_of(now);
      if (const auto line = scope_.program.line_at(nodes[i].address)) lines[i] = line->line;
      goes_on_[i] = (target_.reads(now) & mask_of(results_[i].first, results_[i].count)) != 0;
      if (nodes[i].flow == Flow::kCall && nodes[i].target)
        if (const Function* callee = scope_.program.function_at(*nodes[i].target);
            callee != nullptr && callee->begin == *nodes[i].target)
          for (const machine::RegisterSpan& span : target_.helper_results(callee->name))
            helpers_[i].push_back(span);
    }
    for (unsigned i = 0; i < nodes.size();) {
      machine::RegisterSpan run = results_[i];
      unsigned end = i + 1;
      while (end < nodes.size() && goes_on_[end] == goes_on_[i] && lines[end] == lines[i] &&
             nodes[end - 1].address + nodes[end - 1].size == nodes[end].address &&
             extend(run, results_[end]))
        ++end;
      for (unsigned k = i; k < end; ++k) runs_[k] = run;
      i = end;
    }
  }

  /// Adds registers that adjoin; false if they do not.
  static bool extend(machine::RegisterSpan& run, const machine::RegisterSpan& more) {
    if (run.count == 0 || more.count == 0) return false;
    if (more.first == run.first + run.count) {
      run.count += more.count;
      return true;
    }
    if (more.first + more.count != run.first) return false;
    run.first = more.first;
    run.count += more.count;
    return true;
  }

  enum class Effect : std::uint8_t { kNone, kSets, kSpoils };

  /// What an instruction does to a place.
  [[nodiscard]] Effect effect(unsigned node, const Resource& place) const {
    const FlowGraph::Node& here = graph_.nodes()[node];
    if (const auto helper = helpers_.find(node); helper != helpers_.end())
      for (const machine::RegisterSpan& span : helper->second)
        if ((mask_of(span.first, span.count) & place.mask) != 0)
          return span.first == place.first && place.kind == Resource::Kind::kRegisters
                     ? Effect::kSets
                     : Effect::kSpoils;
    if ((here.writes & place.mask) == 0) return Effect::kNone;
    if (place.kind != Resource::Kind::kRegisters) return Effect::kSpoils;
    const machine::RegisterSpan& run = runs_[node];
    // A pointer that moves by itself is in its register whole.
    if ((here.writes & place.mask & ~mask_of(run.first, run.count)) != 0) return Effect::kSpoils;
    if (run.first != place.first) return Effect::kSpoils;
    if (!is_used_behind(node, place.mask)) return Effect::kSpoils;
    return goes_on_[node] && !handed_over(node, place.mask) ? Effect::kNone : Effect::kSets;
  }

  /// Has another local been in these registers up to here? Then what is made of its value is a new
  /// one's.
  [[nodiscard]] bool handed_over(unsigned node, std::uint64_t mask) const {
    const FlowGraph::Node& here = graph_.nodes()[node];
    for (const Local* other : scope_.program.locals_at(here.address))
      for (const Local::Place& place : other->places)
        if (other != &local_ && place.range.end == here.address + here.size &&
            place.range.begin <= here.address && resource(place.ops).mask == mask &&
            in_its_line(here.address))
          return true;
    return false;
  }
  /// Does the code at an address belong to the line that declares the local?
  [[nodiscard]] bool in_its_line(std::uint32_t address) const {
    const auto line = scope_.program.line_at(address);
    return line && line->line == local_.line;
  }

  /// A comparison may leave its result in a register; nobody reads it then.
  [[nodiscard]] bool is_used_behind(unsigned node, std::uint64_t mask) const {
    const auto known = used_.find({node, mask});
    if (known != used_.end()) return known->second;
    bool used = false;
    std::set<std::pair<unsigned, std::uint64_t>> seen;
    std::deque<std::pair<unsigned, std::uint64_t>> waiting;
    const auto& nodes = graph_.nodes();
    // Behind the run of instructions that write the value together.
    unsigned last = node;
    while (last + 1 < nodes.size() && runs_[last + 1].first == runs_[node].first &&
           runs_[last + 1].count == runs_[node].count && results_[last + 1].count != 0 &&
           nodes[last].address + nodes[last].size == nodes[last + 1].address && last - node < 8)
      ++last;
    for (const unsigned next : nodes[last].next) waiting.emplace_back(next, mask);
    while (!waiting.empty() && !used) {
      auto [at, left] = waiting.front();
      waiting.pop_front();
      if (!seen.insert({at, left}).second) continue;
      if (seen.size() > 4000) used = true;
      used = used || (reads(at) & left) != 0;
      left &= ~kills(at);
      if (left == 0) continue;
      if (nodes[at].next.empty()) used = used || (left & result_registers()) != 0;
      for (const unsigned next : nodes[at].next) waiting.emplace_back(next, left);
    }
    return used_[{node, mask}] = used;
  }

  [[nodiscard]] std::uint64_t reads(unsigned node) const {
    const FlowGraph::Node& here = graph_.nodes()[node];
    const std::uint64_t own = target_.reads(scope_.machine.instruction_at(here.address, false));
    if (here.flow == Flow::kIndirectCall) return own | target_.convention().arguments;
    if (here.flow != Flow::kCall) return own;
    const Function* callee = here.target ? scope_.program.function_at(*here.target) : nullptr;
    if (callee == nullptr || callee->begin != here.target)
      return own | target_.convention().arguments;
    return own | scope_.flows.live_at_entry(scope_.program, scope_.machine, *callee);
  }
  [[nodiscard]] std::uint64_t kills(unsigned node) const {
    const FlowGraph::Node& here = graph_.nodes()[node];
    const bool call = here.flow == Flow::kCall || here.flow == Flow::kIndirectCall;
    return call ? target_.convention().call_clobbered : here.writes;
  }
  [[nodiscard]] std::uint64_t result_registers() const {
    return target_.convention().call_clobbered & target_.convention().arguments;
  }

  void solve() {
    const auto& nodes = graph_.nodes();
    holds_.assign(nodes.size(), true);
    for (bool changed = true; changed;) {
      changed = false;
      for (unsigned at = 0; at < nodes.size(); ++at) {
        if (place_[at] < 0 || !holds_[at] || !nodes[at].reached) continue;
        bool holds = true;
        if (nodes[at].address == function_.begin) holds = local_.parameter || !in_registers(at);
        for (const unsigned before : nodes[at].before)
          if (holds && nodes[before].reached) holds = comes_with(before, at);
        if (holds) continue;
        holds_[at] = false;
        changed = true;
      }
    }
  }

  [[nodiscard]] bool in_registers(unsigned node) const {
    const Resource::Kind kind = at_node(node).kind;
    return kind == Resource::Kind::kRegisters || kind == Resource::Kind::kComputed;
  }

  /// Coming from one instruction to the next one, does the place there hold?
  [[nodiscard]] bool comes_with(unsigned before, unsigned at) const {
    const Resource& place = at_node(at);
    const auto& nodes = graph_.nodes();
    const bool begins =
        local_.places[static_cast<std::size_t>(place_[at])].range.begin == nodes[at].address;
    const bool same = place_[before] >= 0 && at_node(before) == place;
    if (place.kind == Resource::Kind::kConstant || place.kind == Resource::Kind::kMemory)
      return begins || (same && holds_[before] && (nodes[before].writes & place.mask) == 0);
    if (same) {
      switch (effect(before, place)) {
        case Effect::kNone: return holds_[before];
        case Effect::kSets: return true;
        case Effect::kSpoils: return begins && sets_last(before, place);
      }
    }
    return found_before(before, at, place, begins);
  }

  /// The instruction that ends one place and begins the next one of the same kind.
  [[nodiscard]] bool sets_last(unsigned before, const Resource& place) const {
    return (graph_.nodes()[before].writes & place.mask) != 0;
  }

  /// Looks back on all ways for the instructions that have put the value there, byte by byte.
  [[nodiscard]] bool found_before(unsigned before, unsigned at, const Resource& place,
                                  bool begins) const {
    const auto& nodes = graph_.nodes();
    if (place.kind == Resource::Kind::kComputed) return begins;
    std::vector<std::pair<unsigned, std::uint64_t>> waiting{{before, place.mask}};
    std::set<std::pair<unsigned, std::uint64_t>> seen{waiting.front()};
    while (!waiting.empty()) {
      auto [node, missing] = waiting.back();
      waiting.pop_back();
      if (seen.size() > kMostBack) return begins && same_constant(before, at, place);
      const bool call = nodes[node].flow == Flow::kCall || nodes[node].flow == Flow::kIndirectCall;
      if (call && (missing & result_registers()) != 0) {
        if (!begins) return false;  // what it returns
        continue;
      }
      if (place_[node] >= 0 && at_node(node) == place) {
        if (!holds_[node] && effect(node, place) != Effect::kSets) return false;
        continue;
      }
      const std::uint64_t written = nodes[node].writes & place.mask;
      if (written != 0 && (nodes[node].writes & ~place.mask) != 0) {
        if (!begins || node != before) return false;
        continue;
      }
      missing &= ~written;
      if (missing == 0) continue;
      if (nodes[node].before.empty()) return begins && same_constant(before, at, place);
      for (const unsigned next : nodes[node].before)
        if (seen.insert({next, missing}).second) waiting.emplace_back(next, missing);
    }
    return true;
  }

  /// The place before was a constant, and that is what the registers hold.
  [[nodiscard]] bool same_constant(unsigned before, unsigned at, const Resource& place) const {
    const Resource& was = at_node(before);
    const machine::FrameState* state = graph_.state_at(at);
    if (was.kind != Resource::Kind::kConstant || state == nullptr) return false;
    for (int i = 0; i < place.count; ++i)
      if (state->registers[static_cast<std::size_t>(place.first) + static_cast<std::size_t>(i)]
              .kind != machine::Known::Kind::kConstant)
        return false;
    return true;
  }

  const Scope& scope_;
  const machine::Target& target_;
  const Local& local_;
  const FlowGraph& graph_;
  const Function& function_;
  const std::uint32_t begin_, end_;
  std::vector<Resource> resources_;  ///< by place
  std::vector<int> place_;           ///< by node; -1: none
  std::vector<machine::RegisterSpan> results_, runs_;
  std::vector<bool> goes_on_;  ///< it changes what is there, rather than bring a new value
  std::map<unsigned, std::vector<machine::RegisterSpan>> helpers_;
  std::vector<bool> holds_;
  mutable std::map<std::pair<unsigned, std::uint64_t>, bool> used_;
};

}  // namespace

Holding register_holding(const Scope& scope, const Local& local, const Function& function,
                         std::uint32_t address, std::uint32_t begin, std::uint32_t end) {
  const auto node = scope.flows.of(scope.program, scope.machine, function).node_at(address);
  if (!node) return Holding::kHolds;  // nothing is known of the code
  auto& known = scope.flows.findings(scope.program, scope.machine, function).held;
  auto found = known.find({&local, begin, end});
  if (found == known.end())
    found = known
                .emplace(std::tuple{&local, begin, end},
                         RegisterFlow(scope, local, function, begin, end).held())
                .first;
  return found->second[*node] ? Holding::kHolds : Holding::kOverwritten;
}

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

}  // namespace

namespace {

/// Does a pointer into the frame, below `end`, begin to move here, so that where it leads is no
/// longer known behind? A loop copies an object so.
bool walks_from(const FlowGraph& graph, const machine::Target& target, const Instruction& now,
                unsigned node, std::int32_t end) {
  machine::FrameState behind = *graph.state_at(node);
  target.follow(now, behind);
  const auto led = target.stack_pointers(behind);
  if (led.empty()) return false;
  for (const unsigned next : graph.nodes()[node].next) {
    const machine::FrameState* state = graph.state_at(next);
    if (state == nullptr) continue;
    const auto leads = target.stack_pointers(*state);
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
    for (const std::int32_t pointer : target.stack_pointers(*state))
      if (pointer >= offset - 1 && pointer <= end) return any;
    if (walks_from(graph, target, now, i, end)) return any;
    const auto strayed = strays(target, now, *state);
    const int frame_dwarf = target.convention().frame_dwarf;
    const auto frame = strayed.empty() || frame_dwarf < 0
                           ? std::nullopt
                           : target.stack_offset_in(*state, frame_dwarf);
    for (const std::int32_t pointer : strayed)
      if ((frame && (pointer == *frame || pointer == *frame + 1)) ||
          (pointer >= offset - 1 && pointer <= end))
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
