// SPDX-License-Identifier: MIT
#include "chip/twi.h"

#include "chip/attached.h"

namespace lucid::chip {

/// "Bit Rate Generator Unit": the clock by 16 + 2 TWBR 4^TWPS.
u64 Twi::bit_time(const World& world) const {
  return 16 + (u64{2} * world.data[twbr_] << (2 * (world.data[twsr_] & 3U)));
}

void Twi::begin(const Bus& bus, u64 t) const {
  TwiState& state = bus.world.twi;
  const unsigned control = bus.reg(twcr_);
  u64 bits = 1;
  if ((control & kTwsto) != 0) {
    state.doing = kStop;
  } else if ((control & kTwsta) != 0) {
    state.doing = kStart;
  } else if (state.owner) {
    state.doing = kByte;
    bits = 9;
  } else {
    if ((control & kTwea) != 0) bus.note("TWI: slave modes are not modelled");
    return;
  }
  bus.schedule(slot_, t + bits * bit_time(bus.world));
}

void Twi::on_event(const Bus& bus, unsigned /*slot*/, u64 due) const {
  TwiState& state = bus.world.twi;
  u8& control = bus.reg(twcr_);
  const u8 done = std::exchange(state.doing, u8{kNothing});
  if (done == kStop) {
    if (state.device != 0) devices_[state.device - 1U]->on_stop(bus, due);
    state.owner = false;
    state.device = 0;
    state.status = 0xf8;
    control = static_cast<u8>(control & ~unsigned{kTwsto});
    if ((control & kTwsta) != 0) begin(bus, due);
    return;  // a STOP raises no flag
  }
  if (done == kStart) {
    state.status = state.owner ? 0x10 : 0x08;
    state.owner = state.address = true;
    state.device = 0;
  } else {
    exchange_byte(bus, due);
  }
  control |= kTwint;
  refresh_request(bus);
}

/// "Transmission Modes": the status codes of the master modes.
void Twi::exchange_byte(const Bus& bus, u64 due) const {
  TwiState& state = bus.world.twi;
  u8& data = bus.reg(twdr_);
  if (state.address) {
    state.address = false;
    state.reading = (data & 1U) != 0;
    for (std::size_t i = 0; i < devices_.size() && state.device == 0; ++i)
      if (devices_[i]->on_address(bus, data >> 1U, state.reading, due))
        state.device = static_cast<u8>(i + 1);
    const bool answered = state.device != 0;
    state.status = state.reading ? (answered ? 0x40 : 0x48) : (answered ? 0x18 : 0x20);
    return;
  }
  const Attached* device = state.device != 0 ? devices_[state.device - 1U] : nullptr;
  if (state.reading) {
    const bool acknowledged = (bus.reg(twcr_) & kTwea) != 0;
    data = device != nullptr ? device->bus_byte(bus, acknowledged, due) : u8{0xff};
    state.status = acknowledged ? 0x50 : 0x58;
  } else {
    const bool acknowledged = device != nullptr && device->on_bus_byte(bus, data, due);
    state.status = acknowledged ? 0x28 : 0x30;
  }
}

u8 Twi::peek(const World& world, u16 address, u64 /*t*/) const {
  if (address == twsr_) return static_cast<u8>((world.data[twsr_] & 3U) | world.twi.status);
  return world.data[address];
}

void Twi::write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const {
  TwiState& state = bus.world.twi;
  if (address == twdr_ && (bus.reg(twcr_) & kTwint) == 0 && state.doing != kNothing) {
    bus.reg(twcr_) |= kTwwc;
    bus.note("TWI: TWDR was written while TWINT is 0 (TWWC); it is unchanged");
    return;
  }
  if (address == twdr_) bus.reg(twcr_) = static_cast<u8>(bus.reg(twcr_) & ~unsigned{kTwwc});
  if (address == twsr_) mask &= 3;
  if (address != twcr_) {
    bus.reg(address) = merged(bus.reg(address), value, mask);
    return;
  }
  u8& control = bus.reg(twcr_);
  const unsigned flag = control & kTwint;
  const unsigned collision = control & kTwwc;
  control = static_cast<u8>((merged(control, value, mask) & 0x75U) | flag | collision);
  if ((control & kTwen) == 0) {
    state = TwiState{};
    bus.schedule(slot_, kNever);
  } else if ((value & mask & kTwint) != 0) {  // a one clears the flag: the next action begins
    control = static_cast<u8>(control & ~unsigned{kTwint});
    if (state.doing == kNothing) begin(bus, t + 1);
  }
  refresh_request(bus);
}

void Twi::refresh_request(const Bus& bus) const {
  const unsigned control = bus.reg(twcr_);
  bus.request(vector_, (control & kTwint) != 0 && (control & kTwie) != 0);
}

std::vector<PinUse> Twi::uses(const World& world) const {
  if ((world.data[twcr_] & kTwen) == 0) return {};
  return {{sda_, "TWI SDA"}, {scl_, "TWI SCL"}};
}

void Twi::reset(const Bus& bus) const {
  bus.world.twi = TwiState{};
  bus.reg(twdr_) = 0xff;
  bus.schedule(slot_, kNever);
  refresh_request(bus);
}

}  // namespace lucid::chip
