// SPDX-License-Identifier: MIT
// MCUCR: the vector table's place and the common pull-up switch ("Interrupts", section "Moving
// Interrupts Between Application and Boot Space"; "I/O-Ports").
// Modelled: IVSEL with the timed sequence of IVCE, PUD.
// Not modelled, and said: BODS and BODSE.
#ifndef LUCID_CHIP_SYSTEM_H
#define LUCID_CHIP_SYSTEM_H

#include <memory>

#include "chip/port.h"

namespace lucid::chip {

class System final : public Peripheral {
 public:
  System(u16 mcucr, const std::vector<std::unique_ptr<Port>>& ports)
      : mcucr_(mcucr), ports_(ports) {}

  [[nodiscard]] std::vector<u16> addresses() const override { return {mcucr_}; }
  void write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const override;
  [[nodiscard]] u8 peek(const World& world, u16 address, u64 t) const override;
  void reset(const Bus& /*bus*/) const override {}

 private:
  enum : u8 { kIvce = 1, kIvsel = 2, kPud = 0x10, kBods = 0x60 };
  u16 mcucr_;
  const std::vector<std::unique_ptr<Port>>& ports_;
};

}  // namespace lucid::chip

#endif  // LUCID_CHIP_SYSTEM_H
