// SPDX-License-Identifier: MIT
// A 16-bit timer ("16-bit Timer/Counter1 with PWM").
// Modelled: normal and CTC modes (WGM 0, 4, 12), the prescaler, compare and overflow flags and
// interrupts, 16-bit access through TEMP, a match blocked by a write to TCNT.
// Not modelled, and said when firmware asks for it: PWM modes (counted as normal mode), compare
// outputs on pins, input capture, external clock (the counter stands still).
// The counter is lazy: worked out when it is looked at; the next flag to rise is in the event
// queue.
#ifndef LUCID_CHIP_TIMER16_H
#define LUCID_CHIP_TIMER16_H

#include "chip/peripheral.h"

namespace lucid::chip {

class Timer16 final : public Peripheral {
 public:
  Timer16(const TimerRow& row, unsigned index, unsigned slot)
      : row_(row), index_(index), slot_(slot) {}

  [[nodiscard]] std::vector<u16> addresses() const override;
  u8 read(const Bus& bus, u16 address, u64 t) const override;
  void write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const override;
  [[nodiscard]] u8 peek(const World& world, u16 address, u64 t) const override;
  void on_event(const Bus& bus, unsigned slot, u64 due) const override;
  void on_vector(const Bus& bus, unsigned vector) const override;
  void reset(const Bus& bus) const override;
  [[nodiscard]] std::vector<unsigned> vectors() const override;
  [[nodiscard]] std::vector<unsigned> slots() const override { return {slot_}; }

  /// The counter at tick `t`, not before the last access.
  [[nodiscard]] u16 counter_at(const World& world, u64 t) const;

 private:
  // Offsets from TCCRnA.
  enum : u16 { kTccrb = 1, kTccrc = 2, kTcnt = 4, kIcr = 6, kOcra = 8, kOcrb = 10 };
  // Bits of TIFR and TIMSK.
  enum : u8 { kTov = 1, kOcfa = 2, kOcfb = 4, kIcf = 0x20, kAllFlags = 0x27 };

  [[nodiscard]] u16 at(u16 offset) const { return static_cast<u16>(row_.tccra + offset); }
  [[nodiscard]] u16 word(const World& world, u16 offset) const {
    return static_cast<u16>(world.data[at(offset)] | world.data[at(offset) + 1] << 8);
  }
  [[nodiscard]] unsigned mode(const World& world) const;
  [[nodiscard]] u16 top(const World& world) const;
  /// Ticks a count; 0 if the counter stands still.
  [[nodiscard]] u64 divider(const World& world) const;
  [[nodiscard]] u64 edges_until(const World& world, u64 t) const;
  /// Counts up to the edge at which the counter leaves `value`; nullopt if it never holds it.
  [[nodiscard]] std::optional<u64> edges_to_leave(const World& world, u16 value) const;
  void catch_up(const Bus& bus, u64 t) const;
  void schedule(const Bus& bus) const;
  void refresh_requests(const Bus& bus) const;
  void say_what_is_missing(const Bus& bus) const;
  void write_word(const Bus& bus, u16 offset, u8 low) const;

  TimerRow row_;
  unsigned index_;
  unsigned slot_;
};

}  // namespace lucid::chip

#endif  // LUCID_CHIP_TIMER16_H
