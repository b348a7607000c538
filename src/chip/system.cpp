// SPDX-License-Identifier: MIT
#include "chip/system.h"

#include <fmt/format.h>

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
    write_prr(bus, address, merged(reg, value, mask), t + 1);
  }
}

void System::write_prr(const Bus& bus, u16 address, u8 next, u64 t) const {
  u8& reg = bus.reg(address);
  for (const Peripheral* p : switched_) {
    const auto& power = p->power_switch();
    if (power.address != address || ((reg ^ next) & power.mask) == 0) continue;
    const bool on = (next & power.mask) == 0;
    u64& since = bus.world.off_since[power.number];
    if (!on) p->on_power(bus, false, t);
    reg = static_cast<u8>(reg ^ power.mask);
    for (const unsigned slot : p->slots()) on ? bus.world.unpark(slot, t) : bus.world.park(slot, t);
    if (on) {
      p->stood_still(bus, t - since);
      p->on_power(bus, true, t);
    }
    since = on ? 0 : t;
  }
  reg = next;
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

void set_supply(const Bus& bus, std::int32_t microvolts) {
  // By BODLEVEL, typical; reserved and 7: off. The hysteresis is 50 mV.
  static constexpr std::array<std::int32_t, 8> kLevels{0,         0,         0,         0,
                                                       4'300'000, 2'700'000, 1'800'000, 0};
  constexpr std::int32_t kHalfHysteresis = 25'000;
  World& world = bus.world;
  const std::int32_t level = kLevels[world.fuses[2] & 7U];
  world.supply = microvolts;
  if (level != 0 && microvolts < level - kHalfHysteresis && !world.browned_out) {
    world.browned_out = true;
    world.cpu.reset_cause |= kBorf;
  } else if (world.browned_out && microvolts > level + kHalfHysteresis) {
    world.browned_out = false;
  }
  if (level == 0 && microvolts < 1'800'000)
    bus.note(
        fmt::format("VCC is {:.2f} V, less than the chip needs, and the brown-out detector is "
                    "off; it goes on",
                    microvolts / 1e6));
}

}  // namespace lucid::chip
