// SPDX-License-Identifier: MIT
// A serial port ("USART0").
// Modelled: asynchronous mode at normal and double speed, synchronous mode with its own clock on
// XCK or one from outside, 5 to 9 data bits, parity, one or two stop bits, two-stage buffers, RXC,
// TXC, UDRE, FE, DOR, UPE with their interrupts, multi-processor mode, SPI-master mode; the
// waveform on TXD, RXD sampled three times a bit; times to the cycle. Beside RXD, whole frames
// arrive from a sender with the port's own settings, which waits until RXEN is set.
#ifndef LUCID_AVR_PERIPHERALS_USART_H
#define LUCID_AVR_PERIPHERALS_USART_H

#include "avr/peripherals/peripheral.h"
#include "avr/peripherals/port.h"

namespace lucid::avr {

class Usart final : public Peripheral {
 public:
  /// Slots: `slot` for a leaving frame, `slot + 1` for an arriving one, `slot + 2` for XCK.
  Usart(unsigned number, const Names& names, Pin txd, Pin rxd, Pin xck, unsigned index,
        unsigned slot);

  [[nodiscard]] std::vector<u16> addresses() const override;
  u8 read(const Bus& bus, u16 address, u64 t) const override;
  void write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const override;
  bool assume(const Bus& bus, u16 address, u8 value, u64 t) const override;
  [[nodiscard]] u8 peek(const World& world, u16 address, u64 t) const override;
  [[nodiscard]] u64 steady_until(const World& world, u16 address, u64 t) const override;
  [[nodiscard]] bool loading_acts(u16 address) const override { return address == at(kUdr); }
  void on_event(const Bus& bus, unsigned slot, u64 due) const override;
  void on_vector(const Bus& bus, unsigned vector) const override;
  bool bring_forward(const Bus& bus, unsigned vector, std::optional<u8> byte, u64 t) const override;
  void reset(const Bus& bus) const override;
  [[nodiscard]] std::vector<unsigned> vectors() const override;
  [[nodiscard]] std::vector<unsigned> slots() const override {
    return {slot_, slot_ + 1, slot_ + 2};
  }
  [[nodiscard]] std::vector<Pin> listens() const override;
  void on_pin(const Bus& bus, Pin pin, bool level, u64 t) const override;
  [[nodiscard]] std::vector<PinUse> uses(const World& world) const override;
  [[nodiscard]] bool runs_asleep(const World& /*world*/, unsigned sm) const override {
    return sm == 0;
  }
  void stood_still(const Bus& bus, u64 cycles) const override {
    UsartState& state = bus.world.usarts[index_];
    state.next_start += cycles;
    for (u64& edge : state.edges) edge += cycles;
  }

  void on_power(const Bus& bus, bool on, u64 t) const override {
    if (on) start_receiving(bus, t);
  }

  /// Bytes begin to arrive at tick `now`, back to back, behind those still arriving.
  void send(const Bus& bus, const std::string& bytes, u64 now) const;
  void send(const Bus& bus, const SerialFrame& frame, u64 now) const;
  void add_listener(const Peripheral& who) { listeners_.push_back(&who); }
  [[nodiscard]] std::string name() const { return "USART" + std::to_string(number_); }
  /// TXD and RXD.
  [[nodiscard]] std::pair<Pin, Pin> lines() const { return {txd_, rxd_}; }

 private:
  // Offsets from UCSRnA.
  enum : u16 { kUcsrb = 1, kUcsrc = 2, kUbrr = 4, kUdr = 6 };
  enum : u8 {  // UCSRnA
    kRxc = 0x80,
    kTxc = 0x40,
    kUdre = 0x20,
    kFe = 0x10,
    kDor = 0x08,
    kUpe = 0x04,
    kU2x = 0x02,
    kMpcm = 0x01
  };
  enum : u8 {  // UCSRnB
    kRxcie = 0x80,
    kTxcie = 0x40,
    kUdrie = 0x20,
    kRxen = 0x10,
    kTxen = 0x08,
    kUcsz2 = 0x04,
    kRxb8 = 0x02,
    kTxb8 = 0x01
  };
  enum : u16 { kNoStop = 0x200, kWrongParity = 0x400 };  // beside a frame's data bits
  enum : u8 { kWaits = 0xff };                           // an out_bit
  enum class Mode : u8 { kAsynchronous, kSynchronous, kReserved, kSpi };

  [[nodiscard]] u16 at(u16 offset) const { return static_cast<u16>(ucsra_ + offset); }
  [[nodiscard]] u8 control(const World& world, u16 offset) const { return world.data[at(offset)]; }
  [[nodiscard]] Mode mode(const World& world) const;
  [[nodiscard]] u64 bit_ticks(const World& world) const;
  [[nodiscard]] unsigned data_bits(const World& world) const;
  [[nodiscard]] u64 frame_bits(const World& world) const;
  [[nodiscard]] u16 data_mask(const World& world) const;
  [[nodiscard]] bool has_parity(const World& world) const;
  [[nodiscard]] bool parity_of(const World& world, unsigned data) const;
  [[nodiscard]] bool out_level(const World& world, unsigned bit) const;
  [[nodiscard]] u64 sample_ticks(const World& world) const;
  [[nodiscard]] bool passed_over(const World& world, u16 frame) const;
  void start_sending(const Bus& bus, u16 data, u64 when) const;
  void show_bit(const Bus& bus, u64 t) const;
  void frame_left(const Bus& bus, u64 t) const;
  void sent(const Bus& bus, u64 t) const;
  void take_bit(const Bus& bus, bool level, u64 t) const;
  void received(const Bus& bus, u16 frame) const;
  void begin_on_pin(const Bus& bus, u64 t) const;
  [[nodiscard]] bool majority(const World& world, u64 t) const;
  void run_clock(const Bus& bus, u64 t) const;
  void clock_edge(const Bus& bus, bool rises, u64 t) const;
  void spi_edge(const Bus& bus, u64 t) const;
  void show_spi_bit(const Bus& bus, unsigned number, u64 t) const;
  void change_mode(const Bus& bus, u64 t) const;
  void take_pins(const Bus& bus, u64 t) const;
  void start_receiving(const Bus& bus, u64 when) const;
  void refresh_requests(const Bus& bus) const;
  void say_what_is_missing(const Bus& bus) const;

  unsigned number_;
  u16 ucsra_;
  unsigned receive_, empty_, transmit_;  ///< vectors
  Pin txd_, rxd_, xck_;
  unsigned index_;
  unsigned slot_;
  std::vector<const Peripheral*> listeners_;
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_PERIPHERALS_USART_H
