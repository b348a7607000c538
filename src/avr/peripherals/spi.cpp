// SPDX-License-Identifier: MIT
#include "avr/peripherals/spi.h"

#include "avr/peripherals/port.h"

namespace lucid::avr {

u64 Spi::half_bit(const World& world) const {
  constexpr std::array<u64, 4> kDividers{4, 16, 64, 128};  // by SPR
  return kDividers[world.data[spcr_] & 3U] / ((world.data[spsr_] & 1U) != 0 ? 4 : 2);
}

/// "SPI Pin Overrides": a master's MISO and a slave's other pins are inputs whatever DDR says.
void Spi::take_pins(const Bus& bus, u64 t) const {
  SpiState& state = bus.world.spi;
  const bool on = is(bus.world, kSpe);
  const bool master = is(bus.world, kMstr);
  const auto input = [&](const Pin& pin, bool forced) {
    pin.port->take_direction(bus, pin.bit, forced ? std::optional<bool>(false) : std::nullopt, t);
  };
  input(pins_.in, on && master);
  input(pins_.out, on && !master);
  input(pins_.clock, on && !master);
  input(pins_.select, on && !master);
  if (!state.shifting) state.clock = is(bus.world, kCpol);
  pins_.clock.port->take_value(bus, pins_.clock.bit,
                               on && master ? std::optional<bool>(state.clock) : std::nullopt, t);
  if (!on || !master) pins_.out.port->take_value(bus, pins_.out.bit, std::nullopt, t);
  if (!on || master) pins_.in.port->take_value(bus, pins_.in.bit, std::nullopt, t);
}

/// The bit that is to leave, on MOSI or MISO.
void Spi::show_bit(const Bus& bus, u64 t) const {
  const bool bit = (bus.world.spi.shift & (is(bus.world, kDord) ? 1U : 0x80U)) != 0;
  const Pin& pin = is(bus.world, kMstr) ? pins_.out : pins_.in;
  pin.port->take_value(bus, pin.bit, bit, t);
}

/// An edge of SCK: of each two, one sets up a bit and the other samples one, in an order by CPHA.
void Spi::edge(const Bus& bus, u64 t) const {
  SpiState& state = bus.world.spi;
  const bool leading = state.step % 2 == 0;
  if (state.step == 0) bus.record(machine::EventKind::kBusOut, Bus::kSpi, state.shift, t);
  ++state.step;
  if (leading != is(bus.world, kCpha)) {  // samples
    const Pin& pin = is(bus.world, kMstr) ? pins_.in : pins_.out;
    state.sampled = pin.port->level(bus.world, pin.bit) ? 1 : 0;
    const bool low_first = is(bus.world, kDord);
    state.shift = static_cast<u8>(low_first ? state.shift >> 1 | state.sampled << 7
                                            : state.shift << 1 | state.sampled);
  } else if (!(state.step == 16 && leading == is(bus.world, kCpha))) {
    show_bit(bus, t);
  }
  if (state.step == 16) complete(bus, t);
}

void Spi::complete(const Bus& bus, std::optional<u64> received_at) const {
  SpiState& state = bus.world.spi;
  state.shifting = false;
  state.step = 0;
  state.in = state.shift;
  if (received_at) bus.record(machine::EventKind::kBusIn, Bus::kSpi, state.in, *received_at);
  state.flags |= kSpif;
  state.flags_read = 0;
  refresh_request(bus);
}

void Spi::on_event(const Bus& bus, unsigned /*slot*/, u64 due) const {
  SpiState& state = bus.world.spi;
  state.clock = !state.clock;
  pins_.clock.port->take_value(bus, pins_.clock.bit, state.clock, due);
  edge(bus, due);
  bus.schedule(slot_, state.shifting ? due + half_bit(bus.world) : kNever);
}

void Spi::on_pin(const Bus& bus, Pin pin, bool level, u64 t) const {
  if (!is(bus.world, kSpe)) return;
  SpiState& state = bus.world.spi;
  if (is(bus.world, kMstr)) {
    // Another master pulls SS low: this one becomes a slave.
    const bool input = !pins_.select.port->state(bus.world, pins_.select.bit).output;
    if (!(pin == pins_.select) || level || !input) return;
    bus.reg(spcr_) = static_cast<u8>(bus.reg(spcr_) & ~unsigned{kMstr});
    bus.schedule(slot_, kNever);
    complete(bus, std::nullopt);
    take_pins(bus, t);
    bus.misused("SPI: SS went low while it was master and SS an input: MSTR was cleared");
    return;
  }
  if (pin == pins_.select) {
    state.step = 0;
    state.shifting = false;
    if (!level && !is(bus.world, kCpha)) show_bit(bus, t);
  } else if (!pins_.select.port->level(bus.world, pins_.select.bit)) {
    state.shifting = true;
    edge(bus, t);
  }
}

u8 Spi::peek(const World& world, u16 address, u64 /*t*/) const {
  if (address == spsr_) return static_cast<u8>((world.data[spsr_] & 1U) | world.spi.flags);
  if (address == spdr_) return world.spi.in;
  return world.data[address];
}

u8 Spi::read(const Bus& bus, u16 address, u64 t) const {
  SpiState& state = bus.world.spi;
  const u8 value = peek(bus.world, address, t);
  if (address == spsr_) state.flags_read |= state.flags;
  if (address == spdr_) state.flags = static_cast<u8>(state.flags & ~unsigned{state.flags_read});
  refresh_request(bus);
  return value;
}

bool Spi::assume(const Bus& bus, u16 address, u8 value, u64 t) const {
  SpiState& state = bus.world.spi;
  if (address == spdr_) {
    state.in = value;  // what is read there
    return true;
  }
  if (address == spsr_) state.flags = value & (kSpif | kWcol);
  write(bus, address, value, 0xff, std::max<u64>(t, 1) - 1);
  refresh_request(bus);
  return true;
}

void Spi::write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const {
  SpiState& state = bus.world.spi;
  if (address == spsr_) {
    bus.reg(address) = static_cast<u8>(merged(bus.reg(address), value, mask) & 1U);
    return;
  }
  if (address == spcr_) {
    bus.reg(address) = merged(bus.reg(address), value, mask);
    if (!is(bus.world, kSpe)) {
      state.shifting = false;
      state.step = 0;
      bus.schedule(slot_, kNever);
    }
    take_pins(bus, t + 1);
    refresh_request(bus);
    return;
  }
  state.flags = static_cast<u8>(state.flags & ~unsigned{state.flags_read});
  if (!is(bus.world, kSpe)) {
    bus.misused("SPI: SPDR was written while SPE is 0");
  } else if (state.shifting) {
    state.flags |= kWcol;
    bus.misused("SPI: SPDR was written during a transfer (WCOL); the byte is lost");
  } else {
    state.shift = value;
    state.step = 0;
    if (is(bus.world, kMstr)) {
      state.shifting = true;
      if (!is(bus.world, kCpha)) show_bit(bus, t + 1);
      bus.schedule(slot_, t + 1 + half_bit(bus.world));
    } else if (!is(bus.world, kCpha) && !pins_.select.port->level(bus.world, pins_.select.bit)) {
      show_bit(bus, t + 1);
    }
  }
  refresh_request(bus);
}

void Spi::refresh_request(const Bus& bus) const {
  bus.request(vector_, (bus.world.spi.flags & kSpif) != 0 && is(bus.world, kSpie));
}

void Spi::on_vector(const Bus& bus, unsigned /*vector*/) const {
  bus.world.spi.flags = static_cast<u8>(bus.world.spi.flags & ~unsigned{kSpif});
  refresh_request(bus);
}

std::vector<PinUse> Spi::uses(const World& world) const {
  if (!is(world, kSpe)) return {};
  return {{pins_.out, "SPI MOSI"}, {pins_.in, "SPI MISO"}, {pins_.clock, "SPI SCK"}};
}

void Spi::reset(const Bus& bus) const {
  bus.world.spi = SpiState{};
  bus.schedule(slot_, kNever);
  refresh_request(bus);
}

u64 Spi::steady_until(const World& /*world*/, u16 /*address*/, u64 /*t*/) const { return kNever; }

}  // namespace lucid::avr
