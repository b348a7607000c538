// SPDX-License-Identifier: MIT
// A digital I/O port ("I/O-Ports").
// Modelled: direction, output, pull-up and PUD, toggling by a write to PINx, the synchroniser's
// delay, outside drivers and voltages, contention, floating inputs (read as low), values and
// directions that a peripheral overrides.
// Where DIDRn switches a digital input off, PINx reads 0.
// Not modelled: the input buffers that sleep switches off.
#ifndef LUCID_AVR_PERIPHERALS_PORT_H
#define LUCID_AVR_PERIPHERALS_PORT_H

#include "avr/peripherals/peripheral.h"
#include "lucid/chip.h"

namespace lucid::avr {

class Port final : public Peripheral {
 public:
  /// The addresses of its three registers.
  struct Registers {
    u16 pin = 0, ddr = 0, port = 0;
  };
  /// `mask`: which bits have a pin. `mcucr` is the register that holds PUD, 0 if it is not
  /// modelled. `toggles`: writing ones to PINx does something.
  Port(char letter, const Registers& at, u8 mask, unsigned index, u16 mcucr, bool toggles)
      : letter_(letter),
        pin_(at.pin),
        ddr_(at.ddr),
        port_(at.port),
        mask_(mask),
        index_(index),
        mcucr_(mcucr),
        toggles_(toggles) {}

  [[nodiscard]] std::vector<u16> addresses() const override { return {pin_, ddr(), port()}; }
  void write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const override;
  /// The same as write(), if nothing follows from it but levels of pins that nobody looks at.
  /// False: it is another kind, and nothing has been done. REQUIRES: nobody listens through the
  /// tap.
  [[nodiscard]] bool write_unheard(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const;
  bool assume(const Bus& bus, u16 address, u8 value, u64 t) const override;
  [[nodiscard]] u8 peek(const World& world, u16 address, u64 t) const override;
  [[nodiscard]] u64 steady_until(const World& world, u16 address, u64 t) const override;
  void reset(const Bus& bus) const override;

  /// From outside the chip, at tick `now`.
  void drive(const Bus& bus, unsigned bit, std::optional<bool> level, u64 now) const;
  void apply(const Bus& bus, unsigned bit, std::int32_t microvolts, u64 now) const;
  /// Two outside drive it differently.
  void set_fought(const Bus& bus, unsigned bit, bool on) const;
  [[nodiscard]] machine::OutsideLevel& by_hand(World& world, unsigned bit) const {
    return world.ports[index_].by_hand[bit];
  }
  /// What an analog input sees.
  [[nodiscard]] std::int32_t microvolts(const World& world, unsigned bit) const;

  /// An open drain outside pulls a pin low, or lets it go.
  void hold_low(const Bus& bus, unsigned bit, bool low, u64 now) const;
  /// There is a resistor on the board, from now on.
  void pull_up_outside(const Bus& bus, unsigned bit, u64 now) const;
  /// What other chips do to a pin's wire: kOffersLow and so on.
  void join(const Bus& bus, unsigned bit, u8 offer, u64 now) const;
  /// Other chips are on the wires of these pins.
  void add_wire(unsigned bit) { wired_ |= static_cast<u8>(1U << bit); }
  [[nodiscard]] u8 number(unsigned bit) const { return static_cast<u8>(8 * index_ + bit); }

  /// A peripheral decides a pin's output value, or its direction; nullopt gives it back.
  void take_value(const Bus& bus, unsigned bit, std::optional<bool> value, u64 t) const;
  /// The same by a second timer on the pin ("Output Compare Modulator").
  void take_second(const Bus& bus, unsigned bit, std::optional<bool> value, u64 t) const;
  void take_direction(const Bus& bus, unsigned bit, std::optional<bool> output, u64 t) const;
  void take_pull_up(const Bus& bus, unsigned bit, std::optional<bool> on, u64 t) const;
  /// Works out the pins' levels again, as of tick `when`, and tells who listens.
  void settle(const Bus& bus, u64 when) const;
  void note_contention(const Bus& bus, unsigned contended, unsigned out) const;
  /// A bit of DIDRn switches the digital input of a pin off ("Digital Input Disable Register").
  void set_input_disable(unsigned bit, u16 reg, u8 mask) {
    disables_[bit] = {reg, mask};
    has_disables_ = true;
  }
  /// Is told before a pin that it measures changes.
  void set_sampler(const Adc& adc) { sampler_ = &adc; }
  void add_listener(unsigned bit, const Peripheral& who) {
    by_bit_[bit].push_back(listeners_.size());
    listeners_.push_back({bit, &who, who.gate({this, static_cast<u8>(bit)})});
  }

  [[nodiscard]] PinState state(const World& world, unsigned bit) const;
  /// PINx.
  [[nodiscard]] u16 input() const { return pin_; }
  /// The inputs that nobody holds at a level, neither outside nor by a pull-up.
  [[nodiscard]] unsigned floating(const World& world) const;
  [[nodiscard]] bool level(const World& world, unsigned bit) const {
    return (world.ports[index_].level >> bit & 1U) != 0;
  }
  [[nodiscard]] bool has(unsigned bit) const { return bit < 8 && (mask_ >> bit & 1U) != 0; }
  [[nodiscard]] char letter() const { return letter_; }
  [[nodiscard]] std::string pin_name(unsigned bit) const {
    return std::string("P") + letter_ + static_cast<char>('0' + bit);
  }

 private:
  [[nodiscard]] u16 ddr() const { return ddr_; }
  [[nodiscard]] u16 port() const { return port_; }
  [[nodiscard]] bool pull_ups_off(const World& world) const {
    return mcucr_ != 0 && (world.data[mcucr_] & 0x10U) != 0;
  }
  [[nodiscard]] u8 out(const World& world) const;
  [[nodiscard]] unsigned outputs(const World& world) const;
  [[nodiscard]] unsigned pull_ups(const World& world) const;
  PortState& about_to_change(const Bus& bus, u64 t) const;
  void tell_levels(const Bus& bus, u64 when) const;
  void tell_listeners(const Bus& bus, unsigned changed, u64 when) const;
  struct Listener;
  [[nodiscard]] static bool hears(const World& world, const Listener& listener);
  void offer(const Bus& bus, unsigned low, unsigned high, unsigned pull, u64 when) const;

  char letter_;
  u16 pin_, ddr_, port_;
  u8 mask_;
  unsigned index_;
  u16 mcucr_;
  bool toggles_;
  u8 wired_ = 0;
  struct Disable {
    u16 reg = 0;
    u8 mask = 0;
  };
  std::array<Disable, 8> disables_{};
  bool has_disables_ = false;
  const Adc* sampler_ = nullptr;
  struct Listener {
    unsigned bit;
    const Peripheral* who;
    PinGate gate;
  };
  std::vector<Listener> listeners_;
  std::array<std::vector<std::size_t>, 8> by_bit_;  ///< of them
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_PERIPHERALS_PORT_H
