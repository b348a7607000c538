// SPDX-License-Identifier: MIT
#include "frames/callers.h"

#include <algorithm>
#include <utility>

namespace lucid::frames {
namespace {

constexpr unsigned kMostFrames = 256;
constexpr unsigned kMostScanned = 256;
constexpr unsigned kMostShared = 128;  // instructions of code that is shared with other functions

std::optional<std::uint64_t> value_of(const machine::Machine& machine, int dwarf,
                                      const std::map<int, Kept>& registers, std::uint64_t lost) {
  if (const auto kept = registers.find(dwarf); kept != registers.end()) {
    if (kept->second.address) {
      const auto index = machine.find_dwarf_register(dwarf);
      const unsigned bytes = index ? (machine.target().registers()[*index].bits + 7U) / 8U : 1U;
      std::uint64_t out = 0;
      for (unsigned i = 0; i < bytes; ++i) {
        const auto byte = machine.peek({Space::kData, *kept->second.address + i});
        if (!byte) return std::nullopt;
        out |= std::uint64_t{*byte} << (8 * i);
      }
      return out;
    }
    dwarf = kept->second.dwarf_register;
  } else if (dwarf >= 0 && dwarf < 64 && (lost >> dwarf & 1U) != 0) {
    return std::nullopt;
  }
  const auto index = machine.find_dwarf_register(dwarf);
  return index ? std::optional<std::uint64_t>(machine.register_value(*index)) : std::nullopt;
}

class Unwinder {
 public:
  Unwinder(const Program& program, const machine::Machine& machine, Flows& flows)
      : program_(program),
        machine_(machine),
        target_(machine.target()),
        flows_(flows),
        convention_(target_.convention()),
        pointer_mask_(convention_.pointer_bytes >= 4
                          ? UINT32_MAX
                          : (std::uint32_t{1} << (8 * convention_.pointer_bytes)) - 1) {
    const MemoryArea* ram = machine.area("ram");
    ram_end_ = ram != nullptr ? ram->end : UINT32_MAX;
    find_vectors();
  }

  std::vector<Frame> unwind(std::size_t most) {
    std::vector<Frame> frames;
    std::uint32_t pc = machine_.pc();
    std::uint32_t sp = machine_.sp();
    bool at_call = false;
    for (;;) {
      Frame frame;
      frame.pc = pc;
      frame.sp = sp;
      frame.registers = registers_;
      frame.lost = lost_;
      frame.at_call = at_call;
      // A return address may lie behind the last instruction of a function that never returns.
      frame.function = program_.function_at(at_call ? pc - convention_.instruction_unit : pc);
      next_registers_ = registers_;
      next_lost_ = lost_;
      if (frame.function == nullptr && !at_vector(frame))
        frame.end = at_reset(frame) ? CallersEnd::kStart : CallersEnd::kNoFunction;
      else if (find_frame(frame))
        frame.end = why_end(frame, frames.size());
      else
        frame.end = is_main(frame) ? CallersEnd::kStart : CallersEnd::kNoFrame;
      frames.push_back(frame);
      if (frame.end != CallersEnd::kNone || frames.size() >= most) return frames;
      registers_ = std::move(next_registers_);
      lost_ = next_lost_;
      pc = frame.returns_to;
      sp = frame.cfa;
      at_call = !frame.interrupt && !task_begins_;
      interrupted_here_ = frame.interrupt;
    }
  }

 private:
  /// A table of vectors is one only if each of the first holds a jump: programs in assembly may do
  /// without.
  void find_vectors() {
    constexpr std::size_t kLooked = 4;
    const auto& vectors = machine_.info().vectors;
    for (std::size_t i = 0; i < vectors.size() && i < kLooked; ++i)
      if (machine_.instruction_at(vectors[i].address, false).flow != Flow::kJump) return;
    for (const InterruptVector& vector : vectors)
      vectors_end_ = std::max(vectors_end_, vector.address + convention_.instruction_unit);
  }

  /// The bytes of a register.
  [[nodiscard]] unsigned width_of(int dwarf) const {
    const auto index = machine_.find_dwarf_register(dwarf);
    return index ? std::max(1U, target_.registers()[*index].bits / 8U) : 1U;
  }

  /// A register of a frame; nullopt if it has been overwritten.
  [[nodiscard]] std::optional<std::uint64_t> value_of(int dwarf,
                                                      const std::map<int, Kept>& registers,
                                                      std::uint64_t lost) const {
    return frames::value_of(machine_, dwarf, registers, lost);
  }

  /// A register that holds an address: one, or a pair that begins with it.
  [[nodiscard]] std::optional<std::uint32_t> address_in(int dwarf, std::uint32_t sp) const {
    if (dwarf == convention_.sp_dwarf) return sp;
    const auto index = machine_.find_dwarf_register(dwarf);
    if (!index) return std::nullopt;
    const unsigned bits = machine_.target().registers()[*index].bits;
    std::uint64_t out = 0;
    for (unsigned have = 0; have < 8U * convention_.pointer_bytes; have += bits) {
      const auto part = value_of(dwarf + static_cast<int>(have / bits), registers_, lost_);
      if (!part) return std::nullopt;
      out |= *part << have;
    }
    return static_cast<std::uint32_t>(out);
  }

  [[nodiscard]] machine::SharedCode shared(std::uint32_t address) const {
    const Function* function = program_.function_at(address);
    return function == nullptr ? machine::SharedCode::kNone : target_.shared_code(function->name);
  }

  static bool is_main(const Frame& frame) {
    return frame.function != nullptr && frame.function->name == "main";
  }
  [[nodiscard]] bool at_reset(const Frame& frame) const {
    const auto& vectors = machine_.info().vectors;
    return !frame.at_call && !vectors.empty() && frame.pc == vectors[0].address;
  }
  [[nodiscard]] bool at_vector(const Frame& frame) const {
    return !frame.at_call && frame.pc < vectors_end_ && frame.pc != 0;
  }

  bool find_frame(Frame& frame) {
    if (at_vector(frame)) {
      // At a vector itself: nothing has been pushed but the address that was interrupted.
      frame.interrupt = true;
      return finish(frame, frame.sp);
    }
    if (!frame.at_call && shared(frame.pc) != machine::SharedCode::kNone) return from_shared(frame);
    return from_flow(frame, frame.pc, frame.sp) || from_table(frame);
  }

  /// By what following the function's code tells about the place `at` in it.
  bool from_flow(Frame& frame, std::uint32_t at, std::uint32_t sp) {
    const std::uint32_t look = frame.at_call ? at - convention_.instruction_unit : at;
    const FlowGraph* whole = &flows_.of(program_, machine_, *frame.function);
    const auto node = whole->node_at(look);
    if (!node) return false;
    if (whole->state_at(*node) == nullptr && !frame.function->has_lines)
      whole = &flows_.with_ways_in(program_, machine_, *frame.function);
    const FlowGraph& graph = *whole;
    const FlowGraph::Node& here = graph.nodes()[*node];
    if (frame.at_call ? here.address + here.size != at : here.address != at) return false;
    const machine::FrameState* state = graph.state_at(*node);
    const auto anchor = state != nullptr ? target_.anchor(*state) : std::nullopt;
    const auto base = anchor ? address_in(anchor->dwarf_register, sp) : std::nullopt;
    if (!base) return false;
    const std::uint32_t entry_sp =
        (*base - static_cast<std::uint32_t>(anchor->offset)) & pointer_mask_;
    if (whole == &flows_.of(program_, machine_, *frame.function)) {
      auto& known = flows_.findings(program_, machine_, *frame.function).moved;
      auto found = known.find(*node);
      if (found == known.end()) found = known.emplace(*node, moved_in(*state)).first;
      keep_registers(frame, found->second, entry_sp);
    } else {
      keep_registers(frame, moved_in(*state), entry_sp);
    }
    return finish(frame, entry_sp);
  }

  /// A register whose first byte is in the frame is there with all of them.
  [[nodiscard]] bool holds_all(const machine::FrameState& state, std::int32_t at, int dwarf) const {
    for (unsigned i = 1; i < width_of(dwarf); ++i)
      if (state.slot(at + static_cast<std::int32_t>(i)) !=
          machine::Known{machine::Known::Kind::kEntry, static_cast<std::uint8_t>(i), dwarf})
        return false;
    return true;
  }

  /// The caller's registers that are not, or not only, where they were.
  [[nodiscard]] std::vector<Flows::Moved> moved_in(const machine::FrameState& state) const {
    using Kind = machine::Known::Kind;
    std::vector<Flows::Moved> out;
    for (const RegisterName& name : target_.registers()) {
      Flows::Moved moved;
      const int r = moved.dwarf_register = name.dwarf;
      if (r < 0 || r >= 64 || r == convention_.sp_dwarf) continue;
      const machine::Known entry{Kind::kEntry, 0, r};
      const machine::Known& now = state.registers[static_cast<std::size_t>(r)];
      for (const auto& [at, what] : state.slots)
        if (what == entry && holds_all(state, at, r)) moved.offset = at;
      moved.stays = now == entry;
      if (now.kind == Kind::kLoaded) moved.offset = now.number;
      for (int q = 0; !moved.offset && q < 64; ++q)
        if (state.registers[static_cast<std::size_t>(q)] == entry) moved.other = q;
      out.push_back(moved);
    }
    return out;
  }

  /// Where the caller's registers are, seen from this frame.
  void keep_registers(Frame& frame, const std::vector<Flows::Moved>& all, std::uint32_t entry_sp) {
    for (const Flows::Moved& moved : all) {
      const int r = moved.dwarf_register;
      const std::uint64_t bit = std::uint64_t{1} << r;
      const bool lost = (lost_ & bit) != 0 && registers_.count(r) == 0;
      if (moved.stays && !lost) {
        if (moved.offset)
          frame.saved.push_back({r, static_cast<std::int32_t>(entry_sp) + *moved.offset});
      } else if (moved.offset) {
        const std::uint32_t address =
            (entry_sp + static_cast<std::uint32_t>(*moved.offset)) & pointer_mask_;
        next_registers_[r] = {address, -1};
        next_lost_ &= ~bit;
        frame.saved.push_back({r, static_cast<std::int32_t>(address)});  // see finish()
      } else if (moved.other >= 0 && (lost_ >> moved.other & 1U) == 0) {
        const auto at = registers_.find(moved.other);
        next_registers_[r] = at != registers_.end() ? at->second : Kept{{}, moved.other};
        next_lost_ &= ~bit;
      } else {
        next_registers_.erase(r);
        next_lost_ |= bit;
      }
    }
  }

  /// Where shared code leads: back to a caller, or into a function.
  struct Led {
    bool returns = false;
    std::uint32_t pc = 0;        ///< into what it jumps
    std::uint32_t entry_sp = 0;  ///< or the stack pointer at the entry of what returns
    machine::FrameState state;
  };

  /// Code that is shared belongs to the function that has jumped there: a copy of the machine runs
  /// to where it leads.
  bool from_shared(Frame& frame) {
    auto led = run_shared(frame, false);
    // What a handler has interrupted within an addition goes on with a carry that it has saved
    // somewhere: with the right one, the frame is the nearest.
    if (const auto other = interrupted_here_ ? run_shared(frame, true) : std::nullopt)
      if (!led || (led->returns ? other->returns && above(frame, *other) < above(frame, *led)
                                : !is_place(*led)))
        led = other;
    if (!led) return false;
    if (led->returns) {
      const auto anchor = target_.anchor(led->state);
      if (anchor && anchor->dwarf_register == convention_.sp_dwarf)
        keep_registers(frame, moved_in(led->state),
                       led->entry_sp - static_cast<std::uint32_t>(anchor->offset));
      else
        next_lost_ = ~std::uint64_t{0};
      finish(frame, led->entry_sp);
      find_owner(frame);
      return true;
    }
    const bool table = shared(frame.pc) == machine::SharedCode::kTable;
    const Function* owner = program_.function_at(led->pc);
    if (owner == nullptr) return false;
    frame.function = owner;
    return from_flow(frame, table ? led->pc : frame.pc, frame.sp);
  }

  [[nodiscard]] std::uint32_t above(const Frame& frame, const Led& led) const {
    return (led.entry_sp - frame.sp) & pointer_mask_;
  }
  /// Does an instruction that is come to begin there?
  [[nodiscard]] bool is_place(const Led& led) const {
    const Function* owner = program_.function_at(led.pc);
    if (owner == nullptr) return false;
    const FlowGraph& graph = flows_.of(program_, machine_, *owner);
    const auto node = graph.node_at(led.pc);
    return node && graph.nodes()[*node].address == led.pc && graph.state_at(*node) != nullptr;
  }

  [[nodiscard]] std::optional<Led> run_shared(const Frame& frame, bool other_carry) const {
    const auto copy = machine_.clone();
    for (const RegisterName& name : target_.registers()) {
      const auto index = machine_.find_dwarf_register(name.dwarf);
      if (!index || name.dwarf == convention_.sp_dwarf) continue;
      if (const auto value = value_of(name.dwarf, registers_, lost_))
        copy->set_register(*index, *value);
    }
    if (const auto index = machine_.find_dwarf_register(convention_.sp_dwarf))
      copy->set_register(*index, frame.sp);
    copy->set_pc(frame.pc);
    if (other_carry) target_.turn_carry(*copy);
    Led led;
    led.state = seen_from(*copy);
    machine::RunRequest one;
    one.instructions = 1;
    one.pass_first_breakpoint = true;
    for (unsigned i = 0; i < kMostShared; ++i) {
      const Instruction instruction = copy->instruction_at(copy->pc(), false);
      led.returns = instruction.flow == Flow::kReturn;
      target_.follow(instruction, led.state);
      target_.mask_interrupts(*copy);  // it restores a saved status
      copy->run(one);
      led.pc = copy->pc();
      led.entry_sp = copy->sp() - convention_.return_bytes;
      if (led.returns || shared(led.pc) == machine::SharedCode::kNone) return led;
    }
    return std::nullopt;
  }

  /// Whose frame it is that shared code takes down: what was called, if it gets there.
  void find_owner(Frame& frame) const {
    const auto call = call_before(frame.returns_to);
    const Function* owner = call && call->target ? program_.function_at(*call->target) : nullptr;
    if (owner != nullptr && owner->begin == *call->target &&
        flows_.of(program_, machine_, *owner).node_at(frame.pc))
      frame.function = owner;
  }

  /// The numbers that a frame's end reckons with are known; its pointer is what it leads by.
  [[nodiscard]] machine::FrameState seen_from(const machine::Machine& at) const {
    machine::FrameState state = target_.seen_by_pointer();
    state.loads_are_places = true;
    for (machine::Known& known : state.registers)
      if (known.kind == machine::Known::Kind::kConstant) {
        const auto index = at.find_dwarf_register(known.number);
        known.number = index ? static_cast<std::int32_t>(at.register_value(*index)) : 0;
      }
    return state;
  }

  /// By the image's frame information, where nothing is seen to lead. It leaves out what handlers
  /// push first.
  bool from_table(Frame& frame) {
    const std::uint32_t look = frame.at_call ? frame.pc - convention_.instruction_unit : frame.pc;
    const FlowGraph& graph = flows_.of(program_, machine_, *frame.function);
    const auto node = graph.node_at(look);
    if (is_handler(*frame.function) || (node && graph.state_at(*node) != nullptr)) return false;
    const auto row = program_.frame_at(look);
    const auto base = row ? address_in(row->cfa_register, frame.sp) : std::nullopt;
    if (!base) return false;
    const std::uint32_t cfa = (*base + static_cast<std::uint32_t>(row->cfa_offset)) & pointer_mask_;
    if (!frame.interrupt) next_lost_ |= convention_.call_clobbered;
    for (const FrameRow::Saved& saved : row->saved) {
      if (saved.dwarf_register == convention_.return_dwarf) continue;
      const std::uint32_t address = cfa + static_cast<std::uint32_t>(saved.offset);
      frame.saved.push_back({saved.dwarf_register, static_cast<std::int32_t>(address)});
      next_registers_[saved.dwarf_register] = {address, -1};
      if (saved.dwarf_register < 64) next_lost_ &= ~(std::uint64_t{1} << saved.dwarf_register);
    }
    return finish(frame, cfa - convention_.return_bytes);
  }

  bool finish(Frame& frame, std::uint32_t entry_sp) {
    frame.cfa = (entry_sp + convention_.return_bytes) & pointer_mask_;
    frame.return_slot = frame.cfa - convention_.return_bytes + convention_.stack_gap;
    if (!(convention_.return_bytes != 0 ? find_return_on_stack(frame) : find_return(frame)))
      return false;
    std::vector<FrameRow::Saved> saved;
    for (FrameRow::Saved s : frame.saved) {
      // Only a handler saves what a call may overwrite: elsewhere it is pushed for its room, or as
      // an argument.
      if (!frame.interrupt && s.dwarf_register < 64 &&
          s.dwarf_register != convention_.return_dwarf &&
          (convention_.call_clobbered >> s.dwarf_register & 1U) != 0)
        continue;
      s.offset -= static_cast<std::int32_t>(frame.cfa);
      saved.push_back(s);
    }
    frame.saved = std::move(saved);
    frame.known = true;
    return true;
  }

  bool find_return_on_stack(Frame& frame) const {
    std::vector<std::uint8_t> bytes;
    for (std::uint32_t i = 0; i < convention_.return_bytes; ++i)
      bytes.push_back(machine_.peek({Space::kData, frame.return_slot + i}).value_or(0));
    frame.returns_to = target_.return_address(bytes);
    // A handler may have been called like a function.
    if (!frame.interrupt && is_handler(*frame.function) &&
        !called_from(frame.returns_to, *frame.function))
      frame.interrupt = true;
    return true;
  }

  /// The same where a call leaves it in a register, and an interrupt in another one.
  bool find_return(Frame& frame) {
    const int link = convention_.return_dwarf;
    const std::uint64_t bit = std::uint64_t{1} << link;
    const auto back = value_of(link, next_registers_, next_lost_);
    if (!frame.interrupt && is_handler(*frame.function) &&
        !(back && called_from(static_cast<std::uint32_t>(*back), *frame.function)))
      frame.interrupt = true;
    if (frame.interrupt) {
      // Of several that interrupt each other only the last one's is still in its register.
      const auto from = machine_.find_dwarf_register(convention_.interrupted_dwarf);
      if (std::exchange(interrupted_, true) || !from) return false;
      frame.returns_to = static_cast<std::uint32_t>(machine_.register_value(*from));
      return true;
    }
    if (!back) return false;
    if (const auto kept = next_registers_.find(link); kept != next_registers_.end())
      frame.return_slot = kept->second.address.value_or(0);
    else
      frame.return_slot = 0;
    frame.returns_to = static_cast<std::uint32_t>(*back);
    next_registers_.erase(link);  // the call has overwritten it
    next_lost_ |= bit;
    return true;
  }

  /// A handler by its name, or because a vector leads to it.
  [[nodiscard]] bool is_handler(const Function& function) const {
    if (target_.is_handler_name(function.symbol())) return true;
    if (convention_.interrupted_dwarf >= 0 && ends_interrupt(function)) return true;
    if (vectors_end_ == 0) return false;
    const auto& behind = flows_.behind_vectors(machine_);
    return std::find(behind.begin(), behind.end(), function.begin) != behind.end();
  }

  [[nodiscard]] bool ends_interrupt(const Function& function) const {
    const FlowGraph& graph = flows_.of(program_, machine_, function);
    for (unsigned i = 0; i < graph.nodes().size(); ++i)
      if (graph.nodes()[i].flow == Flow::kInterruptReturn && graph.state_at(i) != nullptr)
        return true;
    return false;
  }

  /// Does a call stand before the address, and could it have led to the function?
  [[nodiscard]] bool called_from(std::uint32_t address, const Function& callee) const {
    const auto call = call_before(address);
    if (!call) return false;
    // Whose end it is that a helper takes down is not known.
    return !call->target || target_.shared_code(callee.name) != machine::SharedCode::kNone ||
           leads_to(*call->target, callee, 0);
  }

  /// The call that returns to an address: where it leads, if that is fixed.
  struct Call {
    std::optional<std::uint32_t> target;
  };
  [[nodiscard]] std::optional<Call> call_before(std::uint32_t address) const {
    if (address == 0) return std::nullopt;
    const Function* caller = program_.function_at(address - convention_.instruction_unit);
    if (caller == nullptr) {  // start-up code, whose labels are no functions
      for (std::uint32_t size = target_.longest(); size > 0; size -= convention_.instruction_unit) {
        const Instruction before = machine_.instruction_at(address - size, false);
        if (before.size == size && before.flow == Flow::kCall) return Call{before.target};
      }
      return std::nullopt;
    }
    const FlowGraph& graph = flows_.of(program_, machine_, *caller);
    const auto node = graph.node_at(address - convention_.instruction_unit);
    if (!node) return std::nullopt;
    const FlowGraph::Node& before = graph.nodes()[*node];
    if (before.address + before.size != address ||
        (before.flow != Flow::kCall && before.flow != Flow::kIndirectCall))
      return std::nullopt;
    return Call{before.target};
  }

  [[nodiscard]] bool leads_to(std::uint32_t address, const Function& callee, unsigned depth) const {
    if (address >= callee.begin && address < callee.end) return true;
    if (depth > kMostTailCalls) return false;
    const Function* way = program_.function_at(address);
    if (way == nullptr) {  // a trampoline that the linker has made
      const Instruction jump = machine_.instruction_at(address, false);
      return jump.flow == Flow::kJump && jump.target && leads_to(*jump.target, callee, depth + 1);
    }
    const FlowGraph& graph = flows_.of(program_, machine_, *way);
    if (graph.has_unknown_jump()) return true;
    // A library's function in assembly may lie within another one, and be jumped into.
    for (auto inner = graph.node_at(callee.begin);
         inner && *inner < graph.nodes().size() && graph.nodes()[*inner].address < callee.end;
         ++*inner)
      if (graph.state_at(*inner) != nullptr) return true;
    return std::any_of(graph.leaves().begin(), graph.leaves().end(), [&](const auto& leave) {
      return leads_to(leave.address, callee, depth + 1);
    });
  }

  /// Whether the address that the frame returns to can be taken for its caller's.
  CallersEnd why_end(const Frame& frame, std::size_t count) {
    task_begins_ = false;
    if (is_main(frame)) return CallersEnd::kStart;
    if (count + 1 >= kMostFrames) return CallersEnd::kTooMany;
    const bool empty = convention_.return_bytes != 0 ? frame.cfa <= frame.sp : frame.cfa < frame.sp;
    if (empty || frame.cfa + convention_.stack_gap > ram_end_) return CallersEnd::kNotOnStack;
    const Function* caller = program_.function_at(frame.returns_to);
    if (frame.interrupt) {
      if (caller == nullptr) return CallersEnd::kNoFunction;
      const FlowGraph& graph = flows_.of(program_, machine_, *caller);
      const auto node = graph.node_at(frame.returns_to);
      return node && graph.nodes()[*node].address == frame.returns_to ? CallersEnd::kNone
                                                                      : CallersEnd::kNoInstruction;
    }
    if (frame.function == nullptr) return CallersEnd::kNoFunction;
    if (called_from(frame.returns_to, *frame.function)) return CallersEnd::kNone;
    if (caller != nullptr && caller->begin == frame.returns_to && frame.returns_to != 0 &&
        !call_before(frame.returns_to)) {
      task_begins_ = true;  // nobody has called it: its address was put there
      return CallersEnd::kNone;
    }
    if (call_before(frame.returns_to)) return CallersEnd::kOtherCall;
    return frame.pc == frame.function->begin && !frame.at_call ? CallersEnd::kTaskBegins
                                                               : CallersEnd::kNoCall;
  }

  const Program& program_;
  const machine::Machine& machine_;
  const machine::Target& target_;
  Flows& flows_;
  const machine::CallConvention convention_;
  const std::uint32_t pointer_mask_;
  std::uint32_t ram_end_ = 0, vectors_end_ = 0;
  std::map<int, Kept> registers_, next_registers_;  ///< of the frame at hand, and of its caller
  std::uint64_t lost_ = 0, next_lost_ = 0;
  bool task_begins_ = false;
  bool interrupted_here_ = false;  ///< the frame at hand is not the innermost, a handler came in it
  bool interrupted_ = false;       ///< a frame of an interrupt has been found
};

}  // namespace

bool is_handler_of(const machine::Machine& machine, const Function& function,
                   const InterruptVector& vector) {
  if (function.symbol() == machine.target().handler_name(vector.number)) return true;
  const Instruction jump = machine.instruction_at(vector.address, false);
  return jump.flow == Flow::kJump && jump.target == function.begin && function.begin != 0;
}

std::vector<Frame> unwind(const Program& program, const machine::Machine& machine, Flows& flows,
                          std::size_t most) {
  return Unwinder(program, machine, flows).unwind(most);
}

std::map<std::uint32_t, std::uint32_t> pushes_in(const Program& program,
                                                 const machine::Machine& machine, Flows& flows,
                                                 const Frame& frame) {
  if (frame.function == nullptr || !frame.known || frame.left) return {};
  const machine::CallConvention convention = machine.target().convention();
  const std::uint32_t look = frame.at_call ? frame.pc - convention.instruction_unit : frame.pc;
  const FlowGraph& graph = flows.of(program, machine, *frame.function);
  const auto here = graph.node_at(look);
  auto node = graph.node_at(frame.function->begin);
  std::uint32_t at = frame.cfa - convention.return_bytes;
  std::map<std::uint32_t, std::uint32_t> out;
  for (unsigned i = 0; here && node && i < kMostScanned && *node != *here; ++i, ++*node) {
    if (*node >= graph.nodes().size()) return {};
    const FlowGraph::Node& step = graph.nodes()[*node];
    const machine::StackEffect effect =
        machine.target().stack_effect(machine.instruction_at(step.address, false));
    const bool straight =
        step.flow == Flow::kNext || step.flow == Flow::kCall || step.flow == Flow::kIndirectCall;
    if (!straight || effect.kind == machine::StackEffect::Kind::kPop ||
        effect.kind == machine::StackEffect::Kind::kUnknown)
      return {};
    if (effect.kind == machine::StackEffect::Kind::kPush)
      out[at - 1 + convention.stack_gap] = step.address;
    at -= effect.bytes;
  }
  return at == frame.sp ? out : std::map<std::uint32_t, std::uint32_t>();
}

std::optional<std::uint64_t> register_in(const Frame& frame, const machine::Machine& machine,
                                         unsigned index) {
  const RegisterName& name = machine.target().registers()[index];
  if (name.name == "pc") return frame.pc;
  if (name.name == "sp" || name.dwarf == machine.target().convention().sp_dwarf) return frame.sp;
  if (name.dwarf < 0) return std::nullopt;
  return value_of(machine, name.dwarf, frame.registers, frame.lost);
}

std::uint32_t look_address(const Frame& frame) { return frame.at_call ? frame.pc - 1 : frame.pc; }

}  // namespace lucid::frames
