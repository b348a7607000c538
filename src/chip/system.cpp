// SPDX-License-Identifier: MIT
#include "chip/system.h"

namespace lucid::chip {

u8 System::peek(const World& world, u16 address, u64 t) const {
  const bool open = t < world.cpu.ivce_until;
  return static_cast<u8>(world.data[address] | (open ? kIvce : 0));
}

void System::write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const {
  u8& reg = bus.reg(address);
  CpuState& cpu = bus.world.cpu;
  const u8 next = merged(reg, value, mask);
  reg = static_cast<u8>((reg & kIvsel) | (next & kPud));
  if ((value & mask & kIvce) != 0) {
    cpu.ivce_until = t + 1 + 4;
  } else if (t < cpu.ivce_until) {
    reg = static_cast<u8>((reg & ~unsigned{kIvsel}) | (next & kIvsel));
    cpu.ivce_until = 0;
    cpu.hold = 2;  // interrupts stay off for one more instruction
  } else if (((next ^ reg) & kIvsel) != 0) {
    bus.note("MCUCR: IVSEL was written outside the four cycles after IVCE; it is unchanged");
  }
  if ((value & mask & kBods) != 0) bus.note("MCUCR: brown-out disable in sleep is not modelled");
  for (const auto& port : ports_) port->settle(bus.world, t + 1);
}

}  // namespace lucid::chip
