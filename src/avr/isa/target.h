// SPDX-License-Identifier: MIT
// The AVR side of machine::Target: one object per core.
#ifndef LUCID_AVR_ISA_TARGET_H
#define LUCID_AVR_ISA_TARGET_H

#include "avr/isa/table.h"
#include "machine/target.h"

namespace lucid::avr {

/// Indices into Target::registers().
enum RegisterIndex : unsigned { kSp = 32, kSreg = 33, kPc = 34, kXPair = 35, kYPair, kZPair };

/// Where an address of the toolchain's is, which keeps the memories apart in one flat space.
Address placed_by_linker(std::uint32_t flat);

class AvrTarget final : public machine::Target {
 public:
  /// REQUIRES: `core` outlives the target; flash_bytes is a power of two.
  AvrTarget(const Core& core, std::uint32_t flash_bytes) : core_(core), flash_bytes_(flash_bytes) {}

  [[nodiscard]] const std::vector<RegisterName>& registers() const override;
  [[nodiscard]] machine::CallConvention convention() const override;
  [[nodiscard]] std::uint8_t longest() const override { return 4; }
  [[nodiscard]] Instruction decode(const std::vector<std::uint8_t>& bytes,
                                   std::uint32_t address) const override;
  void write_text(Instruction& instruction) const override;
  [[nodiscard]] machine::StackEffect stack_effect(const Instruction& instruction) const override;
  [[nodiscard]] machine::RegisterSpan result_of(const Instruction& instruction) const override;
  [[nodiscard]] bool begins_sum(const Instruction& instruction) const override;
  [[nodiscard]] std::vector<machine::Cell> decides(const machine::Machine& before,
                                                   const Instruction& instruction) const override;
  [[nodiscard]] std::vector<std::uint8_t> encode(const std::string& text,
                                                 std::uint32_t address) const override;
  [[nodiscard]] machine::Making making(const machine::Machine& before,
                                       const Instruction& instruction,
                                       const machine::Cell& cell) const override;
  [[nodiscard]] machine::RegisterSpan returned_in(std::uint32_t bytes) const override;
  [[nodiscard]] std::vector<machine::RegisterSpan> helper_results(
      const std::string& name) const override;
  [[nodiscard]] Explanation explain(const machine::Machine& machine,
                                    std::uint32_t address) const override;
  [[nodiscard]] machine::FrameState at_entry() const override;
  void follow(const Instruction& instruction, machine::FrameState& state) const override;
  [[nodiscard]] std::uint64_t writes(const Instruction& instruction) const override;
  [[nodiscard]] std::uint64_t reads(const Instruction& instruction) const override;
  [[nodiscard]] std::optional<machine::StackSpan> stack_store(
      const Instruction& instruction, const machine::FrameState& state) const override;
  [[nodiscard]] std::vector<std::int32_t> stack_pointers(const machine::FrameState& state,
                                                         std::uint64_t others) const override;
  [[nodiscard]] std::optional<std::int32_t> stack_offset_in(const machine::FrameState& state,
                                                            int dwarf) const override;
  [[nodiscard]] std::optional<machine::Anchor> anchor(
      const machine::FrameState& state) const override;
  [[nodiscard]] std::optional<std::vector<std::uint32_t>> jump_targets(
      const machine::Machine& machine, const Instruction& jump, const machine::FrameState& state,
      std::uint32_t begin, std::uint32_t end) const override;
  [[nodiscard]] machine::SharedCode shared_code(const std::string& name) const override;
  [[nodiscard]] machine::FrameState seen_by_pointer() const override;
  [[nodiscard]] machine::StartUpNames start_up_names() const override {
    return {"__bad_interrupt",
            "__data_start",
            "__bss_end",
            {{{"__ctors_start", "__ctors_end"}, {"__dtors_start", "__dtors_end"}}}};
  }
  [[nodiscard]] std::string flags_register() const override { return "sreg"; }
  [[nodiscard]] std::string handler_name(unsigned vector) const override;
  [[nodiscard]] std::string handler_title(const InterruptVector& vector) const override;
  [[nodiscard]] std::optional<PointedAccess> pointed_access(
      const Instruction& instruction) const override;
  [[nodiscard]] std::optional<FixedAccess> fixed_access(
      const Instruction& instruction, const machine::FrameState* state) const override;
  [[nodiscard]] bool stays_in_registers(const Instruction& instruction) const override;
  [[nodiscard]] InLoop in_loop(const Instruction& instruction) const override;
  [[nodiscard]] machine::InterruptEffect interrupt_effect(
      const Instruction& instruction) const override;
  [[nodiscard]] bool is_handler_name(const std::string& name) const override;
  void mask_interrupts(machine::Machine& machine) const override;
  void turn_carry(machine::Machine& machine) const override;
  [[nodiscard]] std::uint32_t linker_address(Address address) const override;
  [[nodiscard]] Address placed(std::uint32_t linker_address) const override {
    return placed_by_linker(linker_address);
  }
  [[nodiscard]] std::uint32_t return_address(const std::vector<std::uint8_t>& bytes) const override;

  [[nodiscard]] const Core& core() const { return core_; }

 private:
  [[nodiscard]] Entry entry_of(const Instruction& instruction) const;
  [[nodiscard]] std::string filled(std::string_view form, const Entry& entry) const;
  [[nodiscard]] std::string operand(std::string_view form, const Entry& entry) const;

  const Core& core_;
  std::uint32_t flash_bytes_;
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_ISA_TARGET_H
