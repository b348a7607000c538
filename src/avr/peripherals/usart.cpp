// SPDX-License-Identifier: MIT
#include "avr/peripherals/usart.h"

#include <fmt/format.h>

namespace lucid::avr {

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
  return 1 + data_bits(world) + (has_parity(world) ? 1U : 0U) + ((c & 8U) != 0 ? 2U : 1U);
}

bool Usart::has_parity(const World& world) const { return (control(world, kUcsrc) & 0x20U) != 0; }

/// "Parity Bit Calculation": even parity, or odd.
bool Usart::parity_of(const World& world, unsigned data) const {
  bool odd = (control(world, kUcsrc) & 0x10U) != 0;
  for (data &= data_mask(world); data != 0; data &= data - 1) odd = !odd;
  return odd;
}

/// "Frame Formats": of the leaving frame.
bool Usart::out_level(const World& world, unsigned bit) const {
  const unsigned data = world.usarts[index_].leaving;
  const unsigned n = data_bits(world);
  if (bit == 0) return false;
  if (bit <= n) return (data >> (bit - 1) & 1U) != 0;
  return bit != n + 1 || !has_parity(world) || parity_of(world, data);
}

/// From one of the receiver's samples to the next.
u64 Usart::sample_ticks(const World& world) const {
  return bit_ticks(world) / ((world.data[ucsra_] & kU2x) != 0 ? 8 : 16);
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
  state.out_bit = kWaits;
  if (mode(bus.world) == Mode::kSynchronous) return;
  state.out_bit = 0;
  show_bit(bus, when);
}

/// The bit of the leaving frame that begins at `t`; the next event is the next change, or the end.
void Usart::show_bit(const Bus& bus, u64 t) const {
  const World& world = bus.world;
  const unsigned bit = world.usarts[index_].out_bit;
  const bool level = out_level(world, bit);
  txd_.port->take_value(bus, txd_.bit, level, t);
  if (mode(world) == Mode::kSynchronous) return;
  unsigned further = 1;
  while (bit + further < frame_bits(world) && out_level(world, bit + further) == level) ++further;
  bus.world.usarts[index_].out_bit = static_cast<u8>(bit + further);
  bus.schedule(slot_, t + further * bit_ticks(world));
}

/// The next frame on the line, if there is one and the receiver listens.
void Usart::start_receiving(const Bus& bus, u64 when) const {
  UsartState& state = bus.world.usarts[index_];
  if (state.receiving || state.line.empty() || is_off(bus.world)) return;
  if ((control(bus.world, kUcsrb) & kRxen) == 0) return;
  const u64 start = std::max(when, state.next_start);
  state.receiving = true;
  state.from_pin = false;
  state.in_bit = 0;
  const u16 frame = state.line.front();
  const unsigned kept =
      data_mask(bus.world) | kNoStop | (has_parity(bus.world) ? unsigned{kWrongParity} : 0);
  state.arriving = static_cast<u16>(frame & kept);
  state.line.erase(state.line.begin());
  if (state.fifo_count == 3) state.overrun = true;    // a start bit with nowhere to go
  if (mode(bus.world) == Mode::kSynchronous) return;  // with the clock's edges
  const u64 bit = bit_ticks(bus.world);
  const u64 frame_length = frame_bits(bus.world);
  const u64 bits_before_stop = frame_length - ((control(bus.world, kUcsrc) & 8U) != 0 ? 2 : 1);
  // The frame is complete at the last of the three majority samples of the first stop bit.
  const u64 into_stop = bit / 2 + 2 * sample_ticks(bus.world);
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
  const unsigned first = state.fifo[0];
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

bool Usart::assume(const Bus& bus, u16 address, u8 value, u64 t) const {
  UsartState& state = bus.world.usarts[index_];
  if (address == at(kUdr)) {  // what is read there
    state.fifo[0] = static_cast<u16>((state.fifo[0] & ~0xffU) | value);
    return true;
  }
  if (address == ucsra_) {
    state.transmitted = (value & kTxc) != 0;
    value = static_cast<u8>(value & ~unsigned{kTxc});
  }
  write(bus, address, value, 0xff, std::max<u64>(t, 1) - 1);
  refresh_requests(bus);
  return true;
}

void Usart::write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const {
  UsartState& state = bus.world.usarts[index_];
  if (address == at(kUdr)) {
    if ((control(bus.world, kUcsrb) & kTxen) == 0) {
      bus.misused(name() + ": a byte was written while the transmitter is off");
    } else if (state.buffer_full) {
      bus.misused(name() + ": a byte was written while UDRE was 0; it is lost");
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
      state.fifo = {};
      state.overrun = false;
      state.receiving = false;
      bus.schedule(slot_ + 1, kNever);
    }
    start_receiving(bus, t + 1);
    run_clock(bus, t + 1);
  } else {
    const Mode before = mode(bus.world);
    bus.reg(address) = merged(bus.reg(address), value, mask);
    if (address == at(kUcsrc)) {
      if (mode(bus.world) != before) change_mode(bus, t + 1);
      take_pins(bus, t + 1);
    }
  }
  say_what_is_missing(bus);
  refresh_requests(bus);
}

/// What waits for an edge of XCK goes on without it.
void Usart::change_mode(const Bus& bus, u64 t) const {
  UsartState& state = bus.world.usarts[index_];
  state.clock = false;
  if (state.sending && state.out_bit == kWaits) start_sending(bus, state.leaving, t);
  run_clock(bus, t);
}

/// TXD, RXD and, with a clock, XCK. A transmitter that is switched off first sends what it has.
void Usart::take_pins(const Bus& bus, u64 t) const {
  const UsartState& state = bus.world.usarts[index_];
  const unsigned on = control(bus.world, kUcsrb);
  const auto taken = [](bool takes, bool value) {
    return takes ? std::optional<bool>(value) : std::nullopt;
  };
  const bool sends = (on & kTxen) != 0 || state.sending;
  if (!state.sending) txd_.port->take_value(bus, txd_.bit, taken(sends, true), t);
  txd_.port->take_direction(bus, txd_.bit, taken(sends, true), t);
  rxd_.port->take_direction(bus, rxd_.bit, taken((on & kRxen) != 0, false), t);
  if (!xck_) return;
  const Mode now = mode(bus.world);
  const bool inverted = now == Mode::kSpi && (control(bus.world, kUcsrc) & 1U) != 0;
  xck_.port->take_value(
      bus, xck_.bit, taken(now == Mode::kSpi || now == Mode::kSynchronous, state.clock != inverted),
      t);
}

void Usart::say_what_is_missing(const Bus& bus) const {
  const unsigned size = control(bus.world, kUcsrc) >> 1 & 3U;
  if ((control(bus.world, kUcsrb) & kUcsz2) != 0 && size != 3)
    bus.misused(name() + ": the number of data bits is reserved");
  if (mode(bus.world) == Mode::kReserved) bus.misused(name() + ": the mode (UMSEL) is reserved");
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
    if ((control(bus.world, kUcsrb) & kTxen) == 0) take_pins(bus, t);
  }
}

/// Its last stop bit is over.
void Usart::frame_left(const Bus& bus, u64 t) const {
  const u16 data = bus.world.usarts[index_].leaving;
  bus.transmit(name(), static_cast<u8>(data));
  bus.happened(machine::EventKind::kByteOut, data, 0, name());
  bus.record(machine::EventKind::kByteOut, index_, data, t);
  for (const Peripheral* listener : listeners_)
    listener->on_byte(bus, name(), static_cast<u8>(data), t);
  sent(bus, t);
}

// RXD ---------------------------------------------------------------------------------------------

std::vector<Pin> Usart::listens() const {
  return xck_ ? std::vector<Pin>{rxd_, xck_} : std::vector<Pin>{rxd_};
}

/// "Asynchronous Clock Recovery": a falling edge may begin a frame.
void Usart::on_pin(const Bus& bus, Pin pin, bool level, u64 t) const {
  if (bus.world.cpu.deep) return;  // its clock stands still
  UsartState& state = bus.world.usarts[index_];
  const Mode now = mode(bus.world);
  if (pin == rxd_) {
    state.edges = {t, state.edges[0]};
    const bool listens = (control(bus.world, kUcsrb) & kRxen) != 0 && now == Mode::kAsynchronous;
    if (!level && !state.receiving && listens) begin_on_pin(bus, t);
  } else if (now == Mode::kSynchronous && !xck_.port->state(bus.world, xck_.bit).output) {
    clock_edge(bus, level, t);
    refresh_requests(bus);
  }
}

/// A frame may begin with the falling edge at `t`. The third sample of each bit decides.
void Usart::begin_on_pin(const Bus& bus, u64 t) const {
  UsartState& state = bus.world.usarts[index_];
  state.receiving = state.from_pin = true;
  state.in_bit = 0;
  state.arriving = 0;
  if (mode(bus.world) == Mode::kAsynchronous)
    bus.schedule(slot_ + 1, t + bit_ticks(bus.world) / 2 + 2 * sample_ticks(bus.world));
}

/// The level that two of the three samples up to `t` have seen; RXD has had two edges at most.
bool Usart::majority(const World& world, u64 t) const {
  const UsartState& state = world.usarts[index_];
  const u64 apart = sample_ticks(world);
  unsigned high = 0;
  for (unsigned i = 0; i < 3; ++i) {
    const u64 when = t - i * apart;
    bool level = rxd_.port->level(world, rxd_.bit);
    for (const u64 edge : state.edges)
      if (edge > when) level = !level;
    high += level ? 1U : 0U;
  }
  return high >= 2;
}

/// A bit of a frame on RXD has been sampled.
void Usart::take_bit(const Bus& bus, bool level, u64 t) const {
  UsartState& state = bus.world.usarts[index_];
  const unsigned n = data_bits(bus.world);
  const unsigned bit = state.in_bit++;
  if (bit == 0) {
    if (level)
      state.receiving = false;  // noise
    else if (state.fifo_count == 3)
      state.overrun = true;  // a start bit with nowhere to go
  } else if (bit <= n) {
    state.arriving = static_cast<u16>(state.arriving | (level ? 1U << (bit - 1) : 0U));
  } else if (bit == n + 1 && has_parity(bus.world)) {
    if (level != parity_of(bus.world, state.arriving)) state.arriving |= kWrongParity;
  } else {
    if (!level) state.arriving |= kNoStop;
    state.receiving = false;
    received(bus, state.arriving);
    // A fast sender may have begun the next frame between the last two samples.
    const bool fell = level && !rxd_.port->level(bus.world, rxd_.bit);
    if (fell && mode(bus.world) == Mode::kAsynchronous)
      begin_on_pin(bus, state.edges[0]);
    else
      start_receiving(bus, t);
  }
}

// XCK ---------------------------------------------------------------------------------------------

/// In synchronous mode the clock runs while the transmitter or the receiver is on.
void Usart::run_clock(const Bus& bus, u64 t) const {
  const bool runs =
      mode(bus.world) == Mode::kSynchronous && (control(bus.world, kUcsrb) & (kTxen | kRxen)) != 0;
  const unsigned slot = slot_ + 2;
  if (!runs)
    bus.schedule(slot, kNever);
  else if (bus.world.due(slot) == kNever)
    bus.schedule(slot, t + bit_ticks(bus.world) / 2);
}

/// "Synchronous Clock Operation": data changes at one edge (UCPOL) and is sampled at the other.
void Usart::clock_edge(const Bus& bus, bool rises, u64 t) const {
  UsartState& state = bus.world.usarts[index_];
  if (rises == ((control(bus.world, kUcsrc) & 1U) == 0)) {
    if (!state.sending) return;
    if (state.out_bit != kWaits && ++state.out_bit >= frame_bits(bus.world)) frame_left(bus, t);
    if (!state.sending) return;
    if (state.out_bit == kWaits) state.out_bit = 0;
    show_bit(bus, t);
    return;
  }
  if ((control(bus.world, kUcsrb) & kRxen) == 0) return;
  const bool level = rxd_.port->level(bus.world, rxd_.bit);
  if (!state.receiving && !level) begin_on_pin(bus, t);
  if (!state.receiving) return;
  if (state.from_pin) {
    take_bit(bus, level, t);
  } else if (state.in_bit++ > data_bits(bus.world) + (has_parity(bus.world) ? 1U : 0U)) {
    state.receiving = false;
    received(bus, state.arriving);
    start_receiving(bus, t);
  }
}

void Usart::received(const Bus& bus, u16 frame) const {
  UsartState& state = bus.world.usarts[index_];
  bus.happened(machine::EventKind::kByteIn, frame & 0x1ffU, 0, name());
  bus.record(machine::EventKind::kByteIn, index_, frame & 0x1ffU, bus.world.cpu.now);
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
    if (state.out_bit < frame_bits(bus.world))
      show_bit(bus, due);
    else
      frame_left(bus, due);
  } else if (slot == slot_ + 2) {
    state.clock = !state.clock;
    bus.schedule(slot, due + bit_ticks(bus.world) / 2);
    if (!xck_ || xck_.port->state(bus.world, xck_.bit).output) clock_edge(bus, state.clock, due);
    if (xck_) xck_.port->take_value(bus, xck_.bit, state.clock, due);
  } else if (state.from_pin) {
    take_bit(bus, majority(bus.world, due), due);
    if (state.receiving && state.in_bit != 0) bus.schedule(slot, due + bit_ticks(bus.world));
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

bool Usart::bring_forward(const Bus& bus, unsigned vector, std::optional<u8> byte, u64 t) const {
  constexpr u8 kAnyByte = 0x55;
  UsartState& state = bus.world.usarts[index_];
  if (mode(bus.world) == Mode::kSpi) return Peripheral::bring_forward(bus, vector, byte, t);
  bool by_itself = true;
  if (vector == receive_) {
    if ((control(bus.world, kUcsrb) & kRxen) == 0) return false;
    // What is arriving comes first, unless it is said what does.
    const bool under_way = state.receiving && !state.from_pin && !byte;
    received(bus, under_way ? state.arriving : u16{byte.value_or(kAnyByte)});
    if (under_way) {
      state.receiving = false;
      bus.schedule(slot_ + 1, kNever);
      start_receiving(bus, t);
    }
  } else if (vector == transmit_) {
    by_itself = state.sending;
    while (state.sending) frame_left(bus, t);  // this one, and the one that waits
    bus.schedule(slot_, kNever);
    state.transmitted = true;
  } else if (state.buffer_full) {
    frame_left(bus, t);
  }
  refresh_requests(bus);
  return by_itself;
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
  bus.schedule(slot_ + 2, kNever);
  bus.reg(at(kUcsrc)) = 0x06;
  bus.schedule(slot_, kNever);
  bus.schedule(slot_ + 1, kNever);
}

u64 Usart::steady_until(const World& /*world*/, u16 /*address*/, u64 /*t*/) const { return kNever; }

}  // namespace lucid::avr
