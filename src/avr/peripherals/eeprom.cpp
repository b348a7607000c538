// SPDX-License-Identifier: MIT
#include "avr/peripherals/eeprom.h"

namespace lucid::avr {
namespace {

/// Programming time in microseconds: erase and write 3.4 ms, either alone 1.8 ms.
constexpr std::array<u64, 4> kWriteMicroseconds{3400, 1800, 1800, 3400};  // by EEPM

}  // namespace

u8 Eeprom::peek(const World& world, u16 address, u64 t) const {
  if (address != eecr_) return world.data[address];
  const EepromState& state = world.eeprom_controller;
  unsigned value = world.data[eecr_] & (kEerie | kEepm);
  if (state.writing) value |= kEepe;
  if (t < state.master_until) value |= kEempe;
  return static_cast<u8>(value);
}

void Eeprom::write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const {
  if (address == eecr_) {
    control(bus, value, mask, t);
    return;
  }
  if (bus.world.eeprom_controller.writing && address != eedr()) {
    bus.misused("EEPROM: the address was written while a byte is being programmed; it is ignored");
    return;
  }
  if (address == eear() + 1) value &= static_cast<u8>(address_mask_ >> 8);
  bus.reg(address) = merged(bus.reg(address), value, mask);
}

bool Eeprom::assume(const Bus& bus, u16 address, u8 value, u64 /*t*/) const {
  if (address == eear() + 1) value &= static_cast<u8>(address_mask_ >> 8);
  bus.reg(address) = address == eecr_ ? merged(bus.reg(address), value, kEerie | kEepm) : value;
  refresh_request(bus);
  return true;
}

void Eeprom::control(const Bus& bus, u8 value, u8 mask, u64 t) const {
  EepromState& state = bus.world.eeprom_controller;
  const u8 asked = static_cast<u8>(value & mask);
  const bool window_open = t < state.master_until;
  const u16 address = static_cast<u16>(
      (bus.reg(eear()) | bus.reg(static_cast<u16>(eear() + 1)) << 8) & address_mask_);

  const auto keep =
      static_cast<u8>(state.writing ? unsigned{kEerie} : kEerie | kEepm);  // EEPM is locked
  bus.reg(eecr_) = merged(bus.reg(eecr_), value, static_cast<u8>(mask & keep));

  if ((asked & kEepe) != 0 && !state.writing) {
    if (window_open) {
      state.writing = true;
      state.address = address;
      state.value = bus.reg(eedr());
      bus.wear_eeprom(address);
      bus.happened(machine::EventKind::kEepromWrite, address, state.value);
      bus.record(machine::EventKind::kEepromWrite, address, state.value, bus.world.cpu.now);
      state.mode = static_cast<u8>((bus.reg(eecr_) & kEepm) >> 4);
      state.master_until = 0;
      const u64 ticks = (kWriteMicroseconds[state.mode] * clock_hz_ + 999'999) / 1'000'000;
      bus.schedule_tick(slot_, bus.world.tick_at(t + 1) + ticks);
      bus.stall(2);
    } else {
      bus.misused("EEPROM: EEPE was set outside the four cycles after EEMPE; nothing is written");
    }
  } else if ((asked & kEempe) != 0) {
    state.master_until = t + 1 + 4;
  } else if ((mask & kEempe) != 0) {
    state.master_until = 0;
  }
  if ((asked & kEere) != 0) {
    if (state.writing) {
      bus.misused("EEPROM: EERE was set while a byte is being programmed; nothing is read");
    } else {
      bus.reg(eedr()) = bus.world.eeprom[address];
      bus.stall(4);
    }
  }
  refresh_request(bus);
}

void Eeprom::on_event(const Bus& bus, unsigned /*slot*/, u64 /*due*/) const {
  EepromState& state = bus.world.eeprom_controller;
  u8& cell = bus.world.eeprom[state.address];
  switch (state.mode) {
    case 1: cell = 0xff; break;          // erase only
    case 2: cell &= state.value; break;  // write only
    default: cell = state.value; break;
  }
  state.writing = false;
  refresh_request(bus);
}

void Eeprom::refresh_request(const Bus& bus) const {
  bus.request(vector_, (bus.reg(eecr_) & kEerie) != 0 && !bus.world.eeprom_controller.writing);
}

void Eeprom::reset(const Bus& bus) const {
  // A write that is under way is completed.
  bus.world.eeprom_controller.master_until = 0;
}

u64 Eeprom::steady_until(const World& world, u16 address, u64 t) const {
  const u64 until = world.eeprom_controller.master_until;
  return address == eecr_ && t < until ? until : kNever;
}

}  // namespace lucid::avr
