// SPDX-License-Identifier: MIT
// The instruction table of instructions.def as data, and the decoder made from it.
#ifndef LUCID_AVR_ISA_TABLE_H
#define LUCID_AVR_ISA_TABLE_H

#include <array>
#include <cstdint>
#include <optional>
#include <string_view>

#include "lucid/instruction.h"

namespace lucid::avr {

/// What some cores have and others lack ("Instruction Set Manual", chapter of device families; the
/// toolchain's assembler confirms it in a test).
enum Feature : std::uint16_t {
  kBase = 0,         ///< every classic core
  kLpmx = 1U << 0,   ///< LPM with operands
  kMega = 1U << 1,   ///< JMP, CALL
  kMul = 1U << 2,    ///< multiplier
  kElpm = 1U << 3,   ///< ELPM
  kElpmx = 1U << 4,  ///< ELPM with operands
  kSpm = 1U << 5,    ///< self-programming
  kBreak = 1U << 6,  ///< BREAK
  kEind = 1U << 7,   ///< EIJMP, EICALL and a 22-bit program counter
  kMovw = 1U << 8,   ///< MOVW
};

/// A family of cores, named as the toolchain does.
struct Core {
  std::string_view name;
  std::uint16_t features;
  [[nodiscard]] bool wide_pc() const { return (features & kEind) != 0; }
};

/// avr2, avr25, avr3, avr31, avr35, avr4, avr5, avr51, avr6.
const std::array<Core, 9>& cores();
const Core* find_core(std::string_view name);

enum Op : std::uint8_t {
#define LUCID_AVR(id, ...) k##id,
#include "avr/isa/instructions.def"
  kOpCount,
};
constexpr std::uint8_t kNoOp = 0xff;  ///< a reserved word

/// A row of the table.
struct Row {
  std::string_view mnemonic;
  std::string_view pattern;
  std::string_view operands;
  std::uint16_t feature;
  std::string_view reads, writes;
  std::uint8_t cycles, cycles22;
  Flow flow;
  std::string_view transfer, words;
  std::uint8_t length;  ///< words: 1, or 2 if an operand is in a second word
};
const Row& row(std::uint8_t op);

/// A decoded instruction, ready to execute. `a` is the first register (or pair), `b` the second
/// register, a bit or a flag, `k` a constant, an I/O or data address, or a target in words.
struct Entry {
  std::uint8_t op = kNoOp;
  std::uint8_t a = 0;
  std::uint8_t b = 0;
  std::uint8_t length = 1;
  std::int32_t k = 0;
};

/// The row of a first word on a core with all features; kNoOp if it is reserved.
std::uint8_t op_of(std::uint16_t word);

/// Decodes on `core`. `pc` is the word address, from which relative targets count; targets are not
/// yet wrapped to a flash size.
Entry decode(const Core& core, std::uint16_t word, std::uint16_t next, std::uint32_t pc);

/// An access to data space through a pair of registers.
struct PointerAccess {
  std::uint8_t pair = 0;  ///< the low one: 26, 28 or 30
  bool write = false;
  std::int32_t by = 0;     ///< from what the pair holds to the address
  std::int32_t moves = 0;  ///< what is added to the pair
};
/// nullopt: the instruction is none.
std::optional<PointerAccess> pointer_access(const Entry& entry);

/// True if the manual leaves the result open, such as `ld r26, X+`.
bool result_is_undefined(const Entry& entry);

}  // namespace lucid::avr

#endif  // LUCID_AVR_ISA_TABLE_H
