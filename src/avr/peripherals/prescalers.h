// SPDX-License-Identifier: MIT
// The prescalers of the timers: GTCCR with reset and hold, ASSR ("Timer/Counter Prescalers",
// "Asynchronous Operation of Timer/Counter2").
// Not modelled, and said: EXCLK.
#ifndef LUCID_AVR_PERIPHERALS_PRESCALERS_H
#define LUCID_AVR_PERIPHERALS_PRESCALERS_H

#include "avr/peripherals/timer.h"

namespace lucid::avr {

class Prescalers final : public Peripheral {
 public:
  Prescalers(const Names& names, std::vector<const Timer*> timers)
      : gtccr_(names.reg("GTCCR")), assr_(names.reg("ASSR")), timers_(std::move(timers)) {}

  [[nodiscard]] std::vector<u16> addresses() const override { return {gtccr_, assr_}; }
  [[nodiscard]] u8 peek(const World& world, u16 address, u64 t) const override;
  void write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const override;
  bool assume(const Bus& bus, u16 address, u8 value, u64 t) const override;
  void stood_still(const Bus& bus, u64 cycles) const override;
  void reset(const Bus& bus) const override;

 private:
  void restart(const Bus& bus, unsigned which, bool hold, u64 t) const;
  u16 gtccr_, assr_;
  std::vector<const Timer*> timers_;
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_PERIPHERALS_PRESCALERS_H
