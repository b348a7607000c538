// SPDX-License-Identifier: MIT
#include "chip/system.h"

namespace lucid::chip {

std::vector<u16> System::addresses() const {
  std::vector<u16> out{mcucr_, mcusr_, smcr_, clkpr_};
  for (const u16 prr : prr_)
    if (prr != 0) out.push_back(prr);
  return out;
}

u8 System::peek(const World& world, u16 address, u64 t) const {
  const bool open = address == mcucr_ && t < world.cpu.ivce_until;
  return static_cast<u8>(world.data[address] | (open ? kIvce : 0));
}

void System::write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const {
  u8& reg = bus.reg(address);
  if (address == mcucr_) {
    write_mcucr(bus, value, mask, t);
  } else if (address == mcusr_) {  // a zero clears a flag, a one leaves it
    reg = static_cast<u8>(reg & ~(~value & mask));
  } else if (address == smcr_) {
    reg = static_cast<u8>(merged(reg, value, mask) & 0x0fU);
  } else if (address == clkpr_) {
    if ((value & mask & 0x8fU) != 0x80)
      bus.note("CLKPR: the clock prescaler is not modelled; the chip keeps its clock");
  } else {
    reg = merged(reg, value, mask);
    if (reg != 0)
      bus.note("PRR: power reduction is not modelled; a peripheral that is switched off goes on");
  }
}

void System::write_mcucr(const Bus& bus, u8 value, u8 mask, u64 t) const {
  u8& reg = bus.reg(mcucr_);
  CpuState& cpu = bus.world.cpu;
  const u8 next = merged(reg, value, mask);
  reg = static_cast<u8>((reg & kIvsel) | (next & (kPud | kJtd)));
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
  for (const auto& port : ports_) port->settle(bus, t + 1);
}

}  // namespace lucid::chip
