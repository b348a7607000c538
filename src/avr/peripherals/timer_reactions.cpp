// SPDX-License-Identifier: MIT
// What reaches a timer from elsewhere: pins and the comparator (counting and capturing edges), its
// moments in the queue, interrupts, sleep, reset; and who listens to its matches.
#include <fmt/format.h>

#include "avr/peripherals/port.h"
#include "avr/peripherals/timer.h"

namespace lucid::avr {

void Timer::say_what_is_missing(const Bus& bus) const {
  if (mode(bus.world).reserved)
    bus.misused(fmt::format(
        "TIMER{}: the waveform mode is reserved; the counter runs as in normal mode", number_));
}

// Pins, events
// ----------------------------------------------------------------------------------

void Timer::on_pin(const Bus& bus, Pin pin, bool level, u64 t) const {
  if (bus.world.cpu.deep) return;  // its clock stands still
  TimerState& state = bus.world.timers[index_];
  const unsigned b = bus.reg(tccrb_);
  if (pin == pins_.clock && counts_pin(bus.world) && level == ((b & 1U) != 0)) {
    if (state.clock_at[0] == kNever) {
      state.clock_at[0] = t + kSynchroniser;
    } else {
      if (state.clock_at[1] != kNever) count_edge(bus, t);  // faster than it can follow
      state.clock_at[1] = t + kSynchroniser;
    }
  }
  // ACIC puts the comparator in the place of the pin.
  const bool comparator = acsr_ != 0 && (bus.reg(acsr_) & 4U) != 0;
  if (pin == pins_.capture && !comparator) capture_edge(bus, level, t);
  schedule(bus);
  refresh_requests(bus);
}

void Timer::on_comparator(const Bus& bus, bool level, u64 t) const {
  if (bus.world.cpu.deep || is_off(bus.world)) return;
  capture_edge(bus, level, t);
  schedule(bus);
  refresh_requests(bus);
}

void Timer::capture_edge(const Bus& bus, bool level, u64 t) const {
  if (icr_ == 0) return;
  const unsigned b = bus.reg(tccrb_);
  TimerState& state = bus.world.timers[index_];
  if ((b & 0x80U) != 0) {  // the noise canceller wants four equal samples, of either level
    state.capture_at = level != state.captured_level ? t + kSynchroniser + 4 : kNever;
  } else {
    state.captured_level = level;
    if (level == ((b & 0x40U) != 0)) state.capture_at = t + kSynchroniser;
  }
}

/// An edge at Tn or ICPn has come through.
void Timer::count_edge(const Bus& bus, u64 t) const {
  TimerState& state = bus.world.timers[index_];
  state.clock_at = {state.clock_at[1], kNever};
  const Shown before{state};
  const Plan now = plan(bus.world);
  if (bus.listens_to_moments(all_moments_)) tell_passed(bus, now, state, 1, t);
  walk(state, now, 1);
  state.base = t;
  show(bus, now, before, t);
}
void Timer::pass_capture_edge(const Bus& bus, u64 t) const {
  TimerState& state = bus.world.timers[index_];
  state.capture_at = kNever;
  const unsigned b = bus.reg(tccrb_);
  if ((b & 0x80U) != 0) {
    state.captured_level = !state.captured_level;
    if (state.captured_level != ((b & 0x40U) != 0)) return;
  }
  capture(bus, t);
}

void Timer::capture(const Bus& bus, u64 t) const {
  if (mode(bus.world).top == Top::kCapture) return;
  catch_up(bus, t);
  TimerState& state = bus.world.timers[index_];
  bus.reg(icr_) = static_cast<u8>(state.count);
  bus.reg(static_cast<u16>(icr_ + 1)) = static_cast<u8>(state.count >> 8);
  const Shown before{state};
  bus.record_moment(moments_[lowest_bit(kIcf)], state.count, t);
  state.flags |= kIcf;
  show(bus, plan(bus.world), before, t);
}

std::vector<PinUse> Timer::uses(const World& world) const {
  std::vector<PinUse> out;
  const Plan now = plan(world);
  for (unsigned i = 0; i < 3; ++i)
    if (pins_.compare[i] && now.outputs[i] != 0)
      out.push_back({pins_.compare[i], fmt::format("TIMER{0} OC{0}{1}", number_, "ABC"[i])});
  if (counts_pin(world)) out.push_back({pins_.clock, fmt::format("TIMER{0} T{0}", number_)});
  return out;
}

void Timer::on_event(const Bus& bus, unsigned slot, u64 due) const {
  if (slot != slot_) {
    latch(bus, bus.world.due_tick(slot), due);
    return;
  }
  TimerState& state = bus.world.timers[index_];
  const Plan now = plan(bus.world);
  catch_up(bus, now, due);
  if (state.clock_at[0] <= due) count_edge(bus, due);
  if (state.capture_at <= due) pass_capture_edge(bus, due);
  schedule(bus, now);
  refresh_requests(bus);
}

void Timer::on_vector(const Bus& bus, unsigned vector) const {
  TimerState& state = bus.world.timers[index_];
  const Plan now = plan(bus.world);
  unsigned flag = 0;
  while (vectors_[flag] != vector) ++flag;
  // Nothing else has happened if none is due, nor this again, if there was no time for it.
  const u64 t = bus.world.cpu.now;
  unsigned end = 0;
  const bool still = bus.world.due(slot_) > t && goes_round(state, now, end) &&
                     t - std::min(t, state.base) <= edges_to(state, flag, end);
  if (!still) catch_up(bus, now, t);
  state.flags = static_cast<u8>(state.flags & ~(1U << flag));
  if (!still) {
    schedule(bus, now);
    refresh_requests(bus);
    return;
  }
  // What was to come comes still, and this flag once more.
  bus.set_pending(bus.world.cpu.pending & ~(u64{1} << vector));
  if ((within_reach(state, now, end) >> flag & 1U) == 0) return;
  const u64 next = tick_of_edge(bus.world, state.base, edges_to(state, flag, end) + 1);
  if (next < bus.world.due(slot_)) bus.schedule(slot_, next);
}

/// The counter goes round a circle of places; an event is at one of them, or at two on the way up
/// and down. A flag rises with the edge by which the counter leaves a value.
u64 Timer::again(const World& world, unsigned vector, u64 from, u64 to) const {
  const u64 edges = edges_between(world, from, to);
  if (edges == 0) return 0;
  const TimerState state = state_at(world, to);
  const Plan now = plan(world);
  const unsigned last = top(state, now);
  const bool phase = now.mode.shape == Shape::kPhase;
  const bool clears = now.mode.shape != Shape::kNormal;
  if (last == 0 || state.count > last) return 0;
  const std::int64_t circle =
      phase ? 2 * std::int64_t{last} : std::int64_t{clears ? last : now.max} + 1;
  const std::int64_t place = phase && state.down ? circle - state.count : state.count;
  std::vector<std::int64_t> events;
  const auto leaves = [&](unsigned value) {
    events.push_back((value + 1) % circle);
    if (phase && value != 0 && value != last) events.push_back((circle - value + 1) % circle);
  };
  for (unsigned i = 0; i < 3; ++i)
    if (vector == vectors_[1 + i] && state.compare[i] <= last) leaves(state.compare[i]);
  if (vector == vectors_[0] && now.mode.shape != Shape::kClear)
    leaves(phase ? 0 : clears ? last : now.max);
  if (vector == vectors_[5] && now.mode.top == Top::kCapture) leaves(last);
  // Of all integers k: places `event + k * circle` in (place - edges, place].
  const auto below = [&](std::int64_t at, std::int64_t event) {
    const std::int64_t distance = at - event;
    return distance >= 0 ? distance / circle : -((-distance + circle - 1) / circle);
  };
  std::int64_t out = 0;
  for (const std::int64_t event : events)
    out += below(place, event) - below(place - static_cast<std::int64_t>(edges), event);
  return static_cast<u64>(out);
}

/// The flag rises; the counter stays as it is.
bool Timer::bring_forward(const Bus& bus, unsigned vector, std::optional<u8> /*byte*/,
                          u64 t) const {
  TimerState& state = bus.world.timers[index_];
  const Plan now = plan(bus.world);
  catch_up(bus, now, t);
  const Shown before{state};
  for (unsigned flag = 0; flag < 6; ++flag)
    if (vectors_[flag] == vector) state.flags = static_cast<u8>(state.flags | 1U << flag);
  const bool captures = vectors_[5] == vector;
  if (captures) capture(bus, t);
  show(bus, now, before, t);
  schedule(bus, now);
  refresh_requests(bus);
  return captures || divider(bus.world) != 0 || counts_pin(bus.world);
}

/// In idle every timer runs; in power-save and extended standby Timer2 does, on its crystal.
bool Timer::runs_asleep(const World& world, unsigned sm) const {
  return sm == 0 || (crystal(world) && (sm == 3 || sm == 7 || sm == 1));
}

/// What has been is known by its time before its clock stops.
void Timer::on_sleep(const Bus& bus, unsigned sm, u64 t) const {
  if (t != 0 && !is_off(bus.world) && !runs_asleep(bus.world, sm)) catch_up(bus, t - 1);
}

void Timer::stood_still(const Bus& bus, u64 cycles) const {
  TimerState& state = bus.world.timers[index_];
  state.base += cycles;
  for (u64* at : {&state.capture_at, &state.clock_at[0], &state.clock_at[1]})
    if (*at != kNever) *at += cycles;
}

void Timer::reset(const Bus& bus) const {
  bus.world.timers[index_] = TimerState{};
  bus.world.timers[index_].base = bus.world.cpu.now;
  bus.world.timers[index_].captured_level =
      pins_.capture && pins_.capture.port->level(bus.world, pins_.capture.bit);
  bus.schedule(slot_, kNever);
  if (assr_ != 0) bus.schedule_tick(slot_ + 1, kNever);
  refresh_requests(bus);
}

/// Flags have their events; so has what is captured.
u64 Timer::steady_until(const World& world, u16 address, u64 t) const {
  if (crystal(world)) return 0;
  if (address != tcnt_ && !(wide_ && address == tcnt_ + 1)) return kNever;
  return tick_of_edge(world, std::max(t, world.timers[index_].base), 1);
}

// Who listens
// ------------------------------------------------------------------------------------

std::vector<std::string> Timer::moments() const {
  std::vector<std::string> out;
  for (unsigned flag = 0; flag < 6; ++flag) {
    if ((all_flags_ >> flag & 1U) == 0) continue;
    if (flag == 0)
      out.push_back(fmt::format("overflow TIMER{}", number_));
    else if (flag == lowest_bit(kIcf))
      out.push_back(fmt::format("capture TIMER{}", number_));
    else if (older_)
      out.push_back(fmt::format("match OC{}", number_));
    else
      out.push_back(fmt::format("match OC{}{}", number_, "ABC"[flag - 1]));
  }
  return out;
}

/// What the next so many edges raise, or would if it were not up already, each at the edge by which
/// the counter leaves the value; all of them at cycle `at`, if that is known.
void Timer::tell_passed(const Bus& bus, const Plan& plan, TimerState state, u64 edges,
                        std::optional<u64> at) const {
  for (u64 passed = 0;;) {
    const u64 ahead = edges_to_stop(state, plan);
    if (ahead >= edges - passed) return;
    move(state, plan, ahead);
    passed += ahead + 1;
    const u16 count = state.count;
    state.flags = 0;
    leave(state, plan);
    if (state.flags == 0) continue;
    const u64 t = at ? *at : tick_of_edge(bus.world, state.base, passed);
    for (unsigned left = state.flags; left != 0; left &= left - 1)
      bus.record_moment(moments_[lowest_bit(left)], count, t);
  }
}

void Timer::tell(const Bus& bus, u64 from, u64 to) const {
  if (to <= bus.world.timers[index_].base || !bus.listens_to_moments(all_moments_)) return;
  const TimerState state = state_at(bus.world, std::max<u64>(std::min(from, to), 1) - 1);
  tell_passed(bus, plan(bus.world), state, edges_between(bus.world, state.base, to - 1),
              std::nullopt);
}

}  // namespace lucid::avr
