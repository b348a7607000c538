// SPDX-License-Identifier: MIT
// Peripheral: a register map and a few reactions. Its State lives in the World; the object itself
// holds only constants, so that it serves every copy of the world.
#ifndef LUCID_CHIP_PERIPHERAL_H
#define LUCID_CHIP_PERIPHERAL_H

#include <set>
#include <string>
#include <vector>

#include "chip/device.h"
#include "chip/world.h"
#include "isa/machine.h"

namespace lucid::chip {

/// What leaves the world, and what only a debugger remembers. Not hashed.
struct Outputs {
  std::string serial;
  std::vector<std::string> notes;
  std::set<std::string> noted;  ///< each note is said once
  u32 events_wanted = 0;        ///< by isa::bit(kind)
  std::vector<isa::Event> events;
};

/// What a peripheral may touch.
class Bus {
 public:
  Bus(World& the_world, Outputs& outputs) : world(the_world), outputs_(outputs) {}

  World& world;

  [[nodiscard]] u8& reg(u16 address) const { return world.data[address]; }
  void schedule(unsigned slot, u64 due) const { world.due[slot] = due; }
  void request(unsigned vector, bool on) const {
    const u64 bit = u64{1} << vector;
    world.cpu.pending = on ? world.cpu.pending | bit : world.cpu.pending & ~bit;
  }
  /// The processor waits while the peripheral works.
  void stall(u64 ticks) const { world.cpu.now += ticks; }
  void transmit(u8 byte) const { outputs_.serial.push_back(static_cast<char>(byte)); }
  /// For who waits for it; costs a test otherwise.
  void happened(isa::EventKind kind, unsigned number = 0, unsigned value = 0,
                const std::string& name = {}) const {
    if ((outputs_.events_wanted & isa::bit(kind)) != 0)
      outputs_.events.push_back({kind, number, value, name});
  }
  void note(const std::string& text) const {
    if (outputs_.noted.insert(text).second) outputs_.notes.push_back(text);
  }

 private:
  Outputs& outputs_;
};

/// Time of an access: an instruction touches I/O in its last cycle. `t` is the tick at which that
/// cycle begins; a value written takes effect at t + 1.
class Peripheral {
 public:
  virtual ~Peripheral() = default;
  /// The data addresses it answers for.
  [[nodiscard]] virtual std::vector<u16> addresses() const = 0;
  /// The firmware reads, with side effects.
  virtual u8 read(const Bus& bus, u16 address, u64 t) const { return peek(bus.world, address, t); }
  /// The firmware writes; `mask` is what SBI and CBI change, 0xff otherwise.
  virtual void write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const = 0;
  /// What a read would give, without side effects.
  [[nodiscard]] virtual u8 peek(const World& world, u16 address, u64 t) const {
    (void)t;
    return world.data[address];
  }
  virtual void on_event(const Bus& /*bus*/, unsigned /*slot*/, u64 /*due*/) const {}
  virtual void on_vector(const Bus& /*bus*/, unsigned /*vector*/) const {}
  /// After any reset: its registers are zero already.
  virtual void reset(const Bus& bus) const = 0;
  /// Interrupt vectors it can raise.
  [[nodiscard]] virtual std::vector<unsigned> vectors() const { return {}; }
  /// Event slots it owns.
  [[nodiscard]] virtual std::vector<unsigned> slots() const { return {}; }
};

/// `old` with the bits of `mask` taken from `value`.
constexpr u8 merged(u8 old, u8 value, u8 mask) {
  return static_cast<u8>((old & ~mask) | (value & mask));
}

}  // namespace lucid::chip

#endif  // LUCID_CHIP_PERIPHERAL_H
