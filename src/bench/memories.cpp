// SPDX-License-Identifier: MIT
// Memories on the two-wire bus and on SPI.
#include <fmt/format.h>

#include "bench/parts.h"

namespace lucid::bench {
namespace {

// Eight bytes in each of a part's numbers.
std::uint8_t get(Wires& wires, unsigned base, unsigned at) {
  return static_cast<std::uint8_t>(wires.number(base + at / 8) >> (8 * (at % 8)));
}
void put(Wires& wires, unsigned base, unsigned at, std::uint8_t byte) {
  auto raw = static_cast<std::uint64_t>(wires.number(base + at / 8));
  raw &= ~(std::uint64_t{0xff} << (8 * (at % 8)));
  raw |= std::uint64_t{byte} << (8 * (at % 8));
  wires.number(base + at / 8) = static_cast<std::int64_t>(raw);
}

/// A serial EEPROM of the common 24-series kind: one or two address bytes, writes by pages that are
/// programmed after STOP, no answer while that lasts, reads that go on through the whole memory.
class TwoWireEeprom final : public Part {
 public:
  TwoWireEeprom(const std::string& name, Keys& keys)
      : Part(name),
        sda_(keys.text("sda")),
        scl_(keys.text("scl")),
        address_(static_cast<unsigned>(keys.number("address", 8, 0x77, 0x50))),
        bytes_(static_cast<unsigned>(keys.number("bytes", 128, 65536, 256))),
        page_(static_cast<unsigned>(keys.number("page", 8, kMostPage, bytes_ <= 256 ? 8 : 32))),
        write_time_(keys.microseconds("write_time", "5ms")) {
    const bool known = bytes_ <= 256 || bytes_ >= 4096;
    if ((bytes_ & (bytes_ - 1)) != 0 || !known)
      keys.wrong("bytes", "must be 128, 256, 4096, 8192, 16384, 32768 or 65536");
    if ((page_ & (page_ - 1)) != 0) keys.wrong("page", "must be a power of two");
  }

  [[nodiscard]] std::vector<std::string> pins() const override { return {sda_, scl_}; }
  [[nodiscard]] unsigned numbers() const override { return kMemory + bytes_ / 8; }
  void start(Wires& wires) const override {
    for (unsigned i = 0; i < bytes_ / 8; ++i) wires.number(kMemory + i) = -1;  // erased
  }

  [[nodiscard]] bool on_address(Wires& wires, std::uint8_t address, bool reading) const override {
    if (address != address_ || wires.now() < static_cast<std::uint64_t>(wires.number(kBusy)))
      return false;
    wires.number(kAddressBytes) = reading ? 0 : (bytes_ <= 256 ? 1 : 2);
    wires.number(kLatched) = 0;
    return true;
  }
  [[nodiscard]] bool on_bus_byte(Wires& wires, std::uint8_t byte) const override {
    std::int64_t& pointer = wires.number(kPointer);
    if (wires.number(kAddressBytes) > 0) {
      --wires.number(kAddressBytes);
      pointer = (pointer << 8 | byte) & (bytes_ - 1);
      return true;
    }
    const auto at = static_cast<unsigned>(pointer);
    put(wires, kPage, at % page_, byte);
    wires.number(kLatchedMask + at % page_ / 64) |= std::int64_t{1} << (at % page_ % 64);
    ++wires.number(kLatched);
    pointer = at - at % page_ + (at + 1) % page_;  // within the page
    return true;
  }
  [[nodiscard]] std::uint8_t bus_byte(Wires& wires) const override {
    const auto at = static_cast<unsigned>(wires.number(kPointer));
    wires.number(kPointer) = (at + 1) & (bytes_ - 1);
    return get(wires, kMemory, at);
  }
  void on_stop(Wires& wires) const override {
    if (wires.number(kLatched) == 0) return;
    const auto page = static_cast<unsigned>(wires.number(kPointer)) & ~(page_ - 1);
    for (unsigned i = 0; i < page_; ++i)
      if ((wires.number(kLatchedMask + i / 64) >> (i % 64) & 1) != 0)
        put(wires, kMemory, page + i, get(wires, kPage, i));
    for (unsigned i = 0; i < kMostPage / 64; ++i) wires.number(kLatchedMask + i) = 0;
    wires.number(kLatched) = 0;
    ++wires.number(kWrites);
    wires.number(kBusy) = static_cast<std::int64_t>(wires.now() + wires.ticks(write_time_));
  }

  [[nodiscard]] std::string describe(Wires& wires) const override {
    const bool busy = wires.now() < static_cast<std::uint64_t>(wires.number(kBusy));
    return fmt::format("{} bytes at address 0x{:02x}, {} page{} written{}", bytes_, address_,
                       wires.number(kWrites), wires.number(kWrites) == 1 ? "" : "s",
                       busy ? ", programming" : "");
  }

 private:
  static constexpr unsigned kMostPage = 128;
  enum Number : unsigned {
    kPointer,
    kAddressBytes,  ///< still to come
    kLatched,       ///< bytes since the address
    kBusy,          ///< tick until which it programs
    kWrites,
    kLatchedMask,                           ///< which bytes of the page
    kPage = kLatchedMask + kMostPage / 64,  ///< eight bytes a number
    kMemory = kPage + kMostPage / 8
  };
  std::string sda_, scl_;
  unsigned address_, bytes_, page_;
  std::uint64_t write_time_;
};

/// A serial flash memory of the common 25-series kind, in SPI modes 0 and 3: read, fast read, page
/// program, erase of 4 KiB, 64 KiB and all, write enable, status, identification.
class SpiFlash final : public Part {
 public:
  SpiFlash(const std::string& name, Keys& keys)
      : Part(name),
        pins_{keys.text("select"), keys.text("clock"), keys.text("in"), keys.text("out")},
        bytes_(static_cast<unsigned>(keys.number("bytes", 65536, 524288, 131072))),
        id_(keys.number("id", 0, 0xffffff, 0x002511)),
        program_time_(keys.microseconds("program_time", "700us")),
        erase_time_(keys.microseconds("erase_time", "45ms")) {
    if ((bytes_ & (bytes_ - 1)) != 0) keys.wrong("bytes", "must be a power of two");
  }

  [[nodiscard]] std::vector<std::string> pins() const override { return pins_; }
  [[nodiscard]] unsigned numbers() const override { return kMemory + bytes_ / 8; }
  void start(Wires& wires) const override { erase(wires, 0, bytes_); }

  void on_pin(Wires& wires, unsigned pin, bool level) const override {
    if (pin == kSelect) {
      level ? deselected(wires) : selected(wires);
    } else if (pin == kClock && !wires.level(kSelect)) {
      level ? sample(wires) : show(wires);
    }
  }
  [[nodiscard]] std::string describe(Wires& wires) const override {
    return fmt::format("{} KiB, {} page{} programmed, {} erased{}", bytes_ / 1024,
                       wires.number(kPrograms), wires.number(kPrograms) == 1 ? "" : "s",
                       wires.number(kErases), is_busy(wires) ? ", busy" : "");
  }

 private:
  static constexpr unsigned kPageBytes = 256;
  enum Line : unsigned { kSelect, kClock, kIn, kOut };
  enum Number : unsigned {
    kBits,  ///< of this byte
    kShiftIn,
    kShiftOut,
    kBytes,  ///< since it was selected
    kCommand,
    kAddress,
    kEnabled,  ///< for a program or an erase
    kBusy,     ///< until this tick
    kPrograms,
    kErases,
    kPage,
    kMemory = kPage + kPageBytes / 8
  };
  enum Command : unsigned {
    kProgram = 0x02,
    kRead = 0x03,
    kWriteDisable = 0x04,
    kStatus = 0x05,
    kWriteEnable = 0x06,
    kFastRead = 0x0b,
    kErase4K = 0x20,
    kEraseAllToo = 0x60,
    kIdentify = 0x9f,
    kEraseAll = 0xc7,
    kErase64K = 0xd8
  };
  static bool is_busy(Wires& wires) {
    return wires.now() < static_cast<std::uint64_t>(wires.number(kBusy));
  }
  static void erase(Wires& wires, unsigned from, unsigned bytes) {
    for (unsigned i = 0; i < bytes / 8; ++i) wires.number(kMemory + from / 8 + i) = -1;
  }
  void selected(Wires& wires) const {
    for (const Number n : {kBits, kShiftIn, kBytes, kCommand, kAddress}) wires.number(n) = 0;
    wires.number(kShiftOut) = 0xff;
    for (unsigned i = 0; i < kPageBytes / 8; ++i) wires.number(kPage + i) = -1;
  }
  void sample(Wires& wires) const {
    std::int64_t& in = wires.number(kShiftIn);
    in = (in << 1 | (wires.level(kIn) ? 1 : 0)) & 0xff;
    if (++wires.number(kBits) < 8) return;
    wires.number(kBits) = 0;
    byte(wires, static_cast<unsigned>(in));
  }
  static void show(Wires& wires) {
    std::int64_t& out = wires.number(kShiftOut);
    wires.drive(kOut, (out & 0x80) != 0);
    out = out << 1 & 0xff;
  }
  void byte(Wires& wires, unsigned value) const {
    const std::int64_t number = wires.number(kBytes)++;
    std::int64_t& out = wires.number(kShiftOut);
    out = 0xff;
    if (number == 0) wires.number(kCommand) = value;
    const auto command = static_cast<unsigned>(wires.number(kCommand));
    if (command == kStatus) {
      out = (is_busy(wires) ? 1 : 0) | wires.number(kEnabled) << 1;
      return;
    }
    if (is_busy(wires)) return;
    if (command == kIdentify && number < 3) out = id_ >> (8 * (2 - number)) & 0xff;
    if (number == 0) return;
    std::int64_t& address = wires.number(kAddress);
    if (number <= 3) address = (address << 8 | value) & (bytes_ - 1);
    const std::int64_t first = command == kFastRead ? 4 : 3;
    if ((command == kRead || command == kFastRead) && number >= first) {
      out = get(wires, kMemory, static_cast<unsigned>(address));
      address = (address + 1) & (bytes_ - 1);
    }
    if (command == kProgram && number > 3) {  // within the page
      put(wires, kPage, static_cast<unsigned>(address) % kPageBytes,
          static_cast<std::uint8_t>(value));
      address = (address & ~std::int64_t{kPageBytes - 1}) | ((address + 1) & (kPageBytes - 1));
    }
  }
  /// What changes the memory begins when it is deselected behind a whole byte.
  void deselected(Wires& wires) const {
    wires.drive(kOut, std::nullopt);
    const std::int64_t number = wires.number(kBytes);
    const auto command = static_cast<unsigned>(wires.number(kCommand));
    if (is_busy(wires) || wires.number(kBits) != 0 || number == 0) return;
    std::int64_t& enabled = wires.number(kEnabled);
    if (command == kWriteEnable || command == kWriteDisable)
      enabled = command == kWriteEnable ? 1 : 0;
    if (enabled == 0) return;
    const auto address = static_cast<unsigned>(wires.number(kAddress));
    const auto erased = [&](unsigned bytes) {
      erase(wires, address & ~(bytes - 1), bytes);
      ++wires.number(kErases);
      begin(wires, bytes == bytes_ ? 10 * erase_time_ : erase_time_);
    };
    if (command == kProgram && number > 4) {
      const unsigned page = address & ~(kPageBytes - 1);
      for (unsigned i = 0; i < kPageBytes; ++i)  // bits can only be cleared
        put(wires, kMemory, page + i, get(wires, kMemory, page + i) & get(wires, kPage, i));
      ++wires.number(kPrograms);
      begin(wires, program_time_);
    }
    if (command == kErase4K && number == 4) erased(4096);
    if (command == kErase64K && number == 4) erased(65536);
    if (command == kEraseAll || command == kEraseAllToo) erased(bytes_);
  }
  static void begin(Wires& wires, std::uint64_t microseconds) {
    wires.number(kEnabled) = 0;
    wires.number(kBusy) = static_cast<std::int64_t>(wires.now() + wires.ticks(microseconds));
  }

  std::vector<std::string> pins_;
  unsigned bytes_;
  std::int64_t id_;
  std::uint64_t program_time_, erase_time_;
};

}  // namespace

Made make_spi_flash(const std::string& name, Keys& keys, const Surroundings& /*around*/) {
  return std::make_shared<SpiFlash>(name, keys);
}

Made make_two_wire_eeprom(const std::string& name, Keys& keys, const Surroundings& /*around*/) {
  return std::make_shared<TwoWireEeprom>(name, keys);
}

}  // namespace lucid::bench
