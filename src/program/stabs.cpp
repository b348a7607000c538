// SPDX-License-Identifier: MIT
// STABS, which avr-gcc writes for plain -g: functions and lines, nothing else. ("The stabs debug
// format", chapters on source files, line numbers and procedures.)
#include <gelf.h>
#include <libelf.h>

#include <cstring>
#include <map>
#include <memory>
#include <string_view>

#include "base/text.h"
#include "program/program_data.h"

namespace lucid::program {
namespace {

enum : std::uint8_t {
  kUnit = 0x00,
  kFunction = 0x24,
  kLine = 0x44,
  kSource = 0x64,
  kInclude = 0x84
};
constexpr std::size_t kEntryBytes = 12;

struct ElfCloser {
  void operator()(Elf* elf) const { elf_end(elf); }
};

class StabsReader {
 public:
  explicit StabsReader(Program::Data& data) : data_(data) {}

  void read(std::string_view entries, std::string_view strings) {
    std::size_t strings_begin = 0;
    std::size_t strings_next = 0;
    for (std::size_t at = 0; at + kEntryBytes <= entries.size(); at += kEntryBytes) {
      const auto field = [&](std::size_t offset, unsigned bytes) {
        std::uint32_t value = 0;
        for (unsigned i = 0; i < bytes; ++i)
          value |= static_cast<std::uint32_t>(static_cast<std::uint8_t>(entries[at + offset + i]))
                   << (8 * i);
        return value;
      };
      const auto type = static_cast<std::uint8_t>(field(4, 1));
      const std::uint32_t value = field(8, 4);
      if (type == kUnit) {  // its strings follow those of the units before it
        strings_begin = strings_next;
        strings_next += value;
        continue;
      }
      const std::size_t from = strings_begin + field(0, 4);
      const std::string_view text =
          from < strings.size() ? strings.substr(from, strings.find('\0', from) - from) : "";
      entry(type, text, field(6, 2), value);
    }
    finish_lines(std::move(rows_), data_);
  }

 private:
  void entry(std::uint8_t type, std::string_view text, std::uint32_t line, std::uint32_t value) {
    switch (type) {
      case kSource:
        if (text.empty())
          end_at(value);
        else if (text.back() == '/')
          directory_ = text;
        else
          file_ = file_index(text);
        break;
      case kInclude: file_ = file_index(text); break;
      case kFunction:
        if (text.empty()) {  // its end: how long it is
          if (function_ != nullptr) function_->end = function_->begin + value;
          end_at(begin_ + value);
          break;
        }
        data_.functions.emplace_back();
        function_ = &data_.functions.back();
        function_->name = text.substr(0, text.find(':'));
        function_->begin = function_->end = begin_ = value;
        function_->line = line;
        function_->file = file();
        break;
      case kLine:  // from the function's start; in assembly, an address
        if (rows_.size() < kMostRows) rows_.push_back({begin_ + value, file(), line, true, false});
        break;
      default: break;
    }
  }

  void end_at(std::uint32_t address) {
    if (rows_.size() < kMostRows) rows_.push_back({address, file(), 0, false, true});
    function_ = nullptr;
    begin_ = 0;
  }

  /// The file at hand; damaged input may not have named one.
  unsigned file() {
    if (data_.files.empty()) file_ = file_index("?");
    return file_;
  }

  unsigned file_index(std::string_view path) {
    const std::string key = directory_ + '\n' + std::string(path);
    const auto [found, is_new] = files_.emplace(key, data_.files.size());
    if (is_new) {
      SourceFile file;
      file.path = path;
      file.name = base::file_name(file.path);
      file.directory = directory_.substr(0, directory_.empty() ? 0 : directory_.size() - 1);
      data_.files.push_back(std::move(file));
    }
    return static_cast<unsigned>(found->second);
  }

  static constexpr std::size_t kMostRows = 10'000'000;

  Program::Data& data_;
  std::vector<LineRow> rows_;
  std::map<std::string, std::size_t> files_;
  std::string directory_;
  unsigned file_ = 0;
  Function* function_ = nullptr;
  std::uint32_t begin_ = 0;  ///< of the function at hand
};

}  // namespace

void read_stabs(const Image& image, Program::Data& data) {
  elf_version(EV_CURRENT);
  // libelf takes a non-const pointer and does not write through it in read mode.
  auto* bytes = const_cast<char*>(reinterpret_cast<const char*>(image.file().data()));
  const std::unique_ptr<Elf, ElfCloser> elf(elf_memory(bytes, image.file().size()));
  std::size_t names = 0;
  if (elf == nullptr || elf_getshdrstrndx(elf.get(), &names) != 0) return;
  std::string_view entries;
  std::string_view strings;
  for (Elf_Scn* section = nullptr; (section = elf_nextscn(elf.get(), section)) != nullptr;) {
    GElf_Shdr header;
    if (gelf_getshdr(section, &header) == nullptr) continue;
    const char* name = elf_strptr(elf.get(), names, header.sh_name);
    const Elf_Data* raw = elf_rawdata(section, nullptr);
    if (name == nullptr || raw == nullptr || raw->d_buf == nullptr) continue;
    const std::string_view contents(static_cast<const char*>(raw->d_buf), raw->d_size);
    if (std::strcmp(name, ".stab") == 0) entries = contents;
    if (std::strcmp(name, ".stabstr") == 0) strings = contents;
  }
  StabsReader(data).read(entries, strings);
}

}  // namespace lucid::program
