// SPDX-License-Identifier: MIT
// One machine instruction as plain data, and what it does in words.
#ifndef LUCID_INSTRUCTION_H
#define LUCID_INSTRUCTION_H

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

namespace lucid {

/// What the instruction set manual says of an encoding.
enum class Validity : std::uint8_t {
  kValid,            ///< defined
  kUndefinedResult,  ///< exists, but the manual gives no result for these operands
  kReserved,         ///< no instruction on this core
};

/// Where execution goes after an instruction.
enum class Flow : std::uint8_t {
  kNext,          ///< the instruction behind it
  kJump,          ///< a fixed place
  kIndirectJump,  ///< a place taken from a register
  kBranch,        ///< a fixed place, if a condition holds
  kSkip,          ///< the instruction behind it or the one after that
  kCall,          ///< a fixed place, with a return address pushed
  kIndirectCall,  ///< a place from a register, with a return address pushed
  kReturn,        ///< the return address on the stack
  kInterruptReturn,
  kSleep,  ///< the processor stops until it is woken
  kBreak,  ///< made for debuggers
};

/// A decoded instruction. `size` is set even for a reserved word, so that a listing can go on.
struct Instruction {
  std::uint32_t address = 0;  ///< byte address in code space
  std::uint8_t size = 0;      ///< bytes
  std::vector<std::uint8_t> bytes;
  Validity validity = Validity::kReserved;
  Flow flow = Flow::kNext;
  std::optional<std::uint32_t> target;  ///< of a fixed jump, branch or call: byte address
  std::optional<std::uint32_t> data;    ///< the fixed data address it touches, if there is one
  std::string mnemonic;
  std::string operands;
};

/// What an instruction does, in words, with the values its operands have now.
struct Explanation {
  Instruction instruction;
  std::string transfer;          ///< in register transfers, as manuals write it
  std::string words;             ///< one sentence
  std::string flags;             ///< the flags it writes, by letter; empty if none
  std::string cycles;            ///< `1`, or `1, 2 if taken`
  std::vector<std::string> now;  ///< operands and consequences at this moment, one fact a line
};

}  // namespace lucid

#endif  // LUCID_INSTRUCTION_H
