// SPDX-License-Identifier: MIT
// ElfForm: what the ELF files of one family of processors say in a way of their own. Each family
// has one; `machine/family.cpp` finds them.
#ifndef LUCID_IMAGE_ELF_FORM_H
#define LUCID_IMAGE_ELF_FORM_H

#include <optional>
#include <string>

#include "lucid/address.h"

namespace lucid::image {

struct ElfForm {
  std::uint16_t machine = 0;  ///< ELF's e_machine
  const char* compiler = "";  ///< what to call to build such a file
  /// Where an address of the linker's is: in one flat space of 32 bits it has all memories.
  Address (*placed)(std::uint32_t flat) = nullptr;
  /// The core, as the toolchain names it, from the header's e_flags; empty if they do not say.
  std::string (*core)(std::uint32_t flags) = nullptr;
  /// The section that names the chip, and the name in it; empty if it holds none. May be null.
  const char* chip_section = nullptr;
  std::string (*chip)(const std::uint8_t* bytes, std::size_t size) = nullptr;
  /// Where pointers of a DW_AT_address_class lead. May be null: to data.
  std::optional<Space> (*address_class)(std::uint64_t number) = nullptr;
  /// Pointers of so many bytes hold the linker's addresses; 0: none do.
  std::uint8_t flat_pointer_bytes = 0;
};

/// The form of a machine; null if no family has it.
const ElfForm* find_elf_form(std::uint16_t machine);
/// What to call to build an image: "this or that".
std::string compilers();

}  // namespace lucid::image

#endif  // LUCID_IMAGE_ELF_FORM_H
