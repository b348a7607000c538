// SPDX-License-Identifier: MIT
// The registers of the chip as a whole: MCUCR, MCUSR, SMCR, CLKPR, PRR ("Interrupts", section
// "Moving Interrupts Between Application and Boot Space"; "I/O-Ports"; "System Control and Reset";
// "Power Management and Sleep Modes"; "System Clock and Clock Options").
// Modelled: IVSEL with the timed sequence of IVCE, PUD, reset causes, sleep enable and mode, power
// reduction (a peripheral that is switched off stands still and cannot be read or written), the
// brown-out detector, the clock prescaler with its timed sequence and CKDIV8,
// brown-out disable in sleep.
// The pins that the JTAG interface takes while JTAGEN is programmed and JTD is 0 (it does nothing
// else). Not modelled, and said: what OSCCAL does to the oscillator.
#ifndef LUCID_AVR_PERIPHERALS_SYSTEM_H
#define LUCID_AVR_PERIPHERALS_SYSTEM_H

#include <memory>

#include "avr/peripherals/port.h"

namespace lucid::avr {

class System final : public Peripheral {
 public:
  System(const Names& names, const std::vector<std::unique_ptr<Port>>& ports)
      : mcucr_(names.reg("MCUCR")),
        mcusr_(names.reg("MCUSR")),
        smcr_(names.reg("SMCR")),
        clkpr_(names.reg("CLKPR")),
        osccal_(names.reg("OSCCAL")),
        prr_{names.reg("PRR"), names.reg("PRR0"), names.reg("PRR1")},
        ports_(ports) {}

  [[nodiscard]] std::vector<u16> addresses() const override;
  void write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const override;
  bool assume(const Bus& bus, u16 address, u8 value, u64 t) const override;
  [[nodiscard]] u8 peek(const World& world, u16 address, u64 t) const override;
  [[nodiscard]] std::vector<PinUse> uses(const World& world) const override;
  /// TCK TMS TDO TDI, or nothing.
  void set_jtag(std::vector<Pin> pins) { jtag_ = std::move(pins); }
  void reset(const Bus& bus) const override {
    bus.world.unpark_all();
    take_jtag_pins(bus, bus.world.cpu.now);
    if (clkpr_ != 0) bus.reg(clkpr_) = bus.world.clock.shift;
  }
  void set_all(std::vector<const Peripheral*> all) { all_ = std::move(all); }
  /// Those that power reduction can switch off.
  void set_switched(std::vector<const Peripheral*> switched) { switched_ = std::move(switched); }

 private:
  enum : u8 {
    kIvce = 1,
    kIvsel = 2,
    kPud = 0x10,
    kBodse = 0x20,
    kBods = 0x40,
    kJtd = 0x80,
    kClkpce = 0x80
  };
  [[nodiscard]] bool jtag_is_on(const World& world) const;
  void take_jtag_pins(const Bus& bus, u64 t) const;
  void divide_clock(const Bus& bus, u8 shift, u64 t) const;
  void write_prr(const Bus& bus, u16 address, u8 next, u64 t) const;
  void write_clkpr(const Bus& bus, u8 value, u8 mask, u64 t) const;
  void write_mcucr(const Bus& bus, u8 value, u8 mask, u64 t) const;

  u16 mcucr_, mcusr_, smcr_, clkpr_, osccal_;
  std::array<u16, 3> prr_;
  std::vector<const Peripheral*> all_, switched_;
  std::vector<Pin> jtag_;
  const std::vector<std::unique_ptr<Port>>& ports_;
};

/// Causes of a reset, as MCUSR shows them.
enum ResetCause : u8 { kPorf = 1, kExtrf = 2, kBorf = 4, kWdrf = 8 };

constexpr std::int32_t kMostSupply = 5'500'000;  ///< microvolts
/// VCC and AVCC have a new voltage, in microvolts. With the brown-out detector on by its fuses, a
/// low supply holds the chip in reset until it has risen again ("Brown-out Detection").
void set_supply(const Bus& bus, std::int32_t microvolts);

}  // namespace lucid::avr

#endif  // LUCID_AVR_PERIPHERALS_SYSTEM_H
