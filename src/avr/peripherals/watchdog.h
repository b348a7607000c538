// SPDX-License-Identifier: MIT
// The watchdog ("Watchdog Timer").
// Modelled: interrupt, reset and interrupt-then-reset modes, the timed sequence of WDCE, all
// periods of its own 128 kHz oscillator, WDTON, WDE held by WDRF; it runs in every sleep mode.
#ifndef LUCID_AVR_PERIPHERALS_WATCHDOG_H
#define LUCID_AVR_PERIPHERALS_WATCHDOG_H

#include "avr/peripherals/peripheral.h"

namespace lucid::avr {

class Watchdog final : public Peripheral {
 public:
  Watchdog(const Names& names, u64 clock_hz, unsigned slot)
      : wdtcsr_(names.reg("WDTCSR")),
        mcusr_(names.reg("MCUSR")),
        vector_(names.vector({"WDT"})),
        clock_hz_(clock_hz),
        slot_(slot) {}

  [[nodiscard]] std::vector<u16> addresses() const override { return {wdtcsr_}; }
  void write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const override;
  bool assume(const Bus& bus, u16 address, u8 value, u64 t) const override;
  [[nodiscard]] u8 peek(const World& world, u16 address, u64 t) const override;
  void on_event(const Bus& bus, unsigned slot, u64 due) const override;
  void on_vector(const Bus& bus, unsigned vector) const override;
  bool bring_forward(const Bus& bus, unsigned vector, std::optional<u8> byte, u64 t) const override;
  [[nodiscard]] bool runs_asleep(const World& /*world*/, unsigned /*sm*/) const override {
    return true;
  }
  void reset(const Bus& bus) const override;
  [[nodiscard]] std::vector<unsigned> vectors() const override { return {vector_}; }
  [[nodiscard]] std::vector<unsigned> slots() const override { return {slot_}; }

  [[nodiscard]] bool runs(const World& world) const { return world.due(slot_) != kNever; }
  /// The WDR instruction.
  void feed(const Bus& bus) const;

 private:
  enum : u8 { kWdif = 0x80, kWdie = 0x40, kWdce = 0x10, kWde = 8, kPeriod = 0x27 };
  [[nodiscard]] bool always_on(const World& world) const;
  [[nodiscard]] u64 period(const World& world) const;
  void schedule(const Bus& bus) const;
  void refresh_request(const Bus& bus) const;

  u16 wdtcsr_, mcusr_;
  unsigned vector_;
  u64 clock_hz_;
  unsigned slot_;
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_PERIPHERALS_WATCHDOG_H
