// SPDX-License-Identifier: MIT
#include "avr/peripherals/twi.h"

#include <algorithm>
#include <array>

namespace lucid::avr {

/// The chip's own ends of the lines: open drains.
class Twi::Lines {
 public:
  Lines(const Twi& twi, const Bus& bus, u64 t) : twi_(twi), bus_(bus), t_(t) {}
  void sda(bool high) const { twi_.line(bus_, twi_.sda_, high, t_); }
  void scl(bool high) const { twi_.line(bus_, twi_.scl_, high, t_); }
  [[nodiscard]] bool sda_high() const { return twi_.sda_.port->level(bus_.world, twi_.sda_.bit); }
  [[nodiscard]] bool scl_high() const { return twi_.scl_.port->level(bus_.world, twi_.scl_.bit); }
  void wake(u64 after) const { bus_.schedule(twi_.slot_, t_ + after); }

 private:
  const Twi& twi_;
  const Bus& bus_;
  u64 t_;
};

void Twi::line(const Bus& bus, Pin pin, bool high, u64 t) const {
  // Data changes behind the falling edge of the clock, not with it: that would be a START.
  const bool behind = pin == sda_ && !scl_.port->level(bus.world, scl_.bit);
  pin.port->take_direction(bus, pin.bit, !high, behind ? t + 1 : t);
}

/// "Bit Rate Generator Unit": the clock by 16 + 2 TWBR 4^TWPS.
u64 Twi::bit_time(const World& world) const {
  return 16 + (u64{2} * world.data[twbr_] << (2 * (world.data[twsr_] & 3U)));
}

// The master modes --------------------------------------------------------------------------------

/// TWINT has been cleared, or the bus has become free: what TWCR asks for begins.
void Twi::act(const Bus& bus, u64 t) const {
  TwiState& state = bus.world.twi;
  Lines lines(*this, bus, t);
  Master master(state.own, lines, bit_time(bus.world));
  u8& control = bus.reg(twcr_);
  if (!state.master && (control & kTwsto) != 0) {  // recovers a slave; nothing is sent
    control = static_cast<u8>(control & ~unsigned{kTwsto});
    state.target = kNobody;
    state.status = 0xf8;
    master.give_up();
  }
  if (state.master && (control & kTwsto) != 0) {
    master.stop();
  } else if ((control & kTwsta) != 0) {
    if (state.master || !state.busy) {
      master.start();
    } else {
      go_on(bus, t);
    }
  } else if (state.master) {
    const unsigned data = bus.reg(twdr_);
    if (state.address || !state.reading)
      master.exchange(static_cast<u16>(data << 1 | 1U), 0x1fe);
    else
      master.exchange(static_cast<u16>(0x1feU | ((control & kTwea) != 0 ? 0U : 1U)), 1);
  } else {
    go_on(bus, t);
  }
}

/// A slave lets SCL go; a transmitter shows its next byte first.
void Twi::go_on(const Bus& bus, u64 t) const {
  TwiState& state = bus.world.twi;
  if (state.target == kTransmitter && state.seen.count == 0) {
    show_bit(bus, t);
  }
  line(bus, scl_, true, t);
}

void Twi::on_event(const Bus& bus, unsigned /*slot*/, u64 due) const {
  Lines lines(*this, bus, due);
  Master master(bus.world.twi.own, lines, bit_time(bus.world));
  follow(bus, master.step(), master, due);
}

/// What has come of a step.
void Twi::follow(const Bus& bus, Master::Outcome outcome, const Master& master, u64 t) const {
  TwiState& state = bus.world.twi;
  if (outcome == Master::Outcome::kUnderWay) return;
  if (outcome == Master::Outcome::kLost) {  // the rest of the byte is another master's
    bus.schedule(slot_, kNever);
    state.master = false;
    state.lost = true;
    state.target = std::exchange(state.address, false) ? kListening : kNobody;
    return;
  }
  switch (state.own.was) {
    case Master::kStart:
      flag(bus, state.master ? 0x10 : 0x08, t);
      state.master = state.address = true;
      break;
    case Master::kStop: {
      state.master = false;
      state.status = 0xf8;
      u8& control = bus.reg(twcr_);
      control = static_cast<u8>(control & ~unsigned{kTwsto});
      if ((control & kTwsta) != 0) act(bus, t);
      break;  // a STOP raises no flag
    }
    default: byte_done(bus, master, t);
  }
}

/// "Transmission Modes": the status codes of the master modes.
void Twi::byte_done(const Bus& bus, const Master& master, u64 t) const {
  TwiState& state = bus.world.twi;
  const bool answered = master.acknowledged();
  if (state.address) {
    state.address = false;
    state.reading = (master.byte() & 1U) != 0;
    flag(bus, state.reading ? (answered ? 0x40 : 0x48) : (answered ? 0x18 : 0x20), t);
  } else if (state.reading) {
    bus.reg(twdr_) = master.byte();
    flag(bus, answered ? 0x50 : 0x58, t);
  } else {
    flag(bus, answered ? 0x28 : 0x30, t);
  }
}

// The lines, and the slave modes ------------------------------------------------------------------

void Twi::on_pin(const Bus& bus, Pin pin, bool level, u64 t) const {
  if (!on(bus, kTwen)) return;
  TwiState& state = bus.world.twi;
  const bool clock = scl_.port->level(bus.world, scl_.bit);
  if (pin == sda_) {
    if (clock) on_condition(bus, !level, t);
    return;
  }
  if (level) state.seen.take(sda_.port->level(bus.world, sda_.bit));
  if (!level) on_clock_fall(bus, t);
  Lines lines(*this, bus, t);
  Master master(state.own, lines, bit_time(bus.world));
  follow(bus, master.on_clock(level), master, t);
}

/// START or STOP, by whomever.
void Twi::on_condition(const Bus& bus, bool start, u64 t) const {
  TwiState& state = bus.world.twi;
  const bool mine =
      state.own.doing == (start ? Master::kStart : Master::kStop) && state.own.phase == 2;
  // Nothing but the first bit of a byte may be under way.
  const bool illegal = state.seen.count > 1 && (state.master || state.target != kNobody) && !mine;
  const bool ends_reception = state.target == kReceiver || state.target == kGeneral;
  const bool waited = state.busy;
  state.busy = start;
  state.seen = {};
  state.target = start && !mine ? kListening : kNobody;
  if (illegal) {
    state.own.doing = Master::kNothing;
    bus.schedule(slot_, kNever);
    state.master = false;
    state.target = kNobody;
    flag(bus, 0x00, t);
  } else if (start && state.own.doing == Master::kStart && !mine) {
    state.own.doing = Master::kNothing;
  } else if (ends_reception) {
    flag(bus, 0xa0, t);
  } else if (!start && waited && !mine && (bus.reg(twcr_) & (kTwsta | kTwint)) == kTwsta) {
    act(bus, t);
  }
}

void Twi::on_clock_fall(const Bus& bus, u64 t) const {
  TwiState& state = bus.world.twi;
  if (state.seen.count == 9) {
    const u16 bits = std::exchange(state.seen, {}).bits;
    if (!state.master) answered(bus, bits, t);
  } else if (state.seen.count == 8 && !state.master) {
    // The ninth bit answers.
    if (state.target == kListening) {
      state.answers = addressed(bus, static_cast<u8>(state.seen.bits));
    } else {
      const bool receives = state.target == kReceiver || state.target == kGeneral;
      state.answers = receives && on(bus, kTwea);
    }
    if (state.target != kNobody) line(bus, sda_, !state.answers, t);
  } else if (state.target == kTransmitter && state.seen.count != 0) {
    show_bit(bus, t);
  }
  // A START has ended a reception: it waits until that has been seen.
  if (state.target == kListening && on(bus, kTwint)) line(bus, scl_, false, t);
}

bool Twi::addressed(const Bus& bus, u8 byte) const {
  const unsigned own = bus.reg(twar_);
  const unsigned masked = twamr_ != 0 ? bus.reg(twamr_) & 0xfeU : 0;
  const bool general = byte == 0 && (own & 1U) != 0;
  return on(bus, kTwea) && (general || ((byte ^ own) & 0xfeU & ~masked) == 0);
}

/// "Transmission Modes": the status codes of the slave modes; nine bits are over.
void Twi::answered(const Bus& bus, u16 bits, u64 t) const {
  TwiState& state = bus.world.twi;
  const bool lost = std::exchange(state.lost, false);
  const auto byte = static_cast<u8>(bits >> 1);
  const bool acknowledged = (bits & 1U) == 0;
  if (state.target != kNobody) line(bus, sda_, true, t);
  switch (state.target) {
    case kListening:
      state.target = kNobody;
      if (state.answers) {
        bus.reg(twdr_) = byte;
        const bool general = byte == 0;
        state.target = (byte & 1U) != 0 ? kTransmitter : general ? kGeneral : kReceiver;
        const unsigned status = (byte & 1U) != 0 ? 0xa8U : general ? 0x70U : 0x60U;
        hold(bus, static_cast<u8>(status + (lost ? 8 : 0)), t);
        return;
      }
      break;
    case kReceiver:
    case kGeneral: {
      bus.reg(twdr_) = byte;
      const unsigned status = state.target == kGeneral ? 0x90 : 0x80;
      if (!state.answers) state.target = kNobody;
      hold(bus, static_cast<u8>(status + (state.answers ? 0 : 8)), t);
      return;
    }
    case kTransmitter: {
      const bool more = acknowledged && on(bus, kTwea);
      if (!more) state.target = kNobody;
      hold(bus, more ? 0xb8 : acknowledged ? 0xc8 : 0xc0, t);
      return;
    }
    default: break;
  }
  if (lost) flag(bus, 0x38, t);
}

/// The next bit of a byte that a slave sends.
void Twi::show_bit(const Bus& bus, u64 t) const {
  const TwiState& state = bus.world.twi;
  line(bus, sda_, (bus.reg(twdr_) >> (7U - state.seen.count) & 1U) != 0, t);
}

/// A byte that has gone over the bus is told of: addresses are bytes, too.
void Twi::flag(const Bus& bus, u8 status, u64 t) const {
  constexpr std::array<u8, 9> kSent{0x18, 0x20, 0x28, 0x30, 0x40, 0x48, 0xb8, 0xc0, 0xc8};
  constexpr std::array<u8, 12> kReceived{0x50, 0x58, 0x60, 0x68, 0x70, 0x78,
                                         0x80, 0x88, 0x90, 0x98, 0xa8, 0xb0};
  const auto tell = [&](const auto& list, machine::EventKind kind) {
    if (std::find(list.begin(), list.end(), status) != list.end())
      bus.record(kind, Bus::kTwi, bus.reg(twdr_), t);
  };
  if (bus.listens(machine::EventKind::kBusOut)) tell(kSent, machine::EventKind::kBusOut);
  if (bus.listens(machine::EventKind::kBusIn)) tell(kReceived, machine::EventKind::kBusIn);
  bus.world.twi.status = status;
  bus.reg(twcr_) |= kTwint;
  refresh_request(bus);
}

/// A slave holds SCL until TWINT is cleared.
void Twi::hold(const Bus& bus, u8 status, u64 t) const {
  flag(bus, status, t);
  line(bus, scl_, false, t);
}

// Registers ---------------------------------------------------------------------------------------

u8 Twi::peek(const World& world, u16 address, u64 /*t*/) const {
  if (address == twsr_) return static_cast<u8>((world.data[twsr_] & 3U) | world.twi.status);
  return world.data[address];
}

void Twi::write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const {
  TwiState& state = bus.world.twi;
  if (address == twdr_ && !on(bus, kTwint) && state.own.doing != Master::kNothing) {
    bus.reg(twcr_) |= kTwwc;
    bus.misused("TWI: TWDR was written while TWINT is 0 (TWWC); it is unchanged");
    return;
  }
  if (address == twdr_) bus.reg(twcr_) = static_cast<u8>(bus.reg(twcr_) & ~unsigned{kTwwc});
  if (address == twsr_) mask &= 3;
  if (address != twcr_) {
    bus.reg(address) = merged(bus.reg(address), value, mask);
    return;
  }
  u8& control = bus.reg(twcr_);
  const bool was_on = on(bus, kTwen);
  const unsigned flag = control & kTwint;
  const unsigned collision = control & kTwwc;
  control = static_cast<u8>((merged(control, value, mask) & 0x75U) | flag | collision);
  if ((control & kTwen) == 0) {
    forget(bus, t + 1);
  } else {
    if (!was_on) {
      for (const Pin& pin : {scl_, sda_}) {
        pin.port->pull_up_outside(bus, pin.bit, t + 1);
        pin.port->take_value(bus, pin.bit, false, t + 1);
        line(bus, pin, true, t + 1);
      }
    }
    const bool cleared = (value & mask & kTwint) != 0;  // by a one: the next action begins
    if (cleared) control = static_cast<u8>(control & ~unsigned{kTwint});
    if (state.own.doing == Master::kNothing && (cleared || (flag == 0 && on(bus, kTwsta | kTwsto))))
      act(bus, t + 1);
  }
  refresh_request(bus);
}

bool Twi::assume(const Bus& bus, u16 address, u8 value, u64 t) const {
  if (address == twsr_) bus.world.twi.status = value & 0xf8U;
  if (address != twcr_) {
    bus.reg(address) = address == twsr_ ? value & 3U : value;
    return true;
  }
  if ((bus.reg(twcr_) ^ value) & kTwen)
    write(bus, twcr_, value & kTwen, 0xff, std::max<u64>(t, 1) - 1);
  bus.reg(twcr_) = value & 0xfdU;
  refresh_request(bus);
  return true;
}

void Twi::refresh_request(const Bus& bus) const {
  bus.request(vector_, on(bus, kTwint) && on(bus, kTwie));
}

std::vector<PinUse> Twi::uses(const World& world) const {
  if ((world.data[twcr_] & kTwen) == 0) return {};
  return {{sda_, "TWI SDA"}, {scl_, "TWI SCL"}};
}

/// The interface is off: both lines are the port's again.
void Twi::forget(const Bus& bus, u64 t) const {
  bus.world.twi = TwiState{};
  bus.schedule(slot_, kNever);
  for (const Pin& pin : {sda_, scl_}) {
    pin.port->take_direction(bus, pin.bit, std::nullopt, t);
    pin.port->take_value(bus, pin.bit, std::nullopt, t);
  }
}

void Twi::reset(const Bus& bus) const {
  bus.reg(twdr_) = 0xff;
  bus.reg(twar_) = 0xfe;
  bus.world.twi = TwiState{};
  bus.schedule(slot_, kNever);
  refresh_request(bus);
}

u64 Twi::steady_until(const World& /*world*/, u16 /*address*/, u64 /*t*/) const { return kNever; }

}  // namespace lucid::avr
