// SPDX-License-Identifier: MIT
#include "frames/flow.h"

#include <algorithm>
#include <set>
#include <utility>

#include "frames/passes.h"

namespace lucid::frames {

namespace {
constexpr std::size_t kMostNodes = 60'000;
}  // namespace

/// Explores a function from its start, instruction by instruction, until nothing more becomes
/// known.
class FlowGraph::Maker {
 public:
  Maker(FlowGraph& graph, const Program& program, const machine::Machine& machine,
        const Function& function, const Returns& returns)
      : graph_(graph),
        program_(program),
        machine_(machine),
        target_(machine.target()),
        function_(function),
        returns_(returns) {}

  void make(const std::vector<Leave>& entries) {
    add_all();
    enter(function_.begin, target_.at_entry(), kNoNode);
    for (const Leave& entry : entries)
      if (inside(entry.address)) enter(entry.address, entry.state, kNoNode);
    work();
    if (graph_.unknown_jump_) {  // it may go to wherever a line or a block begins
      for (const std::uint32_t place : places_of_computed_jumps()) {
        for (const auto& [from, state] : unknown_jumps_) enter(place, state, from);
      }
      work();
    }
    sort();
  }

 private:
  static constexpr unsigned kNoNode = UINT32_MAX;

  unsigned node(std::uint32_t address) {
    const auto [at, is_new] = index_.emplace(address, static_cast<unsigned>(graph_.nodes_.size()));
    if (!is_new) return at->second;
    const Instruction instruction = machine_.instruction_at(address, false);
    Node made;
    made.address = address;
    made.size = std::max<std::uint8_t>(1, instruction.size);
    made.flow = instruction.flow;
    made.target = instruction.target;
    made.writes = target_.writes(instruction);
    made.in_registers = target_.stays_in_registers(instruction);
    // What makes room on the stack is also how a linker writes a call of what follows.
    const std::uint32_t behind = address + made.size;
    if (target_.stack_effect(instruction).kind == machine::StackEffect::Kind::kAllocate &&
        inside(address) && !inside(behind)) {
      made.flow = Flow::kCall;
      made.target = behind;
    }
    graph_.nodes_.push_back(std::move(made));
    graph_.states_.emplace_back();
    code_.push_back(instruction);
    return at->second;
  }

  /// Every instruction of the function, reached or not.
  void add_all() {
    for (std::uint32_t pc = function_.begin;
         pc < function_.end && graph_.nodes_.size() < kMostNodes;)
      pc += graph_.nodes_[node(pc)].size;
  }

  void enter(std::uint32_t address, const machine::FrameState& state, unsigned from) {
    if (graph_.nodes_.size() >= kMostNodes) return;
    const unsigned to = node(address);
    if (from != kNoNode) edges_.emplace(from, to);
    bool changed = false;
    if (!graph_.nodes_[to].reached) {
      graph_.nodes_[to].reached = true;
      graph_.states_[to] = state;
      changed = true;
    } else {
      changed = graph_.states_[to].join(state);
    }
    if (changed) waiting_.insert({address, to});
  }

  void work() {
    while (!waiting_.empty()) {
      const unsigned at = waiting_.begin()->second;
      waiting_.erase(waiting_.begin());
      pass(at);
    }
  }

  /// From one instruction to those that may follow it.
  void pass(unsigned at) {
    const Node here = graph_.nodes_[at];
    const Instruction instruction = code_[at];
    if (instruction.validity == Validity::kReserved) return;
    machine::FrameState state = graph_.states_[at];
    const machine::FrameState before = state;
    target_.follow(instruction, state);
    const std::uint32_t behind = here.address + here.size;
    switch (here.flow) {
      case Flow::kCall:
        if (here.target) call(*here.target);
        if (!here.target || returns_(*here.target)) fall(behind, state, at);
        return;
      case Flow::kNext:
      case Flow::kIndirectCall:
      case Flow::kSleep:
      case Flow::kBreak: fall(behind, state, at); return;
      case Flow::kBranch:
        fall(behind, state, at);
        if (here.target) go(*here.target, state, at);
        return;
      case Flow::kSkip:
        fall(behind, state, at);
        fall(behind + std::max<std::uint32_t>(1, machine_.instruction_at(behind, false).size),
             state, at);
        return;
      case Flow::kJump:
        if (here.target) jump(*here.target, state, at);
        return;
      case Flow::kIndirectJump: jump_by_register(before, at); return;
      case Flow::kReturn:
      case Flow::kInterruptReturn: return;
    }
  }

  /// A part of a function, this one or another, may be called by itself.
  void call(std::uint32_t address) {
    const Function* other = program_.function_at(address);
    if (other == nullptr || other->begin == address || other->has_lines) return;
    if (inside(address))
      enter(address, target_.at_entry(), kNoNode);
    else
      leave(address, target_.at_entry());
  }

  [[nodiscard]] bool inside(std::uint32_t address) const {
    return address >= function_.begin && address < function_.end;
  }

  [[nodiscard]] machine::SharedCode shared(std::uint32_t address) const {
    const Function* other = program_.function_at(address);
    return other == nullptr ? machine::SharedCode::kNone : target_.shared_code(other->name);
  }

  void go(std::uint32_t address, const machine::FrameState& state, unsigned from) {
    if (inside(address) || shared(address) == machine::SharedCode::kFrame)
      enter(address, state, from);
    else
      leave(address, state);
  }
  /// Shared code is jumped into; a function that ends in a call which never returns does not fall
  /// into what happens to follow.
  void fall(std::uint32_t address, const machine::FrameState& state, unsigned from) {
    if (inside(address) == inside(graph_.nodes_[from].address))
      go(address, state, from);
    else
      leave(address, state);
  }
  void leave(std::uint32_t address, const machine::FrameState& state) {
    const auto [at, is_new] = leaves_.emplace(address, state);
    if (!is_new) at->second.join(state);
  }

  void jump(std::uint32_t address, const machine::FrameState& state, unsigned from) {
    if (!inside(address) && shared(address) == machine::SharedCode::kTable)
      jump_by_register(state, from);
    else
      go(address, state, from);
  }

  void jump_by_register(const machine::FrameState& state, unsigned from) {
    const auto targets =
        target_.jump_targets(machine_, code_[from], state, function_.begin, function_.end);
    if (!targets) {
      graph_.unknown_jump_ = true;
      unknown_jumps_.emplace_back(from, state);
      return;
    }
    for (const std::uint32_t target : *targets) go(target, state, from);
  }

  [[nodiscard]] std::vector<std::uint32_t> places_of_computed_jumps() const {
    std::set<std::uint32_t> out;
    const std::uint32_t body = program_.body_of(function_);
    for (const LineRange& range : program_.lines_in(function_.begin, function_.end))
      if (range.begin > body && index_.count(range.begin) != 0) out.insert(range.begin);
    for (const Node& node : graph_.nodes_) {
      const bool ends = node.flow == Flow::kJump || node.flow == Flow::kIndirectJump ||
                        node.flow == Flow::kReturn || node.flow == Flow::kInterruptReturn;
      const std::uint32_t behind = node.address + node.size;
      if (ends && inside(behind) && behind > body) out.insert(behind);
    }
    return {out.begin(), out.end()};
  }

  void sort() {
    std::vector<unsigned> order(graph_.nodes_.size());
    for (unsigned i = 0; i < order.size(); ++i) order[i] = i;
    std::sort(order.begin(), order.end(), [&](unsigned a, unsigned b) {
      return graph_.nodes_[a].address < graph_.nodes_[b].address;
    });
    std::vector<unsigned> place(order.size());
    std::vector<Node> nodes;
    std::vector<machine::FrameState> states;
    for (unsigned i = 0; i < order.size(); ++i) {
      place[order[i]] = i;
      nodes.push_back(std::move(graph_.nodes_[order[i]]));
      states.push_back(std::move(graph_.states_[order[i]]));
    }
    for (const auto& [from, to] : edges_) {
      nodes[place[from]].next.push_back(place[to]);
      nodes[place[to]].before.push_back(place[from]);
    }
    graph_.nodes_ = std::move(nodes);
    graph_.states_ = std::move(states);
    for (auto& [address, state] : leaves_) graph_.leaves_.push_back({address, std::move(state)});
  }

  FlowGraph& graph_;
  const Program& program_;
  const machine::Machine& machine_;
  const machine::Target& target_;
  const Function& function_;
  const Returns& returns_;
  std::map<std::uint32_t, unsigned> index_;
  std::vector<Instruction> code_;  ///< by node
  std::set<std::pair<std::uint32_t, unsigned>> waiting_;
  std::set<std::pair<unsigned, unsigned>> edges_;
  std::map<std::uint32_t, machine::FrameState> leaves_;
  std::vector<std::pair<unsigned, machine::FrameState>> unknown_jumps_;
};

namespace {

std::vector<std::uint8_t> code_of(const machine::Machine& machine, std::uint32_t begin,
                                  std::uint32_t end) {
  std::vector<std::uint8_t> out;
  out.reserve(end - begin);
  for (std::uint32_t at = begin; at < end; ++at) {
    const auto byte = machine.peek({Space::kCode, at});
    if (!byte) break;
    out.push_back(*byte);
  }
  return out;
}

}  // namespace

FlowGraph::FlowGraph(const Program& program, const machine::Machine& machine,
                     const Function& function, const Returns& returns,
                     const std::vector<Leave>& entries)
    : begin_(function.begin),
      end_(std::min<std::uint32_t>(function.end, function.begin + 2 * kMostNodes)),
      code_(code_of(machine, begin_, end_)) {
  Maker(*this, program, machine, function, returns).make(entries);
}

bool FlowGraph::is_of(const machine::Machine& machine) const {
  constexpr std::uint32_t kStretch = 256;  // so that most are within a page of the machine's
  const auto end = begin_ + static_cast<std::uint32_t>(code_.size());
  for (std::uint32_t at = begin_; at < end;) {
    const std::uint32_t next = std::min(end, at - at % kStretch + kStretch);
    const auto ours = code_.begin() + static_cast<std::ptrdiff_t>(at - begin_);
    if (const std::uint8_t* bytes = machine.plain_bytes({Space::kCode, at}, next - at)) {
      if (!std::equal(bytes, bytes + (next - at), ours)) return false;
    } else {
      for (std::uint32_t i = at; i < next; ++i)
        if (machine.peek({Space::kCode, i}) != code_[i - begin_]) return false;
    }
    at = next;
  }
  return true;
}

std::optional<unsigned> FlowGraph::node_at(std::uint32_t address) const {
  const auto at =
      std::upper_bound(nodes_.begin(), nodes_.end(), address,
                       [](std::uint32_t a, const Node& node) { return a < node.address; });
  if (at == nodes_.begin()) return std::nullopt;
  const Node& node = *(at - 1);
  if (address >= node.address + node.size) return std::nullopt;
  return static_cast<unsigned>(at - nodes_.begin() - 1);
}

const machine::FrameState* FlowGraph::state_at(unsigned node) const {
  return nodes_[node].reached ? &states_[node] : nullptr;
}

const FlowGraph& Flows::of(const Program& program, const machine::Machine& machine,
                           const Function& function) {
  auto& graph = graphs_[function.begin];
  if (graph == nullptr || !graph->is_of(machine)) {
    lines_.erase(function.begin);
    if (graph != nullptr) {  // its code has changed
      live_.clear();
      returns_.clear();
      findings_.clear();
    }
    graph = std::make_unique<const FlowGraph>(program, machine, function, asker(program, machine));
  }
  return *graph;
}

const std::vector<std::uint32_t>& Flows::behind_vectors(const machine::Machine& machine) {
  constexpr std::uint32_t kLongest = 4;  // bytes of a jump
  std::uint32_t end = 0;
  for (const InterruptVector& v : machine.info().vectors) end = std::max(end, v.address + kLongest);
  const std::uint8_t* now = machine.plain_bytes({Space::kCode, 0}, end);
  if (now != nullptr && vectors_.size() == end && std::equal(vectors_.begin(), vectors_.end(), now))
    return behind_vectors_;
  vectors_.clear();
  if (now != nullptr) vectors_.assign(now, now + end);
  behind_vectors_.clear();
  for (const InterruptVector& vector : machine.info().vectors) {
    if (vector.address == 0) continue;
    const Instruction jump = machine.instruction_at(vector.address, false);
    if (jump.flow == Flow::kJump && jump.target.value_or(0) != 0)
      behind_vectors_.push_back(*jump.target);
  }
  return behind_vectors_;
}

/// Small functions are looked into: those that end a program are.
bool Flows::returns(const Program& program, const machine::Machine& machine,
                    std::uint32_t address) {
  constexpr unsigned kMostDepth = 4;
  const Function* callee = program.function_at(address);
  // A symbol alone may reach over what follows it.
  const std::uint32_t most = callee != nullptr && callee->has_lines ? 128 : 4096;
  if (callee == nullptr || callee->begin != address || callee->end - callee->begin > most ||
      depth_ >= kMostDepth)
    return true;
  if (const auto known = returns_.find(address); known != returns_.end()) return known->second;
  returns_[address] = true;  // of what calls itself
  ++depth_;
  const FlowGraph& graph = of(program, machine, *callee);
  bool back = graph.has_unknown_jump();
  for (unsigned i = 0; i < graph.nodes().size(); ++i) {
    const Flow flow = graph.nodes()[i].flow;
    back = back || (graph.state_at(i) != nullptr &&
                    (flow == Flow::kReturn || flow == Flow::kInterruptReturn));
  }
  for (const FlowGraph::Leave& leave : graph.leaves())
    back = back || returns(program, machine, leave.address);
  --depth_;
  return returns_[address] = back;
}

const LineFlow& Flows::lines_of(const Program& program, const machine::Machine& machine,
                                const Function& function) {
  const FlowGraph& graph = of(program, machine, function);
  auto& lines = lines_[function.begin];
  if (lines == nullptr) lines = std::make_unique<const LineFlow>(program, machine, graph, function);
  return *lines;
}

std::uint64_t Flows::live_at_entry(const Program& program, const machine::Machine& machine,
                                   const Function& function, unsigned depth) {
  constexpr unsigned kMostDepth = 4;
  const machine::CallConvention convention = machine.target().convention();
  if (depth > kMostDepth) return convention.arguments;
  if (const auto known = live_.find(function.begin); known != live_.end()) return known->second;
  live_[function.begin] = convention.arguments;  // of what calls itself
  const FlowGraph& graph = of(program, machine, function);
  const auto first = graph.node_at(function.begin);
  std::uint64_t live = graph.has_unknown_jump() || !first ? convention.arguments : 0;
  std::set<std::pair<unsigned, std::uint64_t>> seen;
  std::vector<std::pair<unsigned, std::uint64_t>> waiting;
  if (first) waiting.emplace_back(*first, convention.arguments);
  while (!waiting.empty() && live != convention.arguments) {
    auto [at, left] = waiting.back();
    waiting.pop_back();
    if (!seen.insert({at, left}).second) continue;
    if (seen.size() > 4000) live = convention.arguments;
    const FlowGraph::Node& node = graph.nodes()[at];
    std::uint64_t reads = machine.target().reads(machine.instruction_at(node.address, false));
    std::uint64_t kills = node.writes;
    if (node.flow == Flow::kCall || node.flow == Flow::kIndirectCall) {
      const Function* callee = node.target ? program.function_at(*node.target) : nullptr;
      reads |= callee == nullptr || callee->begin != node.target
                   ? convention.arguments
                   : live_at_entry(program, machine, *callee, depth + 1);
      kills |= convention.call_clobbered;
    }
    // A jump to another function hands on what it got.
    if (node.next.empty() && node.flow == Flow::kJump) reads = convention.arguments;
    live |= reads & left & convention.call_clobbered;
    left &= ~kills;
    if (left == 0) continue;
    for (const unsigned next : node.next) waiting.emplace_back(next, left);
  }
  return live_[function.begin] = live & convention.arguments;
}

Flows::Flows() = default;
Flows::~Flows() = default;
Flows::Flows(Flows&&) noexcept = default;

Flows::Findings& Flows::findings(const Program& program, const machine::Machine& machine,
                                 const Function& function) {
  (void)of(program, machine, function);
  return findings_[function.begin];
}

void Flows::forget() {
  findings_.clear();
  lines_.clear();
  live_.clear();
  returns_.clear();
  graphs_.clear();
  wide_.clear();
  leaves_.clear();
}

const FlowGraph& Flows::with_ways_in(const Program& program, const machine::Machine& machine,
                                     const Function& function) {
  auto& graph = wide_[function.begin];
  if (graph != nullptr && graph->is_of(machine)) return *graph;
  if (leaves_.empty())
    for (const Function& other : program.functions())
      if (!other.has_lines)
        for (const FlowGraph::Leave& leave : of(program, machine, other).leaves())
          leaves_.push_back(leave);
  std::vector<FlowGraph::Leave> entries = leaves_;
  for (const Function& other : program.functions()) {  // those that it lies within
    if (other.begin >= function.end || function.begin >= other.end ||
        other.begin == function.begin || other.has_lines)
      continue;
    const FlowGraph& around = of(program, machine, other);
    for (unsigned i = 0; i < around.nodes().size(); ++i)
      if (const machine::FrameState* state = around.state_at(i))
        entries.push_back({around.nodes()[i].address, *state});
  }
  graph = std::make_unique<const FlowGraph>(program, machine, function, asker(program, machine),
                                            entries);
  return *graph;
}

}  // namespace lucid::frames
