// SPDX-License-Identifier: MIT
#include "chip/timer16.h"

#include <fmt/format.h>

#include <optional>

namespace lucid::chip {
namespace {

constexpr std::array<u64, 8> kDividers{0, 1, 8, 64, 256, 1024, 0, 0};  // by CS

}  // namespace

std::vector<u16> Timer16::addresses() const {
  std::vector<u16> out{row_.timsk, row_.tifr, row_.tccra, at(kTccrb), at(kTccrc)};
  for (const u16 offset : {kTcnt, kIcr, kOcra, kOcrb}) {
    out.push_back(at(offset));
    out.push_back(static_cast<u16>(at(offset) + 1));
  }
  return out;
}

std::vector<unsigned> Timer16::vectors() const {
  return {row_.first_vector + 1U, row_.first_vector + 2U, row_.first_vector + 3U};
}

unsigned Timer16::mode(const World& world) const {
  return (world.data[row_.tccra] & 3U) | (world.data[at(kTccrb)] >> 1 & 0xcU);
}

u16 Timer16::top(const World& world) const {
  switch (mode(world)) {
    case 4: return word(world, kOcra);
    case 12: return word(world, kIcr);
    default: return 0xffff;
  }
}

u64 Timer16::divider(const World& world) const { return kDividers[world.data[at(kTccrb)] & 7U]; }

// The prescaler is free-running from power-on: edges are at multiples of the divider.
u64 Timer16::edges_until(const World& world, u64 t) const {
  const u64 n = divider(world);
  const TimerState& state = world.timers[index_];
  if (n == 0 || t <= state.base) return 0;
  return t / n - state.base / n;
}

u16 Timer16::counter_at(const World& world, u64 t) const {
  const TimerState& state = world.timers[index_];
  u64 edges = edges_until(world, t);
  const u64 last = top(world);
  u64 count = state.count;
  if (count > last) {  // above TOP it runs on to MAX and wraps
    const u64 to_wrap = 0x10000 - count;
    if (edges < to_wrap) return static_cast<u16>(count + edges);
    edges -= to_wrap;
    count = 0;
  }
  return static_cast<u16>((count + edges) % (last + 1));
}

std::optional<u64> Timer16::edges_to_leave(const World& world, u16 value) const {
  const TimerState& state = world.timers[index_];
  const u64 last = top(world);
  const u64 count = state.count;
  const u64 round = last + 1;
  if (count > last) {
    if (value >= count) {
      if (value == count && state.match_blocked)
        return value <= last ? std::optional<u64>(0x10000 - count + value + 1) : std::nullopt;
      return value - count + 1;
    }
    if (value > last) return std::nullopt;
    return 0x10000 - count + value + 1;
  }
  if (value > last) return std::nullopt;
  if (value == count && state.match_blocked) return round + 1;
  return value >= count ? value - count + 1 : round - count + value + 1;
}

/// Brings base, count and flags to tick `t`.
void Timer16::catch_up(const Bus& bus, u64 t) const {
  TimerState& state = bus.world.timers[index_];
  const u64 edges = edges_until(bus.world, t);
  if (edges != 0) {
    const auto passed = [&](u16 value) {
      const auto needed = edges_to_leave(bus.world, value);
      return needed && *needed <= edges;
    };
    if (passed(0xffff)) state.flags |= kTov;
    if (passed(word(bus.world, kOcra))) state.flags |= kOcfa;
    if (passed(word(bus.world, kOcrb))) state.flags |= kOcfb;
    state.count = counter_at(bus.world, t);
    state.match_blocked = false;
  }
  if (t > state.base) state.base = t;
}

/// The next flag that is not up yet. A flag that is up needs no event until it is cleared.
void Timer16::schedule(const Bus& bus) const {
  const TimerState& state = bus.world.timers[index_];
  const u64 n = divider(bus.world);
  u64 soonest = kNever;
  const auto consider = [&](u8 flag, u16 value) {
    if ((state.flags & flag) != 0) return;
    const auto edges = edges_to_leave(bus.world, value);
    if (!edges) return;
    soonest = std::min(soonest, (state.base / n + *edges) * n);
  };
  if (n != 0) {
    consider(kTov, 0xffff);
    consider(kOcfa, word(bus.world, kOcra));
    consider(kOcfb, word(bus.world, kOcrb));
  }
  bus.schedule(slot_, soonest);
}

void Timer16::refresh_requests(const Bus& bus) const {
  const unsigned on = bus.world.timers[index_].flags & bus.reg(row_.timsk);
  bus.request(row_.first_vector + 1U, (on & kOcfa) != 0);
  bus.request(row_.first_vector + 2U, (on & kOcfb) != 0);
  bus.request(row_.first_vector + 3U, (on & kTov) != 0);
}

u8 Timer16::peek(const World& world, u16 address, u64 t) const {
  const TimerState& state = world.timers[index_];
  if (address == at(kTcnt)) return static_cast<u8>(counter_at(world, t));
  if (address == at(kTcnt) + 1) return static_cast<u8>(counter_at(world, t) >> 8);
  if (address == row_.tifr) {
    u8 flags = state.flags;
    const u64 edges = edges_until(world, t);
    const auto passed = [&](u16 value) {
      const auto needed = edges_to_leave(world, value);
      return needed && *needed <= edges;
    };
    if (edges != 0) {
      if (passed(0xffff)) flags |= kTov;
      if (passed(word(world, kOcra))) flags |= kOcfa;
      if (passed(word(world, kOcrb))) flags |= kOcfb;
    }
    return flags;
  }
  return world.data[address];
}

u8 Timer16::read(const Bus& bus, u16 address, u64 t) const {
  TimerState& state = bus.world.timers[index_];
  if (address == at(kTcnt)) {  // the high byte is kept for the read that follows
    const u16 count = counter_at(bus.world, t);
    state.temp = static_cast<u8>(count >> 8);
    return static_cast<u8>(count);
  }
  if (address == at(kIcr)) state.temp = bus.reg(static_cast<u16>(address + 1));
  if (address == at(kTcnt) + 1 || address == at(kIcr) + 1) return state.temp;
  return peek(bus.world, address, t);
}

void Timer16::write_word(const Bus& bus, u16 offset, u8 low) const {
  bus.reg(at(offset)) = low;
  bus.reg(static_cast<u16>(at(offset) + 1)) = bus.world.timers[index_].temp;
}

void Timer16::write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const {
  TimerState& state = bus.world.timers[index_];
  for (const u16 offset : {kTcnt, kIcr, kOcra, kOcrb}) {
    if (address == at(offset) + 1) {  // high bytes wait in TEMP for the low one
      state.temp = value;
      return;
    }
  }
  catch_up(bus, t + 1);
  if (address == row_.tifr) {
    state.flags = static_cast<u8>(state.flags & ~(value & mask));
  } else if (address == row_.timsk) {
    bus.reg(address) = static_cast<u8>(merged(bus.reg(address), value, mask) & kAllFlags);
  } else if (address == at(kTcnt)) {
    state.count = static_cast<u16>(value | state.temp << 8);
    state.match_blocked = true;
  } else if (address == at(kIcr) || address == at(kOcra) || address == at(kOcrb)) {
    write_word(bus, static_cast<u16>(address - row_.tccra), value);
  } else if (address == at(kTccrc)) {
    if ((value & 0xc0U) != 0)
      bus.note(fmt::format("TIMER{}: force compare (FOC) is not modelled", row_.number));
  } else {
    bus.reg(address) = value;
    say_what_is_missing(bus);
  }
  schedule(bus);
  refresh_requests(bus);
}

void Timer16::say_what_is_missing(const Bus& bus) const {
  const unsigned wgm = mode(bus.world);
  if (wgm != 0 && wgm != 4 && wgm != 12)
    bus.note(
        fmt::format("TIMER{}: waveform mode {} is not modelled; the counter runs as in normal mode",
                    row_.number, wgm));
  if ((bus.reg(row_.tccra) & 0xf0U) != 0)
    bus.note(fmt::format("TIMER{}: compare outputs on pins are not modelled", row_.number));
  if ((bus.reg(at(kTccrb)) & 7U) >= 6)
    bus.note(fmt::format("TIMER{}: the external clock is not modelled; the counter stands still",
                         row_.number));
}

void Timer16::on_event(const Bus& bus, unsigned /*slot*/, u64 due) const {
  catch_up(bus, due);
  schedule(bus);
  refresh_requests(bus);
}

void Timer16::on_vector(const Bus& bus, unsigned vector) const {
  const unsigned which = vector - row_.first_vector;
  const u8 flag = which == 1 ? kOcfa : which == 2 ? kOcfb : kTov;
  TimerState& state = bus.world.timers[index_];
  catch_up(bus, bus.world.cpu.now);
  state.flags = static_cast<u8>(state.flags & ~flag);
  schedule(bus);
  refresh_requests(bus);
}

void Timer16::reset(const Bus& bus) const {
  bus.world.timers[index_] = TimerState{};
  bus.world.timers[index_].base = bus.world.cpu.now;
  schedule(bus);
}

}  // namespace lucid::chip
