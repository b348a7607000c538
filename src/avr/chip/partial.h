// SPDX-License-Identifier: MIT
// Partial: a number, some bits of which nothing has written, and how arithmetic brings them on. A
// bit of a result is known if it is the same whatever they are.
#ifndef LUCID_AVR_CHIP_PARTIAL_H
#define LUCID_AVR_CHIP_PARTIAL_H

#include "avr/isa/execute.h"

namespace lucid::avr {

struct Partial {
  u32 value = 0;
  u32 unknown = 0;
  /// Where those bits come from: an address in data space; of a port's register also the pins that
  /// float, from bit kPinsShift on.
  u32 from = 0;
  /// A copy's Pointers::Tag; arithmetic does not bring it on.
  u32 made_from = 0;

  static constexpr unsigned kPinsShift = 16;

  Partial() = default;
  Partial(u32 constant) : value(constant) {}  // NOLINT: numbers in formulas
  Partial(u32 the_value, u32 the_unknown, u32 the_from)
      : value(the_value), unknown(the_unknown), from(the_from) {}

  [[nodiscard]] u32 least() const { return value & ~unknown; }
  [[nodiscard]] u32 most() const { return value | unknown; }

  // A sum lies between those of the least and the most that its parts can be: where these two
  // differ it may differ.
  friend Partial operator+(const Partial& a, const Partial& b) {
    const u32 differs = (a.least() + b.least()) ^ (a.most() + b.most());
    return {a.value + b.value, a.unknown | b.unknown | differs, source(a, b)};
  }
  friend Partial operator-(const Partial& a, const Partial& b) {
    const u32 differs = (a.least() - b.most()) ^ (a.most() - b.least());
    return {a.value - b.value, a.unknown | b.unknown | differs, source(a, b)};
  }
  friend Partial operator*(const Partial& a, const Partial& b) {
    const bool nought = (a.unknown == 0 && a.value == 0) || (b.unknown == 0 && b.value == 0);
    return {a.value * b.value, nought ? 0 : from_lowest_on(a.unknown | b.unknown), source(a, b)};
  }
  friend Partial operator&(const Partial& a, const Partial& b) {
    const u32 unknown = (a.unknown | b.unknown) & a.most() & b.most();
    u32 from = source(a, b);
    const u32 pins = from >> kPinsShift & unknown;  // those that are left
    if (pins != 0) from = (from & 0xffffU) | pins << kPinsShift;
    return {a.value & b.value, unknown, from};
  }
  friend Partial operator|(const Partial& a, const Partial& b) {
    const u32 set = a.least() | b.least();
    return {a.value | b.value, (a.unknown | b.unknown) & ~set, source(a, b)};
  }
  friend Partial operator^(const Partial& a, const Partial& b) {
    return {a.value ^ b.value, a.unknown | b.unknown, source(a, b)};
  }
  friend Partial operator<<(const Partial& a, unsigned places) {
    return {a.value << places, a.unknown << places, a.from};
  }
  friend Partial operator>>(const Partial& a, unsigned places) {
    return {a.value >> places, a.unknown >> places, a.from};
  }
  friend Partial operator~(const Partial& a) { return {~a.value, a.unknown, a.from}; }
  friend Partial is_zero(const Partial& a) {
    if (a.least() != 0) return {};
    return {static_cast<u32>(a.value == 0), static_cast<u32>(a.unknown != 0), a.from};
  }
  friend Partial signed8(const Partial& a) {
    return {avr::signed8(a.value), avr::signed8(a.unknown), a.from};
  }
  friend Partial low8(const Partial& a) { return a & 0xffU; }
  friend Partial low16(const Partial& a) { return a & 0xffffU; }

 private:
  static u32 source(const Partial& a, const Partial& b) { return a.unknown != 0 ? a.from : b.from; }
  static u32 from_lowest_on(u32 bits) { return bits == 0 ? 0 : ~((bits & (0U - bits)) - 1); }
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_CHIP_PARTIAL_H
