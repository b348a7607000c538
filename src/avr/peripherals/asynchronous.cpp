// SPDX-License-Identifier: MIT
// Timer2 on its crystal ("Asynchronous Operation of Timer/Counter2"): edges of another clock, and
// the latches behind which TCNT2, OCR2x and TCCR2x wait for it.
#include <fmt/format.h>

#include "avr/peripherals/timer.h"

namespace lucid::avr {
namespace {

constexpr u64 kCrystalHz = 32'768;

constexpr u64 scaled(u64 value, u64 times, u64 by, bool up) {
  __extension__ using Wide = unsigned __int128;
  return static_cast<u64>((Wide{value} * times + (up ? by - 1 : 0)) / by);
}

}  // namespace

u64 Timer::crystal_tick(u64 origin, u64 index, u64 n) const {
  return origin + scaled(index, clock_hz_ * n, kCrystalHz, true);
}

u64 Timer::crystal_index(const World& world, u64 t) const {
  const u64 origin = world.prescalers.origin[prescaler()];
  const u64 tick = std::max(world.tick_at(t), origin);
  return scaled(tick - origin, kCrystalHz, clock_hz_ * divider(world), false);
}

/// The system clock changes: edges of the crystal fall on other cycles, and cycles of its own take
/// another time.
void Timer::on_clock(const Bus& bus, bool changed, u64 t) const {
  if (is_off(bus.world)) return;
  if (!changed)
    catch_up(bus, t);
  else if (crystal(bus.world))
    schedule(bus);
}

/// The bit of ASSR that tells that a register waits; kLatches for others.
unsigned Timer::latch_of(u16 address) const {
  const std::array<u16, kLatches> registers{tccrb_, tccra_, ocr_[1], ocr_[0], tcnt_};
  unsigned bit = 0;
  while (bit < kLatches && registers[bit] != address) ++bit;
  return bit;
}

/// It is taken over with the second edge of the crystal from now.
void Timer::write_later(const Bus& bus, unsigned bit, u8 value, u64 t) const {
  TimerState& state = bus.world.timers[index_];
  const auto mask = static_cast<u8>(1U << bit);
  state.latches[bit] = value;
  if ((state.waiting & mask) != 0) {
    bus.misused(fmt::format(
        "TIMER{}: a register was written while its last value still waited (ASSR)", number_));
    return;
  }
  const u64 origin = bus.world.prescalers.origin[prescaler()];
  const u64 tick = std::max(bus.world.tick_at(t + 1), origin);
  state.waiting |= mask;
  state.due[bit] = crystal_tick(origin, scaled(tick - origin, kCrystalHz, clock_hz_, false) + 2, 1);
  bus.schedule_tick(slot_ + 1, std::min(bus.world.due_tick(slot_ + 1), state.due[bit]));
}

/// Takes over what is due by a tick, at a cycle.
void Timer::latch(const Bus& bus, u64 until, u64 t) const {
  static constexpr std::array<unsigned, kLatches> kOrder{4, 3, 2, 1, 0};
  const std::array<u16, kLatches> registers{tccrb_, tccra_, ocr_[1], ocr_[0], tcnt_};
  TimerState& state = bus.world.timers[index_];
  for (const unsigned bit : kOrder) {
    const auto mask = static_cast<u8>(1U << bit);
    if ((state.waiting & mask) == 0 || state.due[bit] > until) continue;
    state.waiting = static_cast<u8>(state.waiting & ~mask);
    write_now(bus, registers[bit], state.latches[bit], 0xff, t - 1);
  }
  u64 next = kNever;
  for (unsigned bit = 0; bit < kLatches; ++bit)
    if ((state.waiting >> bit & 1U) != 0) next = std::min(next, state.due[bit]);
  bus.schedule_tick(slot_ + 1, next);
}

}  // namespace lucid::avr
