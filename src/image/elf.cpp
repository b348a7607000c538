// SPDX-License-Identifier: MIT
// ELF through libelf ("System V ABI", chapter "Object Files").
#include <fmt/format.h>
#include <gelf.h>

#include <algorithm>
#include <cstring>
#include <memory>
#include <string_view>

#include "image/elf_form.h"
#include "image/image_data.h"

namespace lucid::image {
namespace {

constexpr const char* kRebuild = "link it again; for debugging build with -gdwarf-4 -Og";

struct ElfCloser {
  void operator()(Elf* elf) const { elf_end(elf); }
};

Result<void> wrong(std::string what, std::string hint = kRebuild, std::string where = {}) {
  return fail(ErrorCode::kBadImage, std::move(what), std::move(hint), std::move(where));
}

Result<void> read_segments(Elf* elf, Image::Data& data) {
  std::size_t count = 0;
  if (elf_getphdrnum(elf, &count) != 0 || count == 0)
    return wrong("it has no program headers", "link it: an object file cannot be loaded");
  for (std::size_t i = 0; i < count; ++i) {
    GElf_Phdr header;
    if (gelf_getphdr(elf, static_cast<int>(i), &header) == nullptr)
      return wrong("the program headers are cut off");
    if (header.p_type != PT_LOAD || header.p_filesz == 0) continue;
    if (header.p_offset > data.file.size() || header.p_filesz > data.file.size() - header.p_offset)
      return wrong(fmt::format("the file is cut off: segment {} needs {} bytes at offset {:#x}, "
                               "the file has {}",
                               i, header.p_filesz, header.p_offset, data.file.size()),
                   "copy or link it again");
    Segment segment;
    segment.address = placed(data.machine, static_cast<std::uint32_t>(header.p_paddr));
    const auto begin = data.file.begin() + static_cast<std::ptrdiff_t>(header.p_offset);
    segment.bytes.assign(begin, begin + static_cast<std::ptrdiff_t>(header.p_filesz));
    data.segments.push_back(std::move(segment));
  }
  for (std::size_t i = 0; i < data.segments.size(); ++i) {
    for (std::size_t j = 0; j < i; ++j) {
      const Segment& a = data.segments[i];
      const Segment& b = data.segments[j];
      if (a.address.space == b.address.space &&
          a.address.offset < b.address.offset + b.bytes.size() &&
          b.address.offset < a.address.offset + a.bytes.size())
        return wrong(fmt::format("two segments overlap at {:#06x}",
                                 std::max(a.address.offset, b.address.offset)),
                     "check the linker script");
    }
  }
  if (data.segments.empty()) return wrong("it holds nothing to load");
  return {};
}

void read_symbols(Elf* elf, Elf_Scn* section, const GElf_Shdr& header, Image::Data& data) {
  Elf_Data* table = elf_getdata(section, nullptr);
  if (table == nullptr || header.sh_entsize == 0) return;
  const std::size_t count = header.sh_size / header.sh_entsize;
  for (std::size_t i = 1; i < count; ++i) {
    GElf_Sym symbol;
    if (gelf_getsym(table, static_cast<int>(i), &symbol) == nullptr) continue;
    const char* name = elf_strptr(elf, header.sh_link, symbol.st_name);
    const int type = GELF_ST_TYPE(symbol.st_info);
    if (name == nullptr || *name == '\0' || symbol.st_shndx == SHN_UNDEF || type == STT_SECTION ||
        type == STT_FILE)
      continue;
    Symbol out;
    out.name = name;
    out.kind = type == STT_FUNC     ? Symbol::Kind::kFunction
               : type == STT_OBJECT ? Symbol::Kind::kObject
                                    : Symbol::Kind::kOther;
    out.address = placed(data.machine, static_cast<std::uint32_t>(symbol.st_value));
    out.size = static_cast<std::uint32_t>(symbol.st_size);
    out.global = GELF_ST_BIND(symbol.st_info) == STB_GLOBAL;
    if (symbol.st_shndx == SHN_ABS && out.address.space == Space::kCode) continue;  // a constant
    data.symbols.push_back(std::move(out));
  }
}

}  // namespace

Result<void> read_elf(Image::Data& data) {
  elf_version(EV_CURRENT);
  const std::unique_ptr<Elf, ElfCloser> elf(
      elf_memory(reinterpret_cast<char*>(data.file.data()), data.file.size()));
  GElf_Ehdr header;
  if (elf == nullptr || elf_kind(elf.get()) != ELF_K_ELF ||
      gelf_getehdr(elf.get(), &header) == nullptr)
    return wrong("the ELF header is damaged or cut off");
  if (header.e_ident[EI_CLASS] != ELFCLASS32 || header.e_ident[EI_DATA] != ELFDATA2LSB)
    return wrong("it was built for a 64-bit or big-endian machine, not for a microcontroller",
                 "build it with the microcontroller's compiler: " + compilers());
  data.machine = header.e_machine;
  const ElfForm* form = find_elf_form(data.machine);
  if (form != nullptr) data.core = form->core(header.e_flags);
  if (header.e_type == ET_REL)
    return wrong("it is an object file, not yet linked",
                 fmt::format("link it: {} -o main.elf main.o",
                             form != nullptr ? form->compiler : "the compiler"));
  if (header.e_type != ET_EXEC)
    return wrong(fmt::format("ELF type {} is not an executable", header.e_type));
  if (auto done = read_segments(elf.get(), data); !done) return done;

  if (header.e_shoff > data.file.size() ||
      std::uint64_t{header.e_shnum} * header.e_shentsize > data.file.size() - header.e_shoff)
    return wrong(fmt::format("the file is cut off: its section headers begin at {:#x}, it has {} "
                             "bytes",
                             header.e_shoff, data.file.size()),
                 "copy or link it again");
  std::size_t names = 0;
  bool dwarf = false;
  bool stabs = false;
  if (elf_getshdrstrndx(elf.get(), &names) == 0) {
    for (Elf_Scn* section = nullptr; (section = elf_nextscn(elf.get(), section)) != nullptr;) {
      GElf_Shdr section_header;
      if (gelf_getshdr(section, &section_header) == nullptr) continue;
      const char* c_name = elf_strptr(elf.get(), names, section_header.sh_name);
      const std::string_view name = c_name == nullptr ? "" : c_name;
      if (section_header.sh_type == SHT_SYMTAB) {
        read_symbols(elf.get(), section, section_header, data);
      } else if (name == ".debug_info") {
        dwarf = true;
      } else if (name == ".stab") {
        stabs = true;
      } else if (form != nullptr && form->chip != nullptr && name == form->chip_section) {
        const Elf_Data* note = elf_rawdata(section, nullptr);
        if (note != nullptr && note->d_buf != nullptr)
          data.chip = form->chip(static_cast<const std::uint8_t*>(note->d_buf), note->d_size);
      }
    }
  }
  // A start-up file brings a little DWARF into a STABS image, so STABS decides.
  data.debug = stabs ? DebugForm::kStabs : dwarf ? DebugForm::kDwarf : DebugForm::kNone;
  return {};
}

}  // namespace lucid::image
