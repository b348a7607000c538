// SPDX-License-Identifier: MIT
// What the layers above may ask of RV32IM with the calling convention ilp32 ("RISC-V ABIs
// Specification", chapters "Register Convention" and "DWARF Register Numbers").
#ifndef LUCID_TESTS_SECOND_MACHINE_TARGET_H
#define LUCID_TESTS_SECOND_MACHINE_TARGET_H

#include "isa.h"
#include "machine/target.h"

namespace lucid::rv32 {

// Places in registers(), behind x0 to x31.
enum : unsigned { kPcIndex = 32, kMstatusIndex, kMieIndex, kMtvecIndex, kMepcIndex, kMcauseIndex };

class Target final : public machine::Target {
 public:
  [[nodiscard]] const std::vector<RegisterName>& registers() const override;
  [[nodiscard]] machine::CallConvention convention() const override;
  [[nodiscard]] std::uint8_t longest() const override { return 4; }
  [[nodiscard]] Instruction decode(const std::vector<u8>& bytes, u32 address) const override;
  void write_text(Instruction& instruction) const override;
  [[nodiscard]] machine::StackEffect stack_effect(const Instruction& /*i*/) const override {
    return {};  // frames are made at once
  }
  [[nodiscard]] machine::RegisterSpan result_of(const Instruction& instruction) const override;
  [[nodiscard]] machine::RegisterSpan returned_in(u32 bytes) const override;
  [[nodiscard]] machine::Making making(const machine::Machine& before,
                                       const Instruction& instruction,
                                       const machine::Cell& cell) const override;
  [[nodiscard]] Explanation explain(const machine::Machine& machine, u32 address) const override;
  [[nodiscard]] u64 reads(const Instruction& instruction) const override;
  [[nodiscard]] std::optional<machine::StackSpan> stack_store(
      const Instruction& instruction, const machine::FrameState& state) const override;
  [[nodiscard]] std::vector<i32> stack_pointers(const machine::FrameState& state,
                                                std::uint64_t others) const override;
  void follow(const Instruction& instruction, machine::FrameState& state) const override;
  [[nodiscard]] std::optional<machine::Anchor> anchor(
      const machine::FrameState& state) const override;
  [[nodiscard]] std::optional<std::vector<u32>> jump_targets(const machine::Machine& machine,
                                                             const Instruction& jump,
                                                             const machine::FrameState& state,
                                                             u32 begin, u32 end) const override;
  [[nodiscard]] machine::SharedCode shared_code(const std::string& name) const override;
  [[nodiscard]] machine::StartUpNames start_up_names() const override {
    return {"", "__data_start", "__bss_end"};
  }
  void mask_interrupts(machine::Machine& machine) const override;
  [[nodiscard]] u32 return_address(const std::vector<u8>& bytes) const override;
  [[nodiscard]] Address placed(u32 flat) const override;
};

}  // namespace lucid::rv32

#endif  // LUCID_TESTS_SECOND_MACHINE_TARGET_H
