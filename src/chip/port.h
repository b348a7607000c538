// SPDX-License-Identifier: MIT
// A digital I/O port ("I/O-Ports", section "Ports as General Digital I/O").
// Modelled: direction, output, pull-up and PUD, toggling by a write to PINx, the synchroniser's
// delay, outside drivers, contention, floating inputs (read as low), pins taken by a peripheral.
// Not modelled: the input buffers that sleep and DIDRn switch off.
#ifndef LUCID_CHIP_PORT_H
#define LUCID_CHIP_PORT_H

#include "chip/peripheral.h"
#include "lucid/chip.h"

namespace lucid::chip {

class Port final : public Peripheral {
 public:
  /// `mcucr` is the register that holds PUD.
  Port(const PortRow& row, unsigned index, u16 mcucr) : row_(row), index_(index), mcucr_(mcucr) {}

  [[nodiscard]] std::vector<u16> addresses() const override { return {row_.pin, ddr(), port()}; }
  void write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const override;
  [[nodiscard]] u8 peek(const World& world, u16 address, u64 t) const override;
  void reset(const Bus& bus) const override;

  /// From outside the chip, at tick `now`.
  void drive(World& world, unsigned bit, std::optional<bool> level, u64 now) const;
  /// A peripheral takes pins as outputs at the given levels, or gives them back (mask bit 0).
  void take(World& world, u8 mask, u8 high, u64 t) const;
  /// Works out the pins' levels again, as of tick `when`.
  void settle(World& world, u64 when) const;
  [[nodiscard]] PinState state(const World& world, unsigned bit) const;
  [[nodiscard]] const PortRow& row() const { return row_; }

 private:
  [[nodiscard]] u16 ddr() const { return static_cast<u16>(row_.pin + 1); }
  [[nodiscard]] u16 port() const { return static_cast<u16>(row_.pin + 2); }
  [[nodiscard]] bool pull_ups_off(const World& world) const {
    return (world.data[mcucr_] & 0x10U) != 0;
  }

  PortRow row_;
  unsigned index_;
  u16 mcucr_;
};

}  // namespace lucid::chip

#endif  // LUCID_CHIP_PORT_H
