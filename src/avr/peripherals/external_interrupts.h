// SPDX-License-Identifier: MIT
// INTn and pin-change interrupts ("External Interrupts").
// Modelled: low level, any change, falling and rising edge, pin changes by PCMSKn, flags, masks; in
// deep sleep only what needs no clock: levels, pin changes, and on larger parts the edges of INT0
// to INT3. Not modelled: the delay of the pins' synchronisers: a flag rises with the edge.
#ifndef LUCID_AVR_PERIPHERALS_EXTERNAL_INTERRUPTS_H
#define LUCID_AVR_PERIPHERALS_EXTERNAL_INTERRUPTS_H

#include "avr/peripherals/peripheral.h"

namespace lucid::avr {

class ExternalInterrupts final : public Peripheral {
 public:
  ExternalInterrupts(const Names& names, std::vector<Pin> interrupts, std::vector<Pin> changes,
                     unsigned slot);

  [[nodiscard]] std::vector<u16> addresses() const override;
  void write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const override;
  bool assume(const Bus& bus, u16 address, u8 value, u64 t) const override;
  [[nodiscard]] u8 peek(const World& world, u16 address, u64 t) const override;
  [[nodiscard]] u64 steady_until(const World& world, u16 address, u64 t) const override;
  [[nodiscard]] std::vector<Pin> listens() const override;
  [[nodiscard]] PinGate gate(Pin pin) const override;
  void on_pin(const Bus& bus, Pin pin, bool level, u64 t) const override;
  void on_event(const Bus& bus, unsigned slot, u64 due) const override;
  [[nodiscard]] std::vector<unsigned> slots() const override { return {slot_}; }
  /// What has passed the first edge goes on without a clock.
  [[nodiscard]] bool runs_asleep(const World& /*world*/, unsigned /*sm*/) const override {
    return true;
  }
  void on_vector(const Bus& bus, unsigned vector) const override;
  bool bring_forward(const Bus& bus, unsigned vector, std::optional<u8> byte, u64 t) const override;
  void reset(const Bus& bus) const override;
  [[nodiscard]] std::vector<unsigned> vectors() const override;

 private:
  /// 0: low level, 1: any change, 2: falling edge, 3: rising edge.
  [[nodiscard]] unsigned sense(const World& world, unsigned n) const;
  void refresh_requests(const Bus& bus) const;
  void change(const Bus& bus, unsigned group, u64 t) const;

  unsigned slot_;
  u16 eicra_, eicrb_, eimsk_, eifr_, pcicr_, pcifr_;
  std::array<u16, 4> pcmsk_;
  std::vector<Pin> interrupts_, changes_;
  std::vector<unsigned> vectors_, change_vectors_;
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_PERIPHERALS_EXTERNAL_INTERRUPTS_H
