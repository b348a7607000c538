// SPDX-License-Identifier: MIT
// The two-wire interface ("2-wire Serial Interface").
// Modelled: a master's START, repeated START, address, data and STOP with their status codes and
// the times of the bit-rate generator, byte by byte; parts on the pins that answer; the slave modes
// with a controller outside at 100 kHz, which waits while TWINT is set; general call, address mask.
// Not modelled: arbitration (a START waits until the bus is free), waking up from deep sleep by the
// own address, the levels of SDA and SCL.
#ifndef LUCID_CHIP_TWI_H
#define LUCID_CHIP_TWI_H

#include "chip/peripheral.h"

namespace lucid::chip {

class Attached;

class Twi final : public Peripheral {
 public:
  Twi(const Names& names, Pin sda, Pin scl, u64 clock_hz, unsigned slot)
      : twbr_(names.reg("TWBR")),
        twsr_(names.reg("TWSR")),
        twar_(names.reg("TWAR")),
        twdr_(names.reg("TWDR")),
        twcr_(names.reg("TWCR")),
        twamr_(names.reg("TWAMR")),
        sda_(sda),
        scl_(scl),
        outside_bit_(std::max<u64>(clock_hz / 100'000, 1)),
        vector_(names.vector({"TWI"})),
        slot_(slot) {}

  /// A part that is on both pins can answer. Before the chip runs.
  void add_device(const Attached& part) { devices_.push_back(&part); }
  /// A controller outside does this as soon as the bus is free.
  void transfer(const Bus& bus, const TwoWireTransfer& transfer, u64 t) const;
  [[nodiscard]] Pin sda() const { return sda_; }
  [[nodiscard]] Pin scl() const { return scl_; }

  [[nodiscard]] std::vector<u16> addresses() const override {
    return {twbr_, twsr_, twar_, twdr_, twcr_, twamr_};
  }
  void write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const override;
  [[nodiscard]] u8 peek(const World& world, u16 address, u64 t) const override;
  void on_event(const Bus& bus, unsigned slot, u64 due) const override;
  [[nodiscard]] std::vector<PinUse> uses(const World& world) const override;
  [[nodiscard]] bool runs_asleep(const World& /*world*/, unsigned sm) const override {
    return sm == 0;
  }
  void reset(const Bus& bus) const override;
  [[nodiscard]] std::vector<unsigned> vectors() const override { return {vector_}; }
  [[nodiscard]] std::vector<unsigned> slots() const override { return {slot_, slot_ + 1}; }

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
  enum Doing : u8 { kNothing, kStart, kByte, kStop };
  enum Target : u8 { kNobody, kReceiver, kGeneral, kTransmitter };
  enum Step : u16 {
    kWriteByte = 0,
    kAddress = 0x100,
    kReadByte = 0x200,
    kReadLast = 0x300,
    kEnd = 0x400
  };
  void outside_goes_on(const Bus& bus, u64 t) const;
  void outside_step(const Bus& bus, u64 t) const;
  void addressed(const Bus& bus, u8 byte) const;
  void flag(const Bus& bus, u8 status) const;
  void give_up(const Bus& bus) const;
  void forget(const Bus& bus) const;
  [[nodiscard]] u64 bit_time(const World& world) const;
  void begin(const Bus& bus, u64 t) const;
  void exchange_byte(const Bus& bus, u64 due) const;
  void refresh_request(const Bus& bus) const;

  u16 twbr_, twsr_, twar_, twdr_, twcr_, twamr_;
  Pin sda_, scl_;
  u64 outside_bit_;         ///< ticks
  unsigned vector_, slot_;  ///< slot_ + 1: of the controller outside
  std::vector<const Attached*> devices_;
};

}  // namespace lucid::chip

#endif  // LUCID_CHIP_TWI_H
