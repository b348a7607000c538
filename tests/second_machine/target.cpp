// SPDX-License-Identifier: MIT
#include "target.h"

#include <fmt/format.h>

#include "machine/machine.h"

namespace lucid::rv32 {
namespace {

using machine::FrameState;
using machine::Known;
using Kind = machine::Known::Kind;

u32 word_of(const std::vector<u8>& bytes) {
  u32 out = 0;
  for (unsigned i = 0; i < 4 && i < bytes.size(); ++i) out |= u32{bytes[i]} << (8 * i);
  return out;
}
Decoded decoded(const Instruction& instruction) { return rv32::decode(word_of(instruction.bytes)); }

/// What of a register is known, x0 being 0.
Known known(const FrameState& state, unsigned number) {
  return number == 0 ? Known{Kind::kConstant, 0, 0} : state.registers[number];
}
bool has_number(const Known& k) {
  return k.kind == Kind::kConstant || k.kind == Kind::kStack || k.kind == Kind::kOffset;
}
Known plus(Known k, i32 more) {
  if (!has_number(k)) return {};
  k.number = static_cast<i32>(static_cast<u32>(k.number) + static_cast<u32>(more));
  return k;
}

unsigned stored_bytes(Op op) { return op == kSB ? 1U : op == kSH ? 2U : op == kSW ? 4U : 0U; }

/// A register with all its bytes in the frame, or nothing.
Known loaded(const FrameState& state, i32 at) {
  const Known first = state.slot(at);
  for (u8 i = 1; i < 4; ++i) {
    Known part = first;
    part.part = i;
    if (first.kind != Kind::kLoaded && state.slot(at + i) != part) return {};
  }
  return first;
}

}  // namespace

const std::vector<RegisterName>& Target::registers() const {
  static const std::vector<RegisterName> kNames = [] {
    std::vector<RegisterName> out;
    for (unsigned i = 0; i < 32; ++i) out.push_back({register_name(i), 32, static_cast<int>(i)});
    constexpr int kCsrs = 4096;  // where DWARF numbers them from
    out.push_back({"pc", 32, -1});
    for (const auto& [name, number] : {std::pair{"mstatus", kMstatus},
                                       {"mie", kMie},
                                       {"mtvec", kMtvec},
                                       {"mepc", kMepc},
                                       {"mcause", kMcause}})
      out.push_back({name, 32, kCsrs + static_cast<int>(number)});
    return out;
  }();
  return kNames;
}

machine::CallConvention Target::convention() const {
  machine::CallConvention out;
  out.sp_dwarf = kSp;
  out.return_dwarf = kRa;
  out.return_bytes = 0;
  out.instruction_unit = 4;
  out.pointer_bytes = 4;
  out.int_bytes = 4;
  out.arguments = 0xffU << kA0;
  // ra, t0 to t2, a0 to a7, t3 to t6.
  out.call_clobbered = 1U << kRa | 7U << 5 | 0xffU << kA0 | 15U << 28;
  out.interrupted_dwarf = 4096 + static_cast<int>(kMepc);
  return out;
}

Instruction Target::decode(const std::vector<u8>& bytes, u32 address) const {
  Instruction out;
  out.address = address;
  out.bytes = bytes;
  out.size = 4;
  if (bytes.size() < 4) {
    out.size = static_cast<u8>(std::max<std::size_t>(1, bytes.size()));
    return out;
  }
  const Decoded d = rv32::decode(word_of(bytes));
  if (d.op == kReserved) return out;
  out.validity = Validity::kValid;
  out.flow = flow_of(d);
  if (d.op == kJAL || row(d.op).format == B) out.target = address + static_cast<u32>(d.imm);
  return out;
}

void Target::write_text(Instruction& instruction) const {
  const Decoded d = decoded(instruction);
  if (instruction.validity == Validity::kReserved) {
    instruction.mnemonic = ".word";
    instruction.operands = fmt::format("{:#010x}", word_of(instruction.bytes));
    return;
  }
  instruction.mnemonic = row(d.op).mnemonic;
  instruction.operands = operands(d, instruction.address);
}

machine::RegisterSpan Target::result_of(const Instruction& instruction) const {
  const Decoded d = decoded(instruction);
  return d.rd == 0 ? machine::RegisterSpan{} : machine::RegisterSpan{static_cast<int>(d.rd), 1};
}

machine::RegisterSpan Target::returned_in(u32 bytes) const {
  if (bytes == 0 || bytes > 8) return {};
  return {kA0, bytes > 4 ? 2 : 1};
}

u64 Target::reads(const Instruction& instruction) const {
  return rv32::reads(decoded(instruction));
}

machine::Making Target::making(const machine::Machine& before, const Instruction& instruction,
                               const machine::Cell& cell) const {
  using machine::Cell;
  using How = machine::Making::How;
  const Decoded d = decoded(instruction);
  const u32 at = static_cast<u32>(before.register_value(d.rs1)) + static_cast<u32>(d.imm);
  const auto of = [](unsigned number) { return Cell{Cell::Kind::kRegister, number, {}}; };
  if (cell.kind == Cell::Kind::kMemory) {
    const unsigned bytes = stored_bytes(d.op);
    const bool here = cell.address.space == Space::kData && cell.address.offset - at < bytes;
    return here ? machine::Making{How::kMoved, {of(d.rs2)}} : machine::Making{};
  }
  if (cell.kind != Cell::Kind::kRegister || (rv32::writes(d) >> cell.number & 1U) == 0) return {};
  const unsigned bytes = d.op == kLB || d.op == kLBU   ? 1U
                         : d.op == kLH || d.op == kLHU ? 2U
                         : d.op == kLW                 ? 4U
                                                       : 0U;
  if (bytes == 0) {
    if (rv32::reads(d) == 0) return {How::kConstant, {}};
    if (d.op == kADDI && d.imm == 0) return {How::kMoved, {of(d.rs1)}};
    return machine::Target::making(before, instruction, cell);
  }
  machine::Making out{How::kWorked, {}};
  for (u32 i = 0; i < bytes; ++i)
    out.from.push_back({Cell::Kind::kMemory, 0, {Space::kData, at + i}});
  return out;
}

std::optional<machine::StackSpan> Target::stack_store(const Instruction& instruction,
                                                      const FrameState& state) const {
  const Decoded d = decoded(instruction);
  const unsigned bytes = stored_bytes(d.op);
  const Known base = known(state, d.rs1);
  if (bytes == 0 || base.kind != Kind::kStack) return std::nullopt;
  return machine::StackSpan{base.number + d.imm, static_cast<i32>(bytes)};
}

std::vector<i32> Target::stack_pointers(const FrameState& state, std::uint64_t others) const {
  std::vector<i32> out;
  for (unsigned n = 1; n < 32; ++n)
    if (n != kSp && n != 8 && (others >> n & 1U) == 0 && state.registers[n].kind == Kind::kStack)
      out.push_back(state.registers[n].number);
  return out;
}

void Target::follow(const Instruction& instruction, FrameState& state) const {
  const Decoded d = decoded(instruction);
  if (d.op == kReserved) return;
  const Known a = known(state, d.rs1);
  const Known b = known(state, d.rs2);
  if (const unsigned bytes = stored_bytes(d.op)) {
    if (a.kind != Kind::kStack) return;
    for (unsigned i = 0; i < bytes; ++i) {
      Known part = bytes == 4 ? b : Known{};
      part.part = static_cast<u8>(i);
      state.set_slot(a.number + d.imm + static_cast<i32>(i), part);
    }
    return;
  }
  const Flow flow = flow_of(d);
  if (flow == Flow::kCall || flow == Flow::kIndirectCall) {
    for (unsigned n = 1; n < 32; ++n)
      if ((convention().call_clobbered >> n & 1U) != 0) state.registers[n] = {};
    return;
  }
  if (d.rd == 0) return;
  Known& out = state.registers[d.rd];
  switch (d.op) {
    case kADDI: out = d.imm == 0 ? a : plus(a, d.imm); break;
    case kLUI: out = {Kind::kConstant, 0, d.imm}; break;
    case kAUIPC: out = {Kind::kConstant, 0, static_cast<i32>(instruction.address) + d.imm}; break;
    case kJAL: out = {Kind::kConstant, 0, static_cast<i32>(instruction.address) + 4}; break;
    case kADD:
      out = b.kind == Kind::kConstant   ? plus(a, b.number)
            : a.kind == Kind::kConstant ? plus(b, a.number)
                                        : Known{};
      break;
    case kSUB: out = b.kind == Kind::kConstant ? plus(a, -b.number) : Known{}; break;
    case kLW: out = a.kind == Kind::kStack ? loaded(state, a.number + d.imm) : Known{}; break;
    default: out = {};
  }
  if (d.rd == kSp && out.kind == Kind::kStack) state.drop_slots_up_to(out.number - 1);
}

/// The stack pointer itself, or the frame's register.
std::optional<machine::Anchor> Target::anchor(const FrameState& state) const {
  for (const unsigned n : {kSp, 8U})
    if (state.registers[n].kind == Kind::kStack)
      return machine::Anchor{static_cast<int>(n), state.registers[n].number};
  return std::nullopt;
}

/// By the second link register: what saves registers for a function is called so.
std::optional<std::vector<u32>> Target::jump_targets(const machine::Machine& /*machine*/,
                                                     const Instruction& jump,
                                                     const FrameState& state, u32 /*begin*/,
                                                     u32 /*end*/) const {
  const Decoded d = decoded(jump);
  const Known to = known(state, d.rs1);
  if (to.kind != Kind::kConstant) return std::nullopt;
  return std::vector<u32>{static_cast<u32>(to.number + d.imm)};
}

machine::SharedCode Target::shared_code(const std::string& name) const {
  return name.rfind("__riscv_save_", 0) == 0 || name.rfind("__riscv_restore_", 0) == 0
             ? machine::SharedCode::kFrame
             : machine::SharedCode::kNone;
}

void Target::mask_interrupts(machine::Machine& machine) const {
  machine.set_register(kMstatusIndex, machine.register_value(kMstatusIndex) & ~u64{kMieBit});
}

u32 Target::return_address(const std::vector<u8>& bytes) const { return word_of(bytes); }

Explanation Target::explain(const machine::Machine& machine, u32 address) const {
  Explanation out;
  out.instruction = machine.instruction_at(address);
  if (out.instruction.validity == Validity::kReserved) {
    out.words = "No instruction of this processor.";
    return out;
  }
  const Decoded d = decoded(out.instruction);
  out.transfer = row(d.op).transfer;
  out.words = row(d.op).words;
  out.cycles = std::to_string(row(d.op).cycles);
  for (unsigned n = 1; n < 32; ++n)
    if ((rv32::reads(d) >> n & 1U) != 0)
      out.now.push_back(fmt::format("{} = {:#x}", register_name(n), machine.register_value(n)));
  return out;
}

}  // namespace lucid::rv32
