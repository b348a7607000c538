// SPDX-License-Identifier: MIT
// Memories on the two-wire bus.
#include <fmt/format.h>

#include "bench/parts.h"

namespace lucid::bench {
namespace {

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
  [[nodiscard]] std::uint8_t bus_byte(Wires& wires, bool /*acknowledged*/) const override {
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
  static std::uint8_t get(Wires& wires, unsigned base, unsigned at) {
    return static_cast<std::uint8_t>(wires.number(base + at / 8) >> (8 * (at % 8)));
  }
  static void put(Wires& wires, unsigned base, unsigned at, std::uint8_t byte) {
    auto raw = static_cast<std::uint64_t>(wires.number(base + at / 8));
    raw &= ~(std::uint64_t{0xff} << (8 * (at % 8)));
    raw |= std::uint64_t{byte} << (8 * (at % 8));
    wires.number(base + at / 8) = static_cast<std::int64_t>(raw);
  }

  std::string sda_, scl_;
  unsigned address_, bytes_, page_;
  std::uint64_t write_time_;
};

}  // namespace

Made make_two_wire_eeprom(const std::string& name, Keys& keys, const Surroundings& /*around*/) {
  return std::make_shared<TwoWireEeprom>(name, keys);
}

}  // namespace lucid::bench
