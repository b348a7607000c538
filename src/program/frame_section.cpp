// SPDX-License-Identifier: MIT
// The section .debug_frame. libdw splits it into entries; frame.cpp executes them.
#include <elfutils/libdw.h>
#include <gelf.h>

#include <string_view>
#include <unordered_map>

#include "program/dwarf_reader.h"

namespace lucid::program {
namespace {

void read_section(const GElf_Ehdr& header, Elf_Data* bytes, Program::Data& data) {
  struct Cie {
    std::uint32_t code_factor;
    std::int32_t data_factor;
    std::vector<std::uint8_t> initial;
  };
  std::unordered_map<Dwarf_Off, Cie> cies;
  Dwarf_Off offset = 0;
  Dwarf_Off next = 0;
  Dwarf_CFI_Entry entry;
  for (;; offset = next) {
    const int status = dwarf_next_cfi(header.e_ident, bytes, false, offset, &next, &entry);
    if (status > 0) return;
    if (status < 0) {
      data.warnings.emplace_back(
          "the call frame information is damaged: what is behind it is not used");
      return;
    }
    if (dwarf_cfi_cie_p(&entry)) {
      cies[offset] = {static_cast<std::uint32_t>(entry.cie.code_alignment_factor),
                      static_cast<std::int32_t>(entry.cie.data_alignment_factor),
                      {entry.cie.initial_instructions, entry.cie.initial_instructions_end}};
      continue;
    }
    const auto cie = cies.find(entry.fde.CIE_pointer);
    if (cie == cies.end() || entry.fde.end - entry.fde.start < 8) continue;
    const auto word = [](const std::uint8_t* p) {
      return p[0] | p[1] << 8 | p[2] << 16 | static_cast<std::uint32_t>(p[3]) << 24;
    };
    Program::Data::Fde fde;
    fde.begin = word(entry.fde.start);
    fde.end = fde.begin + word(entry.fde.start + 4);
    fde.code_factor = cie->second.code_factor;
    fde.data_factor = cie->second.data_factor;
    fde.initial = cie->second.initial;
    fde.program.assign(entry.fde.start + 8, entry.fde.end);
    if (fde.begin != 0 && fde.end > fde.begin) data.fdes.push_back(std::move(fde));
  }
}

}  // namespace

void read_frames(Elf* elf, Program::Data& data) {
  std::size_t names = 0;
  GElf_Ehdr header;
  if (elf_getshdrstrndx(elf, &names) != 0 || gelf_getehdr(elf, &header) == nullptr) return;
  for (Elf_Scn* section = nullptr; (section = elf_nextscn(elf, section)) != nullptr;) {
    GElf_Shdr section_header;
    if (gelf_getshdr(section, &section_header) == nullptr) continue;
    const char* name = elf_strptr(elf, names, section_header.sh_name);
    Elf_Data* bytes = elf_rawdata(section, nullptr);
    if (name == nullptr || std::string_view(name) != ".debug_frame" || bytes == nullptr) continue;
    read_section(header, bytes, data);
  }
}

}  // namespace lucid::program
