// SPDX-License-Identifier: MIT
// World: everything a chip is at one moment, as plain values. A copy is a snapshot; equal worlds
// have the same future. Each State lists its fields once; copy, hash and comparison follow that
// list.
#ifndef LUCID_AVR_WORLD_WORLD_H
#define LUCID_AVR_WORLD_WORLD_H

#include <algorithm>
#include <array>
#include <cstdint>
#include <memory>
#include <vector>

#include "base/hash.h"
#include "machine/outside.h"
#include "machine/paged_memory.h"
#include "machine/wires.h"

namespace lucid::avr {

using u8 = std::uint8_t;
using u16 = std::uint16_t;
using u32 = std::uint32_t;
using u64 = std::uint64_t;

constexpr u64 kNever = UINT64_MAX;
constexpr unsigned kEventSlots = 64;

struct CpuState {
  u64 now = 0;      ///< cycles of the system clock since power-on
  u64 pending = 0;  ///< interrupt requests that are enabled, one bit a vector
  u32 pc = 0;       ///< word address of the next instruction
  u16 sp = 0;
  u8 sreg = 0;
  /// Instructions to complete before an interrupt may be entered: 2 is set by the one that turns I
  /// on, itself included; 0 mostly.
  u8 hold = 0;
  bool asleep = false;
  bool deep = false;      ///< asleep with the I/O clock stopped
  u64 slept_at = 0;       ///< since when
  u8 reset_cause = 0;     ///< a peripheral resets the chip: bits of MCUSR
  u64 ivce_until = 0;     ///< cycle up to which IVSEL may be changed and interrupts wait
  u64 jtd_until = 0;      ///< cycle up to which a second write of JTD counts
  u64 bods_until = 0;     ///< cycle up to which BODS may be set
  u64 bod_off_until = 0;  ///< BODS falls at this cycle
  bool bod_off = false;   ///< asleep without the brown-out detector

  template <class Visit>
  void fields(Visit& visit) const {
    visit(now, pending, pc, sp, sreg, hold, asleep, deep, slept_at, reset_cause, ivce_until,
          jtd_until, bods_until, bod_off_until, bod_off);
  }
};

struct PortState {
  u8 driven = 0;  ///< pins driven from outside, as a digital level
  u8 driven_high = 0;
  u8 analog = 0;                        ///< pins at a voltage from outside
  std::array<std::int32_t, 8> volts{};  ///< microvolts
  u8 fought = 0;                        ///< pins that two outside drive differently
  std::array<machine::OutsideLevel, 8> by_hand{};
  u8 value_taken = 0;  ///< pins whose output value a peripheral decides
  u8 value = 0;
  u8 second_taken = 0;  ///< by a second timer: the output compare modulator
  u8 second = 0;
  u8 direction_taken = 0;  ///< pins whose direction a peripheral decides
  u8 direction = 0;        ///< 1: output
  u8 pull_taken = 0;       ///< pins whose pull-up a peripheral decides
  u8 pull = 0;
  u8 held_low = 0;                                      ///< pins that a device outside pulls low
  u8 pulled_up = 0;                                     ///< pins with a resistor outside
  u8 wire_low = 0, wire_high = 0, wire_pull = 0;        ///< from other chips on the pin's wire
  u8 offers_low = 0, offers_high = 0, offers_pull = 0;  ///< what they get from this one
  u8 level = 0;                                         ///< of the pins, now
  u8 level_before = 0;                                  ///< and before `changed_at`
  u64 changed_at = 0;

  template <class Visit>
  void fields(Visit& visit) const {
    visit(driven, driven_high, analog, value_taken, value, direction_taken, direction, pull_taken,
          pull, held_low, pulled_up, wire_low, wire_high, wire_pull, offers_low, offers_high,
          offers_pull, level, level_before, changed_at);
    visit(fought, second_taken, second);
    for (const std::int32_t v : volts) visit(static_cast<u32>(v));
    for (const machine::OutsideLevel& hand : by_hand) hand.fields(visit);
  }
};

struct TimerState {
  u64 base = 0;  ///< cycle at which the counter held `count`
  u16 count = 0;
  bool down = false;             ///< phase-correct modes
  std::array<u16, 3> compare{};  ///< in force; the registers hold what was written
  u8 outputs = 0;                ///< levels of OCnA, OCnB, OCnC
  u8 temp = 0;                   ///< high byte on its way in or out
  u16 temp_of = 0;               ///< of which register, if it has not arrived yet; 0: of none
  bool temp_out = false;         ///< it has been read with the low byte
  u32 temp_pc = 0;               ///< by which instruction
  u8 flags = 0;                  ///< TIFR
  bool match_blocked = false;    ///< the firmware wrote the counter: no match at the next edge
  u64 capture_at = kNever;       ///< an edge at ICPn comes through
  bool captured_level = false;   ///< of ICPn, behind the noise canceller
  std::array<u64, 2> clock_at{kNever, kNever};  ///< edges at Tn come through
  // Timer2 on its crystal: what was written waits for two of its edges.
  u8 waiting = 0;               ///< bits of ASSR
  std::array<u8, 5> latches{};  ///< by bit
  std::array<u64, 5> due{};     ///< oscillator ticks

  template <class Visit>
  void fields(Visit& visit) const {
    visit(base, count, down, compare[0], compare[1], compare[2], outputs, temp, temp_of, temp_out,
          temp_pc, flags, match_blocked, capture_at, waiting, captured_level, clock_at[0],
          clock_at[1]);
    for (const u8 latch : latches) visit(latch);
    for (const u64 tick : due) visit(tick);
  }
};

/// The system clock: the oscillator, divided by a power of two ("System Clock Prescaler"). What the
/// processor and most peripherals count is its cycles; time outside is in ticks of the oscillator.
struct ClockState {
  u8 shift = 0;          ///< CLKPS
  u64 cycle = 0;         ///< in force since this cycle
  u64 tick = 0;          ///< which began at this tick
  u64 change_until = 0;  ///< cycle up to which CLKPS may be written

  template <class Visit>
  void fields(Visit& visit) const {
    visit(shift, cycle, tick, change_until);
  }
};

/// The prescalers: of all timers but Timer2, and of Timer2.
struct PrescalerState {
  std::array<u64, 2> origin{};  ///< cycle at which it was zero; on a crystal the tick
  std::array<bool, 2> held{};

  template <class Visit>
  void fields(Visit& visit) const {
    visit(origin[0], origin[1], held[0], held[1]);
  }
};

struct AdcState {
  bool converting = false;
  bool sampled = false;  ///< the input has been taken: `result` is known, not yet shown
  bool warm = false;     ///< the first conversion after ADEN is over
  bool locked = false;   ///< ADCL was read: the result stays until ADCH is
  u8 mux = 0;            ///< of this conversion: MUX and REFS
  u8 mux5 = 0;
  u16 result = 0;
  u16 shown = 0;   ///< what ADC holds
  u64 origin = 0;  ///< cycle at which its prescaler was zero
  u64 next = 0;    ///< while converting: cycle at which the input is taken, or the result shown

  template <class Visit>
  void fields(Visit& visit) const {
    visit(converting, sampled, warm, locked, mux, mux5, result, shown, origin, next);
  }
};

struct WatchdogState {
  u64 change_until = 0;  ///< the window after WDCE
  u64 fed = 0;           ///< oscillator tick of the last restart

  template <class Visit>
  void fields(Visit& visit) const {
    visit(change_until, fed);
  }
};

struct SpiState {
  bool shifting = false;
  u8 step = 0;         ///< half bits done
  u8 shift = 0;        ///< leaves at one end, arrives at the other
  u8 sampled = 0;      ///< the bit to be shifted in
  u8 in = 0;           ///< what SPDR reads
  u8 flags = 0;        ///< SPIF and WCOL
  u8 flags_read = 0;   ///< those that a read of SPSR has shown
  bool clock = false;  ///< level of SCK

  template <class Visit>
  void fields(Visit& visit) const {
    visit(shifting, step, shift, sampled, in, flags, flags_read, clock);
  }
};

/// A master's way through START, nine bits or STOP: see TwoWireMaster.
struct TwoWireMasterState {
  u8 doing = 0, was = 0;  ///< see TwoWireMaster::Doing
  u8 phase = 0;
  u8 bit = 0;
  bool waits = false;  ///< for SCL, which others hold
  u16 out = 0, contested = 0, in = 0;

  template <class Visit>
  void fields(Visit& visit) const {
    visit(doing, was, phase, bit, waits, out, contested, in);
  }
};

/// The bits of the byte under way, as the lines have shown them; nine with the acknowledgement.
struct TwoWireBits {
  u8 count = 0;
  u16 bits = 0;

  void take(bool high) {
    if (count == 9) return;
    bits = static_cast<u16>(bits << 1 | (high ? 1U : 0U));
    ++count;
  }
  template <class Visit>
  void fields(Visit& visit) const {
    visit(count, bits);
  }
};

struct TwiState {
  TwoWireMasterState own;
  bool master = false;   ///< it has sent a START and no STOP
  bool address = false;  ///< the next byte is an address
  bool reading = false;  ///< the address asked for bytes
  bool lost = false;     ///< arbitration, in this byte
  bool busy = false;     ///< START was seen and no STOP
  bool answers = false;  ///< the ninth bit
  u8 target = 0;         ///< see Twi::Target
  TwoWireBits seen;
  u8 status = 0xf8;

  template <class Visit>
  void fields(Visit& visit) const {
    own.fields(visit);
    visit(master, address, reading, lost, busy, answers, target, status);
    seen.fields(visit);
  }
};

/// What is on the two-wire lines outside: devices and a controller.
struct TwoWireBusState {
  TwoWireMasterState own;  ///< the controller
  bool owns = false;       ///< it has sent a START and no STOP
  bool started = false;    ///< nothing since that START
  std::vector<u16> steps;  ///< what it does: see TwoWireBus::Step
  u8 at = 0;               ///< of them
  bool busy = false;       ///< START was seen and no STOP
  bool address = false;    ///< the byte under way is an address
  bool reading = false;    ///< it asked for bytes
  u8 device = 0;           ///< that has acknowledged, counted from 1; 0: nobody
  u8 byte = 0;             ///< to be sent by the device
  TwoWireBits seen;
  bool controller_low = false, device_low = false;  ///< on SDA

  template <class Visit>
  void fields(Visit& visit) const {
    own.fields(visit);
    visit(owns, started, at, busy, address, reading, device, byte, controller_low, device_low,
          steps.size());
    seen.fields(visit);
    for (const u16 step : steps) visit(step);
  }
};

struct BootState {
  std::vector<u8> page;   ///< the buffer
  u64 enabled_until = 0;  ///< SPMEN falls at this tick
  bool busy = false;
  bool rww_busy = false;

  template <class Visit>
  void fields(Visit& visit) const {
    visit(enabled_until, busy, rww_busy, page.size());
    for (const u8 byte : page) visit(byte);
  }
};

struct InterruptPinState {
  u8 levels = 0xff;  ///< of INT0 to INT7 as last seen
  u8 flags = 0;      ///< EIFR
  u8 changes = 0;    ///< PCIFR
  /// Flags of PCIFR on their way through the synchroniser.
  std::array<u64, 4> changes_at{kNever, kNever, kNever, kNever};

  template <class Visit>
  void fields(Visit& visit) const {
    visit(levels, flags, changes);
    for (const u64 at : changes_at) visit(at);
  }
};

struct UsartState {
  bool sending = false;  ///< a frame is leaving
  u8 out_bit = 0;        ///< of it, on TXD; kWaits: for the clock's edge
  u16 leaving = 0;       ///< its 5 to 9 data bits
  bool buffer_full = false;
  u16 buffer = 0;
  bool transmitted = false;    ///< TXC
  bool receiving = false;      ///< a frame is arriving
  bool from_pin = false;       ///< bit by bit on RXD, not from `line`
  u8 in_bit = 0;               ///< of it, the next to be sampled
  u16 arriving = 0;            ///< its data bits; kNoStop, kWrongParity
  std::array<u64, 2> edges{};  ///< the last two on RXD
  u64 next_start = 0;          ///< earliest start of the next arriving frame
  u8 fifo_count = 0;           ///< 0 to 3: two in the buffer, one waiting in the shift register
  std::array<u16, 3> fifo{};
  bool overrun = false;   ///< DOR
  std::vector<u16> line;  ///< frames still to arrive
  u8 half_bits = 0;       ///< of SPI-master mode, done
  bool clock = false;     ///< XCK is away from its rest; high in synchronous mode

  template <class Visit>
  void fields(Visit& visit) const {
    visit(sending, out_bit, leaving, buffer_full, buffer, transmitted, receiving, from_pin, in_bit,
          arriving, edges[0], edges[1], next_start, fifo_count, fifo[0], fifo[1], fifo[2], overrun,
          half_bits, clock, line.size());
    for (const u16 frame : line) visit(frame);
  }
};

struct EepromState {
  u64 master_until = 0;  ///< EEMPE falls at this tick
  bool writing = false;
  u16 address = 0;  ///< being programmed
  u8 value = 0;
  u8 mode = 0;  ///< EEPM

  template <class Visit>
  void fields(Visit& visit) const {
    visit(master_until, writing, address, value, mode);
  }
};

/// How many of each a chip has.
struct WorldShape {
  u32 data = 0, eeprom = 0, flash = 0;  ///< bytes
  unsigned ports = 0, timers = 0, usarts = 0;
  unsigned slots = 0;                ///< for events
  unsigned sync_slot = kEventSlots;  ///< the one that depends on how far others are ahead
};

struct World {
  CpuState cpu;
  ClockState clock;
  std::vector<PortState> ports;
  std::vector<TimerState> timers;
  std::vector<UsartState> usarts;
  machine::OutsideState outside;  ///< the parts on its pins
  PrescalerState prescalers;
  AdcState adc;
  WatchdogState watchdog;
  SpiState spi;
  TwiState twi;
  TwoWireBusState two_wire_bus;
  BootState boot;
  InterruptPinState interrupt_pins;
  EepromState eeprom_controller;
  std::vector<machine::WireChange> inbox;  ///< a companion: what reaches it, by time
  machine::GroupState group;
  std::int32_t supply = 5'000'000;     ///< microvolts at VCC and AVCC
  bool browned_out = false;            ///< held in reset: the supply is too low
  std::int32_t reference = 5'000'000;  ///< at AREF
  std::array<u8, 3> fuses{};
  u8 lock = 0xff;
  std::array<u64, 16> off_since{};  ///< cycles; by Peripheral::power_switch
  std::vector<u8> data;             ///< registers, I/O, RAM, by data address
  std::vector<u8> eeprom;
  machine::PagedMemory flash;

  explicit World(const WorldShape& shape)
      : ports(shape.ports),
        timers(shape.timers),
        usarts(shape.usarts),
        data(shape.data),
        eeprom(shape.eeprom, 0xff),
        flash(shape.flash, 0xff),
        slots_(std::max(shape.slots, 1U)),
        sync_slot_(shape.sync_slot) {
    due_.fill(kNever);
    due_tick_.fill(kNever);
    frozen_.fill(kNever);
    parked_.fill(kNever);
  }

  /// The oscillator's tick when a cycle begins, if the clock always was as it is now.
  [[nodiscard]] u64 tick_at(u64 cycle) const {
    if (cycle >= clock.cycle) return clock.tick + ((cycle - clock.cycle) << clock.shift);
    return clock.tick - std::min(clock.tick, (clock.cycle - cycle) << clock.shift);
  }
  /// The first cycle that begins at a tick or behind it.
  [[nodiscard]] u64 cycle_at(u64 tick) const {
    if (tick == kNever) return kNever;
    if (tick <= clock.tick) return clock.cycle;
    return clock.cycle + ((tick - clock.tick - 1) >> clock.shift) + 1;
  }
  /// The oscillator is divided by 2^shift from this cycle on.
  void set_clock(u8 shift, u64 cycle) {
    clock = {shift, cycle, tick_at(cycle), 0};
    for (unsigned slot = 0; slot < slots_; ++slot)
      if (due_[slot] != kNever && due_tick_[slot] != kNever) schedule_tick(slot, due_tick_[slot]);
  }

  // When each event happens next, in cycles.
  [[nodiscard]] u64 due(unsigned slot) const { return due_[slot]; }
  /// The tick for which an event was last scheduled that does not depend on the system clock.
  [[nodiscard]] u64 due_tick(unsigned slot) const { return due_tick_[slot]; }
  void schedule_tick(unsigned slot, u64 tick) {
    schedule(slot, cycle_at(tick));
    due_tick_[slot] = tick;
  }
  /// REQUIRES: the slot's events are never scheduled by ticks, or `when` is kNever.
  void schedule(unsigned slot, u64 when) {
    const u64 before = due_[slot];
    due_[slot] = when;
    if (slot == next_) {
      const bool stays = when <= before || when < others_ || others_ == kNever;
      if (!stays) find_next();
    } else if (when < due_[next_] || (when == due_[next_] && slot < next_)) {
      others_ = std::min(others_, due_[next_]);
      next_ = slot;
    } else {
      others_ = std::min(others_, when);
    }
  }
  /// The earliest event. Ties go to the lower slot.
  [[nodiscard]] unsigned next_event() const { return next_; }
  [[nodiscard]] u64 next_due() const { return due_[next_]; }
  /// Of GroupState; kEventSlots if the chip has no companions.
  [[nodiscard]] unsigned sync_slot() const { return sync_slot_; }

  // Events whose clock stands still keep the cycles that are left.
  void freeze(unsigned slot) {
    frozen_[slot] = due_[slot] == kNever ? kNever : due_[slot] - cpu.now;
    schedule(slot, kNever);
  }
  /// REQUIRES: the slot was frozen so many cycles ago.
  void thaw(unsigned slot, u64 cycles) {
    if (frozen_[slot] != kNever) go_on(slot, cpu.slept_at + cycles + frozen_[slot]);
    frozen_[slot] = kNever;
  }
  void thaw_all() { frozen_.fill(kNever); }
  // The same for a peripheral that is switched off, asleep or not.
  void park(unsigned slot, u64 now) {
    parked_[slot] = due_[slot] == kNever ? kNever : due_[slot] - std::min(now, due_[slot]);
    schedule(slot, kNever);
  }
  void unpark(unsigned slot, u64 now) {
    if (parked_[slot] != kNever) go_on(slot, now + parked_[slot]);
    parked_[slot] = kNever;
  }
  void unpark_all() {
    parked_.fill(kNever);
    off_since.fill(0);
  }

  [[nodiscard]] u64 hash() const {
    base::Hasher hasher;
    cpu.fields(hasher);
    clock.fields(hasher);
    for (const auto& port : ports) port.fields(hasher);
    for (const auto& timer : timers) timer.fields(hasher);
    for (const auto& usart : usarts) usart.fields(hasher);
    outside.fields(hasher);
    prescalers.fields(hasher);
    adc.fields(hasher);
    watchdog.fields(hasher);
    spi.fields(hasher);
    twi.fields(hasher);
    two_wire_bus.fields(hasher);
    boot.fields(hasher);
    interrupt_pins.fields(hasher);
    eeprom_controller.fields(hasher);
    for (const machine::WireChange& change : inbox) change.fields(hasher);
    for (unsigned slot = 0; slot < slots_; ++slot)
      if (slot != sync_slot_) hasher(due_[slot], due_tick_[slot], frozen_[slot], parked_[slot]);
    for (const u64 tick : off_since) hasher(tick);
    hasher(static_cast<u32>(supply), static_cast<u32>(reference), browned_out);
    hasher(fuses[0], fuses[1], fuses[2], lock);
    hasher.bytes(data.data(), data.size());
    hasher.bytes(eeprom.data(), eeprom.size());
    flash.hash(hasher);
    return hasher.value();
  }

 private:
  void go_on(unsigned slot, u64 when) {
    schedule(slot, when);
    if (due_tick_[slot] != kNever) due_tick_[slot] = tick_at(when);
  }

  void find_next() {
    next_ = 0;
    others_ = kNever;
    for (unsigned slot = 1; slot < slots_; ++slot) {
      const bool sooner = due_[slot] < due_[next_];
      others_ = std::min(others_, sooner ? due_[next_] : due_[slot]);
      if (sooner) next_ = slot;
    }
  }

  std::array<u64, kEventSlots> due_{};
  std::array<u64, kEventSlots> due_tick_{};  ///< kNever: in cycles
  std::array<u64, kEventSlots> frozen_{};
  std::array<u64, kEventSlots> parked_{};
  unsigned next_ = 0;    ///< derived from due_
  u64 others_ = kNever;  ///< so, too: none of the others is earlier
  unsigned slots_;       ///< in use
  unsigned sync_slot_;
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_WORLD_WORLD_H
