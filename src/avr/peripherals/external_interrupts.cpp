// SPDX-License-Identifier: MIT
#include "avr/peripherals/external_interrupts.h"

#include <fmt/format.h>

#include "avr/peripherals/port.h"

namespace lucid::avr {

ExternalInterrupts::ExternalInterrupts(const Names& names, std::vector<Pin> interrupts,
                                       std::vector<Pin> changes, unsigned slot)
    : slot_(slot),
      eicra_(names.reg("EICRA")),
      eicrb_(names.reg("EICRB")),
      eimsk_(names.reg("EIMSK")),
      eifr_(names.reg("EIFR")),
      pcicr_(names.reg("PCICR")),
      pcifr_(names.reg("PCIFR")),
      interrupts_(std::move(interrupts)),
      changes_(std::move(changes)) {
  for (unsigned i = 0; i < 4; ++i) pcmsk_[i] = names.reg("PCMSK" + std::to_string(i));
  for (unsigned i = 0; i < interrupts_.size(); ++i)
    vectors_.push_back(names.vector({"INT" + std::to_string(i)}));
  for (std::size_t i = 0; i * 8 < changes_.size(); ++i)
    change_vectors_.push_back(names.vector({"PCINT" + std::to_string(i)}));
}

std::vector<u16> ExternalInterrupts::addresses() const {
  std::vector<u16> out{eicra_, eimsk_, eifr_, pcicr_, pcifr_};
  if (eicrb_ != 0) out.push_back(eicrb_);
  for (const u16 mask : pcmsk_)
    if (mask != 0) out.push_back(mask);
  return out;
}

std::vector<unsigned> ExternalInterrupts::vectors() const {
  std::vector<unsigned> out = vectors_;
  out.insert(out.end(), change_vectors_.begin(), change_vectors_.end());
  return out;
}

std::vector<Pin> ExternalInterrupts::listens() const {
  std::vector<Pin> out = interrupts_;
  for (const Pin& pin : changes_)
    if (std::find(out.begin(), out.end(), pin) == out.end()) out.push_back(pin);
  return out;
}

/// An INTn pin's level is always followed.
Peripheral::PinGate ExternalInterrupts::gate(Pin pin) const {
  if (std::find(interrupts_.begin(), interrupts_.end(), pin) != interrupts_.end()) return {};
  const auto at = std::find(changes_.begin(), changes_.end(), pin);
  const auto n = static_cast<unsigned>(at - changes_.begin());
  return {pcmsk_[n / 8], static_cast<u8>(1U << n % 8)};
}

unsigned ExternalInterrupts::sense(const World& world, unsigned n) const {
  return world.data[n < 4 ? eicra_ : eicrb_] >> (2 * (n % 4)) & 3U;
}

void ExternalInterrupts::refresh_requests(const Bus& bus) const {
  const InterruptPinState& state = bus.world.interrupt_pins;
  for (unsigned n = 0; n < vectors_.size(); ++n) {
    const bool low = sense(bus.world, n) == 0 && (state.levels >> n & 1U) == 0;
    const bool on = (bus.reg(eimsk_) >> n & 1U) != 0 && (low || (state.flags >> n & 1U) != 0);
    bus.request(vectors_[n], on);
  }
  for (unsigned n = 0; n < change_vectors_.size(); ++n)
    bus.request(change_vectors_[n], (bus.reg(pcicr_) & state.changes & 1U << n) != 0);
}

u8 ExternalInterrupts::peek(const World& world, u16 address, u64 /*t*/) const {
  if (address == eifr_) return world.interrupt_pins.flags;
  if (address == pcifr_) return world.interrupt_pins.changes;
  return world.data[address];
}

void ExternalInterrupts::write(const Bus& bus, u16 address, u8 value, u8 mask, u64 /*t*/) const {
  InterruptPinState& state = bus.world.interrupt_pins;
  if (address == eifr_ || address == pcifr_) {
    const bool pins = address == eifr_;
    u8& flags = pins ? state.flags : state.changes;
    const unsigned waiting = flags & value & mask & bus.reg(pins ? eimsk_ : pcicr_);
    for (unsigned lost = bus.cleared_unasked(waiting); lost != 0; lost &= lost - 1)
      bus.misused(fmt::format(kTakenBack, pins ? "EIFR" : "PCIFR", pins ? "INTF" : "PCIF",
                              __builtin_ctz(lost)));
    flags = static_cast<u8>(flags & ~(value & mask));
  } else {
    bus.reg(address) = merged(bus.reg(address), value, mask);
  }
  refresh_requests(bus);
}

bool ExternalInterrupts::assume(const Bus& bus, u16 address, u8 value, u64 /*t*/) const {
  InterruptPinState& state = bus.world.interrupt_pins;
  if (address == eifr_)
    state.flags = static_cast<u8>(value & ((1U << vectors_.size()) - 1));
  else if (address == pcifr_)
    state.changes = static_cast<u8>(value & ((1U << change_vectors_.size()) - 1));
  else
    bus.reg(address) = value;
  refresh_requests(bus);
  return true;
}

void ExternalInterrupts::on_pin(const Bus& bus, Pin pin, bool level, u64 t) const {
  InterruptPinState& state = bus.world.interrupt_pins;
  const InterruptPinState before = state;
  for (unsigned n = 0; n < interrupts_.size(); ++n) {
    if (!(interrupts_[n] == pin)) continue;
    state.levels = merged(state.levels, level ? 0xff : 0, static_cast<u8>(1U << n));
    const unsigned kind = sense(bus.world, n);
    const bool without_clock = eicrb_ != 0 && n < 4;
    if (kind == 0 || (bus.world.cpu.deep && !without_clock)) continue;
    if (kind != 1 && level != (kind == 3)) continue;
    state.flags |= static_cast<u8>(1U << n);
    raised(bus, vectors_[n], t);
  }
  unsigned wanted = 0;
  for (const u16 mask : pcmsk_) wanted |= mask != 0 ? bus.reg(mask) : 0U;
  for (unsigned n = 0; wanted != 0 && n < changes_.size(); ++n) {
    if (changes_[n] == pin) {
      if ((bus.reg(pcmsk_[n / 8]) >> n % 8 & 1U) != 0) change(bus, n / 8, t);
      break;
    }
  }
  if (state.levels != before.levels || state.flags != before.flags ||
      state.changes != before.changes)
    refresh_requests(bus);
}

/// A flag rises with the third edge of the clock behind the pin's ("Pin Change Interrupt Timing");
/// in deep sleep, without the clock, at once.
void ExternalInterrupts::change(const Bus& bus, unsigned group, u64 t) const {
  InterruptPinState& state = bus.world.interrupt_pins;
  if (bus.world.cpu.deep) {
    state.changes |= static_cast<u8>(1U << group);
    return;
  }
  state.changes_at[group] = std::min(state.changes_at[group], t + 3);
  bus.schedule(slot_, *std::min_element(state.changes_at.begin(), state.changes_at.end()));
}

void ExternalInterrupts::on_event(const Bus& bus, unsigned /*slot*/, u64 due) const {
  InterruptPinState& state = bus.world.interrupt_pins;
  for (unsigned group = 0; group < state.changes_at.size(); ++group)
    if (state.changes_at[group] <= due) {
      state.changes |= static_cast<u8>(1U << group);
      state.changes_at[group] = kNever;
    }
  bus.schedule(slot_, *std::min_element(state.changes_at.begin(), state.changes_at.end()));
  refresh_requests(bus);
}

void ExternalInterrupts::on_vector(const Bus& bus, unsigned vector) const {
  InterruptPinState& state = bus.world.interrupt_pins;
  for (unsigned n = 0; n < vectors_.size(); ++n)
    if (vectors_[n] == vector) state.flags = static_cast<u8>(state.flags & ~(1U << n));
  for (unsigned n = 0; n < change_vectors_.size(); ++n)
    if (change_vectors_[n] == vector) state.changes = static_cast<u8>(state.changes & ~(1U << n));
  refresh_requests(bus);
}

/// As an edge at its pin would, or at one of its pins. A low level leaves no flag.
bool ExternalInterrupts::bring_forward(const Bus& bus, unsigned vector, std::optional<u8> /*byte*/,
                                       u64 t) const {
  InterruptPinState& state = bus.world.interrupt_pins;
  bool by_itself = true;
  for (unsigned n = 0; n < vectors_.size(); ++n)
    if (vectors_[n] == vector) {
      state.flags = static_cast<u8>(state.flags | 1U << n);
      by_itself = sense(bus.world, n) != 0;
      raised(bus, vector, t);
    }
  for (unsigned n = 0; n < change_vectors_.size(); ++n)
    if (change_vectors_[n] == vector) {
      state.changes = static_cast<u8>(state.changes | 1U << n);
      by_itself = pcmsk_[n] != 0 && bus.reg(pcmsk_[n]) != 0;
    }
  refresh_requests(bus);
  return by_itself;
}

void ExternalInterrupts::reset(const Bus& bus) const {
  bus.world.interrupt_pins = InterruptPinState{};
  bus.schedule(slot_, kNever);
  u8& levels = bus.world.interrupt_pins.levels;
  for (unsigned n = 0; n < interrupts_.size(); ++n)
    if (interrupts_[n] && !interrupts_[n].port->level(bus.world, interrupts_[n].bit))
      levels = static_cast<u8>(levels & ~(1U << n));
  refresh_requests(bus);
}

u64 ExternalInterrupts::steady_until(const World& /*world*/, u16 /*address*/, u64 /*t*/) const {
  return kNever;
}

}  // namespace lucid::avr
