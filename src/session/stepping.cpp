// SPDX-License-Identifier: MIT
// Steps. A step by line ends where the program next executes a line of the level in which it began,
// or of an outer one: the levels are those of the call stack when it began, told apart by their
// frames. What lies between runs freely: marks stand where the step may end, and a mark in a deeper
// call or in a handler is passed, because the stack pointer is another one there.
#include <fmt/format.h>

#include <algorithm>
#include <deque>
#include <set>
#include <utility>

#include "expression/object.h"
#include "session/core.h"

namespace lucid {
namespace {

using frames::FlowGraph;
using frames::LineFlow;

bool is_call(Flow flow) { return flow == Flow::kCall || flow == Flow::kIndirectCall; }

bool begins_with(const LineFlow::Stack& stack, const LineFlow::Stack& level) {
  return stack.size() >= level.size() && std::equal(level.begin(), level.end(), stack.begin());
}

/// The line that the program is in the middle of, at a level of inlined bodies.
struct Current {
  LineFlow::Stack level;
  LineFlow::Line line;
  friend bool operator<(const Current& a, const Current& b) {
    return a.level != b.level ? a.level < b.level : a.line < b.line;
  }
};

/// Where a step that begins at a node ends within its function.
class Region {
 public:
  Region(const LineFlow& lines, StepKind kind) : lines_(lines), kind_(kind) {}

  std::set<unsigned> ends;   ///< here it ends
  std::set<unsigned> calls;  ///< calls on the way, and jumps to other functions
  bool without_end = false;  ///< the line is a loop that nothing leads out of

  /// `executed`: the instruction there is under way, the step goes on behind it.
  void find(unsigned start, bool executed) {
    begin_ = {lines_.stack_of(start), lines_.line_of(start)};
    const auto& nodes = lines_.graph().nodes();
    bool leads_out = false;
    std::set<unsigned> heads;  // of loops
    std::set<std::pair<unsigned, Current>> seen;
    std::deque<std::pair<unsigned, Current>> waiting{{start, begin_}};
    bool under_way = executed;  // at the first node; a loop may come back to it
    while (!waiting.empty()) {
      const auto [at, current] = waiting.front();
      waiting.pop_front();
      const FlowGraph::Node& node = nodes[at];
      const bool first = std::exchange(under_way, false);
      const bool leaves = node.flow == Flow::kJump && node.next.empty();
      if ((is_call(node.flow) || leaves) && !first) calls.insert(at);
      leads_out = leads_out || node.next.empty();
      for (const unsigned to : node.next) {
        if (nodes[to].address <= node.address) heads.insert(to);
        Current next = current;
        if (stops(at, to, next))
          ends.insert(to);
        else if (seen.insert({to, next}).second)
          waiting.emplace_back(to, next);
      }
    }
    for (const auto& passed : seen) ends.erase(passed.first);  // it is reached in both ways
    without_end = kind_ != StepKind::kOut && ends.empty() && !leads_out;
    if (without_end) ends = heads;
  }

 private:
  /// Does going from one node to another end the step? If not, `current` is brought along.
  bool stops(unsigned from, unsigned to, Current& current) const {
    const LineFlow::Stack& stack = lines_.stack_of(to);
    const LineFlow::Line& line = lines_.line_of(to);
    if (kind_ == StepKind::kOut) return !begins_with(stack, begin_.level);
    if (line.line == 0) return false;
    if (stack == current.level) return line != current.line && lines_.is_arrival(from, to);
    if (begins_with(stack, current.level)) {  // into a body that stands in place of a call
      if (kind_ == StepKind::kInto && lines_.is_arrival(from, to)) return true;
      // Perhaps another line of this level begins with it.
      const LineFlow::Line outer = lines_.line_at_level(to, current.level);
      if (outer.line != 0) current.line = outer;
      return false;
    }
    // Out of such a body: back in the middle of the line of its call, unless it is another line.
    std::size_t common = 0;
    while (common < stack.size() && common < current.level.size() &&
           stack[common] == current.level[common])
      ++common;
    const InlinedCall& left = *current.level[common];
    current.level.resize(common);
    current.line = {left.call_file.value_or(0), left.call_line};
    if (lines_.line_at_level(to, current.level) == current.line)
      return kind_ == StepKind::kInto && stack.size() > common && lines_.is_arrival(from, to);
    return lines_.is_arrival(from, to);
  }

  const LineFlow& lines_;
  const StepKind kind_;
  Current begin_;
};

}  // namespace

constexpr std::size_t kMostReturned = 4;  // of values that a step tells

/// One step by line, or out.
class Session::Core::Step {
 public:
  Step(Core& core, StepKind kind)
      : core_(core),
        kind_(kind),
        chain_(frames::unwind(core.program_, core.machine(), core.flows_)),
        convention_(core.machine().target().convention()),
        place_(core.machine().pc()) {}

  [[nodiscard]] const std::vector<frames::Frame>& chain() const { return chain_; }

  Outcome by_line() {
    for (;;) {
      if (kind_ == StepKind::kInto && !executed_ && stands_at_call()) {
        if (auto end = enter_call()) return *end;
        continue;
      }
      Target target = ends();
      // What a call returns to may be the place already.
      const bool there = moved_ && target.is_at(machine().pc(), machine().sp());
      if (noted_at_ && !there) {  // on from behind a call; a loop may come back to it
        noted_at_.reset();
        Outcome outcome = core_.run(one());
        if (outcome.kind == Outcome::Kind::kBreakpoint ||
            outcome.stop.why != machine::Stop::Why::kInstructions)
          return outcome;
        continue;
      }
      if (!there) {
        Outcome outcome = core_.run({}, &target);
        moved_ = true;
        if (outcome.kind != Outcome::Kind::kTarget) return outcome;
      }
      if (auto end = arrived()) return *end;
    }
  }

  /// Until the level at hand has returned.
  Outcome out() {
    for (;;) {
      Target target;
      add_returns(target);
      add_switches(target);
      Outcome outcome = core_.run({}, &target);
      if (outcome.kind != Outcome::Kind::kTarget) return outcome;
      const std::size_t before = in_;
      if (auto end = arrived()) return *end;
      if (in_ > before) return outcome;
    }
  }

 private:
  [[nodiscard]] machine::Machine& machine() const { return core_.machine(); }
  [[nodiscard]] const frames::Frame& frame() const { return chain_[in_]; }
  [[nodiscard]] const Function* function() const { return frame().function; }

  [[nodiscard]] const LineFlow* lines() const {
    if (function() == nullptr || !function()->has_lines) return nullptr;
    return &core_.flows_.lines_of(core_.program_, machine(), *function());
  }

  /// The stack pointer at a node of the function at hand, in this call of it.
  [[nodiscard]] std::optional<std::uint32_t> sp_at(const FlowGraph& graph, unsigned node) const {
    const machine::FrameState* state = frame().known ? graph.state_at(node) : nullptr;
    const auto anchor = state != nullptr ? machine().target().anchor(*state) : std::nullopt;
    if (!anchor || anchor->dwarf_register != convention_.sp_dwarf) return std::nullopt;
    return frame().cfa - convention_.return_bytes + static_cast<std::uint32_t>(anchor->offset);
  }

  Target ends() {
    Target target;
    without_end_ = false;
    calls_.clear();
    behind_.clear();
    if (const LineFlow* lines = this->lines())
      if (const auto node = lines->graph().node_at(place_)) {
        Region region(*lines, kind_);
        region.find(*node, executed_);
        without_end_ = region.without_end;
        for (const unsigned end : region.ends)
          target.places.push_back(
              {lines->graph().nodes()[end].address, sp_at(lines->graph(), end)});
        for (const unsigned call : region.calls) {
          const FlowGraph::Node& at = lines->graph().nodes()[call];
          const auto sp = sp_at(lines->graph(), call);
          if (kind_ == StepKind::kInto) {
            calls_.insert(at.address);
            target.places.push_back({at.address, sp});
          } else if (is_call(at.flow) && sp && core_.returned_.size() < kMostReturned) {
            add_behind(at.address, *sp, target);
          }
        }
      }
    add_returns(target);
    add_switches(target);
    return target;
  }

  /// Behind a call that the step goes over: what it returns is noted there.
  void add_behind(std::uint32_t call, std::uint32_t sp, Target& target) {
    const Instruction instruction = machine().instruction_at(call, false);
    const Function* callee =
        instruction.target ? core_.program_.function_at(*instruction.target) : nullptr;
    if (callee == nullptr || callee->returns == 0 || callee->begin != *instruction.target) return;
    const std::uint32_t behind = call + instruction.size;
    if (noted_at_ == behind) return;  // it stands there
    behind_[behind] = {call, sp, callee};
    target.places.push_back({behind, sp});
  }

  void add_returns(Target& target) const {
    if (in_ + 1 < chain_.size()) target.places.push_back({chain_[in_ + 1].pc, frame().cfa});
  }
  void add_switches(Target& target) {
    for (const std::uint32_t address : core_.places_of_stack_switches())
      if (address != waits_) target.places.push_back({address, {}});
  }

  /// At one of the places. nullopt: the step goes on.
  std::optional<Outcome> arrived() {
    const std::uint32_t pc = machine().pc();
    const std::uint32_t sp = machine().sp();
    Outcome here;
    here.kind = Outcome::Kind::kTarget;
    if (in_ + 1 < chain_.size() && pc == chain_[in_ + 1].pc && sp == frame().cfa) {
      const bool handled = frame().interrupt;
      returned(in_ + 1);
      if (handled && kind_ != StepKind::kOut && begins_line()) return here;
      return std::nullopt;
    }
    if (const auto found = behind_.find(pc); found != behind_.end() && found->second.sp == sp) {
      core_.note_returned(found->second.callee);
      noted_at_ = pc;
      place_ = found->second.call;
      executed_ = true;
      return std::nullopt;
    }
    const auto& switches = core_.places_of_stack_switches();
    if (std::find(switches.begin(), switches.end(), pc) != switches.end()) return switched();
    if (calls_.count(pc) != 0) {
      place_ = pc;
      executed_ = false;
      return enter_call();
    }
    if (without_end_) core_.remark("nothing leads out of the loop on this line: one round");
    return here;
  }

  /// The program is back in an outer level, behind a call or where a handler has interrupted it.
  void returned(std::size_t level) {
    if (level == in_ + 1 && !frame().interrupt) core_.note_returned(function());
    in_ = level;
    const frames::Frame& now = frame();
    executed_ = now.at_call;
    place_ = now.at_call ? now.pc - convention_.instruction_unit : now.pc;
    if (lines() == nullptr && now.at_call && core_.remarks_.all.empty() && function() != nullptr &&
        in_ + 1 >= chain_.size())
      core_.remark("returned to code without source");
  }

  /// It has been interrupted before the first instruction of a line, or of a body that is inlined,
  /// whatever led there.
  [[nodiscard]] bool begins_line() {
    const LineFlow* lines = executed_ ? nullptr : this->lines();
    const auto node = lines != nullptr ? lines->graph().node_at(place_) : std::nullopt;
    if (!node || lines->line_of(*node).line == 0) return false;
    const auto& before = lines->graph().nodes()[*node].before;
    return !before.empty() && std::all_of(before.begin(), before.end(), [&](unsigned from) {
      return (lines->line_of(from) != lines->line_of(*node) ||
              lines->stack_of(from) != lines->stack_of(*node)) &&
             lines->is_arrival(from, *node);
    });
  }

  /// Before an instruction that may go to another stack, or end the program.
  std::optional<Outcome> switched() {
    const Instruction last = machine().instruction_at(machine().pc(), false);
    if (last.flow == Flow::kJump) {  // to itself
      if (!machine().interrupts_off()) {
        waits_ = machine().pc();
        return std::nullopt;
      }
      core_.remark("the program has come to its end: a loop without an end, with interrupts off");
      Outcome here;
      here.kind = Outcome::Kind::kTarget;
      return here;
    }
    const Outcome outcome = core_.run(one());
    if (outcome.kind != Outcome::Kind::kEnd ||
        outcome.stop.why != machine::Stop::Why::kInstructions)
      return outcome;
    const auto now = frames::unwind(core_.program_, machine(), core_.flows_);
    for (std::size_t level = in_; level < chain_.size(); ++level)
      if (now[0].known && chain_[level].known && now[0].function == chain_[level].function &&
          now[0].cfa == chain_[level].cfa) {
        in_ = level;
        place_ = machine().pc();
        executed_ = false;
        // Behind the call of what has remembered this place.
        if (const auto* lines = this->lines())
          if (const auto node = lines->graph().node_at(place_))
            for (const unsigned before : lines->graph().nodes()[*node].before)
              if (is_call(lines->graph().nodes()[before].flow)) {
                place_ = lines->graph().nodes()[before].address;
                executed_ = true;
              }
        break;
      }
    return std::nullopt;
  }

  static machine::RunRequest one() {
    machine::RunRequest request;
    request.instructions = 1;
    request.pass_first_breakpoint = true;
    return request;
  }

  [[nodiscard]] bool stands_at_call() const {
    if (machine().pc() != place_ || machine().interrupt_imminent() || lines() == nullptr)
      return false;
    const Instruction now = machine().instruction_at(place_, false);
    return is_call(now.flow) || jumps_out(now);
  }
  [[nodiscard]] bool jumps_out(const Instruction& now) const {
    if (now.flow != Flow::kJump || !now.target || function() == nullptr) return false;
    const Function* to = core_.program_.function_at(*now.target);
    return to != nullptr && to != function() && to->begin == *now.target &&
           machine().target().shared_code(to->name) == machine::SharedCode::kNone;
  }

  /// Makes the call at hand. nullopt: the step does not end in what is called.
  std::optional<Outcome> enter_call() {
    executed_ = true;
    if (!stands_at_call()) {  // an interrupt comes first, or it leads to no function's begin
      const Outcome outcome = core_.run(one());
      if (outcome.kind == Outcome::Kind::kBreakpoint) return outcome;
      executed_ = outcome.stop.interrupt < 0;
      return std::nullopt;
    }
    const bool jump = !is_call(machine().instruction_at(place_, false).flow);
    const std::uint32_t sp = machine().sp();
    Outcome outcome = core_.run(one());
    moved_ = true;
    if (outcome.kind == Outcome::Kind::kBreakpoint) return outcome;
    if (outcome.stop.interrupt >= 0) {
      executed_ = false;
      return std::nullopt;
    }
    if (outcome.stop.why != machine::Stop::Why::kInstructions) return outcome;
    const Function* callee = core_.program_.function_at(machine().pc());
    if (callee == nullptr || callee->begin != machine().pc()) return run_through(callee, "");
    const std::string filtered = core_.passed_over(*callee);
    if (!filtered.empty()) return run_through(callee, filtered);
    if (!callee->has_lines) return run_through(callee, "it has no source");
    const std::uint32_t body = core_.body_of(*callee);
    outcome.kind = Outcome::Kind::kTarget;
    if (body == machine().pc()) return outcome;
    const FlowGraph& graph = core_.flows_.of(core_.program_, machine(), *callee);
    const auto node = graph.node_at(body);
    const machine::FrameState* state = node ? graph.state_at(*node) : nullptr;
    const auto anchor = state != nullptr ? machine().target().anchor(*state) : std::nullopt;
    Target target;
    target.places.push_back({body, {}});
    if (anchor && anchor->dwarf_register == convention_.sp_dwarf)
      target.places[0].sp = machine().sp() + static_cast<std::uint32_t>(anchor->offset);
    // If it never gets there: back here, or out.
    if (!jump) target.places.push_back({place_ + machine().instruction_at(place_, false).size, sp});
    add_returns(target);
    outcome = core_.run({}, &target);
    if (outcome.kind == Outcome::Kind::kTarget && machine().pc() != body) {
      if (in_ + 1 < chain_.size() && machine().pc() == chain_[in_ + 1].pc) returned(in_ + 1);
      return std::nullopt;
    }
    return outcome;
  }

  std::optional<Outcome> run_through(const Function* callee, const std::string& why) {
    const std::string name = callee != nullptr ? callee->name : core_.place_name(machine().pc());
    core_.remark(fmt::format("ran through {}: {}", name, why.empty() ? "it has no source" : why));
    return std::nullopt;
  }

  Core& core_;
  const StepKind kind_;
  const std::vector<frames::Frame> chain_;
  const machine::CallConvention convention_;
  std::size_t in_ = 0;       ///< the level, of `chain_`
  std::uint32_t place_ = 0;  ///< an instruction of that level: the step goes on there
  bool executed_ = false;    ///< or behind it
  bool moved_ = false;       ///< since the step began
  bool without_end_ = false;
  std::optional<std::uint32_t> noted_at_;  ///< what the call before it has returned is noted
  std::set<std::uint32_t> calls_;
  struct Behind {
    std::uint32_t call = 0, sp = 0;
    const Function* callee = nullptr;
  };
  std::map<std::uint32_t, Behind> behind_;  ///< calls that are stepped over, by what follows them
  std::optional<std::uint32_t> waits_;      ///< a jump to itself that interrupts can end
};

/// Returns and jumps that lead to a stack which following the code does not know, and the end of a
/// program: a jump to itself in code without lines.
std::vector<std::uint32_t> Session::Core::places_of_stack_switches() {
  if (stack_switches_) return *stack_switches_;
  constexpr std::uint32_t kMostBytes = 65536;
  std::vector<std::uint32_t> out;
  const machine::CallConvention convention = machine().target().convention();
  std::uint32_t looked_at = 0;
  for (const Function& function : program_.functions()) {
    bool writes_sp = false;
    std::uint32_t previous = UINT32_MAX;
    for (std::uint32_t pc = function.begin; pc < function.end && looked_at < kMostBytes;) {
      const Instruction now = machine().instruction_at(pc, false);
      writes_sp = writes_sp ||
                  machine().target().stack_effect(now).kind == machine::StackEffect::Kind::kUnknown;
      if (!function.has_lines && now.flow == Flow::kJump && now.target == pc && previous != pc)
        out.push_back(pc);
      previous = pc;
      pc += std::max<std::uint32_t>(1, now.size);
    }
    if (!writes_sp) continue;
    looked_at += function.end - function.begin;
    const FlowGraph& graph = flows_.of(program_, machine(), function);
    for (unsigned i = 0; i < graph.nodes().size(); ++i) {
      const FlowGraph::Node& node = graph.nodes()[i];
      const machine::FrameState* state = graph.state_at(i);
      const bool goes = node.flow == Flow::kReturn || node.flow == Flow::kInterruptReturn ||
                        node.flow == Flow::kIndirectJump;
      if (!goes || state == nullptr || node.address < function.begin ||
          node.address >= function.end)
        continue;
      const auto anchor = machine().target().anchor(*state);
      if (!anchor || anchor->dwarf_register != convention.sp_dwarf) out.push_back(node.address);
    }
  }
  stack_switches_ = out;
  return out;
}

/// A function has returned, and nothing has executed since.
void Session::Core::note_returned(const Function* function) {
  if (function == nullptr || returned_.size() >= kMostReturned) return;
  if (auto value = returned_value(*function, machine()))
    returned_.push_back({function->name, std::move(*value)});
}

std::optional<std::string> Session::Core::returned_value(const Function& function,
                                                         const machine::Machine& machine) const {
  if (function.returns == 0) return std::nullopt;
  const Type& type = program_.types()[function.returns];
  if (type.bytes == 0 || type.kind == Type::Kind::kVoid) return std::nullopt;
  // A copy of a function that the compiler made for some of its calls may return nothing.
  for (const Symbol& symbol : program_.symbols())
    if (symbol.address == Address{Space::kCode, function.begin} &&
        (symbol.name.find(".isra") != std::string::npos ||
         symbol.name.find(".part") != std::string::npos))
      return std::nullopt;
  const machine::RegisterSpan in = machine.target().returned_in(type.bytes);
  const auto& registers = machine.target().registers();
  frames::Place place;
  place.kind = frames::Place::Kind::kPieces;
  for (int i = 0; i < in.count; ++i)
    for (unsigned index = 0; index < registers.size(); ++index)
      for (unsigned byte = 0;
           registers[index].dwarf == in.first + i && 8 * byte < registers[index].bits; ++byte)
        place.pieces.push_back({frames::Piece::Kind::kRegister, index, {}, byte});
  if (place.pieces.size() < type.bytes) return std::nullopt;
  place.pieces.resize(type.bytes);
  const frames::Scope here{program_, machine, flows_, static_end_, 0, {}};
  const auto value = expression::object_at(place, function.returns, here);
  if (!value) return std::nullopt;
  return expression::written(*value, {}, here);
}

Session::Core::Outcome Session::Core::run_through(std::uint32_t returns_to, std::uint32_t sp) {
  Target target;
  target.places.push_back({returns_to, sp});
  const std::vector<frames::Frame> frames = frames::unwind(program_, machine(), flows_);
  for (std::size_t i = 1; i + 1 < frames.size(); ++i)  // should it leave several levels
    target.places.push_back({frames[i + 1].pc, frames[i].cfa});
  return run({}, &target);
}

Session::Core::Outcome Session::Core::line_step(StepKind kind) {
  return Step(*this, kind).by_line();
}
Session::Core::Outcome Session::Core::out_step() { return Step(*this, StepKind::kOut).out(); }

Pause Session::Core::step_instruction(StepKind kind) {
  begin_run();
  const Instruction instruction = machine().instruction_at(machine().pc(), false);
  const std::uint32_t sp = machine().sp();
  const bool calls = is_call(instruction.flow) && !machine().interrupt_imminent();
  machine::RunRequest request;
  request.instructions = 1;
  Outcome outcome = run(request);
  if (outcome.stop.interrupt >= 0) {
    const auto& vectors = machine().info().vectors;
    const auto number = static_cast<std::size_t>(outcome.stop.interrupt);
    return finish(outcome, Pause::Cause::kStep,
                  fmt::format("interrupt {} was entered",
                              number < vectors.size() ? vectors[number].name : "?"));
  }
  if (kind == StepKind::kOver && calls && outcome.stop.why == machine::Stop::Why::kInstructions) {
    const Function* callee = program_.function_at(machine().pc());
    const std::uint32_t behind = instruction.address + instruction.size;
    outcome = run_through(behind, sp);
    if (outcome.kind == Outcome::Kind::kTarget && machine().pc() == behind) note_returned(callee);
  }
  return finish(outcome, Pause::Cause::kStep);
}

/// Code that is shared between functions belongs to the one that has jumped there.
bool Session::Core::has_lines_here() {
  const Function* function = program_.function_at(machine().pc());
  if (function != nullptr && !function->has_lines &&
      machine().target().shared_code(function->name) != machine::SharedCode::kNone)
    function = frames::unwind(program_, machine(), flows_).front().function;
  return function != nullptr && function->has_lines;
}

Pause Session::Core::step_line(StepKind kind) {
  begin_run();
  if (!has_lines_here()) {
    // No source here: an instruction is the smallest thing to step by.
    Pause pause = step_instruction(kind);
    remark("no source here: stepped by instruction");
    pause.remarks = remarks_.texts();
    pause_ = pause;
    return pause;
  }
  return finish(Step(*this, kind).by_line(), Pause::Cause::kStep);
}

Pause Session::Core::step_out() {
  begin_run();
  if (const auto inlined = program_.inlined_at(machine().pc()); !inlined.empty())
    return finish(Step(*this, StepKind::kOut).by_line(), Pause::Cause::kStep,
                  "out of " + inlined.front()->name + ", which is inlined");
  Step step(*this, StepKind::kOut);
  if (step.chain().size() < 2) {
    remark("there is no caller to step out to: nothing was executed");
    return finish({}, Pause::Cause::kStep);
  }
  const Function* function = step.chain()[0].function;
  return finish(step.out(), Pause::Cause::kStep,
                function != nullptr ? "out of " + function->name : "");
}

}  // namespace lucid
