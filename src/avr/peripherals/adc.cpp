// SPDX-License-Identifier: MIT
#include "avr/peripherals/adc.h"

#include <fmt/format.h>

#include "avr/peripherals/port.h"
#include "avr/peripherals/timer.h"

namespace lucid::avr {
namespace {

/// At 25 degrees ("Temperature Measurement", typical values).
constexpr std::int64_t kTemperatureMicrovolts = 314'000;

}  // namespace

Adc::Adc(const Names& names, std::vector<Pin> inputs, AdcKind kind, unsigned slot)
    : adc_(names.reg("ADCL")),
      adcsra_(names.reg("ADCSRA")),
      adcsrb_(names.reg("ADCSRB")),
      admux_(names.reg("ADMUX")),
      smcr_(names.reg("SMCR")),
      inputs_(std::move(inputs)),
      kind_(kind),
      vector_(names.vector({"ADC"})),
      slot_(slot),
      // "ADC Auto Trigger Source Selections"; 0 is free running.
      triggers_{0,
                names.vector({"ANALOG_COMP"}),
                names.vector({"INT0"}),
                names.vector({"TIMER0_COMPA"}),
                names.vector({"TIMER0_OVF"}),
                names.vector({"TIMER1_COMPB"}),
                names.vector({"TIMER1_OVF"}),
                names.vector({"TIMER1_CAPT"})} {}

u64 Adc::divider(const World& world) const {
  const unsigned adps = world.data[adcsra_] & 7U;
  return adps == 0 ? 2 : u64{1} << adps;
}

std::int64_t Adc::input(const World& world, unsigned channel) const {
  if (channel >= inputs_.size() || !inputs_[channel]) return 0;
  return inputs_[channel].port->microvolts(world, inputs_[channel].bit);
}

/// "Input Channel Selections" and "ADC Conversion Result".
u16 Adc::measure(const World& world, const AdcState& state) const {
  const unsigned refs = state.mux >> 6;
  std::int64_t reference = world.supply;
  if (refs == 0) reference = world.reference;
  if (refs == 2) reference = kBandGap;
  if (refs == 3) reference = kind_ == AdcKind::kSmall ? kBandGap : 2'560'000;
  if (reference <= 0) reference = 1;

  std::int64_t difference = 0;  // against the negative input
  std::int64_t single = 0;
  bool differential = false;
  if (kind_ == AdcKind::kSmall) {
    const unsigned mux = state.mux & 15U;
    single = mux == 8    ? kTemperatureMicrovolts
             : mux == 14 ? kBandGap
             : mux < 8   ? input(world, mux)
                         : 0;
  } else {
    const unsigned mux = state.mux & 31U;
    const unsigned upper = state.mux5 != 0 ? 8 : 0;  // MUX5 of the large parts
    differential = mux >= 8 && mux < 30;
    if (mux < 8) {
      single = input(world, upper + mux);
    } else if (!differential) {
      single = mux == 30 ? kBandGap : 0;
    } else if (mux < 16) {  // gain 10 and 200, against ADC0 and ADC2 (ADC8 and ADC10)
      const unsigned negative = mux < 12 ? 0 : 2;
      const std::int64_t gain = (mux & 2U) == 0 ? 10 : 200;
      difference =
          gain * (input(world, upper + negative + (mux & 1U)) - input(world, upper + negative));
    } else if (mux < 24) {
      difference = input(world, upper + mux - 16) - input(world, upper + 1);
    } else {
      difference = input(world, upper + mux - 24) - input(world, upper + 2);
    }
  }
  if (differential) {
    const std::int64_t counts = difference * 512 / reference;
    return static_cast<u16>(std::clamp<std::int64_t>(counts, -512, 511) & 0x3ff);
  }
  return static_cast<u16>(std::clamp<std::int64_t>(single * 1024 / reference, 0, 1023));
}

/// A conversion starts with the next rising edge of the ADC's clock; a trigger resets the clock.
void Adc::start(const World& world, AdcState& state, u64 t, bool triggered) const {
  const u64 n = divider(world);
  if (triggered) state.origin = t;
  const u64 begin = triggered ? t : state.origin + ((t - state.origin) / n + 1) * n;
  state.converting = true;
  state.sampled = false;
  state.mux = world.data[admux_];
  state.mux5 = world.data[adcsrb_] & 8U;
  // Half cycles up to sample and hold: 1.5, 13.5 for the first, 2 when triggered.
  const u64 halves = !state.warm ? 27 : triggered ? 4 : 3;
  state.next = begin + halves * n / 2;
}

/// What has happened by `t`, with inputs that have not changed since it was last run. True: a
/// conversion has ended.
bool Adc::run(const World& world, AdcState& state, u64 t, const Bus* listened) const {
  bool ended = false;
  while (state.converting && state.next <= t) {
    const u64 n = divider(world);
    if (!state.sampled) {
      state.sampled = true;
      state.result = measure(world, state);
      state.next += 23 * n / 2;  // 13 cycles in all, 25 for the first, 13.5 triggered
      continue;
    }
    const u64 at = state.next;
    state.converting = false;
    state.warm = true;
    if (!state.locked) state.shown = state.result;
    if (listened != nullptr) listened->record_moment(Bus::kConversion, state.result, at);
    const bool runs_on = (world.data[adcsra_] & kAdate) != 0 && (world.data[adcsrb_] & 7U) == 0;
    if (runs_on) {
      start(world, state, at - 1, false);
      // Those after the next one give the same again, 13 cycles apart.
      if (ended && listened == nullptr && t > state.next + 13 * n)
        state.next += (t - state.next) / (13 * n) * 13 * n;
    }
    ended = true;
  }
  return ended;
}

void Adc::catch_up(const Bus& bus, u64 t) const {
  const Bus* listened = bus.listens_to_moments(u64{1} << Bus::kConversion) ? &bus : nullptr;
  if (run(bus.world, bus.world.adc, t, listened)) bus.reg(adcsra_) |= kAdif;
}

void Adc::tell(const Bus& bus, u64 from, u64 to) const {
  AdcState state = bus.world.adc;
  if (!state.converting || to == 0 || !bus.listens_to_moments(u64{1} << Bus::kConversion)) return;
  if (from != 0) run(bus.world, state, std::min(from, to) - 1);
  run(bus.world, state, to - 1, &bus);
}

/// While it is off or asleep nothing goes on.
u64 Adc::up_to(const World& world, u64 t) const {
  if (is_off(world)) t = std::min(t, world.off_since[power_switch().number]);
  const bool stands = world.cpu.deep && !runs_asleep(world, world.data[smcr_] >> 1 & 7U);
  return stands ? std::min(t, world.cpu.slept_at) : t;
}

void Adc::before_change(const Bus& bus, u64 t) const {
  if (bus.world.adc.converting) catch_up(bus, up_to(bus.world, t));
}

/// Its end is of interest if it may interrupt.
void Adc::schedule(const Bus& bus) const {
  const AdcState& state = bus.world.adc;
  const bool interrupts = (bus.reg(adcsra_) & kAdie) != 0;
  const u64 end = state.next + (state.sampled ? 0 : 23 * divider(bus.world) / 2);
  bus.schedule(slot_, state.converting && interrupts ? end : kNever);
}

void Adc::begin(const Bus& bus, u64 t, bool triggered) const {
  start(bus.world, bus.world.adc, t, triggered);
  const unsigned mux = bus.reg(admux_) & 15U;
  if (kind_ == AdcKind::kSmall && bus.reg(admux_) >> 6 == 2)
    bus.misused("ADMUX: this reference (REFS) is reserved");
  if (kind_ == AdcKind::kSmall && mux > 8 && mux < 14)
    bus.misused(fmt::format("ADMUX: channel {} is reserved", mux));
  schedule(bus);
}

void Adc::on_event(const Bus& bus, unsigned /*slot*/, u64 due) const {
  catch_up(bus, due);
  schedule(bus);
  refresh_request(bus);
}

void Adc::on_flag(const Bus& bus, unsigned vector, u64 t) const {
  const unsigned a = bus.reg(adcsra_);
  const unsigned source = bus.reg(adcsrb_) & 7U;
  const bool listens = (a & kAden) != 0 && (a & kAdate) != 0 && source != 0;
  if (!listens || triggers_[source] != vector) return;
  catch_up(bus, t);
  if (!bus.world.adc.converting) begin(bus, t, true);
}

void Adc::on_sleep(const Bus& bus, unsigned sm, u64 t) const {
  catch_up(bus, t);
  if (sm == 1 && (bus.reg(adcsra_) & kAden) != 0 && !bus.world.adc.converting) begin(bus, t, false);
}

void Adc::refresh_request(const Bus& bus) const {
  const unsigned a = bus.reg(adcsra_);
  bus.request(vector_, (a & kAdif) != 0 && (a & kAdie) != 0);
}

u8 Adc::peek(const World& world, u16 address, u64 t) const {
  if (address == adcsrb_ || address == admux_) return world.data[address];
  AdcState state = world.adc;
  const bool ended = run(world, state, t);
  if (address == adcsra_)
    return static_cast<u8>((world.data[adcsra_] & ~unsigned{kAdsc}) |
                           (state.converting ? kAdsc : 0) | (ended ? kAdif : 0));
  const bool left = (world.data[admux_] & 0x20U) != 0;
  const unsigned shown = left ? state.shown << 6 : state.shown;
  return static_cast<u8>(address == adc_ ? shown : shown >> 8);
}

u8 Adc::read(const Bus& bus, u16 address, u64 t) const {
  catch_up(bus, t);
  const u8 value = peek(bus.world, address, t);
  if (address == adc_) bus.world.adc.locked = true;
  if (address == adc_ + 1) bus.world.adc.locked = false;
  return value;
}

void Adc::write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const {
  if (address == adc_ || address == adc_ + 1) return;  // read-only
  catch_up(bus, t);
  AdcState& state = bus.world.adc;
  const unsigned before = bus.reg(adcsra_);
  bus.reg(address) = merged(bus.reg(address), value, mask);
  if (address != adcsra_) return;
  u8& a = bus.reg(adcsra_);
  a = static_cast<u8>(a & ~unsigned{kAdsc | kAdif});
  if ((value & mask & kAdif) == 0) a |= static_cast<u8>(before & kAdif);  // cleared by a one
  const unsigned waiting = (before & a & kAdie) != 0 ? before & value & mask & kAdif : 0;
  if (bus.cleared_unasked(waiting) != 0) bus.misused(fmt::format(kTakenBack, "ADCSRA", "ADIF", ""));
  if ((a & kAden) == 0) {
    state.converting = state.warm = false;
    if ((value & mask & kAdsc) != 0) bus.misused("ADC: a conversion was started while ADEN is 0");
  } else {
    if ((before & kAden) == 0) state.origin = t + 1;
    if ((value & mask & kAdsc) != 0 && !state.converting) {
      if (state.locked)
        bus.misused(
            "ADC: a conversion was started though ADCL has been read, and ADCH not behind it: "
            "until "
            "then results are lost");
      begin(bus, t, false);
    }
  }
  schedule(bus);
  refresh_request(bus);
}

bool Adc::assume(const Bus& bus, u16 address, u8 value, u64 t) const {
  const u64 before = std::max<u64>(t, 1) - 1;
  if (address == adcsra_) {
    write(bus, address, static_cast<u8>(value & ~unsigned{kAdsc | kAdif}), 0xff, before);
    bus.reg(adcsra_) = merged(bus.reg(adcsra_), value, kAdif);
    refresh_request(bus);
    return true;
  }
  if (address != adc_ && address != adc_ + 1) {
    write(bus, address, value, 0xff, before);
    return true;
  }
  catch_up(bus, t);
  AdcState& state = bus.world.adc;
  const bool left = (bus.reg(admux_) & 0x20U) != 0;
  unsigned shown = left ? state.shown << 6 : state.shown;
  shown = address == adc_ ? (shown & 0xff00U) | value : (shown & 0xffU) | unsigned{value} << 8;
  state.shown = static_cast<u16>((left ? shown >> 6 : shown) & 0x3ffU);
  return true;
}

void Adc::on_vector(const Bus& bus, unsigned /*vector*/) const {
  bus.reg(adcsra_) = static_cast<u8>(bus.reg(adcsra_) & ~unsigned{kAdif});
  refresh_request(bus);
}

u64 Adc::steady_until(const World& world, u16 /*address*/, u64 /*t*/) const {
  const AdcState& state = world.adc;
  if (!state.converting) return kNever;
  return state.next + (state.sampled ? 0 : 23 * divider(world) / 2);
}

/// Running on, a conversion takes 13 cycles of its clock.
u64 Adc::again(const World& world, unsigned /*vector*/, u64 from, u64 to) const {
  constexpr u64 kConversion = 13;
  const bool runs_on = (world.data[adcsra_] & kAdate) != 0 && (world.data[adcsrb_] & 7U) == 0;
  return runs_on && to > from ? (to - from) / (kConversion * divider(world)) : 0;
}

/// The conversion under way ends.
bool Adc::bring_forward(const Bus& bus, unsigned vector, std::optional<u8> /*byte*/, u64 t) const {
  if ((bus.reg(adcsra_) & kAden) == 0) return false;
  catch_up(bus, t);
  AdcState& state = bus.world.adc;
  const bool under_way = state.converting;
  if (under_way && !state.sampled) catch_up(bus, state.next);
  if (state.converting && state.sampled) catch_up(bus, state.next);
  bus.reg(adcsra_) |= kAdif;
  raised(bus, vector, t);
  schedule(bus);
  refresh_request(bus);
  return under_way;
}

std::vector<PinUse> Adc::uses(const World& world) const {
  const unsigned mux = world.data[admux_] & (kind_ == AdcKind::kSmall ? 15U : 31U);
  const unsigned channel = mux + ((world.data[adcsrb_] & 8U) != 0 ? 8 : 0);
  if ((world.data[adcsra_] & kAden) == 0 || mux >= 8 || channel >= inputs_.size()) return {};
  return {{inputs_[channel], fmt::format("ADC{}", channel)}};
}

void Adc::reset(const Bus& bus) const {
  bus.world.adc = AdcState{};
  bus.schedule(slot_, kNever);
  refresh_request(bus);
}

// The comparator ---------------------------------------------------------------------------------

bool Comparator::output(const World& world) const {
  if ((world.data[acsr_] & kAcd) != 0) return false;
  const std::int64_t plus = (world.data[acsr_] & kAcbg) != 0
                                ? kBandGap
                                : positive_.port->microvolts(world, positive_.bit);
  const bool multiplexed = (world.data[adcsrb_] & 0x40U) != 0 && (world.data[adcsra_] & 0x80U) == 0;
  const std::int64_t minus =
      multiplexed ? adc_.input(world, (world.data[admux_] & 7U) | (world.data[adcsrb_] & 8U))
                  : negative_.port->microvolts(world, negative_.bit);
  return plus > minus;
}

void Comparator::settle(const Bus& bus, u64 t) const {
  u8& acsr = bus.reg(acsr_);
  const bool before = (acsr & kAco) != 0;
  const bool now = output(bus.world);
  if (before == now) return;
  acsr = merged(acsr, now ? 0xff : 0, kAco);
  const unsigned mode = acsr & 3U;  // 0 toggle, 2 falling, 3 rising
  if (mode == 0 || (mode == 2 && !now) || (mode == 3 && now)) {
    acsr |= kAci;
    raised(bus, vector_, t);
  }
  if ((acsr & kAcic) != 0 && capturing_ != nullptr) capturing_->on_comparator(bus, now, t);
  refresh_request(bus);
}

void Comparator::refresh_request(const Bus& bus) const {
  const unsigned acsr = bus.reg(acsr_);
  bus.request(vector_, (acsr & kAci) != 0 && (acsr & kAcie) != 0);
}

u8 Comparator::peek(const World& world, u16 address, u64 /*t*/) const {
  return merged(world.data[address], output(world) ? 0xff : 0, kAco);
}

void Comparator::write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const {
  u8& acsr = bus.reg(address);
  const u8 next = merged(acsr, value, static_cast<u8>(mask & ~unsigned{kAco | kAci}));
  acsr = static_cast<u8>(next & ~(value & mask & kAci));
  settle(bus, t + 1);
  refresh_request(bus);
}

bool Comparator::assume(const Bus& bus, u16 address, u8 value, u64 t) const {
  write(bus, address, static_cast<u8>(value & ~unsigned{kAci}), 0xff, std::max<u64>(t, 1) - 1);
  bus.reg(acsr_) = merged(bus.reg(acsr_), value, kAci);
  refresh_request(bus);
  return true;
}

void Comparator::on_pin(const Bus& bus, Pin /*pin*/, bool /*level*/, u64 t) const {
  settle(bus, t);
}

void Comparator::on_vector(const Bus& bus, unsigned /*vector*/) const {
  bus.reg(acsr_) = static_cast<u8>(bus.reg(acsr_) & ~unsigned{kAci});
  refresh_request(bus);
}

bool Comparator::bring_forward(const Bus& bus, unsigned vector, std::optional<u8> /*byte*/,
                               u64 t) const {
  bus.reg(acsr_) |= kAci;
  raised(bus, vector, t);
  refresh_request(bus);
  return (bus.reg(acsr_) & kAcd) == 0;
}

}  // namespace lucid::avr
