// SPDX-License-Identifier: MIT
// Target: what the layers above may ask of any instruction set. It is stateless.
#ifndef LUCID_ISA_TARGET_H
#define LUCID_ISA_TARGET_H

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "lucid/chip.h"
#include "lucid/instruction.h"

namespace lucid::isa {

class Machine;

/// What unwinding needs to know of the calling convention.
struct CallConvention {
  int sp_dwarf = -1;                  ///< DWARF number of the stack pointer
  int return_dwarf = -1;              ///< DWARF number of the return address column
  std::uint8_t return_bytes = 0;      ///< bytes of a return address on the stack
  std::uint8_t instruction_unit = 1;  ///< bytes by which instruction addresses are aligned
  /// Distance from the stack pointer to the last byte pushed: 1 where a push stores, then
  /// decrements.
  std::uint8_t stack_gap = 0;
  std::uint8_t pointer_bytes = 0;
  std::uint8_t int_bytes = 0;        ///< of C's int
  std::uint64_t call_clobbered = 0;  ///< DWARF registers that a call may overwrite, a bit each
};

/// What an instruction does to the stack, for frames without debug information.
struct StackEffect {
  enum class Kind : std::uint8_t { kNone, kPush, kPop, kAllocate, kUnknown } kind = Kind::kNone;
  std::uint8_t dwarf_register = 0;  ///< pushed or popped
  std::uint16_t bytes = 0;          ///< by which the stack grows or shrinks
};

/// Registers that follow each other, by DWARF number.
struct RegisterSpan {
  int first = 0;
  int count = 0;  ///< 0: none
};

/// The value of a register, by DWARF number, in the frame that is looked at.
using RegisterReader = std::function<std::uint64_t(int)>;

struct SharedFrame {
  std::uint32_t cfa = 0;
  std::optional<std::uint32_t> owner;  ///< an address in the function, if it was left by a jump
  struct Saved {
    int dwarf_register = 0;
    std::uint32_t address = 0;  ///< in data space
  };
  std::vector<Saved> saved;
};

class Target {
 public:
  virtual ~Target() = default;

  [[nodiscard]] virtual const std::vector<RegisterName>& registers() const = 0;
  [[nodiscard]] virtual CallConvention convention() const = 0;
  /// The longest instruction, in bytes.
  [[nodiscard]] virtual std::uint8_t longest() const = 0;

  /// Decodes the instruction at the front of `bytes`, without its text. Total: every input gives an
  /// Instruction, reserved ones too.
  [[nodiscard]] virtual Instruction decode(const std::vector<std::uint8_t>& bytes,
                                           std::uint32_t address) const = 0;
  /// Fills in mnemonic and operands.
  virtual void write_text(Instruction& instruction) const = 0;
  [[nodiscard]] virtual StackEffect stack_effect(const Instruction& instruction) const = 0;
  /// The general registers that an instruction leaves a result in.
  [[nodiscard]] virtual RegisterSpan result_of(const Instruction& /*instruction*/) const {
    return {};
  }
  /// Those that a helper of the compiler overwrites, if it is called as if it were an instruction
  /// and the debug information therefore may not know. Empty: it is an ordinary function.
  [[nodiscard]] virtual std::vector<RegisterSpan> helper_results(
      const std::string& /*name*/) const {
    return {};
  }
  [[nodiscard]] virtual Explanation explain(const Machine& machine,
                                            std::uint32_t address) const = 0;
  /// The frame of a function without frame information that uses the compiler's shared code to
  /// build and take down frames, at `look` in it or in that code. `begin` is the function's start,
  /// `sp` the stack pointer; nullopt if it is none of that kind.
  [[nodiscard]] virtual std::optional<SharedFrame> shared_frame(const Machine& /*machine*/,
                                                                const RegisterReader& /*value_of*/,
                                                                std::uint32_t /*begin*/,
                                                                std::uint32_t /*look*/,
                                                                std::uint32_t /*sp*/) const {
    return std::nullopt;
  }
  /// The code address that return-address bytes on the stack, lowest address first, stand for.
  [[nodiscard]] virtual std::uint32_t return_address(
      const std::vector<std::uint8_t>& bytes) const = 0;
};

}  // namespace lucid::isa

#endif  // LUCID_ISA_TARGET_H
