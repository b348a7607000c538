// SPDX-License-Identifier: MIT
#include "avr/peripherals/port.h"

#include <fmt/format.h>

#include "avr/peripherals/adc.h"

namespace lucid::avr {
namespace {

/// The pins that something outside holds at a level.
unsigned held_outside(const PortState& state) {
  return state.driven | state.wire_low | state.held_low | state.wire_high | state.wire_pull |
         state.pulled_up;
}

/// Somebody decides a bit, or gives it back.
void claim(u8& taken, u8& values, unsigned bit, std::optional<bool> value) {
  const auto mask = static_cast<u8>(1U << bit);
  taken = merged(taken, value ? 0xff : 0, mask);
  values = merged(values, value.value_or(false) ? 0xff : 0, mask);
}

}  // namespace

void Port::write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const {
  about_to_change(bus, t + 1);
  if (address == pin_) {  // writing a one to PINx toggles PORTx
    u8& out = bus.reg(port());
    if (toggles_) out = static_cast<u8>(out ^ (value & mask & mask_));
  } else {
    bus.reg(address) = static_cast<u8>(merged(bus.reg(address), value, mask) & mask_);
  }
  settle(bus, t + 1);
}

bool Port::write_unheard(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const {
  World& world = bus.world;
  PortState& state = world.ports[index_];
  const unsigned taken =
      state.value_taken | state.second_taken | state.direction_taken | state.pull_taken;
  if (address == pin_ || wired_ != 0 || (taken | held_outside(state)) != 0 ||
      (sampler_ != nullptr && world.adc.converting) || bus.contends(index_))
    return false;
  const auto now = static_cast<u8>(merged(world.data[address], value, mask) & mask_);
  const unsigned output = address == port_ ? world.data[ddr_] : now;
  const unsigned out = address == port_ ? now : world.data[port_];
  const unsigned pull = pull_ups_off(world) ? 0 : out;
  const auto level = static_cast<u8>(((output & out) | (~output & pull)) & mask_);
  const unsigned changed = level ^ state.level;
  for (unsigned bits = changed; bits != 0; bits &= bits - 1)
    for (const std::size_t i : by_bit_[static_cast<unsigned>(__builtin_ctz(bits))])
      if (hears(world, listeners_[i])) return false;
  world.data[address] = now;
  if (changed == 0) return true;
  if (t + 1 != state.changed_at) state.level_before = state.level;
  state.level = level;
  state.changed_at = t + 1;
  return true;
}

bool Port::hears(const World& world, const Listener& listener) {
  const bool open =
      listener.gate.address == 0 || (world.data[listener.gate.address] & listener.gate.mask) != 0;
  return open && !listener.who->is_off(world);
}

bool Port::assume(const Bus& bus, u16 address, u8 value, u64 t) const {
  if (address == pin_) return false;
  write(bus, address, value, 0xff, std::max<u64>(t, 1) - 1);
  return true;
}

PortState& Port::about_to_change(const Bus& bus, u64 t) const {
  if (sampler_ != nullptr) sampler_->before_change(bus, t);
  return bus.world.ports[index_];
}

u8 Port::peek(const World& world, u16 address, u64 t) const {
  if (address != pin_) return world.data[address];
  // The synchroniser shows a change one cycle after the latch has taken it.
  const PortState& state = world.ports[index_];
  u8 level = state.changed_at + 1 <= t ? state.level : state.level_before;
  for (unsigned bit = 0; has_disables_ && bit < 8; ++bit)
    if (const Disable& off = disables_[bit]; off.reg != 0 && (world.data[off.reg] & off.mask) != 0)
      level = merged(level, 0, static_cast<u8>(1U << bit));
  return level;
}

void Port::reset(const Bus& bus) const {
  PortState& state = about_to_change(bus, bus.world.cpu.now);
  state.value_taken = state.second_taken = state.direction_taken = state.pull_taken = 0;
  settle(bus, bus.world.cpu.now);
}

void Port::drive(const Bus& bus, unsigned bit, std::optional<bool> level, u64 now) const {
  PortState& state = about_to_change(bus, now);
  const auto mask = static_cast<u8>(1U << bit);
  state.analog = merged(state.analog, 0, mask);
  claim(state.driven, state.driven_high, bit, level);
  settle(bus, now);
}

/// A digital input is high from 0.6 of the supply up, low from 0.3 down, and keeps its level
/// between ("Electrical Characteristics", input high and low voltage).
void Port::apply(const Bus& bus, unsigned bit, std::int32_t microvolts, u64 now) const {
  PortState& state = about_to_change(bus, now);
  const auto mask = static_cast<u8>(1U << bit);
  const std::int64_t tenths = std::int64_t{microvolts} * 10;
  state.analog |= mask;
  state.volts[bit] = microvolts;
  state.driven |= mask;
  if (tenths >= std::int64_t{bus.world.supply} * 6) state.driven_high |= mask;
  if (tenths <= std::int64_t{bus.world.supply} * 3)
    state.driven_high = merged(state.driven_high, 0, mask);
  settle(bus, now);
  for (const Listener& listener : listeners_)
    if (listener.bit == bit && !listener.who->is_off(bus.world)) listener.who->on_voltage(bus, now);
}

void Port::set_fought(const Bus& bus, unsigned bit, bool on) const {
  u8& fought = bus.world.ports[index_].fought;
  fought = merged(fought, on ? 0xff : 0, static_cast<u8>(1U << bit));
}

std::int32_t Port::microvolts(const World& world, unsigned bit) const {
  const PortState& state = world.ports[index_];
  const bool output = (outputs(world) >> bit & 1U) != 0;
  if (!output && (state.analog >> bit & 1U) != 0) return state.volts[bit];
  return level(world, bit) ? world.supply : 0;
}

void Port::take_value(const Bus& bus, unsigned bit, std::optional<bool> value, u64 t) const {
  PortState& state = about_to_change(bus, t);
  claim(state.value_taken, state.value, bit, value);
  settle(bus, t);
}

void Port::take_second(const Bus& bus, unsigned bit, std::optional<bool> value, u64 t) const {
  PortState& state = about_to_change(bus, t);
  claim(state.second_taken, state.second, bit, value);
  settle(bus, t);
}

/// Two timers on one pin: PORTx chooses whether either or both make it high.
u8 Port::out(const World& world) const {
  const PortState& state = world.ports[index_];
  const u8 port_value = world.data[port()];
  const u8 one = merged(port_value, state.value, state.value_taken);
  if (state.second_taken == 0) return one;
  const auto both = static_cast<u8>(state.value_taken & state.second_taken);
  const auto mixed = static_cast<u8>((port_value & (state.value | state.second)) |
                                     (~port_value & state.value & state.second));
  return merged(merged(one, state.second, state.second_taken), mixed, both);
}

void Port::take_direction(const Bus& bus, unsigned bit, std::optional<bool> output, u64 t) const {
  PortState& state = about_to_change(bus, t);
  claim(state.direction_taken, state.direction, bit, output);
  settle(bus, t);
}

void Port::take_pull_up(const Bus& bus, unsigned bit, std::optional<bool> on, u64 t) const {
  PortState& state = about_to_change(bus, t);
  claim(state.pull_taken, state.pull, bit, on);
  settle(bus, t);
}

unsigned Port::pull_ups(const World& world) const {
  const PortState& state = world.ports[index_];
  return merged(pull_ups_off(world) ? 0 : world.data[port()], state.pull, state.pull_taken);
}

unsigned Port::outputs(const World& world) const {
  const PortState& state = world.ports[index_];
  return merged(world.data[ddr()], state.direction, state.direction_taken);
}

void Port::settle(const Bus& bus, u64 when) const {
  World& world = bus.world;
  PortState& state = world.ports[index_];
  const bool taken = (state.value_taken | state.second_taken | state.direction_taken) != 0;
  const unsigned output = taken ? outputs(world) : world.data[ddr()];
  const unsigned out = taken ? this->out(world) : world.data[port()];
  const unsigned pull = pull_ups(world);
  unsigned input = pull, contended = 0;
  if (held_outside(state) != 0) {
    const unsigned wire = ~(state.wire_low | state.held_low) &
                          (state.wire_high | state.wire_pull | state.pulled_up | pull);
    input = (state.driven & state.driven_high) | (~state.driven & wire);
    // What the chip drives, and somebody outside, too.
    const unsigned low = state.wire_low | state.held_low | (state.driven & ~state.driven_high);
    const unsigned high = state.wire_high | (state.driven & state.driven_high);
    contended = output & ((out & low) | (~out & high));
  }
  if (wired_ != 0)
    offer(bus, (output & ~out) | state.held_low, output & out, (~output & pull) | state.pulled_up,
          when);
  if ((contended & mask_) != 0 || bus.contends(index_))
    note_contention(bus, contended & mask_, out);
  const auto level = static_cast<u8>(((output & out) | (~output & input)) & mask_);
  const bool told = bus.listens_to_any();
  if (level == state.level) {
    if (told) tell_levels(bus, when);
    return;
  }
  const unsigned changed = level ^ state.level;
  if (when != state.changed_at) state.level_before = state.level;
  state.level = level;
  state.changed_at = when;
  if (told) {
    tell_levels(bus, when);
    for (unsigned bit = 0; bit < 8 && bus.listens(machine::EventKind::kEdge); ++bit)
      if ((changed >> bit & 1U) != 0)
        bus.record(machine::EventKind::kEdge, number(bit), level >> bit & 1U, when);
  }
  tell_listeners(bus, changed, when);
}

void Port::tell_listeners(const Bus& bus, unsigned changed, u64 when) const {
  const PortState& state = bus.world.ports[index_];
  const unsigned level = state.level;
  const auto tell = [&](const Listener& listener) {
    // One that a listener has changed again has been told already.
    if (((changed & ~(state.level ^ level)) >> listener.bit & 1U) != 0 &&
        hears(bus.world, listener))
      listener.who->on_pin(bus, {this, static_cast<u8>(listener.bit)},
                           (level >> listener.bit & 1U) != 0, when);
  };
  if ((changed & (changed - 1)) != 0)
    for (const Listener& listener : listeners_) tell(listener);
  else
    for (const std::size_t i : by_bit_[static_cast<unsigned>(__builtin_ctz(changed))])
      tell(listeners_[i]);
}

void Port::note_contention(const Bus& bus, unsigned contended, unsigned out) const {
  for (unsigned bits = bus.contend(index_, contended); bits != 0; bits &= bits - 1) {
    const auto bit = static_cast<unsigned>(__builtin_ctz(bits));
    const bool high = (out >> bit & 1U) != 0;
    bus.contention(fmt::format("{}: the chip drives it {}, and something outside {}", pin_name(bit),
                               high ? "high" : "low", high ? "low" : "high"));
  }
}

/// For who listens, of each pin whose level, or lack of one, is another.
void Port::tell_levels(const Bus& bus, u64 when) const {
  const World& world = bus.world;
  const PortState& state = world.ports[index_];
  if (bus.listens(machine::EventKind::kPin)) {
    const unsigned output = outputs(world);
    const unsigned fought = state.fought | (state.wire_low & state.wire_high);
    // What may be in contention is asked for each pin.
    const unsigned driven = state.driven | state.wire_low | state.wire_high | state.held_low;
    const unsigned held = output | driven | pull_ups(world) | state.wire_pull | state.pulled_up;
    for (unsigned bits =
             bus.changed_pins(index_, state.level, ~held, fought | (output & driven)) & mask_;
         bits != 0; bits &= bits - 1) {
      const auto bit = static_cast<unsigned>(__builtin_ctz(bits));
      bus.record_pin(number(bit), machine::level_of(this->state(world, bit)), when);
    }
  }
  for (unsigned bit = 0; bit < 8 && bus.listens(machine::EventKind::kVoltage); ++bit)
    if (has(bit))
      bus.record(machine::EventKind::kVoltage, number(bit),
                 static_cast<u32>(microvolts(world, bit)), when);
}

void Port::hold_low(const Bus& bus, unsigned bit, bool low, u64 now) const {
  PortState& state = about_to_change(bus, now);
  state.held_low = merged(state.held_low, low ? 0xff : 0, static_cast<u8>(1U << bit));
  settle(bus, now);
}

void Port::pull_up_outside(const Bus& bus, unsigned bit, u64 now) const {
  about_to_change(bus, now).pulled_up |= static_cast<u8>(1U << bit);
  settle(bus, now);
}

void Port::join(const Bus& bus, unsigned bit, u8 offer, u64 now) const {
  PortState& state = about_to_change(bus, now);
  const auto mask = static_cast<u8>(1U << bit);
  state.wire_low = merged(state.wire_low, (offer & machine::kOffersLow) != 0 ? 0xff : 0, mask);
  state.wire_high = merged(state.wire_high, (offer & machine::kOffersHigh) != 0 ? 0xff : 0, mask);
  state.wire_pull = merged(state.wire_pull, (offer & machine::kOffersPullUp) != 0 ? 0xff : 0, mask);
  settle(bus, now);
}

void Port::offer(const Bus& bus, unsigned low, unsigned high, unsigned pull, u64 when) const {
  PortState& state = bus.world.ports[index_];
  const unsigned changed =
      wired_ & ((low ^ state.offers_low) | (high ^ state.offers_high) | (pull ^ state.offers_pull));
  if (changed == 0) return;
  state.offers_low = static_cast<u8>(low & wired_);
  state.offers_high = static_cast<u8>(high & wired_);
  state.offers_pull = static_cast<u8>(pull & wired_);
  for (unsigned bit = 0; bit < 8; ++bit) {
    if ((changed >> bit & 1U) == 0) continue;
    const unsigned offers = (low >> bit & 1U) * machine::kOffersLow |
                            (high >> bit & 1U) * machine::kOffersHigh |
                            (pull >> bit & 1U) * machine::kOffersPullUp;
    bus.offer(number(bit), static_cast<u8>(offers), when);
  }
}

PinState Port::state(const World& world, unsigned bit) const {
  const PortState& state = world.ports[index_];
  const auto on = [bit](unsigned bits) { return (bits >> bit & 1U) != 0; };
  PinState pin;
  pin.name = pin_name(bit);
  pin.output = on(outputs(world));
  pin.level = on(state.level);
  pin.pull_up = !pin.output && on(pull_ups(world));
  const bool low = on(state.wire_low) || on(state.held_low);
  const bool wire = low || on(state.wire_high);
  pin.driven = on(state.driven) || wire;
  pin.driven_high = on(state.driven) ? on(state.driven_high) : wire && !low;
  pin.pulled_up_outside = on(state.wire_pull) || on(state.pulled_up);
  pin.floating = on(floating(world));
  pin.contention = (pin.output && pin.driven && pin.driven_high != pin.level) ||
                   (on(state.wire_low) && on(state.wire_high)) || on(state.fought);
  if (on(state.analog)) pin.microvolts = state.volts[bit];
  return pin;
}

unsigned Port::floating(const World& world) const {
  return mask_ & ~(outputs(world) | pull_ups(world) | held_outside(world.ports[index_]));
}

u64 Port::steady_until(const World& world, u16 address, u64 t) const {
  return address != pin_ || world.ports[index_].changed_at < t ? kNever : 0;
}

}  // namespace lucid::avr
