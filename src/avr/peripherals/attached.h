// SPDX-License-Identifier: MIT
// A part on the chip's pins, as the chip sees it: one more peripheral, with one event and numbers
// in the world.
#ifndef LUCID_AVR_PERIPHERALS_ATTACHED_H
#define LUCID_AVR_PERIPHERALS_ATTACHED_H

#include <memory>

#include "avr/peripherals/usart.h"
#include "lucid/part.h"

namespace lucid::avr {

class TwoWireBus;

OutsideLevel level_of(std::optional<bool> level);
/// What all that is outside does to a pin has changed: a person's hand goes before the parts, a
/// voltage before a level, low before high.
void settle_outside(const Bus& bus, const std::vector<const class Attached*>& parts, Pin pin,
                    u64 now);

class Attached final : public Peripheral {
 public:
  Attached(std::shared_ptr<const Part> part, std::vector<Pin> pins,
           const std::vector<std::unique_ptr<Usart>>& usarts,
           const std::vector<const Attached*>& others, u64 clock_hz, unsigned index, unsigned slot)
      : part_(std::move(part)),
        pins_(std::move(pins)),
        usarts_(usarts),
        others_(others),
        clock_hz_(clock_hz),
        index_(index),
        slot_(slot) {}

  [[nodiscard]] const Part& part() const { return *part_; }
  [[nodiscard]] const std::vector<Pin>& pins() const { return pins_; }
  [[nodiscard]] const std::vector<OutsideLevel>& levels(const World& world) const {
    return world.part_levels[index_];
  }
  void set_adc(const Adc* adc) { adc_ = adc; }
  void set_two_wire(const TwoWireBus* bus) { two_wire_ = bus; }
  void start(const Bus& bus) const;
  Result<void> act(const Bus& bus, const std::string& action, const std::string& value) const;
  [[nodiscard]] std::string describe(const Bus& bus) const;
  [[nodiscard]] bool failed(const Bus& bus) const;

  [[nodiscard]] std::vector<u16> addresses() const override { return {}; }
  void write(const Bus&, u16, u8, u8, u64) const override {}
  [[nodiscard]] std::vector<Pin> listens() const override { return pins_; }
  void on_pin(const Bus& bus, Pin pin, bool level, u64 t) const override;
  void on_byte(const Bus& bus, const std::string& port, u8 byte, u64 t) const override;
  void on_event(const Bus& bus, unsigned slot, u64 due) const override;
  // The two-wire bus; see Part.
  [[nodiscard]] bool on_address(const Bus& bus, u8 address, bool reading, u64 t) const;
  [[nodiscard]] bool on_bus_byte(const Bus& bus, u8 byte, u64 t) const;
  [[nodiscard]] u8 bus_byte(const Bus& bus, u64 t) const;
  void on_stop(const Bus& bus, u64 t) const;
  [[nodiscard]] bool runs_asleep(const World& /*world*/, unsigned /*sm*/) const override {
    return true;
  }
  /// What is outside is not reset with the chip.
  void reset(const Bus& /*bus*/) const override {}
  [[nodiscard]] std::vector<unsigned> slots() const override { return {slot_}; }

 private:
  class View;
  template <class Call>
  void ask(const Bus& bus, Call call) const;
  /// It has failed.
  [[nodiscard]] bool is_out(const World& world) const {
    return !world.parts[index_].empty() && world.parts[index_].back() != 0;
  }
  void set_level(const Bus& bus, unsigned pin, const OutsideLevel& level, u64 now) const;
  std::shared_ptr<const Part> part_;
  std::vector<Pin> pins_;
  const std::vector<std::unique_ptr<Usart>>& usarts_;
  const std::vector<const Attached*>& others_;  ///< all parts, this one too
  u64 clock_hz_;
  unsigned index_, slot_;
  const Adc* adc_ = nullptr;
  const TwoWireBus* two_wire_ = nullptr;
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_PERIPHERALS_ATTACHED_H
