// SPDX-License-Identifier: MIT
#include "family.h"

#include <elf.h>

#include "rv32_machine.h"

namespace lucid::rv32 {
namespace {

/// All memories are in one space; what is written by a debugger and what is loaded is the same.
Address placed(u32 flat) { return {flat < kFlashBytes ? Space::kCode : Space::kData, flat}; }
std::string core_of(u32 /*flags*/) { return "rv32im"; }

const image::ElfForm kForm{EM_RISCV, "riscv64-unknown-elf-gcc", placed, core_of};

class Rv32 final : public machine::Family {
 public:
  [[nodiscard]] const image::ElfForm& elf_form() const override { return kForm; }
  [[nodiscard]] std::vector<Chip::Summary> catalogue() const override {
    return {{"Second32", "rv32im", kFlashBytes, kRamBytes, 0, "made up, for tests"}};
  }
  [[nodiscard]] Result<std::unique_ptr<machine::Machine>> make(const Chip::Options& options,
                                                               Joined joined) const override {
    auto made = Rv32Machine::make(options, std::move(joined));
    if (!made) return fail(made.error());
    return std::unique_ptr<machine::Machine>(std::move(*made));
  }
  [[nodiscard]] Result<std::pair<std::string, std::string>> serial_lines(
      const std::string& /*chip*/, const std::string& port) const override {
    return fail(ErrorCode::kNotFound, "the serial port '" + port + "' has no pins");
  }
};

}  // namespace

const machine::Family& family() {
  static const Rv32 kFamily;
  return kFamily;
}

}  // namespace lucid::rv32
