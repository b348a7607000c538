// SPDX-License-Identifier: MIT
#include "isa.h"

#include <fmt/format.h>

#include <array>

namespace lucid::rv32 {
namespace {

constexpr Row kRows[] = {
#define RV32(name, mnemonic, mask, match, format, flow, cycles, transfer, words) \
  {mnemonic, mask, match, format, Flow::flow, cycles, transfer, words},
#include "instructions.def"
#undef RV32
};

i32 sign(u32 value, unsigned bits) { return static_cast<i32>(value << (32 - bits)) >> (32 - bits); }

/// "Immediate Encoding Variants".
i32 immediate(Format format, u32 w) {
  switch (format) {
    case I:
    case L: return sign(w >> 20, 12);
    case S: return sign((w >> 25) << 5 | (w >> 7 & 31U), 12);
    case B:
      return sign(
          (w >> 31) << 12 | (w >> 7 & 1U) << 11 | (w >> 25 & 63U) << 5 | (w >> 8 & 15U) << 1, 13);
    case U: return static_cast<i32>(w & 0xfffff000U);
    case J:
      return sign((w >> 31) << 20 | (w >> 12 & 0xffU) << 12 | (w >> 20 & 1U) << 11 |
                      (w >> 21 & 0x3ffU) << 1,
                  21);
    case H: return static_cast<i32>(w >> 20 & 31U);
    case C:
    case D: return static_cast<i32>(w >> 20);
    default: return 0;
  }
}

}  // namespace

const Row& row(Op op) { return kRows[op]; }

Decoded decode(u32 word) {
  Decoded out;
  for (unsigned i = 0; i < kReserved && out.op == kReserved; ++i)
    if ((word & kRows[i].mask) == kRows[i].match) out.op = static_cast<Op>(i);
  if (out.op == kReserved) return out;
  const Format format = row(out.op).format;
  if (format == N) return out;
  if (format != S && format != B) out.rd = word >> 7 & 31U;
  if (format != U && format != J) out.rs1 = word >> 15 & 31U;
  if (format == R || format == S || format == B) out.rs2 = word >> 20 & 31U;
  out.imm = immediate(format, word);
  return out;
}

u32 writes(const Decoded& d) { return d.rd == 0 ? 0 : 1U << d.rd; }

u32 reads(const Decoded& d) {
  u32 out = 1U << d.rs2;
  if (d.op != kReserved && row(d.op).format != D) out |= 1U << d.rs1;
  return out & ~1U;
}

const char* register_name(unsigned number) {
  static constexpr std::array<const char*, 32> kNames{
      "zero", "ra", "sp", "gp", "tp",  "t0",  "t1", "t2", "s0", "s1", "a0",
      "a1",   "a2", "a3", "a4", "a5",  "a6",  "a7", "s2", "s3", "s4", "s5",
      "s6",   "s7", "s8", "s9", "s10", "s11", "t3", "t4", "t5", "t6"};
  return kNames[number];
}

Flow flow_of(const Decoded& d) {
  if (d.op == kJAL) return d.rd == 0 || d.rd == kT0 ? Flow::kJump : Flow::kCall;
  if (d.op == kJALR) {
    if (d.rd != 0) return Flow::kIndirectCall;
    return d.rs1 == kRa && d.imm == 0 ? Flow::kReturn : Flow::kIndirectJump;
  }
  return row(d.op).flow;
}

std::string operands(const Decoded& d, u32 address) {
  const auto x = [](unsigned number) { return register_name(number); };
  switch (row(d.op).format) {
    case R: return fmt::format("{}, {}, {}", x(d.rd), x(d.rs1), x(d.rs2));
    case I: return fmt::format("{}, {}, {}", x(d.rd), x(d.rs1), d.imm);
    case H: return fmt::format("{}, {}, {:#x}", x(d.rd), x(d.rs1), d.imm);
    case L: return fmt::format("{}, {}({})", x(d.rd), d.imm, x(d.rs1));
    case S: return fmt::format("{}, {}({})", x(d.rs2), d.imm, x(d.rs1));
    case B:
      return fmt::format("{}, {}, {:#x}", x(d.rs1), x(d.rs2), address + static_cast<u32>(d.imm));
    case U: return fmt::format("{}, {:#x}", x(d.rd), static_cast<u32>(d.imm) >> 12);
    case J: return fmt::format("{}, {:#x}", x(d.rd), address + static_cast<u32>(d.imm));
    case C: return fmt::format("{}, {:#x}, {}", x(d.rd), d.imm, x(d.rs1));
    case D: return fmt::format("{}, {:#x}, {}", x(d.rd), d.imm, d.rs1);
    case N: break;
  }
  return {};
}

}  // namespace lucid::rv32
