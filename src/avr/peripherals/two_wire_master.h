// SPDX-License-Identifier: MIT
// What a master does on the two lines of the two-wire bus, step by step: START, nine bits, STOP
// ("2-wire Serial Interface", sections "Data Transfer and Frame Format" and "Multi-master Bus
// Systems"). For the chip's own interface and for a controller outside.
//
// A line is pulled low or let go. A master that lets SCL go waits until it is high: others may hold
// it. One that has let SDA go and finds it low while it sends has lost arbitration.
#ifndef LUCID_AVR_PERIPHERALS_TWO_WIRE_MASTER_H
#define LUCID_AVR_PERIPHERALS_TWO_WIRE_MASTER_H

#include "avr/world/world.h"

namespace lucid::avr {

/// `Lines` has: void sda(bool), void scl(bool) (true lets go); bool sda_high(), bool scl_high();
/// void wake(u64 after), which calls step() again. Times are in the units of `bit`.
template <class Lines>
class TwoWireMaster {
 public:
  enum Doing : u8 { kNothing, kStart, kByte, kStop };
  enum class Outcome : u8 { kUnderWay, kDone, kLost };

  TwoWireMaster(TwoWireMasterState& state, Lines& lines, u64 bit)
      : state_(state), lines_(lines), bit_(bit) {}

  Outcome start() { return begin(kStart); }
  Outcome stop() { return begin(kStop); }
  /// Nine bits, the acknowledgement is the last. `contested`: those that others must not pull low.
  Outcome exchange(u16 bits, u16 contested) {
    state_.out = bits;
    state_.contested = contested;
    state_.in = 0;
    state_.bit = 0;
    return begin(kByte);
  }
  /// The byte that was on the lines, and whether the ninth bit was low.
  [[nodiscard]] u8 byte() const { return static_cast<u8>(state_.in >> 1); }
  [[nodiscard]] bool acknowledged() const { return (state_.in & 1U) == 0; }

  Outcome step() {
    state_.waits = false;
    switch (state_.doing) {
      case kStart:
      case kStop: return step_of_condition(state_.doing == kStart);
      case kByte: return step_of_byte();
      default: return Outcome::kUnderWay;
    }
  }
  /// SCL has changed, perhaps by others.
  Outcome on_clock(bool high) {
    if (state_.doing == kNothing) return Outcome::kUnderWay;
    if (high && state_.waits) return step();
    // Another master's clock is faster: the high time ends for all.
    if (!high && state_.doing == kByte && state_.phase == 2) return step();
    return Outcome::kUnderWay;
  }
  void give_up() {
    state_.doing = kNothing;
    state_.waits = false;
    lines_.sda(true);
    lines_.scl(true);
  }

 private:
  Outcome begin(Doing doing) {
    state_.doing = state_.was = doing;
    state_.phase = 0;
    return step();
  }
  void wake(u64 after) {
    ++state_.phase;
    lines_.wake(after);
  }
  /// Lets SCL go. False: somebody holds it; the same step is made again when it rises.
  bool clock_is_high() {
    lines_.scl(true);
    state_.waits = !lines_.scl_high();
    return !state_.waits;
  }
  Outcome done() {
    state_.doing = kNothing;
    return Outcome::kDone;
  }
  /// START: SDA falls while SCL is high; STOP: it rises.
  Outcome step_of_condition(bool start) {
    const u64 quarter = bit_ / 4;
    switch (state_.phase) {
      case 0:
        lines_.sda(start);
        wake(quarter);
        break;
      case 1:
        if (clock_is_high()) wake(quarter);
        break;
      case 2:
        lines_.sda(!start);
        wake(bit_ - 2 * quarter);
        break;
      default:
        if (start) lines_.scl(false);
        return done();
    }
    return Outcome::kUnderWay;
  }
  Outcome step_of_byte() {
    const u16 mask = static_cast<u16>(0x100U >> state_.bit);
    switch (state_.phase) {
      case 0:
        lines_.sda((state_.out & mask) != 0);
        wake(bit_ / 2);
        break;
      case 1: {
        if (!clock_is_high()) break;
        const bool high = lines_.sda_high();
        state_.in = static_cast<u16>(state_.in << 1 | (high ? 1U : 0U));
        if (!high && (state_.out & state_.contested & mask) != 0) {
          give_up();
          return Outcome::kLost;
        }
        wake(bit_ - bit_ / 2);
        break;
      }
      default:
        state_.phase = 0;
        ++state_.bit;
        lines_.scl(false);
        return state_.bit == 9 ? done() : step_of_byte();
    }
    return Outcome::kUnderWay;
  }

  TwoWireMasterState& state_;
  Lines& lines_;
  u64 bit_;
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_PERIPHERALS_TWO_WIRE_MASTER_H
