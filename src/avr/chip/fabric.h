// SPDX-License-Identifier: MIT
// Fabric: the constant side of a chip, shared by all copies of a machine: its part, its
// peripherals, and who answers for which address, vector and event.
#ifndef LUCID_AVR_CHIP_FABRIC_H
#define LUCID_AVR_CHIP_FABRIC_H

#include <memory>
#include <vector>

#include "avr/devices/device.h"
#include "avr/isa/target.h"
#include "avr/peripherals/adc.h"
#include "avr/peripherals/attached.h"
#include "avr/peripherals/boot.h"
#include "avr/peripherals/port.h"
#include "avr/peripherals/timer.h"
#include "avr/peripherals/usart.h"
#include "avr/peripherals/watchdog.h"
#include "machine/family.h"

namespace lucid::avr {

class System;
class TwoWireBus;
class WireEnd;

class Fabric {
 public:
  Fabric(const Device& device, u64 clock_hz);
  Fabric(const Fabric&) = delete;
  Fabric& operator=(const Fabric&) = delete;

  /// The fabric that options describe, but for other chips. Errors: see Chip::make.
  static Result<std::unique_ptr<Fabric>> make(const Chip::Options& options);
  /// Memory on the external memory interface; before any world is made. Errors: see Chip::make.
  Result<void> add_external_ram(u32 bytes);

  const Device& device;
  const u32 flash_span;  ///< what the program counter reaches: a power of two; erased behind flash
  const AvrTarget target;
  ChipInfo info;
  std::vector<std::unique_ptr<Port>> ports;
  std::vector<std::unique_ptr<Usart>> usarts;
  std::vector<std::unique_ptr<Peripheral>> others;
  Reach reach;                            ///< for parts on its pins
  std::vector<const Attached*> attached;  ///< of `others`: by part
  const Watchdog* watchdog = nullptr;     ///< null on a part without wiring
  const Boot* boot = nullptr;
  const Adc* adc = nullptr;  ///< flags of others may start it
  TwoWireBus* two_wire = nullptr;
  std::vector<const Peripheral*> all;
  std::vector<const Peripheral*> owner;  ///< by data address below RAM, or null
  std::vector<bool> of_port;             ///< registers of a port
  std::vector<bool> plain;               ///< registers that are memory on silicon, too
  std::vector<bool> own;                 ///< SP and SREG, which the processor keeps
  std::array<const Peripheral*, kEventSlots> slot_owner{};
  std::array<const Peripheral*, 64> vector_owner{};
  u32 data_bytes;  ///< of data space: up to the end of RAM, or of external memory
  // Addresses; 0 if the part has no such register.
  const u16 xmcra;
  u16 mcucr = 0, mcusr = 0, smcr = 0, clkpr = 0;

  /// Low, high, extended, if nobody names others: as shipped, but for CKDIV8, which would divide
  /// the clock that is given, and JTAGEN, which would take pins.
  [[nodiscard]] std::array<u8, 3> usual_fuses() const {
    std::array<u8, 3> fuses = device.fuses;
    if (clkpr != 0) fuses[0] |= kNoDivision;
    if (has_jtag_) fuses[1] |= kNoJtag;
    return fuses;
  }
  /// CKDIV8 is programmed.
  [[nodiscard]] bool divided_at_reset(const World& world) const {
    return clkpr != 0 && (world.fuses[0] & kNoDivision) == 0;
  }

  [[nodiscard]] WorldShape shape() const;
  /// Wires a part to the chip. Errors: kNotFound for a pin that the chip has not, kOutOfRange for
  /// two parts of one name and for too many.
  Result<void> attach(const std::shared_ptr<const Part>& part);
  /// The chip becomes one of several, with wires on these pins. Before any world is made, behind
  /// the last part. Errors: kNotFound, kOutOfRange.
  Result<void> join(machine::Family::Joined joined);
  machine::Group group;
  const WireEnd* wire_end = nullptr;  ///< of a chip that is one of several
  unsigned wire_slot = kEventSlots;
  /// `PB5`, or an error with near names.
  [[nodiscard]] Result<Pin> find_pin(const std::string& name) const;

  /// `B1`; no pin for `-`.
  [[nodiscard]] Pin pin(std::string_view name) const;

 private:
  void enlist(Peripheral& peripheral);
  void add_ports();
  [[nodiscard]] Timer::Pins pins_of(const TimerPins& row) const;
  const Timer* add_timer(const TimerPins& row, const Timer::Pins& pins, u64 clock_hz);
  void add_peripherals(const Wiring& wiring, u64 clock_hz);
  void add_power_switches();
  void add_input_disables(const std::vector<Pin>& comparator);
  template <class T, class... Args>
  T* add(Args&&... args) {
    auto peripheral = std::make_unique<T>(std::forward<Args>(args)...);
    T* out = peripheral.get();
    next_slot_ += static_cast<unsigned>(out->slots().size());
    others.push_back(std::move(peripheral));
    return out;
  }
  static constexpr u8 kNoDivision = 0x80, kNoJtag = 0x40;
  bool has_jtag_ = false;
  System* system_ = nullptr;
  unsigned next_slot_ = 0;
  unsigned timers_ = 0;
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_CHIP_FABRIC_H
