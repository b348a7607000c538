// SPDX-License-Identifier: MIT
// Target: what the layers above may ask of any instruction set. It is stateless.
#ifndef LUCID_MACHINE_TARGET_H
#define LUCID_MACHINE_TARGET_H

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "lucid/chip.h"
#include "lucid/instruction.h"
#include "machine/frame_state.h"
#include "machine/making.h"

namespace lucid::machine {

class Machine;

/// What unwinding needs to know of the calling convention.
struct CallConvention {
  int sp_dwarf = -1;              ///< DWARF number of the stack pointer
  int return_dwarf = -1;          ///< DWARF number of the return address column
  std::uint8_t return_bytes = 0;  ///< a call pushes so many; 0: it leaves where it returns to in
                                  ///< the register `return_dwarf`
  std::uint8_t instruction_unit = 1;  ///< bytes by which instruction addresses are aligned
  /// Distance from the stack pointer to the last byte pushed: 1 where a push stores, then
  /// decrements.
  std::uint8_t stack_gap = 0;
  std::uint8_t pointer_bytes = 0;
  std::uint8_t int_bytes = 0;        ///< of C's int
  std::uint64_t call_clobbered = 0;  ///< DWARF registers that a call may overwrite, a bit each
  std::uint64_t arguments = 0;       ///< those that arguments and results are passed in
  /// DWARF number of the register that says where an interrupt came from; -1: its entry pushes that
  /// as a call does.
  int interrupted_dwarf = -1;
  int frame_dwarf = -1;  ///< DWARF number of the low byte's register by which locals are addressed
};

/// What start-up code and linker scripts call things.
struct StartUpNames {
  const char* no_handler = "";  ///< where interrupts without a handler lead
  const char* data_begin = "";  ///< of static data
  const char* data_end = "";    ///< and behind it
  /// Where tables of functions begin and end that start-up code calls, in code memory: constructors
  /// and destructors, as code pointers in units of instructions.
  std::array<std::pair<const char*, const char*>, 2> tables{};
};

/// Bytes of the frame, from `offset` on, counted from the stack pointer at entry.
struct StackSpan {
  std::int32_t offset = 0;
  std::int32_t bytes = 1;
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

/// Code of the compiler's library that functions jump into as if it were their own.
enum class SharedCode : std::uint8_t {
  kNone,
  kFrame,  ///< builds a frame or takes it down
  kTable,  ///< leads back into the function by a table of jumps
};

/// What an instruction does to the bit that holds all interrupts back.
enum class InterruptEffect : std::uint8_t {
  kNone,
  kAllows,
  kForbids,
  kSaves,     ///< none; it reads it
  kRestores,  ///< as it was some time before
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
  /// The bytes of an instruction at an address, from its text as write_text() gives it; numbers and
  /// blanks may be written otherwise. Empty: there is none.
  [[nodiscard]] virtual std::vector<std::uint8_t> encode(const std::string& /*text*/,
                                                         std::uint32_t /*address*/) const {
    return {};
  }
  [[nodiscard]] virtual StackEffect stack_effect(const Instruction& instruction) const = 0;
  /// The general registers that an instruction leaves a result in.
  [[nodiscard]] virtual RegisterSpan result_of(const Instruction& /*instruction*/) const {
    return {};
  }
  /// Does what is left there begin a value? The next bytes of a sum go on with its carry.
  [[nodiscard]] virtual bool begins_sum(const Instruction& /*instruction*/) const { return false; }
  /// How an instruction makes a byte, with the machine as it is before.
  [[nodiscard]] virtual Making making(const Machine& before, const Instruction& instruction,
                                      const Cell& cell) const;
  /// What an instruction looks at to choose where execution goes on.
  [[nodiscard]] virtual std::vector<Cell> decides(const Machine& before,
                                                  const Instruction& instruction) const;
  /// The registers that a function's value of so many bytes is returned in, lowest byte first.
  /// Empty: in memory, or it is not known.
  [[nodiscard]] virtual RegisterSpan returned_in(std::uint32_t /*bytes*/) const { return {}; }
  /// Those that a helper of the compiler overwrites, if it is called as if it were an instruction
  /// and the debug information therefore may not know. Empty: it is an ordinary function.
  [[nodiscard]] virtual std::vector<RegisterSpan> helper_results(
      const std::string& /*name*/) const {
    return {};
  }
  [[nodiscard]] virtual Explanation explain(const Machine& machine,
                                            std::uint32_t address) const = 0;
  /// The general registers that an instruction writes, pointers that it moves included: a bit each,
  /// by DWARF number.
  [[nodiscard]] virtual std::uint64_t writes(const Instruction& instruction) const {
    const RegisterSpan result = result_of(instruction);
    std::uint64_t out = 0;
    for (int i = 0; i < result.count; ++i) out |= std::uint64_t{1} << (result.first + i);
    return out;
  }
  /// Those that it reads.
  [[nodiscard]] virtual std::uint64_t reads(const Instruction& /*instruction*/) const {
    return ~std::uint64_t{0};
  }
  /// Where in the frame an instruction stores, counted from the stack pointer at entry.
  [[nodiscard]] virtual std::optional<StackSpan> stack_store(const Instruction& /*instruction*/,
                                                             const FrameState& /*state*/) const {
    return std::nullopt;
  }
  /// What registers point at in the frame, but for the stack pointer, the frame's and those in a
  /// mask.
  [[nodiscard]] virtual std::vector<std::int32_t> stack_pointers(const FrameState& /*state*/,
                                                                 std::uint64_t /*others*/) const {
    return {};
  }
  /// The distance of what a register points at from the stack pointer at entry.
  [[nodiscard]] virtual std::optional<std::int32_t> stack_offset_in(const FrameState& state,
                                                                    int dwarf) const {
    const Known& known = state.registers[static_cast<std::size_t>(dwarf)];
    if (known.kind != Known::Kind::kStack) return std::nullopt;
    return known.number;
  }
  /// What is known when a function is entered.
  [[nodiscard]] virtual FrameState at_entry() const {
    FrameState state;
    for (std::size_t n = 0; n < FrameState::kRegisters; ++n)
      state.registers[n] = {Known::Kind::kEntry, 0, static_cast<std::int32_t>(n)};
    state.registers[static_cast<std::size_t>(convention().sp_dwarf)] = {Known::Kind::kStack, 0, 0};
    return state;
  }
  /// Brings `state` behind an instruction; a call has returned by then.
  virtual void follow(const Instruction& instruction, FrameState& state) const {
    const std::uint64_t written = writes(instruction);
    for (std::size_t n = 0; n < FrameState::kRegisters; ++n)
      if ((written >> n & 1U) != 0) state.registers[n] = {};
  }
  /// A register that tells where the stack pointer was at the function's entry.
  [[nodiscard]] virtual std::optional<Anchor> anchor(const FrameState& state) const {
    const int sp = convention().sp_dwarf;
    const Known& known = state.registers[static_cast<std::size_t>(sp)];
    if (known.kind != Known::Kind::kStack) return std::nullopt;
    return Anchor{sp, known.number};
  }
  /// Where an indirect jump may go: one place, or those of a table, as far as they lie in
  /// `[begin, end)`. nullopt if that cannot be told.
  [[nodiscard]] virtual std::optional<std::vector<std::uint32_t>> jump_targets(
      const Machine& /*machine*/, const Instruction& /*jump*/, const FrameState& /*state*/,
      std::uint32_t /*begin*/, std::uint32_t /*end*/) const {
    return std::nullopt;
  }
  [[nodiscard]] virtual SharedCode shared_code(const std::string& /*name*/) const {
    return SharedCode::kNone;
  }
  /// What is known at the end of a function that takes down its frame by a pointer to it: in terms
  /// of that pointer. A constant is the value of the register `number`.
  [[nodiscard]] virtual FrameState seen_by_pointer() const { return at_entry(); }
  [[nodiscard]] virtual StartUpNames start_up_names() const { return {}; }
  /// The register whose bits are the processor's flags (Machine::flag_letters); empty: there is
  /// none.
  [[nodiscard]] virtual std::string flags_register() const { return {}; }
  /// What the toolchain calls the handler of a vector; empty: nothing of its own.
  [[nodiscard]] virtual std::string handler_name(unsigned /*vector*/) const { return {}; }
  /// What programmers call it; empty: the same.
  [[nodiscard]] virtual std::string handler_title(const InterruptVector& /*vector*/) const {
    return {};
  }
  /// The byte of data space that an instruction loads or stores as a whole, if it names the address
  /// or what is known before it, `state`, tells it; nullopt otherwise.
  struct FixedAccess {
    std::uint32_t address = 0;
    bool write = false;
    bool by_itself = false;  ///< it changes a bit of the byte, and nothing can come between
  };
  [[nodiscard]] virtual std::optional<FixedAccess> fixed_access(const Instruction& /*instruction*/,
                                                                const FrameState* /*state*/) const {
    return std::nullopt;
  }
  /// An access through a pointer in registers of one byte each.
  struct PointedAccess {
    int pointer = -1;        ///< DWARF number of the register with its lowest byte
    std::int32_t by = 0;     ///< from what that holds to the address
    std::int32_t moves = 0;  ///< what is added to it
    bool write = false;
  };
  [[nodiscard]] virtual std::optional<PointedAccess> pointed_access(
      const Instruction& /*instruction*/) const {
    return std::nullopt;
  }
  /// It touches nothing but registers and flags, and calls nothing.
  [[nodiscard]] virtual bool stays_in_registers(const Instruction& /*instruction*/) const {
    return false;
  }
  /// What an instruction is to a loop that may do nothing but wait.
  enum class InLoop : std::uint8_t {
    kWorks,   ///< it changes more than general registers and flags, or leads elsewhere
    kKeeps,   ///< it does not
    kLooks,   ///< the same, and loads something
    kCounts,  ///< it adds a number to one of them, or takes it away
    kCarries  ///< and what that carries to the next one
  };
  [[nodiscard]] virtual InLoop in_loop(const Instruction& /*instruction*/) const {
    return InLoop::kWorks;
  }
  /// Whether interrupts may come behind an instruction.
  [[nodiscard]] virtual InterruptEffect interrupt_effect(const Instruction& /*instruction*/) const {
    return InterruptEffect::kNone;
  }
  /// Is this the name that the compiler gives to a handler of interrupts?
  [[nodiscard]] virtual bool is_handler_name(const std::string& /*name*/) const { return false; }
  /// Lets a copy of a machine run a few instructions without being interrupted.
  virtual void mask_interrupts(Machine& /*machine*/) const {}
  /// The carry of an addition in several parts, where there is one, becomes the other.
  virtual void turn_carry(Machine& /*machine*/) const {}
  /// The number that the toolchain's linker gives to an address: it has all memories in one space.
  [[nodiscard]] virtual std::uint32_t linker_address(Address address) const {
    return address.offset;
  }
  /// And back.
  [[nodiscard]] virtual Address placed(std::uint32_t linker_address) const {
    return {Space::kData, linker_address};
  }
  /// The code address that return-address bytes on the stack, lowest address first, stand for.
  [[nodiscard]] virtual std::uint32_t return_address(
      const std::vector<std::uint8_t>& bytes) const = 0;
};

}  // namespace lucid::machine

#endif  // LUCID_MACHINE_TARGET_H
