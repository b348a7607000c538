// SPDX-License-Identifier: MIT
// RV32IM: decoding, from the table of instructions.
#ifndef LUCID_TESTS_SECOND_MACHINE_ISA_H
#define LUCID_TESTS_SECOND_MACHINE_ISA_H

#include <cstdint>
#include <string>

#include "lucid/instruction.h"

namespace lucid::rv32 {

using u8 = std::uint8_t;
using u32 = std::uint32_t;
using u64 = std::uint64_t;
using i32 = std::int32_t;

enum Format : u8 { R, I, L, S, B, U, J, H, C, D, N };

enum Op : u8 {
#define RV32(name, ...) k##name,
#include "instructions.def"
#undef RV32
  kReserved,
};

struct Row {
  const char* mnemonic;
  u32 mask, match;
  Format format;
  Flow flow;
  unsigned cycles;
  const char *transfer, *words;
};
/// REQUIRES: op is not kReserved.
const Row& row(Op op);

/// An instruction's operands; those that it has not are 0.
struct Decoded {
  Op op = kReserved;
  unsigned rd = 0, rs1 = 0, rs2 = 0;
  i32 imm = 0;  ///< of a CSR instruction: the CSR's number; the small number is in rs1
};
Decoded decode(u32 word);

/// Registers that it writes and reads, a bit each; x0 never counts.
u32 writes(const Decoded& d);
u32 reads(const Decoded& d);

/// The calling convention's names: `zero`, `ra`, `sp`, …
const char* register_name(unsigned number);
constexpr unsigned kRa = 1, kSp = 2, kT0 = 5, kA0 = 10;

/// Where execution goes on behind it, by the conventions for the link register.
Flow flow_of(const Decoded& d);
std::string operands(const Decoded& d, u32 address);

// Control and status registers ("Machine-Level CSRs").
enum Csr : u32 {
  kMstatus = 0x300,
  kMisa = 0x301,
  kMie = 0x304,
  kMtvec = 0x305,
  kMscratch = 0x340,
  kMepc = 0x341,
  kMcause = 0x342,
  kMtval = 0x343,
  kMip = 0x344,
  kMcycle = 0xb00,
  kMcycleh = 0xb80,
};
constexpr u32 kMieBit = 1U << 3, kMpieBit = 1U << 7;  // of mstatus

}  // namespace lucid::rv32

#endif  // LUCID_TESTS_SECOND_MACHINE_ISA_H
