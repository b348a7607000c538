// SPDX-License-Identifier: MIT
// The sections .debug_macro and .debug_macinfo of images built with -g3, from their first byte to
// their last, whatever they hold: what they import stands in them, too. ("DWARF Version 5", section
// "Macro Information"; version 4 of it is GCC's own with the same numbers, and "DWARF Version 4",
// section "Macro Information", for the older form.)
#include <gelf.h>

#include <map>
#include <string_view>

#include "base/text.h"
#include "program/dwarf_reader.h"

namespace lucid::program {
namespace {

/// Reads a section; behind its end there are noughts, and `good()` is false.
class Bytes {
 public:
  Bytes(const std::uint8_t* data, std::size_t size) : data_(data), size_(size) {}

  [[nodiscard]] bool good() const { return at_ <= size_; }
  [[nodiscard]] bool more() const { return at_ < size_; }
  std::uint32_t number(unsigned bytes) {
    std::uint32_t out = 0;
    for (unsigned i = 0; i < bytes; ++i, ++at_)
      if (at_ < size_) out |= std::uint32_t{data_[at_]} << (8 * i);
    return out;
  }
  void skip(std::size_t bytes) {
    at_ = bytes > size_ - std::min(at_, size_) ? size_ + 1 : at_ + bytes;
  }
  void skip_leb() {
    while (at_ < size_ && (data_[at_] & 0x80U) != 0) ++at_;
    ++at_;
  }
  std::string_view text() {
    const std::size_t begin = std::min(at_, size_);
    while (at_ < size_ && data_[at_] != 0) ++at_;
    const std::string_view out(reinterpret_cast<const char*>(data_ + begin), at_ - begin);
    ++at_;
    return out;
  }

 private:
  const std::uint8_t* data_;
  std::size_t size_;
  std::size_t at_ = 0;
};

class MacroReader {
 public:
  MacroReader(Program::Data& data, Bytes strings_begin) : data_(data), strings_(strings_begin) {}

  /// False: what follows is not understood.
  bool read_contributions(Bytes in) {
    while (in.more()) {
      const unsigned version = in.number(2);
      const unsigned flags = in.number(1);
      const bool wide = (flags & 1U) != 0;
      const bool own_operations = (flags & 4U) != 0;
      if ((version != 4 && version != 5) || wide || own_operations) return false;
      if ((flags & 2U) != 0) in.skip(4);
      if (!read_operations(in, false)) return false;
    }
    return true;
  }
  bool read_old(Bytes in) {
    while (in.more())
      if (!read_operations(in, true)) return false;
    return true;
  }

 private:
  /// Up to the operation 0.
  bool read_operations(Bytes& in, bool old) {
    enum : unsigned { kDefine = 1, kUndefine, kStart, kEnd, kDefineAt, kUndefineAt, kImport };
    while (in.more()) {
      const unsigned operation = in.number(1);
      if (operation > kEnd && old) return false;
      switch (operation) {
        case 0: return in.good();
        case kDefine:
          in.skip_leb();
          define(in.text());
          break;
        case kUndefine:
          in.skip_leb();
          (void)in.text();
          break;
        case kStart:
          in.skip_leb();
          in.skip_leb();
          break;
        case kEnd: break;
        case kDefineAt:
        case kUndefineAt: {
          in.skip_leb();
          Bytes text = strings_;
          text.skip(in.number(4));
          if (operation == kDefineAt && text.more()) define(text.text());
          break;
        }
        case kImport: in.skip(4); break;
        default: return false;
      }
    }
    return in.good();
  }

  /// `NAME body` or `NAME(a,b) body`.
  void define(std::string_view all) {
    constexpr std::size_t kMost = 1'000'000;
    const std::size_t end = std::min(all.find_first_of(" ("), all.size());
    Macro made;
    made.name = all.substr(0, end);
    std::size_t at = end;
    if (at < all.size() && all[at] == '(') {
      made.takes_arguments = true;
      const std::size_t close = std::min(all.find(')', at), all.size());
      while (++at < close) {
        const std::size_t comma = std::min(all.find(',', at), close);
        made.parameters.emplace_back(base::trim(all.substr(at, comma - at)));
        at = comma;
      }
      at = std::min(close + 1, all.size());
    }
    made.body = base::trim(all.substr(at));
    if (!made.name.empty() && data_.macros.size() < kMost)
      data_.macros[made.name] = std::move(made);
  }

  Program::Data& data_;
  const Bytes strings_;
};

}  // namespace

void read_macros(Elf* elf, Program::Data& data) {
  std::size_t names = 0;
  if (elf_getshdrstrndx(elf, &names) != 0) return;
  std::map<std::string_view, Bytes> sections;
  for (Elf_Scn* section = nullptr; (section = elf_nextscn(elf, section)) != nullptr;) {
    GElf_Shdr header;
    if (gelf_getshdr(section, &header) == nullptr || header.sh_type == SHT_NOBITS ||
        (header.sh_flags & SHF_COMPRESSED) != 0)
      continue;
    const char* name = elf_strptr(elf, names, header.sh_name);
    const Elf_Data* bytes = elf_rawdata(section, nullptr);
    if (name != nullptr && bytes != nullptr && bytes->d_buf != nullptr)
      sections.emplace(name, Bytes(static_cast<const std::uint8_t*>(bytes->d_buf), bytes->d_size));
  }
  const auto strings = sections.find(".debug_str");
  MacroReader reader(data, strings != sections.end() ? strings->second : Bytes(nullptr, 0));
  bool good = true;
  if (const auto found = sections.find(".debug_macro"); found != sections.end())
    good = reader.read_contributions(found->second);
  if (const auto found = sections.find(".debug_macinfo"); found != sections.end())
    good = reader.read_old(found->second) && good;
  if (!good)
    data.warnings.emplace_back(
        "what is said about macros is damaged, or in a form that is not read: some are missing");
}

}  // namespace lucid::program
