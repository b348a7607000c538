// SPDX-License-Identifier: MIT
#include "avr/peripherals/prescalers.h"

namespace lucid::avr {

void Prescalers::restart(const Bus& bus, unsigned which, bool hold, u64 t) const {
  for (const Timer* timer : timers_)
    if (timer->prescaler() == which) timer->catch_up(bus, t + 1);
  const bool on_crystal = which == 1 && (bus.reg(assr_) & kAs2) != 0;
  bus.world.prescalers.origin[which] = on_crystal ? bus.world.tick_at(t + 1) : t + 1;
  bus.world.prescalers.held[which] = hold;
  for (const Timer* timer : timers_)
    if (timer->prescaler() == which) timer->schedule(bus);
}

u8 Prescalers::peek(const World& world, u16 address, u64 /*t*/) const {
  unsigned waiting = 0;
  for (const Timer* timer : timers_)
    if (address == assr_ && timer->prescaler() == 1) waiting = timer->waiting(world);
  return static_cast<u8>(world.data[address] | waiting);
}

void Prescalers::write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const {
  const u8 next = merged(bus.reg(address), value, mask);
  if (address == assr_) {
    for (const Timer* timer : timers_)
      if (timer->prescaler() == 1) timer->catch_up(bus, t + 1);
    const bool changes = ((bus.reg(address) ^ next) & kAs2) != 0;
    u64& origin = bus.world.prescalers.origin[1];
    if (changes)
      origin = (next & kAs2) != 0 ? bus.world.tick_at(origin) : bus.world.cycle_at(origin);
    bus.reg(address) = next & 0x60U;
    for (const Timer* timer : timers_)
      if (changes && timer->prescaler() == 1) timer->latch_all(bus, t + 1);
    if ((next & 0x40U) != 0) bus.note("ASSR: an external clock (EXCLK) counts as the crystal");
    for (const Timer* timer : timers_)
      if (timer->prescaler() == 1) timer->schedule(bus);
    return;
  }
  const bool hold = (next & 0x80U) != 0;  // TSM
  bus.reg(address) = hold ? next & 0x83U : 0;
  // PSRSYNC is bit 0, PSRASY bit 1. Without TSM a reset lasts a moment.
  for (unsigned which = 0; which < 2; ++which)
    if ((next >> which & 1U) != 0 || (!hold && bus.world.prescalers.held[which]))
      restart(bus, which, hold && (next >> which & 1U) != 0, t);
}

void Prescalers::stood_still(const Bus& bus, u64 cycles) const {
  bus.world.prescalers.origin[0] += cycles;
  if ((bus.reg(assr_) & kAs2) == 0) bus.world.prescalers.origin[1] += cycles;
}

/// They count from power-on; other resets do not restart them, but end what was on the crystal.
void Prescalers::reset(const Bus& bus) const {
  PrescalerState& state = bus.world.prescalers;
  state.held = {};
  state.origin[1] = std::min(state.origin[1], bus.world.cpu.now);
}

/// Without TSM the resets hold nothing.
bool Prescalers::assume(const Bus& bus, u16 address, u8 value, u64 t) const {
  if (address != assr_ && (value & 0x80U) == 0) value = 0;
  write(bus, address, value, 0xff, std::max<u64>(t, 1) - 1);
  return true;
}

}  // namespace lucid::avr
