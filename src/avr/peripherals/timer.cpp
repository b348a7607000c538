// SPDX-License-Identifier: MIT
#include "avr/peripherals/timer.h"

#include <fmt/format.h>

#include "avr/peripherals/port.h"

namespace lucid::avr {
namespace {

// Divider by CS ("Clock Select"); 6 and 7 of the synchronous timers count pin Tn.
constexpr std::array<u64, 8> kDividers{0, 1, 8, 64, 256, 1024, 0, 0};
constexpr std::array<u64, 8> kDividers2{0, 1, 8, 32, 64, 128, 256, 1024};
/// More values that matter than two periods hold: after them everything repeats.
constexpr unsigned kTwoPeriods = 18;

}  // namespace

Timer::Timer(unsigned number, unsigned bits, const Pins& pins, const Names& names, u64 clock_hz,
             unsigned index, unsigned slot, unsigned first_moment)
    : number_(number),
      wide_(bits == 16),
      pins_(pins),
      clock_hz_(clock_hz),
      index_(index),
      slot_(slot) {
  const auto reg = [&](std::string_view form) {
    return names.reg(fmt::format(fmt::runtime(form), number));
  };
  tccra_ = reg("TCCR{}A");
  older_ = tccra_ == 0;
  tccrb_ = older_ ? reg("TCCR{}") : reg("TCCR{}B");
  tccrc_ = reg("TCCR{}C");
  tcnt_ = wide_ ? reg("TCNT{}L") : reg("TCNT{}");
  icr_ = wide_ ? reg("ICR{}L") : u16{0};
  timsk_ = reg("TIMSK{}") != 0 ? reg("TIMSK{}") : names.reg("TIMSK");  // or shared by all timers
  tifr_ = reg("TIFR{}") != 0 ? reg("TIFR{}") : names.reg("TIFR");
  acsr_ = number == 1 ? names.reg("ACSR") : u16{0};
  assr_ = number == 2 ? names.reg("ASSR") : u16{0};
  for (unsigned i = 0; i < 3; ++i)
    ocr_[i] = names.reg(fmt::format("OCR{}{}{}", number, "ABC"[i], wide_ ? "L" : ""));
  if (older_) ocr_[0] = reg("OCR{}");
  // Timer0 of the ATmega64 and 128, which can count a crystal, has Timer2's prescaler.
  const bool crystals = number == 2 || (older_ && ocr_[0] != 0 && !pins_.clock);
  dividers_ = crystals ? &kDividers2 : &kDividers;
  const std::array<std::string_view, 6> vectors{"OVF", "COMPA", "COMPB", "COMPC", "-", "CAPT"};
  for (unsigned i = 0; i < 6; ++i) {
    vectors_[i] = names.vector({fmt::format("TIMER{}_{}", number, vectors[i]),
                                fmt::format("TIM{}_{}", number, vectors[i])});
    if (older_ && i == 1) vectors_[i] = names.vector({fmt::format("TIMER{}_COMP", number)});
    if (vectors_[i] == 0) continue;
    all_flags_ |= static_cast<u8>(1U << i);
    all_vectors_ |= u64{1} << vectors_[i];
    moments_[i] = first_moment++;
    all_moments_ |= u64{1} << moments_[i];
  }
  // Where the flags are, if the names of the bits say it.
  const std::array<std::string, 6> flags{
      "TOV{}", older_ ? "OCF{}" : "OCF{}A", "OCF{}B", "OCF{}C", "-", "ICF{}"};
  for (unsigned i = 0; i < 6; ++i) {
    places_[i] = static_cast<u8>(i);
    if (const auto place = names.bit(tifr_, fmt::format(fmt::runtime(flags[i]), number)))
      places_[i] = *place;
    usual_places_ = usual_places_ && places_[i] == i;
  }
}

/// Flags as TIFR has them; TIMSK has the same places.
u8 Timer::in_register(unsigned flags) const {
  if (usual_places_) return static_cast<u8>(flags);
  unsigned out = 0;
  for (unsigned i = 0; i < 6; ++i)
    if ((all_flags_ & flags) >> i & 1U) out |= 1U << places_[i];
  return static_cast<u8>(out);
}
u8 Timer::from_register(unsigned value) const {
  if (usual_places_) return static_cast<u8>(value & all_flags_);
  unsigned out = 0;
  for (unsigned i = 0; i < 6; ++i)
    if ((value >> places_[i] & 1U) != 0) out |= 1U << i;
  return static_cast<u8>(out & all_flags_);
}

/// The waveform mode's number. In TCCRn of older parts it is split; without OCRn there is but one.
unsigned Timer::wgm(const World& world) const {
  const unsigned b = world.data[tccrb_];
  if (older_) return ocr_[0] == 0 ? 0 : (b >> 6 & 1U) | (b >> 2 & 2U);
  return (world.data[tccra_] & 3U) | (b >> 1 & (wide_ ? 0xcU : 4U));
}

std::vector<u16> Timer::addresses() const {
  std::vector<u16> out{tccrb_, timsk_, tifr_, tcnt_};
  if (tccra_ != 0) out.push_back(tccra_);
  if (tccrc_ != 0) out.push_back(tccrc_);
  for (const u16 low : ocr_)
    if (low != 0) out.push_back(low);
  if (icr_ != 0) out.push_back(icr_);
  if (wide_)
    for (const u16 low : {tcnt_, icr_, ocr_[0], ocr_[1], ocr_[2]})
      if (low != 0) out.push_back(static_cast<u16>(low + 1));
  return out;
}

std::vector<unsigned> Timer::vectors() const {
  std::vector<unsigned> out;
  for (const unsigned vector : vectors_)
    if (vector != 0) out.push_back(vector);
  return out;
}

// What the registers ask for
// ------------------------------------------------------------------

Timer::Mode Timer::mode(const World& world) const {
  constexpr auto kMax = Top::kMax;
  constexpr auto kFixed = Top::kFixed;
  constexpr auto kA = Top::kCompareA;
  constexpr auto kIcr = Top::kCapture;
  // By WGM ("Waveform Generation Mode Bit Description").
  static constexpr std::array<Mode, 16> kWide{{{Shape::kNormal, kMax, 0, false, false},
                                               {Shape::kPhase, kFixed, 0xff, true, false},
                                               {Shape::kPhase, kFixed, 0x1ff, true, false},
                                               {Shape::kPhase, kFixed, 0x3ff, true, false},
                                               {Shape::kClear, kA, 0, false, false},
                                               {Shape::kFast, kFixed, 0xff, false, false},
                                               {Shape::kFast, kFixed, 0x1ff, false, false},
                                               {Shape::kFast, kFixed, 0x3ff, false, false},
                                               {Shape::kPhase, kIcr, 0, false, false},
                                               {Shape::kPhase, kA, 0, false, false},
                                               {Shape::kPhase, kIcr, 0, true, false},
                                               {Shape::kPhase, kA, 0, true, false},
                                               {Shape::kClear, kIcr, 0, false, false},
                                               {Shape::kNormal, kMax, 0, false, true},
                                               {Shape::kFast, kIcr, 0, false, false},
                                               {Shape::kFast, kA, 0, false, false}}};
  static constexpr std::array<Mode, 8> kNarrow{{{Shape::kNormal, kMax, 0, false, false},
                                                {Shape::kPhase, kFixed, 0xff, true, false},
                                                {Shape::kClear, kA, 0, false, false},
                                                {Shape::kFast, kFixed, 0xff, false, false},
                                                {Shape::kNormal, kMax, 0, false, true},
                                                {Shape::kPhase, kA, 0, true, false},
                                                {Shape::kNormal, kMax, 0, false, true},
                                                {Shape::kFast, kA, 0, false, false}}};
  return wide_ ? kWide[wgm(world)] : kNarrow[wgm(world)];
}

u16 Timer::word(const World& world, u16 low) const {
  if (low == 0) return 0;
  return static_cast<u16>(world.data[low] | (wide_ ? world.data[low + 1] << 8 : 0));
}

Timer::Plan Timer::plan(const World& world) const {
  Plan plan{};
  plan.mode = mode(world);
  plan.max = wide_ ? 0xffff : 0xff;
  plan.capture = word(world, icr_);
  plan.flags = all_flags_;
  for (unsigned i = 0; i < 3; ++i) plan.written[i] = word(world, ocr_[i]);
  if ((world.data[older_ ? tccrb_ : tccra_] & (older_ ? 0x30U : 0xfcU)) == 0) return plan;
  const bool pwm = plan.mode.shape == Shape::kFast || plan.mode.shape == Shape::kPhase;
  // Toggling in PWM is for OCnA alone, and where OCRnA or ICRn is TOP in the modes named below.
  const unsigned wave = wgm(world);
  const bool toggles =
      wide_ ? wave == 9 || wave == 11 || wave == 14 || wave == 15 : (wave & 4U) != 0;
  for (unsigned i = 0; i < 3; ++i) {
    const auto com = static_cast<u8>(older_ ? (i == 0 ? world.data[tccrb_] >> 4 & 3U : 0U)
                                            : world.data[tccra_] >> (6 - 2 * i) & 3U);
    const bool off = ocr_[i] == 0 || (pwm && com == 1 && (i != 0 || !toggles));
    plan.outputs[i] = off ? u8{0} : com;
    plan.moves = plan.moves || plan.outputs[i] != 0;
  }
  return plan;
}

// Counting
// --------------------------------------------------------------------------------------

u16 Timer::top(const TimerState& state, const Plan& plan) {
  switch (plan.mode.top) {
    case Top::kFixed: return plan.mode.fixed;
    case Top::kCompareA: return state.compare[0];
    case Top::kCapture: return plan.capture;
    case Top::kMax: break;
  }
  return plan.max;
}

/// Edges until the counter holds the next value that matters; the one after them leaves it.
u64 Timer::edges_to_stop(const TimerState& state, const Plan& plan) {
  const unsigned last = top(state, plan);
  const unsigned count = state.count;
  if (plan.mode.shape == Shape::kPhase && state.down) {
    unsigned edges = count;
    for (const u16 value : state.compare)
      if (value <= count) edges = std::min(edges, count - value);
    return edges;
  }
  if (plan.mode.shape == Shape::kPhase && count >= last) return 0;  // it turns round
  if (loads_at_bottom(state, plan)) return 0;
  // Above TOP the counter runs on to MAX.
  unsigned edges = (count <= last ? last : plan.max) - count;
  for (const u16 value : state.compare)
    if (value >= count) edges = std::min(edges, value - count);
  return edges;
}

/// So many edges, at most up to the next value that matters.
void Timer::move(TimerState& state, const Plan& plan, u64 edges) {
  if (edges == 0) return;
  const bool down = plan.mode.shape == Shape::kPhase && state.down;
  state.count = static_cast<u16>(down ? state.count - edges : state.count + edges);
  state.match_blocked = false;
}

/// A counter that begins at BOTTOM takes over what was written there, too.
bool Timer::loads_at_bottom(const TimerState& state, const Plan& plan) {
  return plan.mode.shape == Shape::kPhase && !plan.mode.load_at_top && state.count == 0 &&
         state.compare != plan.written;
}

/// What a match does to an output, on the way up or down.
void Timer::set_output(TimerState& state, const Plan& plan, unsigned channel, bool down) {
  const bool clear = (plan.outputs[channel] == 2) != down;
  state.outputs = merged(state.outputs, clear ? 0 : 0xff, static_cast<u8>(1U << channel));
}

/// The flags and outputs of the compare registers that hold the counter's value.
void Timer::match(TimerState& state, const Plan& plan, Way way) {
  if (state.match_blocked) return;
  for (unsigned i = 0; i < 3; ++i) {
    if (state.compare[i] != state.count) continue;
    state.flags |= static_cast<u8>(kOcfa << i & plan.flags);
    if (plan.outputs[i] == 1)
      state.outputs ^= static_cast<u8>(1U << i);
    else if (plan.outputs[i] != 0 && way != Way::kTurns)
      set_output(state, plan, i, way == Way::kDown);
  }
}

/// The counter leaves a value that matters.
void Timer::leave(TimerState& state, const Plan& plan) {
  const u16 last = top(state, plan);
  const u16 count = state.count;
  if (plan.mode.shape == Shape::kPhase) {
    const bool at_top = !state.down && count >= last;
    const bool at_bottom = state.down && count == 0;
    match(state, plan, at_top ? Way::kTurns : state.down && !at_bottom ? Way::kDown : Way::kUp);
    state.match_blocked = false;
    if (at_top && plan.mode.top == Top::kCapture) state.flags |= kIcf;
    if (at_bottom) state.flags |= kTov;
    if (plan.mode.load_at_top ? at_top : count == 0) state.compare = plan.written;
    // At TOP a pin has what a match on the way up leaves, so that the wave is symmetric, whether
    // there was one or not; at TOP itself, and at BOTTOM, the compare register gives a constant
    // level ("Phase Correct PWM Mode").
    for (unsigned i = 0; at_top && i < 3; ++i)
      if (plan.outputs[i] >= 2) set_output(state, plan, i, state.compare[i] == last);
    if (last == 0 && (at_top || at_bottom)) {
      state.count = 0;
      state.down = at_top;
    } else if (at_top) {
      state.down = true;
      state.count = static_cast<u16>(count - 1);
    } else if (at_bottom) {
      state.down = false;
      state.count = 1;
    } else {
      state.count = static_cast<u16>(state.down ? count - 1 : count + 1);
    }
    return;
  }
  const bool fast = plan.mode.shape == Shape::kFast;
  // What clears the counter is a match, too: without it the counter runs on to MAX.
  const bool missed = state.match_blocked && plan.mode.shape == Shape::kClear;
  const bool wraps = (count == last && !missed) || count == plan.max;
  match(state, plan, Way::kUp);
  state.match_blocked = false;
  if (count == last && !missed && plan.mode.top == Top::kCapture) state.flags |= kIcf;
  if (fast ? count == last : count == plan.max) state.flags |= kTov;
  state.count = wraps ? u16{0} : static_cast<u16>(count + 1);
  if (!fast || !wraps) return;
  for (unsigned i = 0; i < 3; ++i)
    if (plan.outputs[i] >= 2)
      state.outputs =
          merged(state.outputs, plan.outputs[i] == 2 ? 0xff : 0, static_cast<u8>(1U << i));
  state.compare = plan.written;
}

/// Does it only count up, round a circle, with nothing but flags at some places? Then `end` is the
/// last of those places.
bool Timer::goes_round(const TimerState& state, const Plan& plan, unsigned& end) {
  const Shape shape = plan.mode.shape;
  const unsigned last = top(state, plan);
  end = shape == Shape::kNormal ? plan.max : last;
  return !plan.moves && shape != Shape::kPhase && !state.match_blocked && state.count <= last &&
         (shape != Shape::kFast || state.compare == plan.written);
}

void Timer::walk(TimerState& state, const Plan& plan, u64 edges) {
  if (unsigned end = 0; goes_round(state, plan, end)) {
    for (unsigned left = within_reach(state, plan, end) & ~unsigned{state.flags}; left != 0;
         left &= left - 1)
      if (edges > edges_to(state, lowest_bit(left), end))
        state.flags |= static_cast<u8>(1U << lowest_bit(left));
    const u64 count = state.count + edges;
    state.count = static_cast<u16>(count <= end ? count : count % (u64{end} + 1));
    return;
  }
  for (unsigned stops = 0; edges != 0; ++stops) {
    if (stops == kTwoPeriods) {  // from here on two periods change nothing
      const u64 last = top(state, plan);
      edges %= 2 * (plan.mode.shape == Shape::kPhase ? std::max<u64>(2 * last, 1) : last + 1);
      if (edges == 0) return;
    }
    const u64 ahead = edges_to_stop(state, plan);
    if (ahead >= edges) {
      move(state, plan, edges);
      return;
    }
    move(state, plan, ahead);
    leave(state, plan);
    edges -= ahead + 1;
  }
}

// Time
// ------------------------------------------------------------------------------------------

u64 Timer::divider(const World& world) const { return (*dividers_)[world.data[tccrb_] & 7U]; }

bool Timer::counts_pin(const World& world) const {
  return number_ != 2 && (world.data[tccrb_] & 7U) >= 6 && pins_.clock;
}

bool Timer::crystal(const World& world) const {
  return assr_ != 0 && (world.data[assr_] & kAs2) != 0;
}

/// Edges of the prescaled clock up to and with tick `t`.
u64 Timer::edge_index(const World& world, u64 t) const {
  const u64 origin = world.prescalers.origin[prescaler()];
  if (crystal(world)) return crystal_index(world, t);
  return t <= origin ? 0 : (t - origin) / divider(world);
}

u64 Timer::edges_between(const World& world, u64 from, u64 to) const {
  if (divider(world) == 0 || world.prescalers.held[prescaler()] || to <= from) return 0;
  return edge_index(world, to) - edge_index(world, from);
}

u64 Timer::tick_of_edge(const World& world, u64 from, u64 edges) const {
  const u64 n = divider(world);
  if (n == 0 || world.prescalers.held[prescaler()]) return kNever;
  const u64 index = edge_index(world, from) + edges;
  const u64 origin = world.prescalers.origin[prescaler()];
  if (crystal(world)) return world.cycle_at(crystal_tick(origin, index, n));
  return origin + index * n;
}

TimerState Timer::state_at(const World& world, u64 t) const {
  TimerState state = world.timers[index_];
  walk(state, plan(world), edges_between(world, state.base, t));
  state.base = std::max(state.base, t);
  return state;
}

void Timer::catch_up(const Bus& bus, u64 t) const {
  if (t > bus.world.timers[index_].base) catch_up(bus, plan(bus.world), t);
}

void Timer::catch_up(const Bus& bus, const Plan& plan, u64 t) const {
  TimerState& state = bus.world.timers[index_];
  if (t <= state.base) return;
  const Shown before{state};
  const u64 edges = edges_between(bus.world, state.base, t);
  if (bus.listens_to_moments(all_moments_)) tell_passed(bus, plan, state, edges, std::nullopt);
  walk(state, plan, edges);
  state.base = t;
  show(bus, plan, before, t);
}

void Timer::set_pin(const Bus& bus, unsigned channel, std::optional<bool> level, u64 t) const {
  const Pin& pin = pins_.compare[channel];
  if (pins_.second[channel])
    pin.port->take_second(bus, pin.bit, level, t);
  else
    pin.port->take_value(bus, pin.bit, level, t);
}

/// New flags and outputs, to those outside.
void Timer::show(const Bus& bus, const Plan& plan, Shown before, u64 t) const {
  const TimerState& state = bus.world.timers[index_];
  const unsigned moved = state.outputs ^ before.outputs;
  const unsigned risen = state.flags & ~unsigned{before.flags};
  if ((moved | risen) == 0) return;
  for (unsigned i = 0; moved != 0 && i < 3; ++i)
    if ((moved >> i & 1U) != 0 && pins_.compare[i] && plan.outputs[i] != 0)
      set_pin(bus, i, (state.outputs >> i & 1U) != 0, t);
  for (unsigned left = risen; left != 0; left &= left - 1)
    raised(bus, vectors_[lowest_bit(left)], t);
}

/// The flags that a counter which goes round raises on its way.
unsigned Timer::within_reach(const TimerState& state, const Plan& plan, unsigned end) {
  unsigned flags = plan.mode.shape == Shape::kFast || end == plan.max ? kTov : 0;
  if (plan.mode.top == Top::kCapture) flags |= kIcf;
  for (unsigned i = 0; i < 3; ++i)
    if (state.compare[i] <= end) flags |= unsigned{kOcfa} << i;
  return flags & plan.flags;
}

/// Edges until a counter that goes round holds the value that raises a flag when it is left.
unsigned Timer::edges_to(const TimerState& state, unsigned flag, unsigned end) {
  constexpr unsigned kFirst = 1, kChannels = 3;  // OCFnA is bit 1
  const unsigned place = flag - kFirst < kChannels ? state.compare[flag - kFirst] : end;
  return place >= state.count ? place - state.count : place + end + 1 - state.count;
}

/// The next moment at which a flag rises or an output moves. After two periods without, none will.
void Timer::schedule(const Bus& bus) const { schedule(bus, plan(bus.world)); }

void Timer::schedule(const Bus& bus, const Plan& plan) const {
  const TimerState& now = bus.world.timers[index_];
  u64 soonest = std::min({now.capture_at, now.clock_at[0], now.clock_at[1]});
  unsigned end = 0;
  if (divider(bus.world) == 0 || (!plan.moves && (plan.flags & ~unsigned{now.flags}) == 0)) {
    // Nothing.
  } else if (goes_round(now, plan, end)) {
    u64 ahead = kNever;
    for (unsigned left = within_reach(now, plan, end) & ~unsigned{now.flags}; left != 0;
         left &= left - 1)
      ahead = std::min<u64>(ahead, edges_to(now, lowest_bit(left), end));
    if (ahead != kNever) soonest = std::min(soonest, tick_of_edge(bus.world, now.base, ahead + 1));
  } else {
    TimerState state = now;
    u64 edges = 0;
    for (unsigned stops = 0; stops < kTwoPeriods; ++stops) {
      const u64 further = edges_to_stop(state, plan);
      move(state, plan, further);
      leave(state, plan);
      edges += further + 1;
      if (state.flags == now.flags && state.outputs == now.outputs) continue;
      soonest = std::min(soonest, tick_of_edge(bus.world, now.base, edges));
      break;
    }
  }
  bus.schedule(slot_, soonest);
}

// Registers
// -------------------------------------------------------------------------------------

void Timer::refresh_requests(const Bus& bus) const {
  unsigned on = bus.world.timers[index_].flags & from_register(bus.reg(timsk_));
  u64 requests = 0;
  for (; on != 0; on &= on - 1) requests |= u64{1} << vectors_[lowest_bit(on)];
  bus.set_pending((bus.world.cpu.pending & ~all_vectors_) | requests);
}

u8 Timer::peek(const World& world, u16 address, u64 t) const {
  if (const TimerState& state = world.timers[index_]; state.waiting != 0 && address != tcnt_)
    if (const unsigned bit = latch_of(address); bit < kLatches && (state.waiting >> bit & 1U) != 0)
      return state.latches[bit];
  if (address == tcnt_) return static_cast<u8>(state_at(world, t).count);
  if (wide_ && address == tcnt_ + 1) return static_cast<u8>(state_at(world, t).count >> 8);
  if (address == tifr_) return in_register(state_at(world, t).flags & all_flags_);
  return world.data[address];
}

u8 Timer::read(const Bus& bus, u16 address, u64 t) const {
  TimerState& state = bus.world.timers[index_];
  // Every flag that can rise has its event, and those up to `t` have been.
  if (address == tifr_) return in_register(state.flags & all_flags_);
  if (!wide_) return peek(bus.world, address, t);
  if (address == tcnt_) {  // the high byte is kept for the read that follows
    const u16 count = state_at(bus.world, t).count;
    state.temp = static_cast<u8>(count >> 8);
    keep_temp(bus, address, true);
    return static_cast<u8>(count);
  }
  if (address == icr_) state.temp = bus.reg(static_cast<u16>(address + 1));
  if (address == icr_) keep_temp(bus, address, true);
  if (address == tcnt_ + 1 || address == icr_ + 1) {
    judge_temp(bus, static_cast<u16>(address - 1), true, peek(bus.world, address, t));
    return state.temp;
  }
  return peek(bus.world, address, t);
}

void Timer::tell_cleared(const Bus& bus, unsigned waiting) const {
  const char* const kNames[] = {"TOV{}", "OCF{}A", "OCF{}B", "OCF{}C", "", "ICF{}"};
  const std::string name = usual_places_ ? fmt::format("TIFR{}", number_) : "TIFR";
  for (unsigned lost = from_register(bus.cleared_unasked(waiting)); lost != 0; lost &= lost - 1)
    bus.misused(fmt::format(kTakenBack, name, fmt::format(kNames[lowest_bit(lost)], number_), ""));
}

std::string Timer::wide_name(u16 low) const {
  if (low == tcnt_) return fmt::format("TCNT{}", number_);
  if (low == icr_) return fmt::format("ICR{}", number_);
  const auto channel = std::find(ocr_.begin(), ocr_.end(), low) - ocr_.begin();
  return fmt::format("OCR{}{}", number_, static_cast<char>('A' + channel));
}

/// TEMP holds the high byte of a register now, by the instruction under way.
void Timer::keep_temp(const Bus& bus, u16 low, bool out) const {
  TimerState& state = bus.world.timers[index_];
  const auto pc = bus.instruction();
  state.temp_of = pc ? low : u16{0};
  state.temp_out = out;
  state.temp_pc = pc.value_or(0);
}

/// "Accessing 16-bit Registers": the high byte is written before the low one, and read behind it;
/// TEMP is one for all of a timer. Told is what that has made of a register, or a wrong order.
void Timer::judge_temp(const Bus& bus, u16 low, bool out, u8 high) const {
  TimerState& state = bus.world.timers[index_];
  const auto pc = bus.instruction();
  const bool own = state.temp_of == low && state.temp_out == out;
  // The other half is just behind: in a loop it has been there, too, but for the round before.
  constexpr u32 kNear = 64;  // bytes
  const bool reversed = own && pc && state.temp_pc > *pc && state.temp_pc - *pc <= kNear;
  const u16 of = std::exchange(state.temp_of, u16{0});
  if (!pc || (own && !reversed) || (!own && state.temp == high)) return;
  const std::string name = wide_name(low);
  const std::string whose = of != 0 && !own ? " of " + wide_name(of) : std::string();
  if (out)
    bus.misused(fmt::format("{}: its high byte is read without its low byte before it: it is what "
                            "TEMP holds{}, {:#04x} instead of {:#04x}",
                            name, whose, state.temp, high),
                name + " out");
  else if (reversed)
    bus.misused(
        fmt::format("{}: its low byte is written before its high byte, which then waits in "
                    "TEMP for the next one",
                    name));
  else
    bus.misused(fmt::format("{}: its low byte is written without its high byte before it: that "
                            "becomes what TEMP holds{}, {:#04x}",
                            name, whose, state.temp),
                name + " in");
}

void Timer::write_word(const Bus& bus, u16 low_address, u8 low) const {
  bus.reg(low_address) = low;
  if (wide_) bus.reg(static_cast<u16>(low_address + 1)) = bus.world.timers[index_].temp;
}

void Timer::write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const {
  if (assr_ != 0 && crystal(bus.world) && latch_of(address) < kLatches)
    write_later(bus, latch_of(address), value, t);
  else
    write_now(bus, address, value, mask, t);
}

void Timer::write_now(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const {
  TimerState& state = bus.world.timers[index_];
  if (wide_) {
    for (const u16 low : {tcnt_, icr_, ocr_[0], ocr_[1], ocr_[2]}) {
      if (low != 0 && address == low + 1) {  // high bytes wait in TEMP for the low one
        state.temp = value;
        keep_temp(bus, low, false);
        return;
      }
      if (low != 0 && address == low)
        judge_temp(bus, low, false, peek(bus.world, static_cast<u16>(low + 1), t));
    }
  }
  catch_up(bus, t + 1);
  const Shown before{state};
  const auto channel = std::find(ocr_.begin(), ocr_.end(), address);
  if (address == tifr_) {
    const unsigned cleared = state.flags & from_register(value & mask);
    if (const unsigned waiting = cleared & from_register(bus.reg(timsk_)); waiting != 0)
      tell_cleared(bus, in_register(waiting));
    state.flags = static_cast<u8>(state.flags & ~cleared);
  } else if (address == timsk_) {
    bus.reg(address) = static_cast<u8>(merged(bus.reg(address), value, mask) &
                                       (usual_places_ ? all_flags_ : u8{0xff}));
  } else if (address == tcnt_) {
    state.count = static_cast<u16>(value | (wide_ ? state.temp << 8 : 0));
    state.match_blocked = true;
  } else if (channel != ocr_.end()) {
    write_word(bus, address, value);
    const Shape shape = mode(bus.world).shape;
    if (shape == Shape::kNormal || shape == Shape::kClear)
      state.compare[static_cast<std::size_t>(channel - ocr_.begin())] = word(bus.world, address);
  } else if (address == icr_) {
    // ICRn can be written only where it is TOP.
    if (mode(bus.world).top == Top::kCapture)
      write_word(bus, address, value);
    else
      bus.misused(
          fmt::format("TIMER{0}: ICR{0} was written in a mode that does not use it as TOP; "
                      "it is unchanged",
                      number_));
  } else if (address == tccrc_) {
    force(bus, value >> 7 & 1U, t);
    if ((value & 0x40U) != 0) force(bus, 2, t);
    if ((value & 0x20U) != 0) force(bus, 4, t);
  } else {
    const bool b = address == tccrb_;
    bus.reg(address) = b && !wide_ ? static_cast<u8>(value & held_in_b()) : value;
    const Plan now = plan(bus.world);
    if (now.mode.shape == Shape::kNormal || now.mode.shape == Shape::kClear)
      state.compare = now.written;
    if (now.mode.shape != Shape::kPhase) state.down = false;
    if (state.count > top(state, now) && now.mode.shape == Shape::kPhase) state.down = true;
    for (unsigned i = 0; i < 3; ++i) {
      if (!pins_.compare[i]) continue;
      std::optional<bool> level;
      if (now.outputs[i] != 0) level = (state.outputs >> i & 1U) != 0;
      set_pin(bus, i, level, t + 1);
    }
    if (b && !wide_) force(bus, (value >> 7 & 1U) | (older_ ? 0U : value >> 5 & 2U), t);
    say_what_is_missing(bus);
  }
  const Plan after = plan(bus.world);
  show(bus, after, before, t + 1);
  schedule(bus, after);
  refresh_requests(bus);
}

bool Timer::assume(const Bus& bus, u16 address, u8 value, u64 t) const {
  if (address == tccrc_ && tccrc_ != 0) return false;  // it forces matches
  const bool is_control = (address == tccra_ && !older_) || address == tccrb_ || address == timsk_;
  if (is_control) {  // but for force compare
    write_now(bus, address, address == tccrb_ && !wide_ ? value & held_in_b() : value, 0xff,
              std::max<u64>(t, 1) - 1);
    return true;
  }
  catch_up(bus, t);
  TimerState& state = bus.world.timers[index_];
  const Shown before{state};
  if (address == tifr_) {
    state.flags = from_register(value);
  } else if (address == tcnt_) {
    state.count = static_cast<u16>((state.count & 0xff00U) | value);
  } else if (wide_ && address == tcnt_ + 1) {
    state.count = static_cast<u16>((state.count & 0xffU) | value << 8);
  } else {
    bus.reg(address) = value;
    const Shape shape = mode(bus.world).shape;
    if (shape == Shape::kNormal || shape == Shape::kClear) state.compare = plan(bus.world).written;
  }
  const Plan after = plan(bus.world);
  show(bus, after, before, t);
  schedule(bus, after);
  refresh_requests(bus);
  return true;
}

/// Force compare: the output as at a match, without its flag. Only where the mode is no PWM.
void Timer::force(const Bus& bus, unsigned channels, u64 t) const {
  const Plan now = plan(bus.world);
  if (channels == 0) return;
  if (now.mode.shape == Shape::kFast || now.mode.shape == Shape::kPhase) {
    bus.misused(fmt::format("TIMER{}: force compare (FOC) does nothing in a PWM mode", number_));
    return;
  }
  TimerState& state = bus.world.timers[index_];
  const Shown before{state};
  for (unsigned i = 0; i < 3; ++i) {
    if ((channels >> i & 1U) == 0 || now.outputs[i] == 0) continue;
    const auto bit = static_cast<u8>(1U << i);
    const bool high = now.outputs[i] == 1 ? (state.outputs & bit) == 0 : now.outputs[i] == 3;
    state.outputs = merged(state.outputs, high ? 0xff : 0, bit);
  }
  show(bus, now, before, t + 1);
}

}  // namespace lucid::avr
