// SPDX-License-Identifier: MIT
// Clang writes DWARF 5 for 8-bit AVRs with addresses of two bytes, which libdw does not read. Here
// such an image gets four: its address table and line programs are written anew, and whoever refers
// to them is told where they are now. ("DWARF Version 5", chapters "Data Representation", section
// "Address Table", and "Line Number Information".) DWARF 4 has addresses amid its entries and
// cannot be widened in place.
#include <dwarf.h>
#include <elfutils/libdw.h>
#include <gelf.h>

#include <map>
#include <memory>
#include <string_view>

#include "program/dwarf_reader.h"

namespace lucid::program {
namespace {

using FileBytes = std::vector<std::uint8_t>;

std::uint32_t get(const FileBytes& from, std::size_t at, unsigned bytes) {
  std::uint32_t value = 0;
  for (unsigned i = 0; i < bytes && at + i < from.size(); ++i)
    value |= std::uint32_t{from[at + i]} << (8 * i);
  return value;
}

void put(FileBytes& to, std::size_t at, std::uint32_t value, unsigned bytes) {
  for (unsigned i = 0; i < bytes && at + i < to.size(); ++i)
    to[at + i] = static_cast<std::uint8_t>(value >> (8 * i));
}

struct Section {
  std::size_t begin = 0, size = 0;  ///< in the file
  std::size_t header = 0;           ///< of the section, in the file
};

class Widening {
 public:
  explicit Widening(const FileBytes& file) : file_(file) {}

  /// False: nothing is to be done, or it cannot be.
  bool run() {
    if (!find_sections() || sections_.count(".debug_addr") == 0 ||
        sections_.count(".debug_line") == 0 || !patch_units())
      return false;
    for (const char* name : {".debug_loclists", ".debug_rnglists"}) patch_list_headers(name);
    const FileBytes addresses = wide_addresses();
    const FileBytes lines = wide_lines();
    if (!patch_references()) return false;
    replace(".debug_addr", addresses);
    replace(".debug_line", lines);
    return true;
  }
  [[nodiscard]] FileBytes take() { return std::move(file_); }
  /// How many units have short addresses amid their entries.
  std::size_t unreadable() {
    if (!find_sections()) return 0;
    const Section& info = sections_[".debug_info"];
    std::size_t count = 0;
    for (std::size_t at = info.begin; at + 12 <= info.begin + info.size;) {
      const std::uint32_t length = get(file_, at, 4);
      if (length >= 0xfffffff0U || length > info.begin + info.size - at - 4) break;
      if (get(file_, at + 4, 2) < 5 && file_[at + 10] == 2) ++count;
      at += 4 + length;
    }
    return count;
  }

 private:
  bool find_sections() {
    auto* bytes = reinterpret_cast<char*>(file_.data());
    Elf* elf = elf_memory(bytes, file_.size());
    GElf_Ehdr header;
    std::size_t names = 0;
    if (elf == nullptr || gelf_getehdr(elf, &header) == nullptr ||
        header.e_ident[EI_CLASS] != ELFCLASS32 || header.e_ident[EI_DATA] != ELFDATA2LSB ||
        elf_getshdrstrndx(elf, &names) != 0) {
      if (elf != nullptr) elf_end(elf);
      return false;
    }
    for (Elf_Scn* section = nullptr; (section = elf_nextscn(elf, section)) != nullptr;) {
      GElf_Shdr row;
      if (gelf_getshdr(section, &row) == nullptr || row.sh_type == SHT_NOBITS) continue;
      const char* name = elf_strptr(elf, names, row.sh_name);
      if (name == nullptr || row.sh_offset > file_.size() ||
          row.sh_size > file_.size() - row.sh_offset)
        continue;
      sections_[name] = {row.sh_offset, row.sh_size,
                         header.e_shoff + elf_ndxscn(section) * header.e_shentsize};
    }
    elf_end(elf);
    return sections_.count(".debug_info") != 0;
  }

  /// Says "four" in the header of each unit that says "two".
  bool patch_units() {
    const Section& info = sections_[".debug_info"];
    bool any = false;
    for (std::size_t at = info.begin; at + 12 <= info.begin + info.size;) {
      const std::uint32_t length = get(file_, at, 4);
      if (length >= 0xfffffff0U || length > info.begin + info.size - at - 4) return any;
      if (get(file_, at + 4, 2) == 5 && file_[at + 7] == 2) {
        file_[at + 7] = 4;
        any = true;
      }
      at += 4 + length;
    }
    return any;
  }

  /// Their entries hold indices, not addresses; only the header names a size.
  void patch_list_headers(const char* name) {
    const auto found = sections_.find(name);
    if (found == sections_.end()) return;
    const Section& section = found->second;
    for (std::size_t at = section.begin; at + 12 <= section.begin + section.size;) {
      const std::uint32_t length = get(file_, at, 4);
      if (length > section.begin + section.size - at - 4) return;
      if (file_[at + 6] == 2) file_[at + 6] = 4;
      at += 4 + length;
    }
  }

  FileBytes wide_addresses() {
    const Section& section = sections_[".debug_addr"];
    FileBytes out;
    for (std::size_t at = section.begin; at + 8 <= section.begin + section.size;) {
      const std::uint32_t length = get(file_, at, 4);
      if (length < 4 || length > section.begin + section.size - at - 4) break;
      const unsigned width = file_[at + 6];
      const std::size_t count = width == 2 ? (length - 4) / 2 : 0;
      new_address_base_[static_cast<std::uint32_t>(at - section.begin + 8)] =
          static_cast<std::uint32_t>(out.size() + 8);
      const std::size_t start = out.size();
      out.insert(out.end(), file_.begin() + static_cast<std::ptrdiff_t>(at),
                 file_.begin() + static_cast<std::ptrdiff_t>(at + 4 + (width == 2 ? 4 : length)));
      if (width == 2) {
        put(out, start, static_cast<std::uint32_t>(4 + 4 * count), 4);
        out[start + 6] = 4;
        for (std::size_t i = 0; i < count; ++i)
          for (const unsigned byte :
               {file_[at + 8 + 2 * i], file_[at + 9 + 2 * i], std::uint8_t{0}, std::uint8_t{0}})
            out.push_back(static_cast<std::uint8_t>(byte));
      }
      at += 4 + length;
    }
    return out;
  }

  /// Line programs, in which `set address` gets two bytes more.
  FileBytes wide_lines() {
    const Section& section = sections_[".debug_line"];
    const std::size_t end = section.begin + section.size;
    FileBytes out;
    for (std::size_t at = section.begin; at + 10 <= end;) {
      const std::uint32_t length = get(file_, at, 4);
      if (length > end - at - 4) break;
      const std::size_t next = at + 4 + length;
      const std::size_t start = out.size();
      new_lines_[static_cast<std::uint32_t>(at - section.begin)] =
          static_cast<std::uint32_t>(start);
      if (get(file_, at + 4, 2) == 5 && file_[at + 6] == 2 && length > 20) {
        const std::size_t program = at + 12 + get(file_, at + 8, 4);
        copy(out, at, std::min(program, next));
        out[start + 6] = 4;
        if (program < next) widen_program(out, at, program, next);
        put(out, start, static_cast<std::uint32_t>(out.size() - start - 4), 4);
      } else {
        copy(out, at, next);
      }
      at = next;
    }
    return out;
  }

  void copy(FileBytes& out, std::size_t begin, std::size_t end) const {
    out.insert(out.end(), file_.begin() + static_cast<std::ptrdiff_t>(begin),
               file_.begin() + static_cast<std::ptrdiff_t>(end));
  }

  [[nodiscard]] std::size_t behind_leb(std::size_t at, std::size_t end) const {
    while (at < end && (file_[at] & 0x80U) != 0) ++at;
    return std::min(at + 1, end);
  }

  void widen_program(FileBytes& out, std::size_t header, std::size_t at, std::size_t end) const {
    // Behind the offset of the program: three sizes, a flag, line base, line range, opcode base.
    const unsigned opcode_base = file_[header + 17];
    const std::size_t lengths = header + 18;
    while (at < end) {
      const std::size_t begin = at;
      const unsigned op = file_[at++];
      if (op == 0 && at < end) {
        const std::size_t size_at = at;
        const std::size_t body = behind_leb(at, end);
        const std::size_t size = file_[size_at] & 0x7fU;
        at = std::min(body + size, end);
        if (body == size_at + 1 && size == 3 && body + 3 <= end &&
            file_[body] == DW_LNE_set_address) {
          out.insert(out.end(), {0, 5, DW_LNE_set_address, file_[body + 1], file_[body + 2], 0, 0});
          continue;
        }
      } else if (op == DW_LNS_fixed_advance_pc) {
        at = std::min(at + 2, end);
      } else if (op < opcode_base && lengths + op - 1 < end) {
        for (unsigned i = 0; i < file_[lengths + op - 1]; ++i) at = behind_leb(at, end);
      }
      copy(out, begin, at);
    }
  }

  /// What the units say of the two rebuilt sections.
  bool patch_references() {
    auto* bytes = reinterpret_cast<char*>(file_.data());
    Elf* elf = elf_memory(bytes, file_.size());
    Dwarf* dwarf = dwarf_begin_elf(elf, DWARF_C_READ, nullptr);
    if (dwarf == nullptr) {
      elf_end(elf);
      return false;
    }
    const Section& info = sections_[".debug_info"];
    Elf_Scn* scn = nullptr;
    const std::uint8_t* data = nullptr;
    while ((scn = elf_nextscn(elf, scn)) != nullptr) {
      GElf_Shdr row;
      if (gelf_getshdr(scn, &row) != nullptr && row.sh_offset == info.begin && row.sh_size != 0)
        if (Elf_Data* raw = elf_rawdata(scn, nullptr))
          data = static_cast<const std::uint8_t*>(raw->d_buf);
    }
    std::map<std::size_t, std::uint32_t> patches;
    Dwarf_CU* unit = nullptr;
    Dwarf_Half version = 0;
    std::uint8_t type = 0;
    Dwarf_Die root;
    while (data != nullptr &&
           dwarf_get_units(dwarf, unit, &unit, &version, &type, &root, nullptr) == 0) {
      const auto renew = [&](unsigned attribute, const std::map<std::uint32_t, std::uint32_t>& to) {
        Dwarf_Attribute at;
        if (dwarf_attr(&root, attribute, &at) == nullptr || at.valp < data ||
            at.valp + 4 > data + info.size || dwarf_whatform(&at) != DW_FORM_sec_offset)
          return;
        const auto place = static_cast<std::size_t>(at.valp - data);
        const auto found = to.find(get(file_, info.begin + place, 4));
        if (found != to.end()) patches[place] = found->second;
      };
      renew(DW_AT_addr_base, new_address_base_);
      renew(DW_AT_stmt_list, new_lines_);
    }
    dwarf_end(dwarf);
    elf_end(elf);
    for (const auto& [place, value] : patches) put(file_, info.begin + place, value, 4);
    return true;
  }

  /// The section's new bytes go behind everything else.
  void replace(const char* name, const FileBytes& bytes) {
    const Section& section = sections_[name];
    put(file_, section.header + 16, static_cast<std::uint32_t>(file_.size()), 4);  // sh_offset
    put(file_, section.header + 20, static_cast<std::uint32_t>(bytes.size()), 4);  // sh_size
    file_.insert(file_.end(), bytes.begin(), bytes.end());
  }

  FileBytes file_;
  std::map<std::string, Section> sections_;
  std::map<std::uint32_t, std::uint32_t> new_address_base_, new_lines_;
};

}  // namespace

std::optional<std::vector<std::uint8_t>> with_wide_addresses(
    const std::vector<std::uint8_t>& file) {
  Widening widening(file);
  if (!widening.run()) return std::nullopt;
  return widening.take();
}

std::size_t units_with_short_addresses(const std::vector<std::uint8_t>& file) {
  return Widening(file).unreadable();
}

}  // namespace lucid::program
