// SPDX-License-Identifier: MIT
#include "chip/twi.h"

#include <fmt/format.h>

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
    return;  // ready to be addressed
  }
  if (state.doing == kStart && state.outside_owns) {  // until the bus is free
    state.doing = kNothing;
    return;
  }
  bus.schedule(slot_, t + bits * bit_time(bus.world));
}

void Twi::on_event(const Bus& bus, unsigned slot, u64 due) const {
  if (slot != slot_) {
    outside_step(bus, due);
    return;
  }
  TwiState& state = bus.world.twi;
  u8& control = bus.reg(twcr_);
  const u8 done = std::exchange(state.doing, u8{kNothing});
  if (done == kStop) {
    if (state.device != 0) devices_[state.device - 1U]->on_stop(bus, due);
    state.owner = false;
    state.device = 0;
    state.status = 0xf8;
    control = static_cast<u8>(control & ~unsigned{kTwsto});
    if ((control & kTwsta) != 0)
      begin(bus, due);
    else
      outside_goes_on(bus, due);
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

// The controller outside -------------------------------------------------------------------------

void Twi::transfer(const Bus& bus, const TwoWireTransfer& transfer, u64 t) const {
  auto& steps = bus.world.twi.outside;
  const bool idle = steps.empty();
  const unsigned address = unsigned{transfer.address} << 1U;
  if (!transfer.write.empty() || transfer.read == 0) {
    steps.push_back(static_cast<u16>(kAddress | address));
    steps.insert(steps.end(), transfer.write.begin(), transfer.write.end());
  }
  if (transfer.read != 0) steps.push_back(static_cast<u16>(kAddress | address | 1U));
  for (unsigned i = 0; i < transfer.read; ++i)
    steps.push_back(i + 1U == transfer.read ? kReadLast : kReadByte);
  steps.push_back(kEnd);
  if (idle) outside_goes_on(bus, t);
}

/// Its next step ends after so many bits. While TWINT is set it finds SCL held down.
void Twi::outside_goes_on(const Bus& bus, u64 t) const {
  const TwiState& state = bus.world.twi;
  if (state.outside.empty() || state.holds || bus.world.due(slot_ + 1) != kNever) return;
  if (!state.outside_owns && (state.owner || state.doing == kStart)) return;
  const unsigned step = state.outside.front() & 0x700U;
  const bool repeats = state.target == kReceiver || state.target == kGeneral;
  const u64 bits = step == kEnd || (step == kAddress && repeats) ? 1 : step == kAddress ? 10 : 9;
  bus.schedule_tick(slot_ + 1, bus.world.tick_at(t) + bits * outside_bit_);
}

void Twi::flag(const Bus& bus, u8 status) const {
  bus.world.twi.status = status;
  bus.world.twi.holds = true;
  bus.reg(twcr_) |= kTwint;
  refresh_request(bus);
}

/// Nobody acknowledges: STOP.
void Twi::give_up(const Bus& bus) const {
  auto& steps = bus.world.twi.outside;
  steps.erase(steps.begin(), std::find(steps.begin(), steps.end(), u16{kEnd}));
}

/// "Transmission Modes": the status codes of the slave modes.
void Twi::outside_step(const Bus& bus, u64 t) const {
  TwiState& state = bus.world.twi;
  const unsigned step = state.outside.front() & 0x700U;
  const auto byte = static_cast<u8>(state.outside.front());
  const bool acknowledges = (bus.reg(twcr_) & kTwea) != 0;
  const bool receives = state.target == kReceiver || state.target == kGeneral;
  if (step == kAddress && receives) {  // a repeated START ends the first part
    state.target = kNobody;
    flag(bus, 0xa0);
    return;
  }
  state.outside.erase(state.outside.begin());
  switch (step) {
    case kAddress: addressed(bus, byte); break;
    case kWriteByte:
      if (!receives) break;
      bus.reg(twdr_) = byte;
      flag(bus,
           static_cast<u8>((acknowledges ? 0x80 : 0x88) + (state.target == kGeneral ? 0x10 : 0)));
      if (!acknowledges) {
        state.target = kNobody;
        give_up(bus);
      }
      break;
    case kReadByte:
    case kReadLast: {
      const bool mine = state.target == kTransmitter;
      bus.transmit("TWI", mine ? bus.reg(twdr_) : u8{0xff});
      if (!mine) break;
      flag(bus, step == kReadLast ? 0xc0 : acknowledges ? 0xb8 : 0xc8);
      if (step == kReadLast || !acknowledges) state.target = kNobody;
      break;
    }
    default:
      state.outside_owns = false;
      if (receives) flag(bus, 0xa0);
      state.target = kNobody;
      if ((bus.reg(twcr_) & (kTwsta | kTwint)) == kTwsta) begin(bus, t);
  }
  outside_goes_on(bus, t);
}

void Twi::addressed(const Bus& bus, u8 byte) const {
  TwiState& state = bus.world.twi;
  state.outside_owns = true;
  state.target = kNobody;
  const unsigned control = bus.reg(twcr_);
  const unsigned own = bus.reg(twar_);
  const bool listens = (control & kTwen) != 0 && (control & kTwea) != 0;
  const bool general = byte == 0 && (own & 1U) != 0;
  const unsigned masked = twamr_ != 0 ? bus.reg(twamr_) & 0xfeU : 0;
  const bool mine = ((byte ^ own) & 0xfeU & ~masked) == 0;
  if (!listens || (!general && !mine)) {
    bus.note(fmt::format("two-wire: nobody acknowledged address 0x{:02x}", byte >> 1U));
    give_up(bus);
    return;
  }
  if ((byte & 1U) != 0) {
    state.target = kTransmitter;
    flag(bus, 0xa8);
  } else {
    state.target = general ? kGeneral : kReceiver;
    flag(bus, general ? 0x70 : 0x60);
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
    forget(bus);
  } else if ((value & mask & kTwint) != 0) {  // a one clears the flag: the next action begins
    control = static_cast<u8>(control & ~unsigned{kTwint});
    state.holds = false;
    if (state.doing == kNothing) begin(bus, t + 1);
    outside_goes_on(bus, t + 1);
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

/// All but what the controller outside has yet to do.
void Twi::forget(const Bus& bus) const {
  TwiState state;
  state.outside = std::move(bus.world.twi.outside);
  state.outside_owns = bus.world.twi.outside_owns;
  bus.world.twi = std::move(state);
  bus.schedule(slot_, kNever);
  outside_goes_on(bus, bus.world.cpu.now);
}

void Twi::reset(const Bus& bus) const {
  bus.reg(twdr_) = 0xff;
  forget(bus);
  refresh_request(bus);
}

}  // namespace lucid::chip
