// SPDX-License-Identifier: MIT
// Flags: the status register, taken apart so that an instruction writes what it has at hand and
// the register itself is put together only when somebody looks.
#ifndef LUCID_AVR_ISA_FLAGS_H
#define LUCID_AVR_ISA_FLAGS_H

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

/// 1 for 0, 0 for anything else.
constexpr u32 is_zero(u32 value) { return static_cast<u32>(value == 0); }

/// `Number` is u32, or whatever stands for one: see execute.h.
template <class Number>
class BasicFlags {
  using N = const Number&;

 public:
  [[nodiscard]] N c() const { return parts_.c; }
  [[nodiscard]] N t() const { return parts_.t; }
  [[nodiscard]] bool i() const { return i_; }

  /// One flag, by its bit number: 0 is clear, anything else is set.
  [[nodiscard]] Number test(unsigned bit) const {
    switch (bit) {
      case 0: return parts_.c;
      case 1: return is_zero(parts_.zero & 0xffU);
      case 2: return parts_.sign & 0x80U;
      case 3: return v();
      case 4: return s();
      case 5: return parts_.carries & 0x10U;
      case 6: return parts_.t;
      default: return Number(static_cast<u32>(i_));
    }
  }
  /// The register but for I.
  [[nodiscard]] Number low_bits() const {
    return parts_.c | is_zero(parts_.zero & 0xffU) << 1U | (parts_.sign >> 5U & kN) | v() << 3U |
           s() << 4U | (parts_.carries & 0x10U) << 1U | parts_.t << 6U;
  }
  void set_low_bits(N byte) {
    const Number v = byte >> 3U & 1U;
    const Number n = byte >> 2U & 1U;
    parts_.c = byte & kC;
    parts_.carries = (byte & kH) >> 1U | v << 7U;
    parts_.sign = n << 7U | ((byte >> 4U & 1U) ^ n ^ v) << 8U;
    parts_.zero = (byte & kZ) ^ kZ;
    parts_.t = byte >> 6U & 1U;
  }
  void set_c(N value) { parts_.c = value; }
  void set_t(N value) { parts_.t = value; }
  void set_i(bool on) { i_ = on; }

  // What instructions leave. `result` is not yet cut to a byte; N and Z follow it, S = N xor V.
  /// The sum of a and b, perhaps with a carry; their difference.
  void sum(N result, N a, N b) {
    parts_.c = result >> 8U;
    parts_.carries = result ^ a ^ b;
    parts_.sign = parts_.zero = result & 0xffU;
  }
  void difference(N result, N a, N b) {
    parts_.c = result >> 31U;
    parts_.carries = result ^ a ^ b;
    parts_.sign = parts_.zero = result & 0xffU;
  }
  /// A difference that can only clear Z: CPC, SBC and SBCI.
  void chained(N result, N a, N b) {
    parts_.c = result >> 31U;
    parts_.carries = result ^ a ^ b;
    parts_.sign = result & 0xffU;
    parts_.zero = parts_.zero | parts_.sign;
  }
  /// INC and DEC: V as for a sum or difference, C and H stay.
  void stepped(N result, N a) {
    parts_.carries = (parts_.carries & 0x10U) | ((result ^ a) & 0x180U);
    parts_.sign = parts_.zero = result & 0xffU;
  }
  /// V = 0, C and H stay.
  void logic(N result) {
    parts_.carries = parts_.carries & 0x10U;
    parts_.sign = parts_.zero = result & 0xffU;
  }
  /// V and C are given (0 or 1), H stays.
  void with_carry(N result, N v, N c) {
    parts_.c = c;
    parts_.carries = (parts_.carries & 0x10U) | v << 7U;
    parts_.sign = parts_.zero = result & 0xffU;
  }
  /// The same of a 16-bit result.
  void wide(N result, N v, N c) {
    parts_.c = c;
    parts_.carries = (parts_.carries & 0x10U) | v << 7U;
    parts_.sign = result >> 8U & 0xffU;
    parts_.zero = result >> 8U | result;
  }
  /// Only Z and C, of a 16-bit product.
  void product(N value, N c) {
    parts_.c = c;
    parts_.zero = value >> 8U | value;
  }

  struct Parts {
    Number c{};        ///< C
    Number carries{};  ///< into each bit: H is the one into bit 4, V the difference of 7 and 8
    Number sign{};     ///< N at 7; at 8 if S is something else than N xor V: SREG can be written
    Number zero{};     ///< Z if the low byte is 0
    Number t{};        ///< T
  };
  [[nodiscard]] const Parts& parts() const { return parts_; }
  void set_parts(const Parts& parts) { parts_ = parts; }

 private:
  [[nodiscard]] Number v() const { return (parts_.carries >> 7U ^ parts_.carries >> 8U) & 1U; }
  [[nodiscard]] Number s() const { return ((parts_.sign >> 7U ^ parts_.sign >> 8U) & 1U) ^ v(); }

  Parts parts_;
  bool i_ = false;  ///< I
};

class Flags : public BasicFlags<u32> {
 public:
  [[nodiscard]] u8 byte() const { return static_cast<u8>(low_bits() | static_cast<u32>(i()) << 7); }
  void set_byte(u32 byte) {
    set_low_bits(byte);
    set_i((byte & kI) != 0);
  }
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_ISA_FLAGS_H
