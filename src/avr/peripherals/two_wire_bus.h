// SPDX-License-Identifier: MIT
// What is on the chip's two-wire lines outside: parts that are asked byte by byte (Part), and a
// controller that does the transfers a person asks for, at 100 kHz. Both follow the lines bit by
// bit, whoever drives them, and bring their pull-up resistors along.
#ifndef LUCID_AVR_PERIPHERALS_TWO_WIRE_BUS_H
#define LUCID_AVR_PERIPHERALS_TWO_WIRE_BUS_H

#include "avr/peripherals/port.h"
#include "avr/peripherals/two_wire_master.h"
#include "lucid/serial.h"

namespace lucid::avr {

class Attached;

class TwoWireBus final : public Peripheral {
 public:
  TwoWireBus(Pin sda, Pin scl, u64 clock_hz, unsigned slot)
      : sda_(sda), scl_(scl), bit_(std::max<u64>(clock_hz / 100'000, 8)), slot_(slot) {}

  /// A part that is on both pins can answer. Before the chip runs.
  void add_device(const Attached& part) { devices_.push_back(&part); }
  /// The controller does this as soon as the bus is free.
  void transfer(const Bus& bus, const TwoWireTransfer& transfer, u64 t) const;
  [[nodiscard]] Pin sda() const { return sda_; }
  [[nodiscard]] Pin scl() const { return scl_; }

  [[nodiscard]] std::vector<u16> addresses() const override { return {}; }
  void write(const Bus&, u16, u8, u8, u64) const override {}
  [[nodiscard]] std::vector<Pin> listens() const override { return {sda_, scl_}; }
  void on_pin(const Bus& bus, Pin pin, bool level, u64 t) const override;
  void on_event(const Bus& bus, unsigned slot, u64 due) const override;
  [[nodiscard]] bool runs_asleep(const World& /*world*/, unsigned /*sm*/) const override {
    return true;
  }
  /// What is outside is not reset with the chip.
  void reset(const Bus& bus) const override;
  [[nodiscard]] std::vector<unsigned> slots() const override { return {slot_}; }

 private:
  enum Step : u16 {
    kWriteByte = 0,
    kAddress = 0x100,
    kReadByte = 0x200,
    kReadLast = 0x300,
    kEnd = 0x400,
    kKind = 0x700
  };
  class Lines;
  using Controller = TwoWireMaster<Lines>;

  [[nodiscard]] const Attached* device(const Bus& bus) const;
  void pull(const Bus& bus, u64 t) const;
  void on_condition(const Bus& bus, bool start, u64 t) const;
  void on_clock_fall(const Bus& bus, u64 t) const;
  void show_bit(const Bus& bus, u64 t) const;
  void answer(const Bus& bus, bool low, u64 t) const;
  void next_step(const Bus& bus, u64 t) const;
  void follow(const Bus& bus, Controller::Outcome outcome, const Controller& controller,
              u64 t) const;
  void byte_done(const Bus& bus, const Controller& controller) const;

  Pin sda_, scl_;
  u64 bit_;  ///< ticks of the oscillator
  unsigned slot_;
  std::vector<const Attached*> devices_;
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_PERIPHERALS_TWO_WIRE_BUS_H
