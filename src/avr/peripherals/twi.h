// SPDX-License-Identifier: MIT
// The two-wire interface ("2-wire Serial Interface").
// Modelled: SDA and SCL bit by bit; the master modes with the times of the bit-rate generator,
// arbitration and clock stretching; the slave modes with general call and address mask; all status
// codes; waking up by the own address.
// The lines have pull-up resistors on the board from when TWEN is first set.
#ifndef LUCID_AVR_PERIPHERALS_TWI_H
#define LUCID_AVR_PERIPHERALS_TWI_H

#include "avr/peripherals/peripheral.h"
#include "avr/peripherals/port.h"
#include "avr/peripherals/two_wire_master.h"

namespace lucid::avr {

class Twi final : public Peripheral {
 public:
  Twi(const Names& names, Pin sda, Pin scl, unsigned slot)
      : twbr_(names.reg("TWBR")),
        twsr_(names.reg("TWSR")),
        twar_(names.reg("TWAR")),
        twdr_(names.reg("TWDR")),
        twcr_(names.reg("TWCR")),
        twamr_(names.reg("TWAMR")),
        sda_(sda),
        scl_(scl),
        vector_(names.vector({"TWI"})),
        slot_(slot) {}

  [[nodiscard]] std::vector<u16> addresses() const override {
    return {twbr_, twsr_, twar_, twdr_, twcr_, twamr_};
  }
  void write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const override;
  bool assume(const Bus& bus, u16 address, u8 value, u64 t) const override;
  [[nodiscard]] u8 peek(const World& world, u16 address, u64 t) const override;
  [[nodiscard]] u64 steady_until(const World& world, u16 address, u64 t) const override;
  [[nodiscard]] std::vector<Pin> listens() const override { return {sda_, scl_}; }
  void on_pin(const Bus& bus, Pin pin, bool level, u64 t) const override;
  void on_event(const Bus& bus, unsigned slot, u64 due) const override;
  [[nodiscard]] std::vector<PinUse> uses(const World& world) const override;
  [[nodiscard]] bool runs_asleep(const World& /*world*/, unsigned sm) const override {
    return sm == 0;  // a slave is clocked by SCL, asleep or not
  }
  void reset(const Bus& bus) const override;
  [[nodiscard]] std::vector<unsigned> vectors() const override { return {vector_}; }
  [[nodiscard]] std::vector<unsigned> slots() const override { return {slot_}; }

 private:
  enum : u8 {
    kTwint = 0x80,
    kTwea = 0x40,
    kTwsta = 0x20,
    kTwsto = 0x10,
    kTwwc = 8,
    kTwen = 4,
    kTwie = 1
  };
  enum Target : u8 { kNobody, kListening, kReceiver, kGeneral, kTransmitter };
  class Lines;
  using Master = TwoWireMaster<Lines>;

  [[nodiscard]] bool on(const Bus& bus, unsigned bits) const {
    return (bus.reg(twcr_) & bits) != 0;
  }
  void line(const Bus& bus, Pin pin, bool high, u64 t) const;
  void go_on(const Bus& bus, u64 t) const;
  void act(const Bus& bus, u64 t) const;
  void follow(const Bus& bus, Master::Outcome outcome, const Master& master, u64 t) const;
  void byte_done(const Bus& bus, const Master& master, u64 t) const;
  void on_condition(const Bus& bus, bool start, u64 t) const;
  void on_clock_fall(const Bus& bus, u64 t) const;
  [[nodiscard]] bool addressed(const Bus& bus, u8 byte) const;
  void answered(const Bus& bus, u16 bits, u64 t) const;
  void show_bit(const Bus& bus, u64 t) const;
  void flag(const Bus& bus, u8 status, u64 t) const;
  void hold(const Bus& bus, u8 status, u64 t) const;
  void forget(const Bus& bus, u64 t) const;
  [[nodiscard]] u64 bit_time(const World& world) const;
  void refresh_request(const Bus& bus) const;

  u16 twbr_, twsr_, twar_, twdr_, twcr_, twamr_;
  Pin sda_, scl_;
  unsigned vector_, slot_;
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_PERIPHERALS_TWI_H
