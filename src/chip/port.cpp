// SPDX-License-Identifier: MIT
#include "chip/port.h"

namespace lucid::chip {

void Port::write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const {
  if (address == row_.pin) {  // writing a one to PINx toggles PORTx
    u8& out = bus.reg(port());
    out = static_cast<u8>(out ^ (value & mask & row_.mask));
  } else {
    bus.reg(address) = static_cast<u8>(merged(bus.reg(address), value, mask) & row_.mask);
  }
  settle(bus.world, t + 1);
}

u8 Port::peek(const World& world, u16 address, u64 t) const {
  if (address != row_.pin) return world.data[address];
  // The synchroniser shows a change one cycle after the latch has taken it.
  const PortState& state = world.ports[index_];
  return state.changed_at + 1 <= t ? state.level : state.level_before;
}

void Port::reset(const Bus& bus) const {
  bus.world.ports[index_].taken = 0;
  settle(bus.world, bus.world.cpu.now);
}

void Port::drive(World& world, unsigned bit, std::optional<bool> level, u64 now) const {
  PortState& state = world.ports[index_];
  const auto mask = static_cast<u8>(1U << bit);
  state.driven = merged(state.driven, level ? 0xff : 0, mask);
  state.driven_high = merged(state.driven_high, level.value_or(false) ? 0xff : 0, mask);
  settle(world, now);
}

void Port::take(World& world, u8 mask, u8 high, u64 t) const {
  PortState& state = world.ports[index_];
  state.taken = mask;
  state.taken_high = high;
  settle(world, t);
}

void Port::settle(World& world, u64 when) const {
  PortState& state = world.ports[index_];
  const unsigned output = world.data[ddr()] & ~state.taken;
  const unsigned out = world.data[port()];
  const unsigned pull = pull_ups_off(world) ? 0 : out;
  const unsigned input = (state.driven & state.driven_high) | (~state.driven & pull);
  const auto level = static_cast<u8>(
      ((state.taken & state.taken_high) | (output & out) | (~output & ~state.taken & input)) &
      row_.mask);
  if (level == state.level) return;
  if (when != state.changed_at) state.level_before = state.level;
  state.level = level;
  state.changed_at = when;
}

PinState Port::state(const World& world, unsigned bit) const {
  const PortState& state = world.ports[index_];
  const auto on = [bit](unsigned bits) { return (bits >> bit & 1U) != 0; };
  PinState pin;
  pin.name = std::string("P") + row_.letter + static_cast<char>('0' + bit);
  pin.output = on(world.data[ddr()]) || on(state.taken);
  pin.level = on(state.level);
  pin.pull_up = !pin.output && on(world.data[port()]) && !pull_ups_off(world);
  pin.driven = on(state.driven);
  pin.driven_high = pin.driven && on(state.driven_high);
  pin.floating = !pin.output && !pin.pull_up && !pin.driven;
  pin.contention = pin.output && pin.driven && pin.driven_high != pin.level;
  return pin;
}

}  // namespace lucid::chip
