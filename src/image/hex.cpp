// SPDX-License-Identifier: MIT
// Intel HEX: "Hexadecimal Object File Format Specification", record types 00 to 05.
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <optional>

#include "image/image_data.h"

namespace lucid::image {
namespace {

class HexReader {
 public:
  explicit HexReader(Image::Data& data) : data_(data) {}

  Result<void> read() {
    std::size_t at = 0;
    const auto& file = data_.file;
    while (at < file.size() && !ended_) {
      ++line_;
      std::size_t end = at;
      while (end < file.size() && file[end] != '\n') ++end;
      std::string text(file.begin() + static_cast<std::ptrdiff_t>(at),
                       file.begin() + static_cast<std::ptrdiff_t>(end));
      while (!text.empty() && (text.back() == '\r' || text.back() == ' ')) text.pop_back();
      at = end + 1;
      if (text.empty()) continue;
      if (auto done = record(text); !done) return done;
    }
    if (!ended_)
      return wrong("the end-of-file record is missing", "the file was cut off: build it again");
    finish();
    return {};
  }

 private:
  Result<void> wrong(std::string what, std::string hint = {}) const {
    return fail(ErrorCode::kBadImage, std::move(what), std::move(hint),
                fmt::format("line {}", line_));
  }

  static std::optional<unsigned> digit(char c) {
    if (c >= '0' && c <= '9') return static_cast<unsigned>(c - '0');
    if (c >= 'A' && c <= 'F') return static_cast<unsigned>(c - 'A' + 10);
    if (c >= 'a' && c <= 'f') return static_cast<unsigned>(c - 'a' + 10);
    return std::nullopt;
  }

  Result<void> record(const std::string& text) {
    if (text[0] != ':') return wrong("a record begins with ':'");
    if (text.size() % 2 == 0) return wrong("a digit is missing");
    std::vector<std::uint8_t> bytes;
    for (std::size_t i = 1; i < text.size(); i += 2) {
      const auto high = digit(text[i]);
      const auto low = digit(text[i + 1]);
      if (!high || !low) return wrong(fmt::format("column {}: not a hexadecimal digit", i + 1));
      bytes.push_back(static_cast<std::uint8_t>(*high << 4 | *low));
    }
    if (bytes.size() < 5) return wrong("the record is too short");
    if (bytes.size() != bytes[0] + 5U)
      return wrong(fmt::format("the record says {} data bytes and has {}", bytes[0],
                               static_cast<int>(bytes.size()) - 5));
    unsigned sum = 0;
    for (const std::uint8_t byte : bytes) sum += byte;
    if ((sum & 0xff) != 0)
      return wrong(fmt::format("checksum {:#04x}, should be {:#04x}", bytes.back(),
                               (bytes.back() - sum) & 0xff),
                   "the file is damaged: build it again");
    const unsigned offset = unsigned{bytes[1]} << 8 | bytes[2];
    const auto value = [&] { return std::uint32_t{bytes[4]} << 8 | bytes[5]; };
    switch (bytes[3]) {
      case 0: return contents(offset, bytes);
      case 1: ended_ = true; return {};
      case 2:
      case 4:
        if (bytes[0] != 2) return wrong("an address record has two data bytes");
        base_ = bytes[3] == 2 ? value() << 4 : value() << 16;
        return {};
      case 3:
      case 5: return {};  // start addresses say nothing to a microcontroller
      default: return wrong(fmt::format("record type {:02x} does not exist", bytes[3]));
    }
  }

  Result<void> contents(unsigned offset, const std::vector<std::uint8_t>& bytes) {
    for (std::size_t i = 4; i + 1 < bytes.size(); ++i) {
      const std::uint32_t address = base_ + ((offset + static_cast<std::uint32_t>(i) - 4) & 0xffff);
      if (!memory_.emplace(address, bytes[i]).second)
        return wrong(fmt::format("address {:#06x} is given a second time", address),
                     "two programs were joined that overlap");
    }
    return {};
  }

  void finish() {
    constexpr std::uint16_t kAvr = 83;  // the only family whose HEX files are read so far
    for (const auto& [flat, byte] : memory_) {
      const Address address = placed(kAvr, flat);
      if (data_.segments.empty() || data_.segments.back().address.space != address.space ||
          data_.segments.back().address.offset + data_.segments.back().bytes.size() !=
              address.offset)
        data_.segments.push_back({address, {}});
      data_.segments.back().bytes.push_back(byte);
    }
  }

  Image::Data& data_;
  std::map<std::uint32_t, std::uint8_t> memory_;
  std::uint32_t base_ = 0;
  unsigned line_ = 0;
  bool ended_ = false;
};

}  // namespace

Result<void> read_hex(Image::Data& data) { return HexReader(data).read(); }

}  // namespace lucid::image
