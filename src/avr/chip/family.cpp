// SPDX-License-Identifier: MIT
#include "avr/chip/family.h"

#include <elf.h>
#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "avr/chip/avr_machine.h"
#include "avr/devices/device.h"
#include "avr/isa/target.h"
#include "base/text.h"

namespace lucid::avr {
namespace {

/// The linker's number for the core: 5 is avr5, 51 is avr51.
std::string core_of(u32 flags) {
  return (flags & 0x7fU) != 0 ? fmt::format("avr{}", flags & 0x7fU) : std::string();
}

u32 word_at(const u8* bytes) {
  return bytes[0] | bytes[1] << 8 | bytes[2] << 16 | static_cast<u32>(bytes[3]) << 24;
}

/// The name in the device's note: three words of header, the owner "AVR", six words about the
/// memories, a table of offsets (preceded by its size, which counts itself), then the strings.
std::string chip_of(const u8* bytes, std::size_t size) {
  constexpr std::size_t kOffsets = 12 + 4 + 24;
  if (size < kOffsets + 8) return {};
  const std::size_t offsets = word_at(bytes + kOffsets);
  const std::size_t strings = kOffsets + offsets;
  if (offsets > size || strings + 4 > size) return {};
  const std::size_t name = strings + word_at(bytes + kOffsets + 4);
  if (name >= size) return {};
  const auto* begin = reinterpret_cast<const char*>(bytes + name);
  const std::size_t length = strnlen(begin, size - name);
  std::string out(begin, length);
  const bool plain = std::all_of(
      out.begin(), out.end(), [](char c) { return std::isalnum(static_cast<unsigned char>(c)); });
  return plain ? out : std::string{};
}

/// `__flash` is 1, `__flash1` to `__flash5` are 2 to 6.
std::optional<Space> address_class(std::uint64_t number) {
  return number >= 1 && number <= 6 ? std::optional<Space>(Space::kCode) : std::nullopt;
}

constexpr u8 kMemxBytes = 3;  // of a `__memx` pointer
const image::ElfForm kForm{
    EM_AVR,  "avr-gcc",     placed_by_linker, core_of, ".note.gnu.avr.deviceinfo",
    chip_of, address_class, kMemxBytes};

class Avr final : public machine::Family {
 public:
  [[nodiscard]] const image::ElfForm& elf_form() const override { return kForm; }
  [[nodiscard]] std::vector<Chip::Summary> catalogue() const override {
    std::vector<Chip::Summary> out;
    for (const Device& device : devices())
      out.push_back({std::string(device.name), std::string(device.core), device.flash,
                     device.ram_end - device.ram_begin, device.eeprom, remark_on(device)});
    return out;
  }
  [[nodiscard]] Result<std::unique_ptr<machine::Machine>> make(const Chip::Options& options,
                                                               Joined joined) const override {
    auto fabric = Fabric::make(options);
    if (!fabric) return fail(fabric.error());
    if (auto done = (*fabric)->join(std::move(joined)); !done) return fail(done.error());
    return std::make_unique<AvrMachine>(std::move(*fabric), options);
  }
  [[nodiscard]] Result<std::pair<std::string, std::string>> serial_lines(
      const std::string& chip, const std::string& port) const override {
    Chip::Options options;
    options.name = chip;
    const auto fabric = Fabric::make(options);
    if (!fabric) return fail(fabric.error());
    for (const auto& usart : (*fabric)->usarts) {
      if (!base::equal_ignoring_case(usart->name(), port)) continue;
      const auto [transmit, receive] = usart->lines();
      return std::pair(transmit.port->pin_name(transmit.bit), receive.port->pin_name(receive.bit));
    }
    return fail(ErrorCode::kNotFound,
                fmt::format("{} has no serial port '{}'", (*fabric)->info.name, port));
  }
};

}  // namespace

const machine::Family& family() {
  static const Avr kFamily;
  return kFamily;
}

}  // namespace lucid::avr
