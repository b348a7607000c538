// SPDX-License-Identifier: MIT
#include "avr/peripherals/watchdog.h"

#include "avr/peripherals/system.h"

namespace lucid::avr {
namespace {

constexpr u64 kOscillatorHz = 128'000;

}  // namespace

/// WDTON is bit 4 of the high fuse; 0 is programmed.
bool Watchdog::always_on(const World& world) const { return (world.fuses[1] & 0x10U) == 0; }

/// 2048 cycles of the watchdog's oscillator, doubled by each step of WDP up to 9.
u64 Watchdog::period(const World& world) const {
  const unsigned csr = world.data[wdtcsr_];
  const unsigned wdp = std::min((csr & 7U) | (csr >> 2 & 8U), 9U);
  return ((u64{2048} << wdp) * clock_hz_ + kOscillatorHz - 1) / kOscillatorHz;
}

void Watchdog::schedule(const Bus& bus) const {
  const bool runs = (bus.reg(wdtcsr_) & (kWde | kWdie)) != 0;
  bus.schedule_tick(slot_, runs ? bus.world.watchdog.fed + period(bus.world) : kNever);
}

void Watchdog::refresh_request(const Bus& bus) const {
  bus.request(vector_, (bus.reg(wdtcsr_) & kWdif) != 0 && (bus.reg(wdtcsr_) & kWdie) != 0);
}

u8 Watchdog::peek(const World& world, u16 address, u64 t) const {
  return static_cast<u8>(world.data[address] | (t < world.watchdog.change_until ? kWdce : 0));
}

bool Watchdog::assume(const Bus& bus, u16 address, u8 value, u64 t) const {
  u8& csr = bus.reg(address);
  const bool was_running = (csr & (kWde | kWdie)) != 0;
  csr = static_cast<u8>(value & ~unsigned{kWdce});
  if (always_on(bus.world)) csr = static_cast<u8>((csr | kWde) & ~unsigned{kWdie});
  if (!was_running) bus.world.watchdog.fed = bus.world.tick_at(t);
  schedule(bus);
  refresh_request(bus);
  return true;
}

void Watchdog::write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const {
  u8& csr = bus.reg(address);
  WatchdogState& state = bus.world.watchdog;
  const bool was_running = (csr & (kWde | kWdie)) != 0;
  const bool open = t < state.change_until;
  const u8 next = merged(static_cast<u8>(csr & ~unsigned{kWdif}), value, mask);
  const bool opens = (next & kWdce) != 0 && (next & kWde) != 0;
  unsigned changed = (csr & kWdif) & ~unsigned(value & mask);  // WDIF is cleared by a one
  changed |= next & kWdie;
  if (open && !opens) {
    changed |= next & (kWde | kPeriod);
    state.change_until = 0;
  } else {
    changed |= (csr & kPeriod) | ((csr | next) & kWde);
    const unsigned refused = (csr ^ next) & kPeriod;
    if (!opens && (refused != 0 || (csr & ~next & kWde) != 0))
      bus.misused(
          "WDTCSR: WDE or the period was written outside the four cycles after WDCE and WDE; "
          "it is unchanged");
  }
  if (opens) state.change_until = t + 1 + 4;
  if (always_on(bus.world)) changed = (changed | kWde) & ~unsigned{kWdie};
  if ((bus.reg(mcusr_) & kWdrf) != 0) changed |= kWde;
  csr = static_cast<u8>(changed);
  if (!was_running) state.fed = bus.world.tick_at(t + 1);
  schedule(bus);
  refresh_request(bus);
}

void Watchdog::feed(const Bus& bus) const {
  if (runs(bus.world))
    bus.fed_watchdog(bus.world.tick_at(bus.world.cpu.now) - bus.world.watchdog.fed,
                     period(bus.world));
  bus.world.watchdog.fed = bus.world.tick_at(bus.world.cpu.now);
  schedule(bus);
}

void Watchdog::on_event(const Bus& bus, unsigned /*slot*/, u64 /*due*/) const {
  u8& csr = bus.reg(wdtcsr_);
  bus.world.watchdog.fed = bus.world.due_tick(slot_);
  if ((csr & kWdie) != 0) {
    csr |= kWdif;
  } else {
    bus.world.cpu.reset_cause = kWdrf;
  }
  schedule(bus);
  refresh_request(bus);
}

void Watchdog::on_vector(const Bus& bus, unsigned /*vector*/) const {
  u8& csr = bus.reg(wdtcsr_);
  csr = static_cast<u8>(csr & ~unsigned{kWdif});
  // With WDE, too, the next time-out resets: the hardware turns WDIE off.
  if ((csr & kWde) != 0) csr = static_cast<u8>(csr & ~unsigned{kWdie});
  refresh_request(bus);
}

bool Watchdog::bring_forward(const Bus& bus, unsigned /*vector*/, std::optional<u8> /*byte*/,
                             u64 t) const {
  u8& csr = bus.reg(wdtcsr_);
  if ((csr & kWdie) == 0) return false;
  const bool by_itself = runs(bus.world);
  bus.world.watchdog.fed = bus.world.tick_at(t);
  csr |= kWdif;
  schedule(bus);
  refresh_request(bus);
  return by_itself;
}

void Watchdog::reset(const Bus& bus) const {
  bus.world.watchdog = WatchdogState{};
  bus.world.watchdog.fed = bus.world.tick_at(bus.world.cpu.now);
  const bool on = always_on(bus.world) || (bus.reg(mcusr_) & kWdrf) != 0;
  bus.reg(wdtcsr_) = on ? kWde : 0;
  schedule(bus);
  refresh_request(bus);
}

}  // namespace lucid::avr
