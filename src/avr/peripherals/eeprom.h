// SPDX-License-Identifier: MIT
// The EEPROM controller ("AVR Memories", section "EEPROM Data Memory").
// Modelled: reading with its halt of the processor, the four-cycle window between EEMPE and EEPE,
// programming times of the three modes, the ready interrupt.
// Not modelled: a supply too low to write, fuses and lock bits written while programming.
#ifndef LUCID_AVR_PERIPHERALS_EEPROM_H
#define LUCID_AVR_PERIPHERALS_EEPROM_H

#include "avr/peripherals/peripheral.h"

namespace lucid::avr {

class Eeprom final : public Peripheral {
 public:
  Eeprom(const Names& names, u32 bytes, u64 clock_hz, unsigned slot)
      : eecr_(names.reg("EECR")),
        address_mask_(static_cast<u16>(bytes - 1)),
        vector_(names.vector({"EE_READY"})),
        clock_hz_(clock_hz),
        slot_(slot) {}

  [[nodiscard]] std::vector<u16> addresses() const override {
    return {eecr_, eedr(), eear(), static_cast<u16>(eear() + 1)};
  }
  void write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const override;
  bool assume(const Bus& bus, u16 address, u8 value, u64 t) const override;
  [[nodiscard]] u8 peek(const World& world, u16 address, u64 t) const override;
  [[nodiscard]] u64 steady_until(const World& world, u16 address, u64 t) const override;
  void on_event(const Bus& bus, unsigned slot, u64 due) const override;
  [[nodiscard]] bool runs_asleep(const World& /*world*/, unsigned /*sm*/) const override {
    return true;
  }
  void reset(const Bus& bus) const override;
  [[nodiscard]] std::vector<unsigned> vectors() const override { return {vector_}; }
  [[nodiscard]] std::vector<unsigned> slots() const override { return {slot_}; }

 private:
  enum : u8 { kEere = 1, kEepe = 2, kEempe = 4, kEerie = 8, kEepm = 0x30 };
  [[nodiscard]] u16 eedr() const { return static_cast<u16>(eecr_ + 1); }
  [[nodiscard]] u16 eear() const { return static_cast<u16>(eecr_ + 2); }
  void control(const Bus& bus, u8 value, u8 mask, u64 t) const;
  void refresh_request(const Bus& bus) const;

  u16 eecr_;
  u16 address_mask_;
  unsigned vector_;
  u64 clock_hz_;
  unsigned slot_;
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_PERIPHERALS_EEPROM_H
