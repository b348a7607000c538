// SPDX-License-Identifier: MIT
// The analog-to-digital converter and the comparator ("Analog-to-Digital Converter", "Analog
// Comparator").
// Modelled: all prescalers, 25 cycles for the first conversion and 13 for the others, single
// conversions, auto trigger by every source, free running, ADLAR, the lock between ADCL and ADCH,
// references, band gap, ground and temperature channels, differential channels with gain, noise
// reduction sleep; the comparator with its multiplexer and interrupt modes.
// Not modelled: noise, sample capacitor, offset.
// Conversions are worked out when somebody looks, or just before an input changes; only one whose
// end may be heard of, by its interrupt, has an event.
// Voltages are whole microvolts. A pin without a voltage from outside has that of its level.
#ifndef LUCID_AVR_PERIPHERALS_ADC_H
#define LUCID_AVR_PERIPHERALS_ADC_H

#include "avr/devices/device.h"
#include "avr/peripherals/peripheral.h"

namespace lucid::avr {

/// The band-gap reference, in microvolts ("System and Reset Characteristics", typical).
constexpr std::int32_t kBandGap = 1'100'000;

class Adc final : public Peripheral {
 public:
  Adc(const Names& names, std::vector<Pin> inputs, AdcKind kind, unsigned slot);

  [[nodiscard]] std::vector<u16> addresses() const override {
    return {adc_, static_cast<u16>(adc_ + 1), adcsra_, adcsrb_, admux_};
  }
  u8 read(const Bus& bus, u16 address, u64 t) const override;
  void write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const override;
  bool assume(const Bus& bus, u16 address, u8 value, u64 t) const override;
  [[nodiscard]] u8 peek(const World& world, u16 address, u64 t) const override;
  [[nodiscard]] u64 steady_until(const World& world, u16 address, u64 t) const override;
  [[nodiscard]] bool loading_acts(u16 address) const override {
    return address == adc_ || address == adc_ + 1;
  }
  void on_event(const Bus& bus, unsigned slot, u64 due) const override;
  void on_vector(const Bus& bus, unsigned vector) const override;
  [[nodiscard]] u64 again(const World& world, unsigned vector, u64 from, u64 to) const override;
  bool bring_forward(const Bus& bus, unsigned vector, std::optional<u8> byte, u64 t) const override;
  void on_flag(const Bus& bus, unsigned vector, u64 t) const override;
  void on_sleep(const Bus& bus, unsigned sm, u64 t) const override;
  [[nodiscard]] bool runs_asleep(const World& /*world*/, unsigned sm) const override {
    return sm <= 1;
  }
  void stood_still(const Bus& bus, u64 cycles) const override {
    bus.world.adc.origin += cycles;
    bus.world.adc.next += cycles;
  }
  /// An input, the supply or the reference is about to change.
  void before_change(const Bus& bus, u64 t) const;
  void tell(const Bus& bus, u64 from, u64 to) const override;
  [[nodiscard]] const std::vector<Pin>& inputs() const { return inputs_; }
  [[nodiscard]] std::vector<PinUse> uses(const World& world) const override;
  void reset(const Bus& bus) const override;
  [[nodiscard]] std::vector<unsigned> vectors() const override { return {vector_}; }
  [[nodiscard]] std::vector<unsigned> slots() const override { return {slot_}; }

  /// The voltage at single-ended input `channel`.
  [[nodiscard]] std::int64_t input(const World& world, unsigned channel) const;

 private:
  enum : u8 { kAden = 0x80, kAdsc = 0x40, kAdate = 0x20, kAdif = 0x10, kAdie = 8 };
  [[nodiscard]] u64 divider(const World& world) const;
  [[nodiscard]] u16 measure(const World& world, const AdcState& state) const;
  void start(const World& world, AdcState& state, u64 t, bool triggered) const;
  bool run(const World& world, AdcState& state, u64 t, const Bus* listened = nullptr) const;
  [[nodiscard]] u64 up_to(const World& world, u64 t) const;
  void catch_up(const Bus& bus, u64 t) const;
  void schedule(const Bus& bus) const;
  void begin(const Bus& bus, u64 t, bool triggered) const;
  void refresh_request(const Bus& bus) const;

  u16 adc_, adcsra_, adcsrb_, admux_, smcr_;
  std::vector<Pin> inputs_;
  AdcKind kind_;
  unsigned vector_, slot_;
  std::array<unsigned, 8> triggers_;  ///< vectors, by ADTS
};

class Timer;

class Comparator final : public Peripheral {
 public:
  Comparator(const Names& names, Pin positive, Pin negative, const Adc& adc, const Timer* capturing)
      : acsr_(names.reg("ACSR")),
        adcsra_(names.reg("ADCSRA")),
        adcsrb_(names.reg("ADCSRB")),
        admux_(names.reg("ADMUX")),
        positive_(positive),
        negative_(negative),
        adc_(adc),
        capturing_(capturing),
        vector_(names.vector({"ANALOG_COMP"})) {}

  [[nodiscard]] std::vector<u16> addresses() const override { return {acsr_}; }
  void write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const override;
  bool assume(const Bus& bus, u16 address, u8 value, u64 t) const override;
  [[nodiscard]] u8 peek(const World& world, u16 address, u64 t) const override;
  [[nodiscard]] std::vector<Pin> listens() const override { return {positive_, negative_}; }
  void on_pin(const Bus& bus, Pin pin, bool level, u64 t) const override;
  void on_voltage(const Bus& bus, u64 t) const override { settle(bus, t); }
  void on_vector(const Bus& bus, unsigned vector) const override;
  bool bring_forward(const Bus& bus, unsigned vector, std::optional<u8> byte, u64 t) const override;
  void reset(const Bus& bus) const override { refresh_request(bus); }
  [[nodiscard]] std::vector<unsigned> vectors() const override { return {vector_}; }

 private:
  enum : u8 { kAcd = 0x80, kAcbg = 0x40, kAco = 0x20, kAci = 0x10, kAcie = 8, kAcic = 4 };
  [[nodiscard]] bool output(const World& world) const;
  void settle(const Bus& bus, u64 t) const;
  void refresh_request(const Bus& bus) const;

  u16 acsr_, adcsra_, adcsrb_, admux_;
  Pin positive_, negative_;
  const Adc& adc_;
  const Timer* capturing_;  ///< Timer1
  unsigned vector_;
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_PERIPHERALS_ADC_H
