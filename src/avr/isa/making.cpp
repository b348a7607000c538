// SPDX-License-Identifier: MIT
// Where what an instruction writes has come from.
#include "avr/isa/target.h"
#include "machine/machine.h"

namespace lucid::avr {
namespace {

using machine::Cell;
using machine::Making;
using How = Making::How;

constexpr std::uint32_t kIoBegin = 0x20;  ///< of I/O addresses, in data space
constexpr std::uint32_t kStatus = kIoBegin + 0x3f;
constexpr std::string_view kFlags = "CZNVSHTI";  ///< by bit
constexpr unsigned kPointerX = 26, kPointerY = 28, kPointerZ = 30;

Cell register_cell(unsigned number) { return {Cell::Kind::kRegister, number, {}}; }

/// The first 32 bytes of data space are the registers.
Cell data_cell(std::uint32_t address) {
  if (address < kIoBegin) return register_cell(address);
  return {Cell::Kind::kMemory, 0, {Space::kData, address}};
}

bool is_constant(std::uint8_t op, bool same) {
  return op == kLDI || (same && (op == kEOR || op == kSUB));
}

/// Before it executes: where a load or store goes. nullopt: it is none.
std::optional<std::uint32_t> accessed(const Entry& e, const machine::Machine& m) {
  const auto pair = [&](unsigned low) {
    return static_cast<std::uint32_t>(m.register_value(low) | m.register_value(low + 1) << 8);
  };
  const auto offset = static_cast<std::uint32_t>(e.k);
  switch (e.op) {
    case kLDS:
    case kSTS: return offset;
    case kIN:
    case kOUT:
    case kSBI:
    case kCBI: return kIoBegin + offset;
    case kLD_X:
    case kLD_XI:
    case kST_X:
    case kST_XI: return pair(kPointerX);
    case kLD_XD:
    case kST_XD: return (pair(kPointerX) - 1) & 0xffffU;
    case kLD_Y:
    case kLD_YI:
    case kST_Y:
    case kST_YI: return pair(kPointerY);
    case kLD_YD:
    case kST_YD: return (pair(kPointerY) - 1) & 0xffffU;
    case kLDD_Y:
    case kSTD_Y: return pair(kPointerY) + offset;
    case kLD_Z:
    case kLD_ZI:
    case kST_Z:
    case kST_ZI: return pair(kPointerZ);
    case kLD_ZD:
    case kST_ZD: return (pair(kPointerZ) - 1) & 0xffffU;
    case kLDD_Z:
    case kSTD_Z: return pair(kPointerZ) + offset;
    case kPUSH: return m.sp();
    case kPOP: return m.sp() + 1;
    case kLPM_0:
    case kLPM:
    case kLPM_I:
    case kELPM_0:
    case kELPM:
    case kELPM_I: return pair(kPointerZ);
    default: return std::nullopt;
  }
}

bool from_flash(std::uint8_t op) {
  return op == kLPM_0 || op == kLPM || op == kLPM_I || op == kELPM_0 || op == kELPM ||
         op == kELPM_I;
}

bool stores(std::uint8_t op) {
  switch (op) {
    case kSTS:
    case kOUT:
    case kPUSH:
    case kST_X:
    case kST_XI:
    case kST_XD:
    case kST_Y:
    case kST_YI:
    case kST_YD:
    case kSTD_Y:
    case kST_Z:
    case kST_ZI:
    case kST_ZD:
    case kSTD_Z: return true;
    default: return false;
  }
}

std::vector<Cell> cells_of(std::uint64_t registers) {
  std::vector<Cell> out;
  for (unsigned n = 0; n < kIoBegin; ++n)
    if ((registers >> n & 1U) != 0) out.push_back(register_cell(n));
  return out;
}

/// From registers, and from flags that the instruction reads: the carry goes into what it works
/// out, the zero flag only into itself.
Making worked(const Entry& e, std::vector<Cell> from, const Cell& to) {
  for (const char flag : row(e.op).reads) {
    const auto number = static_cast<unsigned>(kFlags.find(flag));
    const bool itself = to.kind == Cell::Kind::kFlag && to.number == number;
    if (number < kFlags.size() && (flag != 'Z' || itself))
      from.push_back({Cell::Kind::kFlag, number, {}});
  }
  return {How::kWorked, std::move(from)};
}

}  // namespace

Making AvrTarget::making(const machine::Machine& before, const Instruction& instruction,
                         const Cell& cell) const {
  const Entry e = entry_of(instruction);
  if (e.op == kNoOp) return {};
  const auto at = accessed(e, before);
  const Cell status{Cell::Kind::kMemory, 0, {Space::kData, kStatus}};
  if (cell.kind == Cell::Kind::kFlag) {
    if (e.op == kBSET || e.op == kBCLR)
      return e.b == cell.number ? Making{How::kConstant, {}} : Making{};
    if (stores(e.op) && at && data_cell(*at) == status) return {How::kWorked, {register_cell(e.a)}};
    const bool written = cell.number < kFlags.size() &&
                         row(e.op).writes.find(kFlags[cell.number]) != std::string_view::npos;
    return written ? worked(e, cells_of(reads(instruction)), cell) : Making{};
  }
  if (cell.kind == Cell::Kind::kMemory || stores(e.op)) {
    const bool here = at && data_cell(*at) == cell;
    if (here && stores(e.op)) return {How::kMoved, {register_cell(e.a)}};
    if (here && (e.op == kSBI || e.op == kCBI)) return {How::kWorked, {cell}};
    const bool calls = instruction.flow == Flow::kCall || instruction.flow == Flow::kIndirectCall;
    if (calls && cell.kind == Cell::Kind::kMemory && cell.address.space == Space::kData &&
        cell.address.offset <= before.sp() &&
        cell.address.offset + convention().return_bytes > before.sp())
      return {How::kConstant, {}};  // where the call returns to
    if (cell.kind == Cell::Kind::kMemory) return {};
  }
  if (cell.number >= kIoBegin || (writes(instruction) >> cell.number & 1U) == 0) return {};
  if (is_constant(e.op, e.a == e.b)) return {How::kConstant, {}};
  if (e.op == kMOV) return {How::kMoved, {register_cell(e.b)}};
  if (e.op == kMOVW) return {How::kMoved, {register_cell(e.b + cell.number - e.a)}};
  const bool implied = e.op == kLPM_0 || e.op == kELPM_0;
  if (at && cell.number == (implied ? 0U : e.a)) {
    if (!from_flash(e.op)) return {How::kMoved, {data_cell(*at)}};
    return {How::kMoved, {{Cell::Kind::kMemory, 0, {Space::kCode, *at}}}};
  }
  if (at) {  // a pointer that moves
    const unsigned low = cell.number & ~1U;
    return {How::kWorked, {register_cell(low), register_cell(low + 1)}};
  }
  return worked(e, cells_of(reads(instruction)), cell);
}

std::vector<Cell> AvrTarget::decides(const machine::Machine& before,
                                     const Instruction& instruction) const {
  const Entry e = entry_of(instruction);
  switch (e.op) {
    case kBRBS:
    case kBRBC: return {{Cell::Kind::kFlag, e.b, {}}};
    case kSBIC:
    case kSBIS: return {data_cell(kIoBegin + static_cast<std::uint32_t>(e.k))};
    case kNoOp: return {};
    default: return Target::decides(before, instruction);
  }
}

}  // namespace lucid::avr
