// SPDX-License-Identifier: MIT
#include "session/callers.h"

#include <algorithm>
#include <functional>
#include <set>
#include <utility>

namespace lucid::session {
namespace {

constexpr unsigned kMostFrames = 256;
constexpr unsigned kMostScanned = 256;

class Unwinder {
 public:
  Unwinder(const Program& program, const isa::Machine& machine)
      : program_(program), machine_(machine), convention_(machine.target().convention()) {
    const MemoryArea* ram = machine.area("ram");
    ram_end_ = ram != nullptr ? ram->end : UINT32_MAX;
  }

  std::vector<Frame> unwind() {
    std::vector<Frame> frames;
    std::uint32_t pc = machine_.pc();
    std::uint32_t sp = machine_.sp();
    bool at_call = false;
    while (frames.size() < kMostFrames) {
      Frame frame;
      frame.pc = pc;
      frame.sp = sp;
      frame.registers = registers_;
      frame.lost = lost_;
      frame.at_call = at_call;
      // A return address may lie behind the last instruction of a function that never returns.
      frame.function = program_.function_at(at_call ? pc - convention_.instruction_unit : pc);
      if (frame.function == nullptr) {
        frames.push_back(frame);
        break;
      }
      find_cfa(frame, sp, at_call);
      frames.push_back(frame);
      if (!frame.known || frame.function->name == "main") break;
      std::vector<std::uint8_t> bytes;
      for (std::uint32_t i = 0; i < convention_.return_bytes; ++i)
        bytes.push_back(machine_.peek({Space::kData, frame.return_slot + i}).value_or(0));
      if (frame.cfa <= sp || frame.cfa + convention_.stack_gap > ram_end_) break;
      if (!frame.interrupt) lost_ |= convention_.call_clobbered;
      for (const FrameRow::Saved& saved : frame.saved) {
        if (saved.dwarf_register == convention_.return_dwarf) continue;
        registers_[saved.dwarf_register] = frame.cfa + static_cast<std::uint32_t>(saved.offset);
        if (saved.dwarf_register < 64) lost_ &= ~(std::uint64_t{1} << saved.dwarf_register);
      }
      pc = machine_.target().return_address(bytes);
      sp = frame.cfa;
      at_call = !frame.interrupt;
      if (program_.function_at(pc) == nullptr) break;
    }
    return frames;
  }

 private:
  [[nodiscard]] static bool is_handler(const Function& f) {
    return f.name.rfind("__vector_", 0) == 0 && f.name != "__vector_default";
  }

  /// The value of a register in the frame at hand: saved by a callee, or still in the machine.
  [[nodiscard]] std::uint64_t value_of(int dwarf) const {
    if (const auto saved = registers_.find(dwarf); saved != registers_.end())
      return machine_.peek({Space::kData, saved->second}).value_or(0);
    const auto index = machine_.find_dwarf_register(dwarf);
    return index ? machine_.register_value(*index) : 0;
  }

  void find_cfa(Frame& frame, std::uint32_t sp, bool at_call) {
    frame.interrupt = is_handler(*frame.function);
    const std::uint32_t look = at_call ? frame.pc - convention_.instruction_unit : frame.pc;
    if (!program_.frame_at(look) && shared_frame(frame, sp, look)) return;
    if (!at_call && straight_to_return(frame, sp)) return;
    if (straight_from_start(frame, sp, look)) return;
    if (const auto row = program_.frame_at(look)) {
      std::uint64_t base = 0;
      if (row->cfa_register == convention_.sp_dwarf) {
        base = sp;
      } else {
        base = value_of(row->cfa_register);
        // A pointer wider than one register is the pair that begins with it.
        if (convention_.pointer_bytes == 2 && row->cfa_register < 32)
          base |= value_of(row->cfa_register + 1) << 8;
      }
      frame.cfa = static_cast<std::uint32_t>(base) + static_cast<std::uint32_t>(row->cfa_offset);
      frame.saved = row->saved;
      if (frame.interrupt) {
        const std::uint32_t forgotten = forgotten_pushes(*frame.function, look);
        frame.cfa += forgotten;
        // What the table knows was pushed below the forgotten bytes.
        for (FrameRow::Saved& saved : frame.saved)
          if (saved.dwarf_register != convention_.return_dwarf &&
              saved.offset < -std::int32_t{convention_.return_bytes} - 1)
            saved.offset -= static_cast<std::int32_t>(forgotten);
      }
      finish(frame, false);
      return;
    }
    count_pushes(frame, sp, look);
  }

  /// Without frame information, by the compiler's shared code for frames.
  bool shared_frame(Frame& frame, std::uint32_t sp, std::uint32_t look) const {
    const auto shared = machine_.target().shared_frame(
        machine_, [this](int dwarf) { return value_of(dwarf); }, frame.function->begin, look, sp);
    if (!shared) return false;
    frame.cfa = shared->cfa;
    for (const isa::SharedFrame::Saved& saved : shared->saved)
      frame.saved.push_back(
          {saved.dwarf_register, static_cast<std::int32_t>(saved.address - frame.cfa)});
    if (shared->owner)
      if (const Function* owner = program_.function_at(*shared->owner)) frame.function = owner;
    finish(frame, false);
    return true;
  }

  void finish(Frame& frame, bool guessed) const {
    // Only a handler saves what a call may overwrite: elsewhere it is pushed for its room, or as an
    // argument.
    if (!frame.interrupt)
      frame.saved.erase(
          std::remove_if(frame.saved.begin(), frame.saved.end(),
                         [&](const FrameRow::Saved& s) {
                           return s.dwarf_register < 64 &&
                                  (convention_.call_clobbered >> s.dwarf_register & 1U) != 0;
                         }),
          frame.saved.end());
    frame.known = true;
    frame.guessed = guessed;
    frame.return_slot = frame.cfa - convention_.return_bytes + convention_.stack_gap;
  }

  /// If nothing but straight code lies between here and the return, every pop is known.
  bool straight_to_return(Frame& frame, std::uint32_t sp) const {
    std::uint32_t pc = frame.pc;
    std::uint32_t depth = sp;
    std::map<int, std::uint32_t> pops;  // the last one of a register counts
    for (unsigned i = 0; i < kMostScanned; ++i) {
      const Instruction instruction = machine_.instruction_at(pc, false);
      if (instruction.validity == Validity::kReserved) return false;
      if (instruction.flow == Flow::kReturn || instruction.flow == Flow::kInterruptReturn) {
        frame.cfa = depth + convention_.return_bytes;
        for (const auto& [reg, address] : pops)
          frame.saved.push_back({reg, static_cast<std::int32_t>(address - frame.cfa)});
        finish(frame, false);
        return true;
      }
      if (instruction.flow != Flow::kNext && instruction.flow != Flow::kJump) return false;
      const isa::StackEffect effect = machine_.target().stack_effect(instruction);
      switch (effect.kind) {
        case isa::StackEffect::Kind::kNone: break;
        case isa::StackEffect::Kind::kPop:
          depth += effect.bytes;
          // What is pushed on the way is not on the stack yet.
          if (depth > sp) pops[effect.dwarf_register] = depth - 1 + convention_.stack_gap;
          break;
        case isa::StackEffect::Kind::kPush:
        case isa::StackEffect::Kind::kAllocate: depth -= effect.bytes; break;
        case isa::StackEffect::Kind::kUnknown: return false;
      }
      pc = instruction.flow == Flow::kJump ? *instruction.target : pc + instruction.size;
      // A jump into another function is a tail call: its return is ours, but its code is not.
      if (pc < frame.function->begin || pc >= frame.function->end) return false;
    }
    return false;
  }

  /// If straight code leads here from the function's start, what was pushed on the way is known.
  /// Compilers' tables are late in places, such as between two instructions that make room.
  bool straight_from_start(Frame& frame, std::uint32_t sp, std::uint32_t look) const {
    std::uint32_t pushed = 0;
    std::set<int> written;
    std::vector<std::pair<std::uint32_t, std::uint32_t>> by;  // instruction, bytes before it
    std::vector<std::pair<int, std::uint32_t>> pushes;        // register, bytes pushed before it
    std::uint32_t pc = frame.function->begin;
    for (unsigned i = 0; pc < look; ++i) {
      const Instruction instruction = machine_.instruction_at(pc, false);
      const bool straight = instruction.flow == Flow::kNext || instruction.flow == Flow::kCall ||
                            instruction.flow == Flow::kIndirectCall;
      const isa::StackEffect effect = machine_.target().stack_effect(instruction);
      if (i >= kMostScanned || instruction.validity == Validity::kReserved || !straight ||
          effect.kind == isa::StackEffect::Kind::kPop ||
          effect.kind == isa::StackEffect::Kind::kUnknown)
        return false;
      // What has been written on the way is no longer the caller's.
      const isa::RegisterSpan result = machine_.target().result_of(instruction);
      for (int n = 0; n < result.count; ++n) written.insert(result.first + n);
      if (effect.kind == isa::StackEffect::Kind::kPush && written.count(effect.dwarf_register) == 0)
        pushes.emplace_back(effect.dwarf_register, pushed);
      if (effect.kind == isa::StackEffect::Kind::kPush) by.emplace_back(pc, pushed);
      if (effect.kind != isa::StackEffect::Kind::kNone) pushed += effect.bytes;
      pc += instruction.size;
    }
    if (pc != look && pc != frame.pc) return false;
    frame.cfa = sp + pushed + convention_.return_bytes;
    for (const auto& [at, before] : by)
      frame.pushed[frame.cfa - convention_.return_bytes - before - 1 + convention_.stack_gap] = at;
    for (const auto& [reg, before] : pushes)
      frame.saved.push_back(
          {reg, -static_cast<std::int32_t>(convention_.return_bytes + before + 1) +
                    convention_.stack_gap});
    finish(frame, false);
    return true;
  }

  /// avr-gcc's tables leave out the pushes of status registers at a handler's start: `in` into a
  /// scratch register, then `push` of it.
  [[nodiscard]] std::uint32_t forgotten_pushes(const Function& function, std::uint32_t look) const {
    std::uint32_t forgotten = 0;
    std::uint32_t pc = function.begin;
    bool read_status = false;
    for (unsigned i = 0; i < 16 && pc < look; ++i) {
      const Instruction instruction = machine_.instruction_at(pc);
      if (instruction.mnemonic == "push" && read_status) ++forgotten;
      read_status = instruction.mnemonic == "in" && instruction.operands != "r28, 0x3d" &&
                    instruction.operands != "r29, 0x3e";
      pc += instruction.size;
    }
    return forgotten;
  }

  void count_pushes(Frame& frame, std::uint32_t sp, std::uint32_t look) const {
    std::uint32_t pc = frame.function->begin;
    std::uint32_t depth = sp + convention_.return_bytes;
    for (unsigned i = 0; i < 4096 && pc < look; ++i) {
      const Instruction instruction = machine_.instruction_at(pc, false);
      const isa::StackEffect effect = machine_.target().stack_effect(instruction);
      if (effect.kind == isa::StackEffect::Kind::kUnknown) return;
      if (effect.kind == isa::StackEffect::Kind::kPush ||
          effect.kind == isa::StackEffect::Kind::kAllocate)
        depth += effect.bytes;
      if (effect.kind == isa::StackEffect::Kind::kPop) depth -= effect.bytes;
      pc += instruction.size;
    }
    frame.cfa = depth;
    finish(frame, true);
  }

  const Program& program_;
  const isa::Machine& machine_;
  const isa::CallConvention convention_;
  std::uint32_t ram_end_ = 0;
  std::map<int, std::uint32_t> registers_;  ///< where a caller's register is saved
  std::uint64_t lost_ = 0;                  ///< a caller's registers that are gone, a bit each
};

}  // namespace

std::vector<Frame> unwind(const Program& program, const isa::Machine& machine) {
  return Unwinder(program, machine).unwind();
}

std::uint32_t look_address(const Frame& frame) { return frame.at_call ? frame.pc - 1 : frame.pc; }

namespace {

constexpr std::size_t kMostTailCalls = 8;

/// The tail calls that lead from one function to another; nullopt if there is no way, or several.
std::optional<std::vector<const CallSite*>> tail_calls(const Program& program, std::uint32_t from,
                                                       std::uint32_t to) {
  std::optional<std::vector<const CallSite*>> found;
  unsigned ways = 0;
  unsigned looked = 0;
  std::vector<const CallSite*> path;
  const std::function<void(std::uint32_t)> search = [&](std::uint32_t at) {
    const Function* function = program.function_at(at);
    if (function == nullptr || path.size() >= kMostTailCalls || ++looked > 1000) return;
    for (const CallSite* site : program.tail_calls_in(*function)) {
      const bool again = std::find(path.begin(), path.end(), site) != path.end();
      if (!site->callee || again) continue;
      path.push_back(site);
      if (*site->callee == to) {
        ++ways;
        found = path;
      } else {
        search(*site->callee);
      }
      path.pop_back();
    }
  };
  search(from);
  return ways == 1 ? found : std::nullopt;
}

/// The levels between a frame and the call that led to it: functions that jumped on.
void add_left_levels(const Program& program, const Frame& frame, const Frame& caller,
                     std::vector<Frame>& out) {
  const CallSite* site = caller.at_call ? program.call_site_at(caller.pc) : nullptr;
  if (site == nullptr || !site->callee || frame.function == nullptr || frame.interrupt ||
      *site->callee == frame.function->begin)
    return;
  const auto path = tail_calls(program, *site->callee, frame.function->begin);
  if (!path) return;
  for (auto jump = path->rbegin(); jump != path->rend(); ++jump) {
    Frame left;
    left.pc = (*jump)->returns_to;
    left.at_call = true;
    left.left = true;
    left.cfa = frame.cfa;
    left.lost = ~std::uint64_t{0};
    left.function = program.function_at(look_address(left));
    out.push_back(std::move(left));
  }
}

}  // namespace

std::vector<Frame> call_levels(const Program& program, const isa::Machine& machine) {
  std::vector<Frame> out;
  const std::vector<Frame> frames = unwind(program, machine);
  for (std::size_t i = 0; i < frames.size(); ++i) {
    Frame frame = frames[i];
    if (i > 0) add_left_levels(program, frames[i - 1], frame, out);
    const InlinedCall* inner = nullptr;
    for (const InlinedCall* call : program.inlined_at(look_address(frame))) {
      Frame level = frame;
      level.inlined = call;
      level.inner = std::exchange(inner, call);
      level.interrupt = false;
      out.push_back(std::move(level));
    }
    frame.inner = inner;
    out.push_back(std::move(frame));
  }
  return out;
}

}  // namespace lucid::session
