// SPDX-License-Identifier: MIT
// Flags: the status register, taken apart so that an instruction writes what it has at hand and
// the register itself is put together only when somebody looks.
#ifndef LUCID_ISA_AVR_FLAGS_H
#define LUCID_ISA_AVR_FLAGS_H

#include <cstdint>

namespace lucid::avr {

/// Bits of the status register ("AVR CPU Core", section on the status register).
enum Flag : std::uint8_t {
  kC = 1U << 0,
  kZ = 1U << 1,
  kN = 1U << 2,
  kV = 1U << 3,
  kS = 1U << 4,
  kH = 1U << 5,
  kT = 1U << 6,
  kI = 1U << 7,
};

using u8 = std::uint8_t;
using u16 = std::uint16_t;
using u32 = std::uint32_t;

/// How many of the flags an instruction writes can be seen by anybody.
enum class Seen : std::uint8_t { kNone, kCarry, kAll };

class Flags {
 public:
  [[nodiscard]] unsigned c() const { return c_; }
  [[nodiscard]] bool t() const { return (ti_ & kT) != 0; }
  [[nodiscard]] bool i() const { return (ti_ & kI) != 0; }

  /// One flag, by its bit number.
  [[nodiscard]] bool test(unsigned bit) const {
    switch (bit) {
      case 0: return c_ != 0;
      case 1: return (zero_ & 0xff) == 0;
      case 2: return (sign_ & 0x80) != 0;
      case 3: return v() != 0;
      case 4: return s() != 0;
      case 5: return (carries_ & 0x10) != 0;
      default: return (ti_ >> bit & 1U) != 0;
    }
  }
  [[nodiscard]] u8 byte() const {
    return static_cast<u8>(c_ | static_cast<unsigned>((zero_ & 0xff) == 0) << 1 |
                           (sign_ >> 5 & kN) | v() << 3 | s() << 4 | (carries_ & 0x10) << 1 | ti_);
  }
  void set_byte(unsigned byte) {
    const unsigned v = byte >> 3 & 1U;
    const unsigned n = byte >> 2 & 1U;
    c_ = byte & kC;
    carries_ = (byte & kH) >> 1 | v << 7;
    sign_ = n << 7 | ((byte >> 4 & 1U) ^ n ^ v) << 8;
    zero_ = ~byte & kZ;
    ti_ = static_cast<u8>(byte & (kT | kI));
  }
  void set_t(bool on) { ti_ = static_cast<u8>((ti_ & kI) | (on ? kT : 0)); }
  void set_i(bool on) { ti_ = static_cast<u8>((ti_ & kT) | (on ? kI : 0)); }

  // What instructions leave. `result` is not yet cut to a byte; N and Z follow it, S = N xor V.
  /// The sum of a and b, perhaps with a carry; their difference.
  template <Seen kSeen>
  void sum(unsigned result, unsigned a, unsigned b) {
    if constexpr (kSeen != Seen::kNone) c_ = result >> 8;
    if constexpr (kSeen == Seen::kAll) {
      carries_ = result ^ a ^ b;
      sign_ = zero_ = result & 0xff;
    }
  }
  template <Seen kSeen>
  void difference(unsigned result, unsigned a, unsigned b) {
    if constexpr (kSeen != Seen::kNone) c_ = result >> 31;
    if constexpr (kSeen == Seen::kAll) {
      carries_ = result ^ a ^ b;
      sign_ = zero_ = result & 0xff;
    }
  }
  /// A difference that can only clear Z: CPC, SBC and SBCI.
  template <Seen kSeen>
  void chained(unsigned result, unsigned a, unsigned b) {
    if constexpr (kSeen != Seen::kNone) c_ = result >> 31;
    if constexpr (kSeen == Seen::kAll) {
      carries_ = result ^ a ^ b;
      sign_ = result & 0xff;
      zero_ |= sign_;
    }
  }
  /// INC and DEC: V as for a sum or difference, C and H stay.
  template <Seen kSeen>
  void stepped(unsigned result, unsigned a) {
    if constexpr (kSeen == Seen::kAll) {
      carries_ = (carries_ & 0x10) | ((result ^ a) & 0x180);
      sign_ = zero_ = result & 0xff;
    }
  }
  /// V = 0, C and H stay.
  template <Seen kSeen>
  void logic(unsigned result) {
    if constexpr (kSeen == Seen::kAll) {
      carries_ &= 0x10;
      sign_ = zero_ = result & 0xff;
    }
  }
  /// V and C are given (0 or 1), H stays.
  template <Seen kSeen>
  void with_carry(unsigned result, unsigned v, unsigned c) {
    if constexpr (kSeen != Seen::kNone) c_ = c;
    if constexpr (kSeen == Seen::kAll) {
      carries_ = (carries_ & 0x10) | v << 7;
      sign_ = zero_ = result & 0xff;
    }
  }
  /// The same of a 16-bit result.
  template <Seen kSeen>
  void wide(unsigned result, unsigned v, unsigned c) {
    if constexpr (kSeen != Seen::kNone) c_ = c;
    if constexpr (kSeen == Seen::kAll) {
      carries_ = (carries_ & 0x10) | v << 7;
      sign_ = result >> 8 & 0xff;
      zero_ = result >> 8 | result;
    }
  }
  /// Only Z and C, of a 16-bit product.
  template <Seen kSeen>
  void product(unsigned value, unsigned c) {
    if constexpr (kSeen != Seen::kNone) c_ = c;
    if constexpr (kSeen == Seen::kAll) zero_ = value >> 8 | value;
  }

 private:
  [[nodiscard]] unsigned v() const { return (carries_ >> 7 ^ carries_ >> 8) & 1U; }
  [[nodiscard]] unsigned s() const { return ((sign_ >> 7 ^ sign_ >> 8) & 1U) ^ v(); }

  u32 c_ = 0;        ///< C
  u32 carries_ = 0;  ///< into each bit: H is the one into bit 4, V the difference of 7 and 8
  u32 sign_ = 0;     ///< N at 7; at 8 whether S is something else than N xor V: SREG can be written
  u32 zero_ = 0;     ///< Z if the low byte is 0
  u8 ti_ = 0;        ///< T and I
};

}  // namespace lucid::avr

#endif  // LUCID_ISA_AVR_FLAGS_H
