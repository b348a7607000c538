// SPDX-License-Identifier: MIT
// World: everything a chip is at one moment, as plain values. A copy is a snapshot; equal worlds
// have the same future. Each State lists its fields once; copy, hash and comparison follow that
// list.
#ifndef LUCID_CHIP_WORLD_H
#define LUCID_CHIP_WORLD_H

#include <algorithm>
#include <array>
#include <cstdint>
#include <vector>

#include "base/hash.h"
#include "chip/paged_memory.h"

namespace lucid::chip {

using u8 = std::uint8_t;
using u16 = std::uint16_t;
using u32 = std::uint32_t;
using u64 = std::uint64_t;

constexpr u64 kNever = UINT64_MAX;
constexpr unsigned kEventSlots = 8;

struct CpuState {
  u64 now = 0;      ///< oscillator ticks since power-on
  u64 pending = 0;  ///< interrupt requests that are enabled, one bit a vector
  u32 pc = 0;       ///< word address of the next instruction
  u16 sp = 0;
  u8 sreg = 0;
  /// Instructions to complete before an interrupt may be entered: 2 is set by the one that turns I
  /// on, itself included; 0 mostly.
  u8 hold = 0;
  bool asleep = false;
  u64 ivce_until = 0;  ///< tick up to which IVSEL may be changed and interrupts wait

  template <class Visit>
  void fields(Visit& visit) const {
    visit(now, pending, pc, sp, sreg, hold, asleep, ivce_until);
  }
};

struct PortState {
  u8 driven = 0;  ///< pins driven from outside
  u8 driven_high = 0;
  u8 taken = 0;  ///< pins that a peripheral drives as outputs
  u8 taken_high = 0;
  u8 level = 0;         ///< of the pins, now
  u8 level_before = 0;  ///< and before `changed_at`
  u64 changed_at = 0;

  template <class Visit>
  void fields(Visit& visit) const {
    visit(driven, driven_high, taken, taken_high, level, level_before, changed_at);
  }
};

struct TimerState {
  u64 base = 0;  ///< tick at which the counter held `count`
  u16 count = 0;
  u8 temp = 0;                 ///< high byte on its way in or out
  u8 flags = 0;                ///< TIFR
  bool match_blocked = false;  ///< the firmware wrote the counter: no match at the next edge

  template <class Visit>
  void fields(Visit& visit) const {
    visit(base, count, temp, flags, match_blocked);
  }
};

struct UsartState {
  bool sending = false;  ///< a frame is leaving
  u8 leaving = 0;
  bool buffer_full = false;
  u8 buffer = 0;
  bool transmitted = false;  ///< TXC
  bool receiving = false;    ///< a frame is arriving
  u8 arriving = 0;
  u64 next_start = 0;  ///< earliest start of the next arriving frame
  u8 fifo_count = 0;   ///< 0 to 3: two in the buffer, one waiting in the shift register
  std::array<u8, 3> fifo{};
  bool overrun = false;  ///< DOR
  std::vector<u8> line;  ///< bytes still to arrive

  template <class Visit>
  void fields(Visit& visit) const {
    visit(sending, leaving, buffer_full, buffer, transmitted, receiving, arriving, next_start,
          fifo_count, fifo[0], fifo[1], fifo[2], overrun, line.size());
    for (const u8 byte : line) visit(byte);
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

struct World {
  CpuState cpu;
  std::array<PortState, 3> ports;
  std::array<TimerState, 1> timers;
  std::array<UsartState, 1> usarts;
  EepromState eeprom_controller;
  std::array<u64, kEventSlots> due{};  ///< when each event happens next
  std::array<u8, 3> fuses{};
  u8 lock = 0xff;
  std::vector<u8> data;  ///< registers, I/O, RAM, by data address
  std::vector<u8> eeprom;
  PagedMemory flash;

  World(u32 data_bytes, u32 eeprom_bytes, u32 flash_bytes)
      : data(data_bytes), eeprom(eeprom_bytes, 0xff), flash(flash_bytes, 0xff) {
    due.fill(kNever);
  }

  /// The earliest event. Ties go to the lower slot.
  [[nodiscard]] unsigned next_event() const {
    return static_cast<unsigned>(std::min_element(due.begin(), due.end()) - due.begin());
  }

  [[nodiscard]] u64 hash() const {
    base::Hasher hasher;
    cpu.fields(hasher);
    for (const auto& port : ports) port.fields(hasher);
    for (const auto& timer : timers) timer.fields(hasher);
    for (const auto& usart : usarts) usart.fields(hasher);
    eeprom_controller.fields(hasher);
    for (const u64 time : due) hasher(time);
    hasher(fuses[0], fuses[1], fuses[2], lock);
    hasher.bytes(data.data(), data.size());
    hasher.bytes(eeprom.data(), eeprom.size());
    flash.hash(hasher);
    return hasher.value();
  }
};

}  // namespace lucid::chip

#endif  // LUCID_CHIP_WORLD_H
