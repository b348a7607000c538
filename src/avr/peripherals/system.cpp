// SPDX-License-Identifier: MIT
#include "avr/peripherals/system.h"

#include <fmt/format.h>

namespace lucid::avr {

void Bus::tell_pending(u64 pending) const {
  const CpuState& cpu = world.cpu;
  const u64 cycle = outputs_.at != kNever ? outputs_.at : cpu.now;
  outputs_.interrupts->wait(
      cpu.pending, pending,
      {world.tick_at(cycle), 2 * cpu.pc, (cpu.sreg & 0x80U) == 0, cpu.asleep});
}

void Bus::note(machine::Note note, const std::string& key) const {
  constexpr std::size_t kMost = 1000;
  if (outputs_.noted.size() > kMost || !outputs_.noted.insert(key).second) return;
  if (outputs_.noted.size() > kMost)
    note.text = "there are more notes than are told: 1000 came before";
  note.tick = world.tick_at(world.cpu.now);
  if ((outputs_.ends_at >> static_cast<unsigned>(note.kind) & 1U) != 0) fail(note.text);
  outputs_.notes.push_back(std::move(note));
}

void Bus::note_here(const std::string& text, machine::Note::Kind kind,
                    const std::string& key) const {
  const auto pc = instruction();
  note({text, pc, kind}, key + (pc ? std::to_string(*pc) : std::string()));
}

unsigned Bus::cleared_unasked(unsigned waiting_flags) const {
  const auto pc = instruction();
  if (waiting_flags == 0 || !pc || outputs_.code == nullptr) return 0;
  const auto set = outputs_.code->read_back(*pc);
  return set ? waiting_flags & ~unsigned{*set} : 0;
}

/// Whatever is under way, step by step, until it asks for the interrupt.
bool Peripheral::bring_forward(const Bus& bus, unsigned vector, std::optional<u8> /*byte*/,
                               u64 t) const {
  constexpr unsigned kMostSteps = 64;
  for (unsigned step = 0; step < kMostSteps; ++step) {
    if ((bus.world.cpu.pending >> vector & 1U) != 0) return true;
    unsigned next = kEventSlots;
    for (const unsigned slot : slots())
      if (bus.world.due(slot) != kNever &&
          (next == kEventSlots || bus.world.due(slot) < bus.world.due(next)))
        next = slot;
    if (next == kEventSlots) break;
    bus.schedule(next, kNever);
    on_event(bus, next, t);
  }
  return false;
}

std::vector<u16> System::addresses() const {
  std::vector<u16> out{mcucr_, mcusr_, smcr_, clkpr_, osccal_};
  for (const u16 prr : prr_)
    if (prr != 0) out.push_back(prr);
  return out;
}

u8 System::peek(const World& world, u16 address, u64 t) const {
  unsigned open = 0;
  if (address == mcucr_ && t < world.cpu.ivce_until) open = kIvce;
  if (address == mcucr_ && t < world.cpu.bod_off_until) open |= kBods;
  if (address == clkpr_ && t < world.clock.change_until) open = kClkpce;
  return static_cast<u8>(world.data[address] | open);
}

void System::write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const {
  u8& reg = bus.reg(address);
  if (address == mcucr_) {
    write_mcucr(bus, value, mask, t);
  } else if (address == mcusr_) {  // a zero clears a flag, a one leaves it
    reg = static_cast<u8>(reg & ~(~value & mask));
  } else if (address == smcr_) {
    reg = static_cast<u8>(merged(reg, value, mask) & 0x0fU);
  } else if (address == osccal_) {
    reg = merged(reg, value, mask);
    bus.note("OSCCAL: the oscillator keeps the frequency that it was given");
  } else if (address == clkpr_) {
    write_clkpr(bus, value, mask, t);
  } else {
    write_prr(bus, address, merged(reg, value, mask), t + 1);
  }
}

bool System::assume(const Bus& bus, u16 address, u8 value, u64 t) const {
  u8& reg = bus.reg(address);
  if (address == mcucr_) {
    const bool jtag_changes = ((reg ^ value) & kJtd) != 0;
    reg = value & (kIvsel | kJtd | kPud);
    if (jtag_changes) take_jtag_pins(bus, t);
    for (const auto& port : ports_) port->settle(bus, t);
  } else if (address == clkpr_) {
    if ((value & 0x0fU) > 8) return false;  // no division
    divide_clock(bus, value & 0x0fU, t);
  } else if (address == mcusr_) {
    reg = value & 0x1fU;
  } else if (address == osccal_) {
    reg = value;
  } else {
    write(bus, address, value, 0xff, std::max<u64>(t, 1) - 1);
  }
  return true;
}

void System::write_prr(const Bus& bus, u16 address, u8 next, u64 t) const {
  u8& reg = bus.reg(address);
  for (const Peripheral* p : switched_) {
    const auto& power = p->power_switch();
    if (power.address != address || ((reg ^ next) & power.mask) == 0) continue;
    const bool on = (next & power.mask) == 0;
    u64& since = bus.world.off_since[power.number];
    if (!on) p->on_power(bus, false, t);
    reg = static_cast<u8>(reg ^ power.mask);
    for (const unsigned slot : p->slots()) on ? bus.world.unpark(slot, t) : bus.world.park(slot, t);
    if (on) {
      p->stood_still(bus, t - since);
      p->on_power(bus, true, t);
    }
    since = on ? 0 : t;
  }
  reg = next;
}

/// JTAGEN is bit 6 of the high fuse; 0 is programmed.
bool System::jtag_is_on(const World& world) const {
  return !jtag_.empty() && (world.fuses[1] & 0x40U) == 0 && (world.data[mcucr_] & kJtd) == 0;
}

/// "Alternate Port Functions": inputs with pull-ups, but for TDO.
void System::take_jtag_pins(const Bus& bus, u64 t) const {
  const bool on = jtag_is_on(bus.world);
  for (std::size_t i = 0; i < jtag_.size(); ++i) {
    const Pin& pin = jtag_[i];
    pin.port->take_direction(bus, pin.bit, on ? std::optional<bool>(false) : std::nullopt, t);
    pin.port->take_pull_up(bus, pin.bit, on ? std::optional<bool>(i != 2) : std::nullopt, t);
  }
}

std::vector<PinUse> System::uses(const World& world) const {
  if (!jtag_is_on(world)) return {};
  return {{jtag_[0], "JTAG TCK"},
          {jtag_[1], "JTAG TMS"},
          {jtag_[2], "JTAG TDO"},
          {jtag_[3], "JTAG TDI"}};
}

/// "System Clock Prescaler": CLKPCE alone opens four cycles in which CLKPS can be written.
void System::write_clkpr(const Bus& bus, u8 value, u8 mask, u64 t) const {
  u8& reg = bus.reg(clkpr_);
  ClockState& clock = bus.world.clock;
  const u8 next = merged(reg, value, mask);
  const auto shift = static_cast<u8>(next & 0x0fU);
  if ((value & mask & kClkpce) != 0) {
    if ((next & 0x7fU) == 0)
      clock.change_until = t + 1 + 4;
    else
      bus.misused("CLKPR: CLKPCE was written together with other bits; it is not set");
  } else if (t >= clock.change_until) {
    if (shift != clock.shift)
      bus.misused("CLKPR: CLKPS was written outside the four cycles after CLKPCE; it is unchanged");
  } else if (shift > 8) {
    clock.change_until = 0;
    bus.misused("CLKPR: this division is reserved; the clock is unchanged");
  } else {
    divide_clock(bus, shift, t + 1);
  }
}

void System::divide_clock(const Bus& bus, u8 shift, u64 t) const {
  for (const Peripheral* p : all_) p->on_clock(bus, false, t);
  bus.reg(clkpr_) = shift;
  bus.world.set_clock(shift, t);
  for (const Peripheral* p : all_) p->on_clock(bus, true, t);
}

void System::write_mcucr(const Bus& bus, u8 value, u8 mask, u64 t) const {
  u8& reg = bus.reg(mcucr_);
  CpuState& cpu = bus.world.cpu;
  const u8 next = merged(reg, value, mask);
  u8 kept = static_cast<u8>((reg & (kIvsel | kJtd)) | (next & kPud));
  if (((reg ^ next) & kJtd) != 0) {  // twice within four cycles
    if (t < cpu.jtd_until) kept ^= kJtd;
    cpu.jtd_until = t < cpu.jtd_until ? 0 : t + 1 + 4;
  }
  const bool jtag_changes = ((reg ^ kept) & kJtd) != 0;
  reg = kept;
  if (jtag_changes) take_jtag_pins(bus, t + 1);
  if ((value & mask & kIvce) != 0) {
    cpu.ivce_until = t + 1 + 4;
  } else if (t < cpu.ivce_until) {
    reg = static_cast<u8>((reg & ~unsigned{kIvsel}) | (next & kIvsel));
    cpu.ivce_until = 0;
    cpu.hold = 2;  // interrupts stay off for one more instruction
  } else if (((next ^ reg) & kIvsel) != 0) {
    bus.misused("MCUCR: IVSEL was written outside the four cycles after IVCE; it is unchanged");
  }
  // BODS and BODSE, then BODS alone within four cycles; it holds for three.
  const unsigned asked = value & mask & (kBods | kBodse);
  if (asked == (kBods | kBodse)) {
    cpu.bods_until = t + 1 + 4;
  } else if (asked == kBods) {
    if (t < cpu.bods_until)
      cpu.bod_off_until = t + 1 + 3;
    else
      bus.misused("MCUCR: BODS was written outside the four cycles after BODSE; it is not set");
    cpu.bods_until = 0;
  }
  for (const auto& port : ports_) port->settle(bus, t + 1);
}

void set_supply(const Bus& bus, std::int32_t microvolts) {
  // By BODLEVEL, typical; reserved and 7: off. The hysteresis is 50 mV.
  static constexpr std::array<std::int32_t, 8> kLevels{0,         0,         0,         0,
                                                       4'300'000, 2'700'000, 1'800'000, 0};
  constexpr std::int32_t kHalfHysteresis = 25'000;
  World& world = bus.world;
  const std::int32_t level = kLevels[world.fuses[2] & 7U];
  world.supply = microvolts;
  if (world.cpu.bod_off) return;
  if (level != 0 && microvolts < level - kHalfHysteresis && !world.browned_out) {
    world.browned_out = true;
    world.cpu.reset_cause |= kBorf;
  } else if (world.browned_out && microvolts > level + kHalfHysteresis) {
    world.browned_out = false;
  }
  if (level == 0 && microvolts < 1'800'000)
    bus.note(
        fmt::format("VCC is {:.2f} V, less than the chip needs, and the brown-out detector is "
                    "off; it goes on",
                    microvolts / 1e6));
}

}  // namespace lucid::avr
