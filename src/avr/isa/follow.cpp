// SPDX-License-Identifier: MIT
// What instructions do to what is known of a frame: the stack pointer, its copies in X, Y and Z,
// and the registers that are saved on the stack. "GCC internals: the AVR port's calling
// convention": r1 is zero but within handlers and behind a multiplication.
#include "avr/isa/target.h"
#include "machine/machine.h"

namespace lucid::avr {
namespace {

using machine::FrameState;
using machine::Known;
using Kind = Known::Kind;

constexpr std::int32_t kSpl = 0x3d, kSph = 0x3e;
constexpr int kSpLow = 32, kSpHigh = 33;  // places in FrameState::registers
constexpr int kX = 26, kY = 28, kZ = 30;

Known constant(std::int32_t value) { return {Kind::kConstant, 0, value & 0xff}; }

/// A sum of 16 bits out of its halves; nullopt unless they belong to one.
std::optional<Known> whole(const Known& low, const Known& high) {
  if (low.kind == Kind::kConstant && high.kind == Kind::kConstant)
    return Known{Kind::kConstant, 0, low.number | high.number << 8};
  const bool sum = low.kind == Kind::kStack || low.kind == Kind::kOffset;
  // A lower half is that of all sums which differ by whole bytes.
  if (sum && low.part == 0 && high.kind == low.kind && high.part == 1 &&
      ((high.number ^ low.number) & 0xff) == 0)
    return Known{low.kind, 0, high.number};
  return std::nullopt;
}

class Follow {
 public:
  Follow(FrameState& state, bool small_stack) : state_(state), small_stack_(small_stack) {}

  [[nodiscard]] Known reg(int n) const {
    const Known& known = state_.registers[static_cast<std::size_t>(n)];
    if (n == 1 && known.kind == Kind::kEntry && known.number == 1) return constant(0);
    return known;
  }
  void set(int n, Known what) { state_.registers[static_cast<std::size_t>(n)] = what; }
  [[nodiscard]] std::optional<Known> pair(int low) const { return whole(reg(low), reg(low + 1)); }
  void set_pair(int low, const std::optional<Known>& what) {
    set(low, half(what, 0));
    set(low + 1, half(what, 1));
  }
  static Known half(const std::optional<Known>& what, std::uint8_t part) {
    if (!what) return {};
    if (what->kind == Kind::kConstant) return constant(what->number >> (8 * part));
    return {what->kind, part, what->number};
  }

  /// The stack pointer's distance from where it was at the function's entry.
  [[nodiscard]] std::optional<std::int32_t> sp() const {
    const auto known = whole(reg(kSpLow), reg(kSpHigh));
    if (!known || known->kind != Kind::kStack) return std::nullopt;
    return known->number;
  }
  void move_sp(std::int32_t by) {
    const auto now = sp();
    set_pair(kSpLow,
             now ? std::optional<Known>({Kind::kStack, 0, *now + by}) : std::optional<Known>());
    if (now && by > 0) state_.drop_slots_up_to(*now + by);
  }
  void push(Known what) {
    if (const auto at = sp()) state_.set_slot(*at, what);
    move_sp(-1);
  }
  [[nodiscard]] Known pop() {
    const auto at = sp();
    const Known what = at ? state_.slot(*at + 1) : Known{};
    move_sp(1);
    return what;
  }

  /// Adds a number to a pair.
  void add(int low, std::int32_t number) {
    auto now = pair(low);
    if (now) {
      now->number += number;
      if (now->kind == Kind::kConstant) now->number &= 0xffff;
    }
    set_pair(low, now);
  }

  /// The lower half of an addition.
  void add_low(int low, Known other, bool subtract) {
    const Known before = reg(low);
    state_.halves = {true, subtract, static_cast<std::uint8_t>(low), before, other};
    Known result;
    if (other.kind == Kind::kConstant && before.kind == Kind::kStack && before.part == 1) {
      result = before;  // whole bytes, to the upper half alone
      result.number += (subtract ? -other.number : other.number) * 256;
    }
    if (other.kind == Kind::kConstant &&
        (before.kind == Kind::kStack || before.kind == Kind::kConstant) && before.part == 0) {
      result = before;
      result.number += subtract ? -other.number : other.number;
      if (before.kind == Kind::kConstant) result = constant(result.number);
    }
    set(low, result);
  }
  /// The upper half, if the lower one has just been.
  void add_high(int high, Known other, bool subtract, const FrameState::Halves& halves) {
    const Known before = reg(high);
    set(high, {});
    if (!halves.active || halves.subtract != subtract || halves.low_register + 1 != high) return;
    auto left = whole(halves.low, before);
    auto right = whole(halves.other, other);
    const auto is_number = [](const std::optional<Known>& k) {
      return k && k->kind == Kind::kConstant;
    };
    if (!subtract && is_number(left) && !is_number(right)) std::swap(left, right);
    if (!is_number(right)) return;
    Known sum{Kind::kOffset, 0, 0};
    if (left && left->kind != Kind::kOffset)
      sum = *left;
    else if (left)
      sum.number = left->number;
    sum.number += subtract ? -right->number : right->number;
    if (sum.kind == Kind::kConstant || sum.kind == Kind::kOffset) sum.number &= 0xffff;
    // Compilers subtract 65419 to add 117.
    if (sum.kind == Kind::kStack) sum.number = static_cast<std::int16_t>(sum.number);
    set_pair(halves.low_register, sum);
  }

  void load(int to, int pointer, std::int32_t displacement) {
    const auto at = pair(pointer);
    set(to, at && at->kind == Kind::kStack ? state_.slot(at->number + displacement) : Known{});
  }
  void store(int from, int pointer, std::int32_t displacement) {
    if (const auto at = pair(pointer); at && at->kind == Kind::kStack)
      state_.set_slot(at->number + displacement, reg(from));
  }
  void out(std::int32_t io, int from) {
    if (io != kSpl && io != kSph) return;
    const int place = io == kSpl ? kSpLow : kSpHigh;
    set(place, reg(from));
    if (io == kSpl && small_stack_) set(kSpHigh, half(Known{Kind::kStack, 0, reg(from).number}, 1));
    if (const auto now = sp()) state_.drop_slots_up_to(*now);
  }

 private:
  FrameState& state_;
  bool small_stack_;  ///< there is no SPH
};

}  // namespace

machine::FrameState AvrTarget::at_entry() const {
  FrameState state;
  for (int n = 0; n < 32; ++n) state.registers[static_cast<std::size_t>(n)] = {Kind::kEntry, 0, n};
  state.registers[kSpLow] = {Kind::kStack, 0, 0};
  state.registers[kSpHigh] = {Kind::kStack, 1, 0};
  return state;
}

std::optional<machine::Anchor> AvrTarget::anchor(const FrameState& state) const {
  constexpr int kPairs[] = {kSpLow, kY, kX, kZ, 24, 22, 20, 18, 16, 14, 12, 10, 8, 6, 4, 2};
  for (const int low : kPairs) {
    const auto known = whole(state.registers[static_cast<std::size_t>(low)],
                             state.registers[static_cast<std::size_t>(low) + 1]);
    if (known && known->kind == Kind::kStack) return machine::Anchor{low, known->number};
  }
  const Known& low = state.registers[kY];  // where SP has one byte, its copy's upper one is zero
  const Known& high = state.registers[kY + 1];
  if (low.kind == Kind::kStack && low.part == 0 && high == constant(0))
    return machine::Anchor{kY, low.number};
  return std::nullopt;
}

std::optional<std::vector<std::uint32_t>> AvrTarget::jump_targets(const machine::Machine& machine,
                                                                  const Instruction& /*jump*/,
                                                                  const FrameState& state,
                                                                  std::uint32_t begin,
                                                                  std::uint32_t end) const {
  constexpr std::size_t kMostEntries = 512;
  const auto z = whole(state.registers[kZ], state.registers[kZ + 1]);
  if (!z) return std::nullopt;
  std::vector<std::uint32_t> out;
  if (z->kind == Kind::kConstant) {
    out.push_back(static_cast<std::uint32_t>(z->number) * 2 % flash_bytes_);
    return out;
  }
  if (z->kind != Kind::kOffset) return std::nullopt;
  // Words, each the word address of a place; whatever follows the table is no place of this
  // function, or one more that may be taken.
  for (auto at = static_cast<std::uint32_t>(z->number) * 2; out.size() < kMostEntries; at += 2) {
    const auto low = machine.peek({Space::kCode, at});
    const auto high = machine.peek({Space::kCode, at + 1});
    if (!low || !high) break;
    const std::uint32_t target = 2U * (*low | std::uint32_t{*high} << 8);
    if (target < begin || target >= end) break;
    out.push_back(target);
  }
  if (out.empty()) return std::nullopt;
  return out;
}

std::uint64_t AvrTarget::writes(const Instruction& instruction) const {
  const Entry entry = entry_of(instruction);
  std::uint64_t out = 0;
  const machine::RegisterSpan result = result_of(instruction);
  for (int i = 0; i < result.count; ++i) out |= std::uint64_t{1} << (result.first + i);
  switch (entry.op) {
    case kLD_XI:
    case kLD_XD:
    case kST_XI:
    case kST_XD: out |= std::uint64_t{3} << kX; break;
    case kLD_YI:
    case kLD_YD:
    case kST_YI:
    case kST_YD: out |= std::uint64_t{3} << kY; break;
    case kLD_ZI:
    case kLD_ZD:
    case kST_ZI:
    case kST_ZD:
    case kLPM_I:
    case kELPM_I: out |= std::uint64_t{3} << kZ; break;
    default: break;
  }
  return out;
}

void AvrTarget::follow(const Instruction& instruction, FrameState& state) const {
  const Entry e = entry_of(instruction);
  Follow f(state, flash_bytes_ <= 2048);
  const FrameState::Halves halves = std::exchange(state.halves, {});
  if (e.op == kNoOp) return;
  if (instruction.flow == Flow::kCall || instruction.flow == Flow::kIndirectCall) {
    const std::uint64_t clobbered = convention().call_clobbered;
    for (int n = 0; n < 32; ++n)
      if ((clobbered >> n & 1U) != 0) f.set(n, {});
    f.set(1, constant(0));
    if (const auto sp = f.sp()) state.drop_slots_up_to(*sp);
    return;
  }
  switch (e.op) {
    case kPUSH: f.push(f.reg(e.a)); return;
    case kPOP: f.set(e.a, f.pop()); return;
    case kRCALL:  // only makes room
      for (unsigned i = 0; i < convention().return_bytes; ++i) f.push({});
      return;
    case kIN:
      f.set(e.a, e.k == kSpl ? f.reg(kSpLow) : e.k == kSph ? f.reg(kSpHigh) : Known{});
      return;
    case kOUT: f.out(e.k, e.a); return;
    case kMOV: f.set(e.a, state.registers[e.b]); return;
    case kMOVW:
      f.set(e.a, state.registers[e.b]);
      f.set(e.a + 1, state.registers[e.b + 1U]);
      return;
    case kLDI: f.set(e.a, constant(e.k)); return;
    case kEOR: f.set(e.a, e.a == e.b ? constant(0) : Known{}); return;
    case kADIW: f.add(e.a, e.k); return;
    case kSBIW: f.add(e.a, -e.k); return;
    case kADD: f.add_low(e.a, f.reg(e.b), false); return;
    case kSUB: f.add_low(e.a, f.reg(e.b), true); return;
    case kSUBI: f.add_low(e.a, constant(e.k), true); return;
    case kADC: f.add_high(e.a, f.reg(e.b), false, halves); return;
    case kSBC: f.add_high(e.a, f.reg(e.b), true, halves); return;
    case kSBCI: f.add_high(e.a, constant(e.k), true, halves); return;
    case kLDD_Y: f.load(e.a, kY, e.k); return;
    case kLDD_Z: f.load(e.a, kZ, e.k); return;
    case kSTD_Y: f.store(e.a, kY, e.k); return;
    case kSTD_Z: f.store(e.a, kZ, e.k); return;
    case kLD_X: f.load(e.a, kX, 0); return;
    case kLD_Y: f.load(e.a, kY, 0); return;
    case kLD_Z: f.load(e.a, kZ, 0); return;
    case kST_X: f.store(e.a, kX, 0); return;
    case kST_Y: f.store(e.a, kY, 0); return;
    case kST_Z: f.store(e.a, kZ, 0); return;
    case kLD_XI:
      f.load(e.a, kX, 0);
      f.add(kX, 1);
      return;
    case kLD_YI:
      f.load(e.a, kY, 0);
      f.add(kY, 1);
      return;
    case kLD_ZI:
      f.load(e.a, kZ, 0);
      f.add(kZ, 1);
      return;
    case kST_XI:
      f.store(e.a, kX, 0);
      f.add(kX, 1);
      return;
    case kST_YI:
      f.store(e.a, kY, 0);
      f.add(kY, 1);
      return;
    case kST_ZI:
      f.store(e.a, kZ, 0);
      f.add(kZ, 1);
      return;
    case kLD_XD:
      f.add(kX, -1);
      f.load(e.a, kX, 0);
      return;
    case kLD_YD:
      f.add(kY, -1);
      f.load(e.a, kY, 0);
      return;
    case kLD_ZD:
      f.add(kZ, -1);
      f.load(e.a, kZ, 0);
      return;
    case kST_XD:
      f.add(kX, -1);
      f.store(e.a, kX, 0);
      return;
    case kST_YD:
      f.add(kY, -1);
      f.store(e.a, kY, 0);
      return;
    case kST_ZD:
      f.add(kZ, -1);
      f.store(e.a, kZ, 0);
      return;
    default: break;
  }
  const std::uint64_t written = writes(instruction);
  for (int n = 0; n < 32; ++n)
    if ((written >> n & 1U) != 0) f.set(n, {});
}

namespace {}  // namespace

std::optional<machine::StackSpan> AvrTarget::stack_store(const Instruction& instruction,
                                                         const FrameState& state) const {
  const Entry entry = entry_of(instruction);
  auto access = pointer_access(entry);
  if (entry.op == kPUSH) access = PointerAccess{kSpLow, true, 0, -1};
  if (!access || !access->write) return std::nullopt;
  const auto at = stack_offset_in(state, access->pair);
  if (!at) return std::nullopt;
  return machine::StackSpan{*at + access->by, 1};
}

std::vector<std::int32_t> AvrTarget::stack_pointers(const FrameState& state,
                                                    std::uint64_t others) const {
  std::vector<std::int32_t> out;
  for (int low = 0; low < 32; low += 2)
    if (const auto at =
            low != kY && (others >> low & 3U) == 0 ? stack_offset_in(state, low) : std::nullopt)
      out.push_back(*at);
  return out;
}

std::optional<std::int32_t> AvrTarget::stack_offset_in(const FrameState& state, int dwarf) const {
  if (dwarf < 0 || dwarf > kSpLow) return std::nullopt;
  const auto at = static_cast<std::size_t>(dwarf);
  const auto known = whole(state.registers[at], state.registers[at + 1]);
  if (!known || known->kind != Kind::kStack) return std::nullopt;
  return known->number;
}

machine::SharedCode AvrTarget::shared_code(const std::string& name) const {
  if (name == "__prologue_saves__" || name == "__epilogue_restores__")
    return machine::SharedCode::kFrame;
  return name.rfind("__tablejump", 0) == 0 ? machine::SharedCode::kTable
                                           : machine::SharedCode::kNone;
}

machine::FrameState AvrTarget::seen_by_pointer() const {
  FrameState state = at_entry();
  state.registers[kY] = {Kind::kStack, 0, 0};
  state.registers[kY + 1] = {Kind::kStack, 1, 0};
  state.registers[kZ] = {Kind::kConstant, 0, kZ};  // how many bytes were saved
  state.registers[kZ + 1] = {Kind::kConstant, 0, kZ + 1};
  state.registers[kSpLow] = state.registers[kSpHigh] = {};
  return state;
}

std::string AvrTarget::handler_name(unsigned vector) const {
  return "__vector_" + std::to_string(vector);
}

std::string AvrTarget::handler_title(const InterruptVector& vector) const {
  return vector.name + "_vect";
}

bool AvrTarget::is_handler_name(const std::string& name) const {
  return name.rfind("__vector_", 0) == 0 && name != "__vector_default";
}

std::optional<machine::Target::FixedAccess> AvrTarget::fixed_access(const Instruction& instruction,
                                                                    const FrameState* state) const {
  const Entry entry = entry_of(instruction);
  if (entry.op == kLDS || entry.op == kSTS) return FixedAccess{*instruction.data, entry.op == kSTS};
  // What belongs to the core (RAMPZ, EIND, SP, SREG) is saved and restored, not shared.
  constexpr std::uint32_t kIoBegin = 0x20, kCoreBegin = 0x3b;
  const auto io = static_cast<std::uint32_t>(entry.k);
  if ((entry.op == kIN || entry.op == kOUT) && io < kCoreBegin)
    return FixedAccess{kIoBegin + io, entry.op == kOUT};
  if (entry.op == kSBI || entry.op == kCBI) return FixedAccess{kIoBegin + io, true, true};
  const auto access = pointer_access(entry);
  if (!access || state == nullptr) return std::nullopt;
  const auto pointer = static_cast<std::size_t>(access->pair);
  const Known& low = state->registers[pointer];
  const Known& high = state->registers[pointer + 1];
  if (low.kind != Kind::kConstant || high.kind != Kind::kConstant) return std::nullopt;
  const std::int32_t base = (low.number & 0xff) | (high.number & 0xff) << 8;
  return FixedAccess{static_cast<std::uint32_t>(base + access->by) & 0xffffU, access->write};
}

std::optional<machine::Target::PointedAccess> AvrTarget::pointed_access(
    const Instruction& instruction) const {
  const auto access = pointer_access(entry_of(instruction));
  if (!access) return std::nullopt;
  return PointedAccess{access->pair, access->by, access->moves, access->write};
}

void AvrTarget::mask_interrupts(machine::Machine& machine) const {
  machine.set_register(kSreg, machine.register_value(kSreg) & 0x7fU);
}

void AvrTarget::turn_carry(machine::Machine& machine) const {
  machine.set_register(kSreg, machine.register_value(kSreg) ^ 1U);
}

}  // namespace lucid::avr
