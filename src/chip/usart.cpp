// SPDX-License-Identifier: MIT
#include "chip/usart.h"

#include <fmt/format.h>

namespace lucid::chip {

Usart::Usart(unsigned number, const Names& names, Pin txd, Pin rxd, Pin xck, unsigned index,
             unsigned slot)
    : number_(number),
      ucsra_(names.reg(fmt::format("UCSR{}A", number))),
      receive_(names.vector({fmt::format("USART{}_RX", number), "USART_RX"})),
      empty_(names.vector({fmt::format("USART{}_UDRE", number), "USART_UDRE"})),
      transmit_(names.vector({fmt::format("USART{}_TX", number), "USART_TX"})),
      txd_(txd),
      rxd_(rxd),
      xck_(xck),
      index_(index),
      slot_(slot) {}

std::vector<u16> Usart::addresses() const {
  return {ucsra_, at(kUcsrb), at(kUcsrc), at(kUbrr), static_cast<u16>(at(kUbrr) + 1), at(kUdr)};
}

std::vector<unsigned> Usart::vectors() const { return {receive_, empty_, transmit_}; }

Usart::Mode Usart::mode(const World& world) const {
  return static_cast<Mode>(control(world, kUcsrc) >> 6);
}

/// "Internal Clock Generation": the divided clock is the sampling clock, or twice the bit rate.
u64 Usart::bit_ticks(const World& world) const {
  const u64 divided = (world.data[at(kUbrr)] | (world.data[at(kUbrr) + 1] & 0xfU) << 8) + 1U;
  if (mode(world) != Mode::kAsynchronous) return 2 * divided;
  return divided * ((world.data[ucsra_] & kU2x) != 0 ? 8 : 16);
}

unsigned Usart::data_bits(const World& world) const {
  const unsigned size = (control(world, kUcsrc) >> 1 & 3U) | (control(world, kUcsrb) & kUcsz2);
  return size == 7 ? 9 : 5 + (size & 3U);
}

/// Start, data, parity and stop bits.
u64 Usart::frame_bits(const World& world) const {
  const unsigned c = control(world, kUcsrc);
  return 1 + data_bits(world) + ((c & 0x20U) != 0 ? 1U : 0U) + ((c & 8U) != 0 ? 2U : 1U);
}

u16 Usart::data_mask(const World& world) const {
  return static_cast<u16>((1U << data_bits(world)) - 1);
}

void Usart::start_sending(const Bus& bus, u16 data, u64 when) const {
  UsartState& state = bus.world.usarts[index_];
  state.sending = true;
  if (mode(bus.world) == Mode::kSpi) {
    state.leaving = data;
    state.arriving = 0;
    state.half_bits = 0;
    if ((control(bus.world, kUcsrc) & 2U) == 0) show_spi_bit(bus, 0, when);  // UCPHA
    bus.schedule(slot_, when + bit_ticks(bus.world) / 2);
    return;
  }
  state.leaving = data & data_mask(bus.world);
  bus.schedule(slot_, when + frame_bits(bus.world) * bit_ticks(bus.world));
}

/// The next frame on the line, if there is one and the receiver listens.
void Usart::start_receiving(const Bus& bus, u64 when) const {
  UsartState& state = bus.world.usarts[index_];
  if (state.receiving || state.line.empty() || is_off(bus.world)) return;
  if ((control(bus.world, kUcsrb) & kRxen) == 0) return;
  const u64 start = std::max(when, state.next_start);
  state.receiving = true;
  const u16 frame = state.line.front();
  const bool has_parity = (control(bus.world, kUcsrc) & 0x20U) != 0;
  const unsigned kept = data_mask(bus.world) | kNoStop | (has_parity ? unsigned{kWrongParity} : 0);
  state.arriving = static_cast<u16>(frame & kept);
  state.line.erase(state.line.begin());
  if (state.fifo_count == 3) state.overrun = true;  // a start bit with nowhere to go
  const u64 bit = bit_ticks(bus.world);
  const u64 frame_length = frame_bits(bus.world);
  const u64 bits_before_stop = frame_length - ((control(bus.world, kUcsrc) & 8U) != 0 ? 2 : 1);
  // The frame is complete at the last of the three majority samples of the first stop bit; in
  // synchronous mode at the edge in the middle of that bit.
  u64 into_stop = bit / 2;
  if (mode(bus.world) == Mode::kAsynchronous)
    into_stop += 2 * (bit / ((bus.world.data[ucsra_] & kU2x) != 0 ? 8 : 16));
  bus.schedule(slot_ + 1, start + bits_before_stop * bit + into_stop);
  state.next_start = start + frame_length * bit;
}

void Usart::send(const Bus& bus, const std::string& bytes, u64 now) const {
  UsartState& state = bus.world.usarts[index_];
  for (const char c : bytes) state.line.push_back(static_cast<u8>(c));
  start_receiving(bus, now);
}

void Usart::send(const Bus& bus, const SerialFrame& frame, u64 now) const {
  const unsigned faults = (frame.no_stop_bit ? unsigned{kNoStop} : 0) |
                          (frame.wrong_parity ? unsigned{kWrongParity} : 0);
  bus.world.usarts[index_].line.push_back(static_cast<u16>((frame.data & 0x1ffU) | faults));
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
  const unsigned first = state.fifo_count != 0 ? state.fifo[0] : 0U;
  if (address == at(kUdr)) return static_cast<u8>(first);
  if (address == at(kUcsrb))
    return static_cast<u8>(world.data[address] | ((first & 0x100U) != 0 ? unsigned{kRxb8} : 0));
  if (address != ucsra_) return world.data[address];
  unsigned flags = world.data[address] & (kU2x | kMpcm);
  if (state.fifo_count != 0) flags |= kRxc;
  if (state.transmitted) flags |= kTxc;
  if (!state.buffer_full) flags |= kUdre;
  if ((first & kNoStop) != 0) flags |= kFe;
  if (state.overrun) flags |= kDor;
  if ((first & kWrongParity) != 0) flags |= kUpe;
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
    } else {
      const u16 data = static_cast<u16>(value | (control(bus.world, kUcsrb) & kTxb8) << 8);
      if (state.sending) {
        state.buffer = data;
        state.buffer_full = true;
      } else {
        start_sending(bus, data, t + 1);
      }
    }
  } else if (address == ucsra_) {
    if ((value & mask & kTxc) != 0) state.transmitted = false;
    bus.reg(address) = static_cast<u8>(merged(bus.reg(address), value, mask) & 3U);
  } else if (address == at(kUcsrb)) {
    bus.reg(address) = static_cast<u8>(merged(bus.reg(address), value, mask) & ~unsigned{kRxb8});
    take_pins(bus, t + 1);
    if ((value & kRxen) == 0) {  // switching the receiver off empties its buffer
      state.fifo_count = 0;
      state.overrun = false;
      state.receiving = false;
      bus.schedule(slot_ + 1, kNever);
    }
    start_receiving(bus, t + 1);
  } else {
    bus.reg(address) = merged(bus.reg(address), value, mask);
    if (address == at(kUcsrc)) take_pins(bus, t + 1);
  }
  say_what_is_missing(bus);
  refresh_requests(bus);
}

/// TXD, RXD and, in SPI-master mode, XCK.
void Usart::take_pins(const Bus& bus, u64 t) const {
  const unsigned on = control(bus.world, kUcsrb);
  const auto taken = [&](u8 enable) {
    return (on & enable) != 0 ? std::optional<bool>(enable == kTxen) : std::nullopt;
  };
  txd_.port->take_value(bus, txd_.bit, taken(kTxen), t);
  txd_.port->take_direction(bus, txd_.bit, taken(kTxen), t);
  rxd_.port->take_direction(bus, rxd_.bit, taken(kRxen), t);
  if (!xck_) return;
  std::optional<bool> clock;
  if (mode(bus.world) == Mode::kSpi)
    clock = bus.world.usarts[index_].clock != ((control(bus.world, kUcsrc) & 1U) != 0);
  xck_.port->take_value(bus, xck_.bit, clock, t);
}

void Usart::say_what_is_missing(const Bus& bus) const {
  const unsigned size = control(bus.world, kUcsrc) >> 1 & 3U;
  if ((control(bus.world, kUcsrb) & kUcsz2) != 0 && size != 3)
    bus.note(name() + ": the number of data bits is reserved");
  if (mode(bus.world) == Mode::kReserved) bus.note(name() + ": the mode (UMSEL) is reserved");
  if (mode(bus.world) == Mode::kSynchronous && xck_ &&
      !xck_.port->state(bus.world, xck_.bit).output)
    bus.note(name() + ": synchronous mode clocked from outside is not modelled; it runs as master");
}

/// One data bit of SPI-master mode on TXD.
void Usart::show_spi_bit(const Bus& bus, unsigned number, u64 t) const {
  const bool lowest_first = (control(bus.world, kUcsrc) & 4U) != 0;  // UDORD
  const unsigned data = bus.world.usarts[index_].leaving;
  txd_.port->take_value(bus, txd_.bit, (data >> (lowest_first ? number : 7 - number) & 1U) != 0, t);
}

/// Half a bit is over ("USART in SPI Mode"): an edge of XCK, at which a bit is shown or sampled.
void Usart::spi_edge(const Bus& bus, u64 t) const {
  UsartState& state = bus.world.usarts[index_];
  const unsigned c = control(bus.world, kUcsrc);
  const unsigned number = state.half_bits / 2;
  const bool leading = state.half_bits % 2 == 0;
  const bool shows_at_leading = (c & 2U) != 0;  // UCPHA
  state.clock = leading;
  if (xck_) xck_.port->take_value(bus, xck_.bit, state.clock != ((c & 1U) != 0), t);
  ++state.half_bits;
  if (leading != shows_at_leading) {
    const bool high = rxd_.port->level(bus.world, rxd_.bit);
    const unsigned place = (c & 4U) != 0 ? number : 7 - number;
    state.arriving = static_cast<u16>(state.arriving | (high ? 1U << place : 0U));
  } else if (leading || number < 7) {
    show_spi_bit(bus, leading ? number : number + 1, t);
  }
  if (state.half_bits < 16) {
    bus.schedule(slot_, t + bit_ticks(bus.world) / 2);
    return;
  }
  if ((control(bus.world, kUcsrb) & kRxen) != 0) received(bus, state.arriving);
  sent(bus, t);
}

/// The shift register is empty: what waits goes on.
void Usart::sent(const Bus& bus, u64 t) const {
  UsartState& state = bus.world.usarts[index_];
  state.sending = false;
  if (state.buffer_full) {
    state.buffer_full = false;
    start_sending(bus, state.buffer, t);
  } else {
    state.transmitted = true;
  }
}

void Usart::received(const Bus& bus, u16 frame) const {
  UsartState& state = bus.world.usarts[index_];
  bus.happened(isa::EventKind::kByteIn, frame & 0x1ffU, 0, name());
  if (passed_over(bus.world, frame)) return;
  if (state.fifo_count < 3) state.fifo[state.fifo_count++] = frame;
}

/// "Multi-processor Communication Mode": only addresses are received. The ninth bit tells, or the
/// first stop bit.
bool Usart::passed_over(const World& world, u16 frame) const {
  if ((world.data[ucsra_] & kMpcm) == 0 || mode(world) == Mode::kSpi) return false;
  return data_bits(world) == 9 ? (frame & 0x100U) == 0 : (frame & kNoStop) != 0;
}

void Usart::on_event(const Bus& bus, unsigned slot, u64 due) const {
  UsartState& state = bus.world.usarts[index_];
  if (slot == slot_ && mode(bus.world) == Mode::kSpi) {
    spi_edge(bus, due);
  } else if (slot == slot_) {
    const u16 data = state.leaving;
    bus.transmit(name(), static_cast<u8>(data));
    bus.happened(isa::EventKind::kByteOut, data, 0, name());
    for (const Peripheral* listener : listeners_)
      listener->on_byte(bus, name(), static_cast<u8>(data), due);
    sent(bus, due);
  } else {
    state.receiving = false;
    received(bus, state.arriving);
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
  if (xck_ && mode(world) != Mode::kAsynchronous) out.push_back({xck_, name() + " XCK"});
  return out;
}

void Usart::reset(const Bus& bus) const {
  UsartState& state = bus.world.usarts[index_];
  std::vector<u16> line = std::move(state.line);  // what the outside sends is not reset
  state = UsartState{};
  state.line = std::move(line);
  bus.reg(at(kUcsrc)) = 0x06;
  bus.schedule(slot_, kNever);
  bus.schedule(slot_ + 1, kNever);
}

}  // namespace lucid::chip
