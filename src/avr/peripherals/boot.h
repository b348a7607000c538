// SPDX-License-Identifier: MIT
// Self-programming ("Boot Loader Support", "Self-Programming the Flash").
// Modelled: the four-cycle window after SPMEN, the page buffer, page erase and write with their
// times, the busy section and RWWSRE, lock bits, reading fuses, lock bits, signature and
// calibration by LPM, the ready interrupt; the processor halts while the section it runs from is
// programmed. Not modelled: what a fetch from the busy section gives (said, and the old contents
// are used).
#ifndef LUCID_AVR_PERIPHERALS_BOOT_H
#define LUCID_AVR_PERIPHERALS_BOOT_H

#include <utility>

#include "avr/devices/device.h"
#include "avr/peripherals/peripheral.h"

namespace lucid::avr {

class Boot final : public Peripheral {
 public:
  Boot(const Names& names, const Device& device, const Wiring& wiring, u64 clock_hz, unsigned slot)
      : spmcsr_(names.reg("SPMCSR")),
        osccal_(names.reg("OSCCAL")),
        vector_(names.vector({"SPM_READY", "SPM_Ready"})),
        device_(device),
        wiring_(wiring),
        clock_hz_(clock_hz),
        slot_(slot) {}

  [[nodiscard]] std::vector<u16> addresses() const override { return {spmcsr_}; }
  void write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const override;
  bool assume(const Bus& bus, u16 address, u8 value, u64 t) const override;
  [[nodiscard]] u8 peek(const World& world, u16 address, u64 t) const override;
  void on_event(const Bus& bus, unsigned slot, u64 due) const override;
  [[nodiscard]] bool runs_asleep(const World& /*world*/, unsigned /*sm*/) const override {
    return true;
  }
  void reset(const Bus& bus) const override;
  [[nodiscard]] std::vector<unsigned> vectors() const override { return {vector_}; }
  [[nodiscard]] std::vector<unsigned> slots() const override { return {slot_}; }

  /// The SPM instruction at byte address `pc`. The bytes of flash it has changed, [begin, end).
  std::pair<u32, u32> spm(const Bus& bus, u32 pc, u32 z) const;
  /// What LPM reads in the three cycles after BLBSET or SIGRD, if it is not flash.
  /// A load or fetch there gives nothing yet: it was programmed, and RWWSRE was not set since.
  [[nodiscard]] bool is_busy(const World& world, u32 address) const;
  [[nodiscard]] std::optional<u8> special_byte(const World& world, u32 z) const;
  /// The first word of the boot section by the fuses; the end of flash if there is none.
  [[nodiscard]] u32 boot_word(const World& world) const;
  [[nodiscard]] bool starts_in_boot(const World& world) const;

 private:
  [[nodiscard]] bool is_read_while_writing(u32 address) const;
  enum : u8 {
    kSpmie = 0x80,
    kRwwsb = 0x40,
    kSigrd = 0x20,
    kRwwsre = 0x10,
    kBlbset = 8,
    kPgwrt = 4,
    kPgers = 2,
    kSpmen = 1
  };
  void begin(const Bus& bus, u32 address) const;
  void refresh_request(const Bus& bus) const;

  u16 spmcsr_, osccal_;
  unsigned vector_;
  const Device& device_;
  const Wiring& wiring_;
  u64 clock_hz_;
  unsigned slot_;
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_PERIPHERALS_BOOT_H
