// SPDX-License-Identifier: MIT
#include "chip/usart.h"

#include <fmt/format.h>

namespace lucid::chip {

Usart::Usart(unsigned number, const Names& names, Pin txd, Pin rxd, unsigned index, unsigned slot)
    : number_(number),
      ucsra_(names.reg(fmt::format("UCSR{}A", number))),
      receive_(names.vector({fmt::format("USART{}_RX", number), "USART_RX"})),
      empty_(names.vector({fmt::format("USART{}_UDRE", number), "USART_UDRE"})),
      transmit_(names.vector({fmt::format("USART{}_TX", number), "USART_TX"})),
      txd_(txd),
      rxd_(rxd),
      index_(index),
      slot_(slot) {}

std::vector<u16> Usart::addresses() const {
  return {ucsra_, at(kUcsrb), at(kUcsrc), at(kUbrr), static_cast<u16>(at(kUbrr) + 1), at(kUdr)};
}

std::vector<unsigned> Usart::vectors() const { return {receive_, empty_, transmit_}; }

u64 Usart::samples_per_bit(const World& world) const {
  return (world.data[ucsra_] & kU2x) != 0 ? 8 : 16;
}

u64 Usart::sample_ticks(const World& world) const {
  return (world.data[at(kUbrr)] | (world.data[at(kUbrr) + 1] & 0xfU) << 8) + 1U;
}

/// Start, data, parity and stop bits.
u64 Usart::frame_bits(const World& world) const {
  const unsigned c = control(world, kUcsrc);
  return 1 + 5 + (c >> 1 & 3U) + ((c & 0x20U) != 0 ? 1U : 0U) + ((c & 8U) != 0 ? 2U : 1U);
}

u8 Usart::data_mask(const World& world) const {
  return static_cast<u8>(0xffU >> (3 - (control(world, kUcsrc) >> 1 & 3U)));
}

void Usart::start_sending(const Bus& bus, u8 byte, u64 when) const {
  UsartState& state = bus.world.usarts[index_];
  state.sending = true;
  state.leaving = static_cast<u8>(byte & data_mask(bus.world));
  bus.schedule(slot_,
               when + frame_bits(bus.world) * samples_per_bit(bus.world) * sample_ticks(bus.world));
}

/// The next byte on the line, if there is one and the receiver listens.
void Usart::start_receiving(const Bus& bus, u64 when) const {
  UsartState& state = bus.world.usarts[index_];
  if (state.receiving || state.line.empty() || (control(bus.world, kUcsrb) & kRxen) == 0) return;
  const u64 start = std::max(when, state.next_start);
  state.receiving = true;
  state.arriving = static_cast<u8>(state.line.front() & data_mask(bus.world));
  state.line.erase(state.line.begin());
  if (state.fifo_count == 3) state.overrun = true;  // a start bit with nowhere to go
  const u64 samples = samples_per_bit(bus.world);
  const u64 ticks = sample_ticks(bus.world);
  // The frame is complete at the last of the three majority samples of the first stop bit.
  const u64 bits_before_stop =
      frame_bits(bus.world) - ((control(bus.world, kUcsrc) & 8U) != 0 ? 2 : 1);
  bus.schedule(slot_ + 1, start + (bits_before_stop * samples + samples / 2 + 2) * ticks);
  state.next_start = start + frame_bits(bus.world) * samples * ticks;
}

void Usart::send(const Bus& bus, const std::string& bytes, u64 now) const {
  UsartState& state = bus.world.usarts[index_];
  state.line.insert(state.line.end(), bytes.begin(), bytes.end());
  start_receiving(bus, now);
}

void Usart::refresh_requests(const Bus& bus) const {
  const unsigned flags = peek(bus.world, ucsra_, 0);
  const unsigned enable = control(bus.world, kUcsrb);
  bus.request(receive_, (flags & enable & kRxc) != 0);
  bus.request(empty_, (flags & enable & kUdre) != 0);
  bus.request(transmit_, (flags & enable & kTxc) != 0);
}

u8 Usart::peek(const World& world, u16 address, u64 /*t*/) const {
  const UsartState& state = world.usarts[index_];
  if (address == at(kUdr)) return state.fifo_count != 0 ? state.fifo[0] : 0;
  if (address != ucsra_) return world.data[address];
  unsigned flags = world.data[address] & 3U;
  if (state.fifo_count != 0) flags |= kRxc;
  if (state.transmitted) flags |= kTxc;
  if (!state.buffer_full) flags |= kUdre;
  if (state.overrun) flags |= kDor;
  return static_cast<u8>(flags);
}

u8 Usart::read(const Bus& bus, u16 address, u64 t) const {
  const u8 value = peek(bus.world, address, t);
  if (address != at(kUdr)) return value;
  UsartState& state = bus.world.usarts[index_];
  if (state.fifo_count != 0) {
    state.fifo[0] = state.fifo[1];
    state.fifo[1] = state.fifo[2];
    state.fifo[2] = 0;
    --state.fifo_count;
  }
  state.overrun = false;
  refresh_requests(bus);
  return value;
}

void Usart::write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const {
  UsartState& state = bus.world.usarts[index_];
  if (address == at(kUdr)) {
    if ((control(bus.world, kUcsrb) & kTxen) == 0) {
      bus.note(name() + ": a byte was written while the transmitter is off");
    } else if (state.buffer_full) {
      bus.note(name() + ": a byte was written while UDRE was 0; it is lost");
    } else if (state.sending) {
      state.buffer = value;
      state.buffer_full = true;
    } else {
      start_sending(bus, value, t + 1);
    }
  } else if (address == ucsra_) {
    if ((value & mask & kTxc) != 0) state.transmitted = false;
    bus.reg(address) = static_cast<u8>(merged(bus.reg(address), value, mask) & 3U);
  } else if (address == at(kUcsrb)) {
    bus.reg(address) = merged(bus.reg(address), value, mask);
    const unsigned on = bus.reg(address);
    const auto taken = [&](u8 enable) {
      return (on & enable) != 0 ? std::optional<bool>(enable == kTxen) : std::nullopt;
    };
    txd_.port->take_value(bus, txd_.bit, taken(kTxen), t + 1);
    txd_.port->take_direction(bus, txd_.bit, taken(kTxen), t + 1);
    rxd_.port->take_direction(bus, rxd_.bit, taken(kRxen), t + 1);
    if ((value & kRxen) == 0) {  // switching the receiver off empties its buffer
      state.fifo_count = 0;
      state.overrun = false;
      state.receiving = false;
      bus.schedule(slot_ + 1, kNever);
    }
    start_receiving(bus, t + 1);
  } else {
    bus.reg(address) = merged(bus.reg(address), value, mask);
  }
  say_what_is_missing(bus);
  refresh_requests(bus);
}

void Usart::say_what_is_missing(const Bus& bus) const {
  if ((control(bus.world, kUcsrc) & 0xc0U) != 0)
    bus.note(name() +
             ": synchronous and SPI-master modes are not modelled; it runs asynchronously");
  if ((control(bus.world, kUcsrb) & 4U) != 0)
    bus.note(name() + ": 9 data bits are not modelled; the ninth bit is left out");
  if ((bus.reg(ucsra_) & 1U) != 0) bus.note(name() + ": multi-processor mode is not modelled");
}

void Usart::on_event(const Bus& bus, unsigned slot, u64 due) const {
  UsartState& state = bus.world.usarts[index_];
  if (slot == slot_) {
    bus.transmit(name(), state.leaving);
    bus.happened(isa::EventKind::kByteOut, state.leaving, 0, name());
    state.sending = false;
    for (const Peripheral* listener : listeners_)
      listener->on_byte(bus, name(), state.leaving, due);
    if (state.buffer_full) {
      state.buffer_full = false;
      start_sending(bus, state.buffer, due);
    } else {
      state.transmitted = true;
    }
  } else {
    state.receiving = false;
    bus.happened(isa::EventKind::kByteIn, state.arriving, 0, name());
    if (state.fifo_count < 3) state.fifo[state.fifo_count++] = state.arriving;
    start_receiving(bus, due);
  }
  refresh_requests(bus);
}

void Usart::on_vector(const Bus& bus, unsigned vector) const {
  if (vector == transmit_) bus.world.usarts[index_].transmitted = false;
  refresh_requests(bus);
}

std::vector<PinUse> Usart::uses(const World& world) const {
  std::vector<PinUse> out;
  if ((control(world, kUcsrb) & kTxen) != 0) out.push_back({txd_, name() + " TXD"});
  if ((control(world, kUcsrb) & kRxen) != 0) out.push_back({rxd_, name() + " RXD"});
  return out;
}

void Usart::reset(const Bus& bus) const {
  UsartState& state = bus.world.usarts[index_];
  std::vector<u8> line = std::move(state.line);  // what the outside sends is not reset
  state = UsartState{};
  state.line = std::move(line);
  bus.reg(at(kUcsrc)) = 0x06;
  bus.schedule(slot_, kNever);
  bus.schedule(slot_ + 1, kNever);
}

}  // namespace lucid::chip
