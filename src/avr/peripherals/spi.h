// SPDX-License-Identifier: MIT
// The serial peripheral interface ("Serial Peripheral Interface").
// Modelled: master and slave, on the pins bit by bit: all four modes, both bit orders, all clock
// rates, write collision, the switch to slave when SS goes low, the two-step clearing of flags.
// Not modelled: the slave's synchroniser delays.
#ifndef LUCID_AVR_PERIPHERALS_SPI_H
#define LUCID_AVR_PERIPHERALS_SPI_H

#include "avr/peripherals/peripheral.h"

namespace lucid::avr {

class Spi final : public Peripheral {
 public:
  struct Pins {
    Pin select, out, in, clock;  ///< SS MOSI MISO SCK
  };
  Spi(const Names& names, const Pins& pins, unsigned slot)
      : spcr_(names.reg("SPCR")),
        spsr_(names.reg("SPSR")),
        spdr_(names.reg("SPDR")),
        pins_(pins),
        vector_(names.vector({"SPI_STC"})),
        slot_(slot) {}

  [[nodiscard]] std::vector<u16> addresses() const override { return {spcr_, spsr_, spdr_}; }
  u8 read(const Bus& bus, u16 address, u64 t) const override;
  void write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const override;
  bool assume(const Bus& bus, u16 address, u8 value, u64 t) const override;
  [[nodiscard]] u8 peek(const World& world, u16 address, u64 t) const override;
  [[nodiscard]] u64 steady_until(const World& world, u16 address, u64 t) const override;
  [[nodiscard]] bool loading_acts(u16 address) const override { return address == spdr_; }
  void on_event(const Bus& bus, unsigned slot, u64 due) const override;
  void on_vector(const Bus& bus, unsigned vector) const override;
  [[nodiscard]] std::vector<Pin> listens() const override { return {pins_.select, pins_.clock}; }
  [[nodiscard]] PinGate gate(Pin /*pin*/) const override { return {spcr_, kSpe}; }
  void on_pin(const Bus& bus, Pin pin, bool level, u64 t) const override;
  [[nodiscard]] std::vector<PinUse> uses(const World& world) const override;
  [[nodiscard]] bool runs_asleep(const World& /*world*/, unsigned sm) const override {
    return sm == 0;
  }
  void reset(const Bus& bus) const override;
  [[nodiscard]] std::vector<unsigned> vectors() const override { return {vector_}; }
  [[nodiscard]] std::vector<unsigned> slots() const override { return {slot_}; }

 private:
  enum : u8 { kSpie = 0x80, kSpe = 0x40, kDord = 0x20, kMstr = 0x10, kCpol = 8, kCpha = 4 };
  enum : u8 { kSpif = 0x80, kWcol = 0x40 };
  [[nodiscard]] bool is(const World& world, u8 bit) const { return (world.data[spcr_] & bit) != 0; }
  [[nodiscard]] u64 half_bit(const World& world) const;
  void take_pins(const Bus& bus, u64 t) const;
  void show_bit(const Bus& bus, u64 t) const;
  void edge(const Bus& bus, u64 t) const;
  void complete(const Bus& bus, std::optional<u64> received_at) const;
  void refresh_request(const Bus& bus) const;

  u16 spcr_, spsr_, spdr_;
  Pins pins_;
  unsigned vector_, slot_;
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_PERIPHERALS_SPI_H
