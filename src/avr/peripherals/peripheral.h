// SPDX-License-Identifier: MIT
// Peripheral: a register map and a few reactions. Its State lives in the World; the object itself
// holds only constants, so that it serves every copy of the world.
#ifndef LUCID_AVR_PERIPHERALS_PERIPHERAL_H
#define LUCID_AVR_PERIPHERALS_PERIPHERAL_H

#include <algorithm>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <utility>
#include <vector>

#include "avr/devices/device.h"
#include "avr/world/world.h"
#include "machine/machine.h"

namespace lucid::machine {
class Companions;
class InterruptWatch;
}  // namespace lucid::machine

namespace lucid::avr {

class Adc;
class WireEnd;

/// What leaves the world, and what only a debugger remembers. Not hashed.
class CodeReader;

struct Outputs {
  std::vector<SerialText> serial;
  std::vector<machine::Note> notes;
  std::set<std::string> noted;  ///< each note is said once, of misuse once a place
  u8 ends_at = 0;               ///< the run, by kinds of notes, a bit each
  std::vector<u8> contended;    ///< by port: pins that two drive differently
  struct Worn {
    u64 times = 0;
    u32 pc = 0;
  };
  std::map<u32, Worn> eeprom, flash;  ///< by address: cells, pages that have been programmed
  machine::WatchdogMargin watchdog;
  std::string failure;    ///< of something outside: the run ends with it
  u32 events_wanted = 0;  ///< by machine::bit(kind)
  std::vector<machine::Event> events;
  machine::Tap tap;
  u64 at = kNever;  ///< the cycle of the event under way
  // While somebody counts, during a run:
  machine::InterruptWatch* interrupts = nullptr;
  u64* stalls = nullptr;    ///< cycles that the processor had to wait, by word
  const u32* pc = nullptr;  ///< of the instruction under way, for the tap
  const CodeReader* code = nullptr;
  std::vector<machine::WireChange> offers;    ///< of this chip to its wires
  machine::Companions* companions = nullptr;  ///< that are on them
  /// What points at those who run.
  void end_run() {
    pc = nullptr;
    code = nullptr;
    interrupts = nullptr;
    stalls = nullptr;
  }
};

/// The code that runs.
class CodeReader {
 public:
  virtual ~CodeReader() = default;
  /// Does an instruction store what just before it was loaded from the same place? Which bits have
  /// been set in it since, as far as constants tell.
  [[nodiscard]] virtual std::optional<u8> read_back(u32 pc) const = 0;
};

/// What a peripheral may touch.
class Bus {
 public:
  Bus(World& the_world, Outputs& outputs) : world(the_world), outputs_(outputs) {}

  World& world;

  [[nodiscard]] u8& reg(u16 address) const { return world.data[address]; }
  void schedule(unsigned slot, u64 due) const { world.schedule(slot, due); }
  /// At a tick of the oscillator, whatever becomes of the system clock.
  void schedule_tick(unsigned slot, u64 tick) const { world.schedule_tick(slot, tick); }
  void request(unsigned vector, bool on) const {
    const u64 bit = u64{1} << vector;
    set_pending(on ? world.cpu.pending | bit : world.cpu.pending & ~bit);
  }
  /// Requests that are enabled, one bit a vector.
  void set_pending(u64 pending) const {
    if (outputs_.interrupts != nullptr && pending != world.cpu.pending) tell_pending(pending);
    world.cpu.pending = pending;
  }
  /// The processor waits while the peripheral works.
  void stall(u64 cycles) const {
    world.cpu.now += cycles;
    if (outputs_.stalls != nullptr && outputs_.pc != nullptr)
      outputs_.stalls[*outputs_.pc / 2] += cycles;
  }
  void transmit(const std::string& port, u8 byte) const {
    if (outputs_.serial.empty() || outputs_.serial.back().port != port)
      outputs_.serial.push_back({port, {}});
    outputs_.serial.back().bytes.push_back(static_cast<char>(byte));
  }
  /// For who waits for it; costs a test otherwise.
  void happened(machine::EventKind kind, unsigned number = 0, unsigned value = 0,
                const std::string& name = {}) const {
    if ((outputs_.events_wanted & machine::bit(kind)) != 0)
      outputs_.events.push_back({kind, number, value, name});
  }
  [[nodiscard]] bool listens_to_any() const { return outputs_.tap.wants_any(); }
  [[nodiscard]] bool listens(machine::EventKind kind) const { return outputs_.tap.wants(kind); }
  /// Places in ChipInfo::buses and ChipInfo::moments.
  enum BusPlace : u8 { kSpi, kTwi };
  enum MomentPlace : u8 { kConversion, kWatchdogReset };
  /// Does anybody listen to one of these places, a bit each?
  [[nodiscard]] bool listens_to_moments(u64 places) const {
    return outputs_.tap.wants_moments(places);
  }
  void record_moment(unsigned place, u32 value, u64 t) const {
    if (listens_to_moments(u64{1} << place))
      outputs_.tap.put_moment({world.tick_at(t), machine::EventKind::kMoment, place, value,
                               outputs_.pc ? *outputs_.pc : 0, is_late(t)});
  }
  /// For who listens, at a cycle.
  void record(machine::EventKind kind, u32 number, u32 value, u64 t) const {
    if (outputs_.tap.wants(kind))
      outputs_.tap.put(
          {world.tick_at(t), kind, number, value, outputs_.pc ? *outputs_.pc : 0, is_late(t)});
  }
  /// The pins of a port that may have to be told of: something of this is another than last time,
  /// or may be in contention.
  [[nodiscard]] unsigned changed_pins(unsigned port, unsigned level, unsigned floats,
                                      unsigned contended) const {
    return outputs_.tap.changed_pins(port, level & 0xffU, floats & 0xffU) | contended;
  }
  void record_pin(u32 pin, machine::PinLevel level, u64 t) const {
    outputs_.tap.put_pin(world.tick_at(t), pin, level, outputs_.pc ? *outputs_.pc : 0, is_late(t));
  }
  /// To the wire of a pin, from a cycle on.
  void offer(u8 pin, u8 offer, u64 cycle) const;
  void note(const std::string& text) const { note({text, std::nullopt}, text); }
  /// Against the chip's manual: by the instruction under way, if one is.
  /// Once a place; `what` is the same each time, if the text is not.
  void misused(const std::string& text, const std::string& what = {}) const {
    note_here(text, machine::Note::Kind::kMisuse, what.empty() ? text : what);
  }
  void contention(const std::string& text) const {
    note_here(text, machine::Note::Kind::kContention, text);
  }
  /// The program's instruction under way; nothing while an event or somebody else acts.
  [[nodiscard]] std::optional<u32> instruction() const {
    if (outputs_.pc == nullptr || outputs_.at != kNever) return std::nullopt;
    return *outputs_.pc;
  }
  /// Flags that a store has cleared by ones, of requests that waited: was it meant? A register that
  /// is loaded, changed and stored writes ones to all its flags. Result: those that were not meant.
  [[nodiscard]] unsigned cleared_unasked(unsigned waiting_flags) const;
  /// Of a port's pins, those that the chip and somebody outside drive to different levels now.
  /// Result: those that begin to be.
  [[nodiscard]] bool contends(unsigned port) const {
    return port < outputs_.contended.size() && outputs_.contended[port] != 0;
  }
  unsigned contend(unsigned port, unsigned pins) const {
    if (port >= outputs_.contended.size()) outputs_.contended.resize(port + 1);
    const unsigned before = std::exchange(outputs_.contended[port], static_cast<u8>(pins));
    return pins & ~before;
  }
  void tell_pending(u64 pending) const;
  /// An EEPROM cell, or a page of flash, is programmed.
  void wear_eeprom(u32 address) const { wear(outputs_.eeprom[address]); }
  void wear_flash(u32 page) const { wear(outputs_.flash[page]); }
  /// The watchdog is reset after so many ticks of the oscillator of its period.
  void fed_watchdog(u64 after, u64 period) const {
    machine::WatchdogMargin& margin = outputs_.watchdog;
    ++margin.times;
    constexpr u64 kThousandths = 1000;
    record_moment(kWatchdogReset, static_cast<u32>(after * kThousandths / period), world.cpu.now);
    if (margin.times > 1 && after * margin.period <= margin.longest * period) return;
    margin.longest = after;
    margin.period = period;
    margin.tick = world.tick_at(world.cpu.now);
    margin.pc = instruction().value_or(0);
  }
  /// Ends the run, saying why.
  void fail(const std::string& why) const {
    if (outputs_.failure.empty()) outputs_.failure = why;
  }

 private:
  friend class WireHost;
  /// Nothing that the program does takes longer.
  [[nodiscard]] bool is_late(u64 t) const {
    constexpr u64 kLongest = 8;
    return t + kLongest < world.cpu.now;
  }
  void wear(Outputs::Worn& worn) const {
    ++worn.times;
    if (outputs_.pc != nullptr) worn.pc = *outputs_.pc;
  }
  void note(machine::Note note, const std::string& key) const;
  void note_here(const std::string& text, machine::Note::Kind kind, const std::string& key) const;
  Outputs& outputs_;
};

class Port;

/// A pin, or none.
struct Pin {
  const Port* port = nullptr;
  u8 bit = 0;

  explicit operator bool() const { return port != nullptr; }
  [[nodiscard]] u8 mask() const { return static_cast<u8>(1U << bit); }
  friend bool operator==(const Pin& a, const Pin& b) { return a.port == b.port && a.bit == b.bit; }
};

/// What a peripheral does with a pin at this moment: for people.
struct PinUse {
  Pin pin;
  std::string name;  ///< USART0 TXD
};

/// A register of flags, and one that was not meant.
inline constexpr const char* kTakenBack =
    "{} is loaded and stored back, which writes ones to all flags in it: {}{} is cleared, and the "
    "interrupt that waits does not come";

/// Finds what a part has, by the data sheet's names.
class Names {
 public:
  explicit Names(const ChipInfo& info) : info_(info) {}
  /// The data address of a register; 0 if the part has no such register.
  [[nodiscard]] u16 reg(const std::string& name) const;
  /// The place of a bit of a register; nullopt if the register has none of that name.
  [[nodiscard]] std::optional<u8> bit(u16 address, const std::string& name) const;
  /// The number of a vector, by the first name that is there; 0 if there is none.
  [[nodiscard]] unsigned vector(std::initializer_list<std::string> names) const;

 private:
  const ChipInfo& info_;
};

/// Time is in cycles of the system clock. An access: an instruction touches I/O in its last cycle,
/// `t`; a value written takes effect at t + 1.
class Peripheral {
 public:
  virtual ~Peripheral() = default;
  /// The data addresses it answers for.
  [[nodiscard]] virtual std::vector<u16> addresses() const = 0;
  /// The firmware reads, with side effects.
  virtual u8 read(const Bus& bus, u16 address, u64 t) const { return peek(bus.world, address, t); }
  /// The firmware writes; `mask` is what SBI and CBI change, 0xff otherwise.
  virtual void write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const = 0;
  /// A register's bits come to hold this value at cycle `t`: what rests on them follows, but
  /// nothing is written: nothing is sent, started, cleared by a one or opened by a sequence. Bits
  /// that hold nothing are left out. False: none of them holds anything.
  virtual bool assume(const Bus& bus, u16 address, u8 value, u64 t) const {
    write(bus, address, value, 0xff, std::max<u64>(t, 1) - 1);
    return true;
  }
  /// What a read would give, without side effects.
  [[nodiscard]] virtual u8 peek(const World& world, u16 address, u64 t) const {
    (void)t;
    return world.data[address];
  }
  /// While no bit of a mask is set in a register, a pin's changes mean nothing to it. No address:
  /// they always may.
  struct PinGate {
    u16 address = 0;
    u8 mask = 0;
  };
  [[nodiscard]] virtual PinGate gate(Pin /*pin*/) const { return {}; }
  /// The pins whose changes it wants to be told of.
  [[nodiscard]] virtual std::vector<Pin> listens() const { return {}; }
  /// A pin it listens to has a new level since cycle `t`.
  virtual void on_pin(const Bus& /*bus*/, Pin /*pin*/, bool /*level*/, u64 /*t*/) const {}
  /// A pin it listens to has a new voltage, if not a new level.
  virtual void on_voltage(const Bus& /*bus*/, u64 /*t*/) const {}
  /// A byte has left a serial port.
  virtual void on_byte(const Bus& /*bus*/, const std::string& /*port*/, u8 /*byte*/,
                       u64 /*t*/) const {}
  /// A flag has risen that another peripheral may be started by.
  virtual void on_flag(const Bus& /*bus*/, unsigned /*vector*/, u64 /*t*/) const {}
  [[nodiscard]] virtual std::vector<PinUse> uses(const World& /*world*/) const { return {}; }
  /// Its clock goes on while the chip sleeps in mode `sm` (SMCR's field).
  [[nodiscard]] virtual bool runs_asleep(const World& /*world*/, unsigned /*sm*/) const {
    return false;
  }
  /// Its clock stood still for so many cycles. Its events have been moved already.
  virtual void stood_still(const Bus& /*bus*/, u64 /*cycles*/) const {}
  /// The system clock is about to change at cycle `t`, or has changed: for who rests on another.
  virtual void on_clock(const Bus& /*bus*/, bool /*changed*/, u64 /*t*/) const {}
  /// Its clock stops at cycle `t`, or goes on, by power reduction. Its events have been moved, and
  /// stood_still has been called.
  virtual void on_power(const Bus& /*bus*/, bool /*on*/, u64 /*t*/) const {}
  virtual void on_sleep(const Bus& /*bus*/, unsigned /*sm*/, u64 /*t*/) const {}
  virtual void on_event(const Bus& /*bus*/, unsigned /*slot*/, u64 /*due*/) const {}
  virtual void on_vector(const Bus& /*bus*/, unsigned /*vector*/) const {}
  /// The first cycle from which a register may be another than at `t`, unless an event of a slot, a
  /// load, a store or somebody outside comes before; kNever: none. 0: it is not known.
  [[nodiscard]] virtual u64 steady_until(const World& /*world*/, u16 /*address*/, u64 /*t*/) const {
    return 0;
  }
  /// Whether it makes a difference that a register is loaded again.
  [[nodiscard]] virtual bool loading_acts(u16 /*address*/) const { return false; }
  /// How often the event that requests a vector has happened again in the cycles (from, to], while
  /// its flag was set, if the peripheral was set up then as it is now. To be asked before
  /// on_vector().
  [[nodiscard]] virtual u64 again(const World& /*world*/, unsigned /*vector*/, u64 /*from*/,
                                  u64 /*to*/) const {
    return 0;
  }
  /// The next event that requests this vector happens at cycle `t`, before its time: by itself what
  /// is under way is completed. `byte`: what arrives, if that is it. False: nothing leads to that
  /// event now, the flag has risen all the same. Where there is no flag to raise, nothing happens.
  virtual bool bring_forward(const Bus& bus, unsigned vector, std::optional<u8> byte, u64 t) const;
  /// Tells who listens of moments before cycle `to`, those from `from` on at least, that would be
  /// told when it is brought up to date. Nothing changes.
  virtual void tell(const Bus& /*bus*/, u64 /*from*/, u64 /*to*/) const {}
  /// After any reset: its registers are zero already.
  virtual void reset(const Bus& bus) const = 0;
  /// Interrupt vectors it can raise.
  [[nodiscard]] virtual std::vector<unsigned> vectors() const { return {}; }
  /// Event slots it owns.
  [[nodiscard]] virtual std::vector<unsigned> slots() const { return {}; }
  /// The bit that switches it off ("Power Reduction Register"). Set once, as below.
  struct PowerSwitch {
    u16 address = 0;  ///< 0: there is none
    u8 mask = 0;
    u8 number = 0;  ///< place in World::off_since
  };
  void set_power_switch(const PowerSwitch& power) { power_ = power; }
  [[nodiscard]] const PowerSwitch& power_switch() const { return power_; }
  [[nodiscard]] bool is_off(const World& world) const {
    return power_.address != 0 && (world.data[power_.address] & power_.mask) != 0;
  }
  /// As an observer sees it: time stands still while it is off.
  [[nodiscard]] u64 until(const World& world, u64 t) const {
    return is_off(world) ? std::min(t, world.off_since[power_.number]) : t;
  }
  /// Who is told when one of its flags rises. Set once, while the chip is put together.
  void set_followers(std::vector<const Peripheral*> followers) {
    followers_ = std::move(followers);
  }

 protected:
  void raised(const Bus& bus, unsigned vector, u64 t) const {
    for (const Peripheral* follower : followers_)
      if (!follower->is_off(bus.world)) follower->on_flag(bus, vector, t);
  }

 private:
  std::vector<const Peripheral*> followers_;
  PowerSwitch power_;
};

/// `old` with the bits of `mask` taken from `value`.
constexpr u8 merged(u8 old, u8 value, u8 mask) {
  return static_cast<u8>((old & ~mask) | (value & mask));
}

}  // namespace lucid::avr

#endif  // LUCID_AVR_PERIPHERALS_PERIPHERAL_H
