// SPDX-License-Identifier: MIT
#include "avr/isa/target.h"

#include <fmt/format.h>

#include <set>

#include "machine/machine.h"

namespace lucid::avr {
namespace {

constexpr std::string_view kFlagLetters = "CZNVSHTI";  // by bit number

// What the toolchain calls BRBS, BRBC, BSET and BCLR with each flag.
constexpr std::array<std::string_view, 8> kBranchIfSet{"brcs", "breq", "brmi", "brvs",
                                                       "brlt", "brhs", "brts", "brie"};
constexpr std::array<std::string_view, 8> kBranchIfClear{"brcc", "brne", "brpl", "brvc",
                                                         "brge", "brhc", "brtc", "brid"};
constexpr std::array<std::string_view, 8> kSet{"sec", "sez", "sen", "sev",
                                               "ses", "seh", "set", "sei"};
constexpr std::array<std::string_view, 8> kClear{"clc", "clz", "cln", "clv",
                                                 "cls", "clh", "clt", "cli"};

const std::array<std::string_view, 8>* alias_of(std::uint8_t op) {
  switch (op) {
    case kBRBS: return &kBranchIfSet;
    case kBRBC: return &kBranchIfClear;
    case kBSET: return &kSet;
    case kBCLR: return &kClear;
    default: return nullptr;
  }
}

std::uint16_t word_at(const std::vector<std::uint8_t>& bytes, std::size_t i) {
  if (i + 1 >= bytes.size()) return 0xffff;
  return static_cast<std::uint16_t>(bytes[i] | bytes[i + 1] << 8);
}

bool has(std::string_view text, std::string_view part) {
  return text.find(part) != std::string_view::npos;
}

std::string value_text(std::uint64_t value, unsigned bits) {
  std::string out = fmt::format("{:#0{}x} ({}", value, bits / 4 + 2, value);
  const std::uint64_t sign = std::uint64_t{1} << (bits - 1);
  if ((value & sign) != 0)
    out += fmt::format(", signed {}",
                       static_cast<std::int64_t>(value) - static_cast<std::int64_t>(sign << 1));
  return out + ")";
}

}  // namespace

const std::vector<RegisterName>& AvrTarget::registers() const {
  static const std::vector<RegisterName> kNames = [] {
    std::vector<RegisterName> names;
    names.reserve(38);
    for (int i = 0; i < 32; ++i) names.push_back({fmt::format("r{}", i), 8, i});
    names.push_back({"sp", 16, 32});
    names.push_back({"sreg", 8, -1});
    names.push_back({"pc", 24, -1});
    names.push_back({"X", 16, -1});
    names.push_back({"Y", 16, -1});
    names.push_back({"Z", 16, -1});
    return names;
  }();
  return kNames;
}

machine::CallConvention AvrTarget::convention() const {
  // avr-gcc's: r0, r18 to r27, r30, r31 are the callee's.
  constexpr std::uint64_t kClobbered = 0x1 | 0x0ffc0000 | 0xc0000000;
  constexpr std::uint64_t kArguments = 0x03ffff00;  // r8 to r25
  machine::CallConvention out;
  out.sp_dwarf = 32;
  out.return_dwarf = 36;
  out.return_bytes = static_cast<std::uint8_t>(core_.wide_pc() ? 3 : 2);
  out.instruction_unit = 2;
  out.stack_gap = 1;
  out.pointer_bytes = out.int_bytes = 2;
  out.call_clobbered = kClobbered;
  out.arguments = kArguments;
  out.frame_dwarf = 28;
  return out;
}

bool AvrTarget::stays_in_registers(const Instruction& instruction) const {
  static const std::set<unsigned> kOps = [] {
    std::set<unsigned> ops{kNOP, kRJMP, kJMP, kBRBS, kBRBC, kSBRC, kSBRS, kCPSE};
#define LUCID_AVR(id, ...)
#define LUCID_AVR_MEMORY(id, ...)
#define LUCID_AVR_PURE(id, ...) ops.insert(k##id);
#include "avr/isa/instructions.def"
    return ops;
  }();
  return kOps.count(entry_of(instruction).op) != 0;
}

machine::Target::InLoop AvrTarget::in_loop(const Instruction& instruction) const {
  constexpr unsigned kZero = 1;  // the register that compilers keep at zero
  const Entry entry = entry_of(instruction);
  switch (entry.op) {
    case kDEC:
    case kINC:
    case kSUBI:
    case kSBIW:
    case kADIW: return InLoop::kCounts;
    case kSBCI: return InLoop::kCarries;
    case kADC:
    case kSBC: return entry.b == kZero && entry.a != kZero ? InLoop::kCarries : InLoop::kKeeps;
    case kLD_X:
    case kLD_Y:
    case kLD_Z:
    case kLDD_Y:
    case kLDD_Z:
    case kLDS:
    case kIN:
    case kSBIC:
    case kSBIS: return InLoop::kLooks;
    case kWDR: return InLoop::kKeeps;  // it keeps the watchdog off meanwhile
    default: return stays_in_registers(instruction) ? InLoop::kKeeps : InLoop::kWorks;
  }
}

machine::InterruptEffect AvrTarget::interrupt_effect(const Instruction& instruction) const {
  using machine::InterruptEffect;
  const Entry entry = entry_of(instruction);
  constexpr unsigned kI = 7;
  if (entry.op == kBSET && entry.b == kI) return InterruptEffect::kAllows;
  if (entry.op == kBCLR && entry.b == kI) return InterruptEffect::kForbids;
  constexpr int kStatus = 0x3f;
  if (entry.op == kIN && entry.k == kStatus) return InterruptEffect::kSaves;
  if (entry.op == kOUT && entry.k == kStatus) return InterruptEffect::kRestores;
  return InterruptEffect::kNone;
}

Entry AvrTarget::entry_of(const Instruction& instruction) const {
  Entry entry = avr::decode(core_, word_at(instruction.bytes, 0), word_at(instruction.bytes, 2),
                            instruction.address / 2);
  if (entry.op == kNoOp) return entry;
  const Flow flow = row(entry.op).flow;
  const bool relative = entry.length == 1;  // these wrap; a far jump is shown as it is written
  if (relative && (flow == Flow::kJump || flow == Flow::kCall || flow == Flow::kBranch))
    entry.k &= static_cast<std::int32_t>(flash_bytes_ / 2 - 1);
  return entry;
}

Instruction AvrTarget::decode(const std::vector<std::uint8_t>& bytes, std::uint32_t address) const {
  Instruction instruction;
  instruction.address = address;
  instruction.bytes = bytes;
  const Entry entry = entry_of(instruction);
  instruction.size = static_cast<std::uint8_t>(2 * entry.length);
  if (instruction.size > bytes.size() && entry.length == 2) {  // cut off by the end of memory
    instruction.size = 2;
    return instruction;
  }
  instruction.bytes.resize(std::min<std::size_t>(instruction.size, bytes.size()));
  if (entry.op == kNoOp) return instruction;
  instruction.validity = result_is_undefined(entry) ? Validity::kUndefinedResult : Validity::kValid;
  instruction.flow = row(entry.op).flow;
  // `rcall .+0` only makes room on the stack: the compiler's idiom, not a call.
  if (entry.op == kRCALL && entry.k == static_cast<std::int32_t>(address / 2 + 1))
    instruction.flow = Flow::kNext;
  if (instruction.flow == Flow::kJump || instruction.flow == Flow::kCall ||
      instruction.flow == Flow::kBranch)
    instruction.target = static_cast<std::uint32_t>(entry.k) * 2 % flash_bytes_;
  switch (entry.op) {
    case kLDS:
    case kSTS: instruction.data = static_cast<std::uint32_t>(entry.k); break;
    case kIN:
    case kOUT:
    case kSBI:
    case kCBI:
    case kSBIC:
    case kSBIS: instruction.data = static_cast<std::uint32_t>(entry.k) + 0x20; break;
    default: break;
  }
  return instruction;
}

/// The text of one operand: `d`, or `p+1` for the upper register of a pair, or `F` for a flag.
std::string AvrTarget::operand(std::string_view form, const Entry& entry) const {
  const unsigned plus = form.size() == 3 ? 1 : 0;
  switch (form[0]) {
    case 'd':
    case 'h':
    case 'm':
    case 'e':
    case 'p': return fmt::format("r{}", entry.a + plus);
    case 'r':
    case 'g':
    case 'n':
    case 'f': return fmt::format("r{}", entry.b + plus);
    case 'b':
    case 's': return fmt::format("{}", entry.b);
    case 'F': return std::string(1, kFlagLetters[entry.b]);
    case 'q': return fmt::format("{}", entry.k);
    case 'K':
    case 'A': return fmt::format("{:#04x}", entry.k);
    case 'W': return fmt::format("{:#06x}", entry.k);
    default: return fmt::format("{:#06x}", entry.k * 2);  // k, L: a byte address in flash
  }
}

std::string AvrTarget::filled(std::string_view form, const Entry& entry) const {
  std::string out;
  for (std::size_t i = 0; i < form.size(); ++i) {
    if (form[i] != '{') {
      out += form[i];
      continue;
    }
    const std::size_t end = form.find('}', i);
    out += operand(form.substr(i + 1, end - i - 1), entry);
    i = end;
  }
  return out;
}

void AvrTarget::write_text(Instruction& instruction) const {
  if (instruction.validity == Validity::kReserved) {
    instruction.mnemonic = ".word";
    instruction.operands = fmt::format("{:#06x}", word_at(instruction.bytes, 0));
    return;
  }
  const Entry entry = entry_of(instruction);
  const Row& row = avr::row(entry.op);
  if (const auto* names = alias_of(entry.op)) {
    instruction.mnemonic = (*names)[entry.b];
    instruction.operands = row.flow == Flow::kBranch ? operand("k", entry) : "";
    return;
  }
  instruction.mnemonic = row.mnemonic;
  instruction.operands = filled(row.operands, entry);
}

machine::StackEffect AvrTarget::stack_effect(const Instruction& instruction) const {
  const Entry entry = entry_of(instruction);
  using Kind = machine::StackEffect::Kind;
  switch (entry.op) {
    case kPUSH: return {Kind::kPush, entry.a, 1};
    case kPOP: return {Kind::kPop, entry.a, 1};
    case kRCALL:
      if (instruction.flow == Flow::kNext) return {Kind::kAllocate, 0, convention().return_bytes};
      return {};
    case kOUT:
      if (entry.k == 0x3d || entry.k == 0x3e) return {Kind::kUnknown, 0, 0};
      return {};
    default: return {};
  }
}

namespace {
struct LinkerBegin {
  std::uint32_t begin;
  Space space;
};
constexpr LinkerBegin kLinkerBegins[] = {{0x840000, Space::kSignature}, {0x830000, Space::kLock},
                                         {0x820000, Space::kFuse},      {0x810000, Space::kEeprom},
                                         {0x800000, Space::kData},      {0, Space::kCode}};
}  // namespace

Address placed_by_linker(std::uint32_t flat) {
  for (const LinkerBegin& row : kLinkerBegins)
    if (flat >= row.begin) return {row.space, flat - row.begin};
  return {};
}

std::uint32_t AvrTarget::linker_address(Address address) const {
  for (const LinkerBegin& row : kLinkerBegins)
    if (row.space == address.space) return row.begin + address.offset;
  return address.offset;
}

std::uint32_t AvrTarget::return_address(const std::vector<std::uint8_t>& bytes) const {
  std::uint32_t word = 0;
  for (const std::uint8_t byte : bytes) word = word << 8 | byte;
  return word * 2 % flash_bytes_;
}

Explanation AvrTarget::explain(const machine::Machine& machine, std::uint32_t address) const {
  Explanation out;
  out.instruction = machine.instruction_at(address);
  if (out.instruction.validity == Validity::kReserved) {
    out.words = "Not an instruction of the " + std::string(core_.name) +
                " core: the manual reserves this word.";
    return out;
  }
  const Entry e = entry_of(out.instruction);
  const Row& row = avr::row(e.op);
  out.transfer = filled(row.transfer, e);
  out.words = filled(row.words, e);
  out.flags = row.writes == "s" ? std::string(1, kFlagLetters[e.b]) : std::string(row.writes);
  const unsigned cycles = core_.wide_pc() ? row.cycles22 : row.cycles;
  out.cycles = fmt::format("{}", cycles);
  if (row.flow == Flow::kBranch) out.cycles += fmt::format(", {} if taken", cycles + 1);
  if (row.flow == Flow::kSkip)
    out.cycles += fmt::format(", {} or {} if it skips one or two words", cycles + 1, cycles + 2);
  if (out.instruction.validity == Validity::kUndefinedResult)
    out.now.emplace_back("the manual leaves the result of these operands undefined");

  const auto reg = [&](unsigned index) { return machine.register_value(index); };
  const auto sreg = static_cast<std::uint8_t>(reg(kSreg));
  const auto show_register = [&](unsigned index) {
    out.now.push_back(fmt::format("r{} = {}", index, value_text(reg(index), 8)));
  };
  const auto show_pair = [&](unsigned low) {
    out.now.push_back(
        fmt::format("r{}:r{} = {}", low + 1, low, value_text(reg(low) | reg(low + 1) << 8, 16)));
  };
  const auto data_byte = [&](std::uint32_t a) {
    const auto byte = machine.peek({Space::kData, a});
    return byte ? fmt::format("{:#04x}", *byte) : std::string("no memory");
  };

  // Register operands, unless they are only written.
  const bool only_written =
      row.operands.substr(0, 3) == "{d}" &&
      (row.mnemonic.substr(0, 2) == "ld" || row.mnemonic == "pop" || row.mnemonic == "in" ||
       row.mnemonic == "lpm" || row.mnemonic == "elpm" || row.mnemonic == "mov");
  if (has(row.operands, "{d}") && !only_written) show_register(e.a);
  if ((has(row.operands, "{h}") || has(row.operands, "{m}")) && e.op != kLDI) show_register(e.a);
  if (has(row.operands, "{p}")) show_pair(e.a);
  for (const std::string_view source : {"{r}", "{g}", "{n}"})
    if (has(row.operands, source)) show_register(e.b);
  if (has(row.operands, "{f}")) show_pair(e.b);
  if (has(row.reads, "C")) out.now.push_back(fmt::format("C = {}", sreg & 1U));

  // Memory operands.
  constexpr std::array<std::string_view, 3> kPointers{"X", "Y", "Z"};
  for (unsigned i = 0; i < 3; ++i) {
    if (!has(row.transfer, "(" + std::string(kPointers[i])) || has(row.transfer, "flash")) continue;
    const auto base = static_cast<std::uint32_t>(reg(kXPair + i));
    const bool before = has(row.operands, "-" + std::string(kPointers[i]));
    const std::uint32_t place =
        (base + (before ? 0xffffU : static_cast<std::uint32_t>(e.k))) & 0xffffU;
    std::string fact = fmt::format("{} = {:#06x}", kPointers[i], base);
    if (place != base) fact += fmt::format(", address {:#06x}", place);
    out.now.push_back(fact + ", which holds " + data_byte(place));
  }
  if (has(row.operands, "{W}"))
    out.now.push_back(
        fmt::format("{:#06x} holds {}", e.k, data_byte(static_cast<std::uint32_t>(e.k))));
  if (has(row.operands, "{A}")) {
    const auto place = static_cast<std::uint32_t>(e.k) + 0x20;
    std::string name = fmt::format("I/O {:#04x}", e.k);
    for (const IoRegister& io : machine.info().io)
      if (io.address == place) name += " is " + io.name;
    out.now.push_back(name + " = " + data_byte(place));
  }

  // Consequences.
  const auto skip_or_not = [&](bool skips) {
    const Instruction next = machine.instruction_at(address + out.instruction.size);
    out.now.push_back(fmt::format("{} `{}{}{}`", skips ? "so it will skip" : "so it will not skip",
                                  next.mnemonic, next.operands.empty() ? "" : " ", next.operands));
  };
  switch (e.op) {
    case kCPSE: skip_or_not(reg(e.a) == reg(e.b)); break;
    case kSBRC:
    case kSBRS: {
      const auto bit = reg(e.a) >> e.b & 1U;
      out.now.push_back(fmt::format("bit {} is {}", e.b, bit));
      skip_or_not(bit == (e.op == kSBRS ? 1U : 0U));
      break;
    }
    case kSBIC:
    case kSBIS: {
      const auto byte = machine.peek({Space::kData, static_cast<std::uint32_t>(e.k) + 0x20});
      const unsigned bit = byte.value_or(0) >> e.b & 1U;
      out.now.push_back(fmt::format("bit {} is {}", e.b, bit));
      skip_or_not(bit == (e.op == kSBIS ? 1U : 0U));
      break;
    }
    case kBRBS:
    case kBRBC: {
      const unsigned flag = sreg >> e.b & 1U;
      const bool taken = flag == (e.op == kBRBS ? 1U : 0U);
      out.now.push_back(fmt::format("{} = {}, so the branch {}", kFlagLetters[e.b], flag,
                                    taken ? "will be taken" : "will not be taken"));
      break;
    }
    case kRET:
    case kRETI: {
      std::vector<std::uint8_t> bytes;
      const auto sp = static_cast<std::uint32_t>(reg(kSp));
      for (std::uint32_t i = 1; i <= convention().return_bytes; ++i)
        bytes.push_back(machine.peek({Space::kData, sp + i}).value_or(0));
      out.now.push_back(fmt::format("the stack says {:#06x}", return_address(bytes)));
      break;
    }
    case kIJMP:
    case kICALL:
      out.now.push_back(fmt::format("Z = {:#06x}, byte address {:#06x}", reg(kZPair),
                                    reg(kZPair) * 2 % flash_bytes_));
      break;
    default: break;
  }
  return out;
}

}  // namespace lucid::avr
