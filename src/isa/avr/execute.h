// SPDX-License-Identifier: MIT
// What each instruction does, one function per row of instructions.def.
//
// `State` is whatever runs the program; it provides
//   r                      the 32 registers, as an array of bytes
//   flags                  the status register
//   load(a) store(a, v)    the firmware's access to data space, with its side effects
//   store_bits(a, v, mask) the same for SBI and CBI: only the bits in mask are written
//   push(v) pop()          through the stack pointer
//   push_pc() pop_pc()     two or three bytes
//   flash(a)               a byte of program memory
//   rampz() set_rampz(v) eind()
//   jump(word) jump_to(e)  to a word address; to the one the entry holds
//   skip() turned_on_interrupts() returned_from_interrupt()
//   sleep() watchdog_reset() self_program()
//   took_branch()          one more cycle
// Flags follow the Boolean formulas of the manual's instruction pages.
#ifndef LUCID_ISA_AVR_EXECUTE_H
#define LUCID_ISA_AVR_EXECUTE_H

#include <cstdint>

#include "isa/avr/flags.h"
#include "isa/avr/table.h"

namespace lucid::avr {

/// `kSeen`: what of the flags it writes anybody can see; the rest is left out.
template <class State, Seen kSeen = Seen::kAll>
class Execute {
  using S = State&;
  using E = const Entry&;

  static u16 pair(S s, unsigned n) {
    const u8* const low = s.r + n;
    return static_cast<u16>(low[0] | low[1] << 8);
  }
  static void set_pair(S s, unsigned n, unsigned value) {
    u8* const low = s.r + n;
    low[0] = static_cast<u8>(value);
    low[1] = static_cast<u8>(value >> 8);
  }

  static u8 add(S s, unsigned a, unsigned b, unsigned carry) {
    const unsigned result = a + b + carry;
    s.flags.template sum<kSeen>(result, a, b);
    return static_cast<u8>(result);
  }
  static u8 subtract(S s, unsigned a, unsigned b) {
    const unsigned result = a - b;
    s.flags.template difference<kSeen>(result, a, b);
    return static_cast<u8>(result);
  }
  static u8 subtract_chained(S s, unsigned a, unsigned b) {
    const unsigned result = a - b - s.flags.c();
    s.flags.template chained<kSeen>(result, a, b);
    return static_cast<u8>(result);
  }
  static u8 step(S s, unsigned a, unsigned result) {
    s.flags.template stepped<kSeen>(result, a);
    return static_cast<u8>(result);
  }
  static u8 logic(S s, unsigned result) {
    s.flags.template logic<kSeen>(result);
    return static_cast<u8>(result);
  }
  /// A right shift: `out` is the bit that left, and V = N xor C.
  static u8 shifted(S s, unsigned result, unsigned out) {
    s.flags.template with_carry<kSeen>(result, (result >> 7 & 1U) ^ out, out);
    return static_cast<u8>(result);
  }
  static void product(S s, unsigned value, unsigned carry) {
    set_pair(s, 0, value);
    s.flags.template product<kSeen>(value & 0xffff, carry);
  }
  static void fraction(S s, unsigned value) { product(s, value << 1, value >> 15 & 1U); }
  static int signed8(u8 value) { return static_cast<std::int8_t>(value); }
  static void set_wide(S s, unsigned n, unsigned result, unsigned v, unsigned c) {
    set_pair(s, n, result);
    s.flags.template wide<kSeen>(result & 0xffff, v, c);
  }

  static void load_inc(S s, E e, unsigned n) {
    const u16 address = pair(s, n);
    const u8 value = s.load(address);
    set_pair(s, n, address + 1U);
    s.r[e.a] = value;
  }
  static void load_dec(S s, E e, unsigned n) {
    const auto address = static_cast<u16>(pair(s, n) - 1);
    set_pair(s, n, address);
    s.r[e.a] = s.load(address);
  }
  static void store_inc(S s, E e, unsigned n) {
    const u16 address = pair(s, n);
    s.store(address, s.r[e.a]);
    set_pair(s, n, address + 1U);
  }
  static void store_dec(S s, E e, unsigned n) {
    const auto address = static_cast<u16>(pair(s, n) - 1);
    const u8 value = s.r[e.a];
    set_pair(s, n, address);
    s.store(address, value);
  }
  static u16 displaced(S s, E e, unsigned n) { return static_cast<u16>(pair(s, n) + e.k); }
  static constexpr unsigned kX = 26, kY = 28, kZreg = 30;
  static u16 io(E e) { return static_cast<u16>(e.k + 0x20); }

  static u32 far_z(S s) { return u32{s.rampz()} << 16 | pair(s, kZreg); }

 public:
  static void ADD(S s, E e) { s.r[e.a] = add(s, s.r[e.a], s.r[e.b], 0); }
  static void ADC(S s, E e) { s.r[e.a] = add(s, s.r[e.a], s.r[e.b], s.flags.c()); }
  static void ADIW(S s, E e) {
    const unsigned before = pair(s, e.a);
    const unsigned after = before + static_cast<unsigned>(e.k);
    set_wide(s, e.a, after & 0xffff, (~before & after) >> 15 & 1U, (before & ~after) >> 15 & 1U);
  }
  static void SUB(S s, E e) { s.r[e.a] = subtract(s, s.r[e.a], s.r[e.b]); }
  static void SUBI(S s, E e) { s.r[e.a] = subtract(s, s.r[e.a], constant(e)); }
  static void SBC(S s, E e) { s.r[e.a] = subtract_chained(s, s.r[e.a], s.r[e.b]); }
  static void SBCI(S s, E e) { s.r[e.a] = subtract_chained(s, s.r[e.a], constant(e)); }
  static void SBIW(S s, E e) {
    const unsigned before = pair(s, e.a);
    const unsigned after = (before - static_cast<unsigned>(e.k)) & 0xffff;
    set_wide(s, e.a, after, (before & ~after) >> 15 & 1U, (~before & after) >> 15 & 1U);
  }
  static void AND(S s, E e) { s.r[e.a] = logic(s, s.r[e.a] & s.r[e.b]); }
  static void ANDI(S s, E e) { s.r[e.a] = logic(s, s.r[e.a] & constant(e)); }
  static void OR(S s, E e) { s.r[e.a] = logic(s, s.r[e.a] | s.r[e.b]); }
  static void ORI(S s, E e) { s.r[e.a] = logic(s, s.r[e.a] | constant(e)); }
  static void EOR(S s, E e) { s.r[e.a] = logic(s, s.r[e.a] ^ s.r[e.b]); }
  static void COM(S s, E e) {
    s.r[e.a] = static_cast<u8>(~s.r[e.a]);
    s.flags.template with_carry<kSeen>(s.r[e.a], 0, 1);
  }
  static void NEG(S s, E e) { s.r[e.a] = subtract(s, 0, s.r[e.a]); }
  static void INC(S s, E e) { s.r[e.a] = step(s, s.r[e.a], s.r[e.a] + 1U); }
  static void DEC(S s, E e) { s.r[e.a] = step(s, s.r[e.a], s.r[e.a] - 1U); }
  static void MUL(S s, E e) {
    const unsigned value = unsigned{s.r[e.a]} * s.r[e.b];
    product(s, value, value >> 15 & 1U);
  }
  static void MULS(S s, E e) {
    const auto value = static_cast<unsigned>(signed8(s.r[e.a]) * signed8(s.r[e.b]));
    product(s, value, value >> 15 & 1U);
  }
  static void MULSU(S s, E e) {
    const auto value = static_cast<unsigned>(signed8(s.r[e.a]) * int{s.r[e.b]});
    product(s, value, value >> 15 & 1U);
  }
  static void FMUL(S s, E e) { fraction(s, unsigned{s.r[e.a]} * s.r[e.b]); }
  static void FMULS(S s, E e) {
    fraction(s, static_cast<unsigned>(signed8(s.r[e.a]) * signed8(s.r[e.b])));
  }
  static void FMULSU(S s, E e) {
    fraction(s, static_cast<unsigned>(signed8(s.r[e.a]) * int{s.r[e.b]}));
  }

  static void CP(S s, E e) { subtract(s, s.r[e.a], s.r[e.b]); }
  static void CPC(S s, E e) { subtract_chained(s, s.r[e.a], s.r[e.b]); }
  static void CPI(S s, E e) { subtract(s, s.r[e.a], constant(e)); }
  static void CPSE(S s, E e) {
    if (s.r[e.a] == s.r[e.b]) s.skip();
  }

  static void LSR(S s, E e) { s.r[e.a] = shifted(s, s.r[e.a] >> 1, s.r[e.a] & 1U); }
  static void ROR(S s, E e) {
    s.r[e.a] = shifted(s, s.r[e.a] >> 1 | (s.flags.c()) << 7, s.r[e.a] & 1U);
  }
  static void ASR(S s, E e) {
    s.r[e.a] = shifted(s, s.r[e.a] >> 1 | (s.r[e.a] & 0x80U), s.r[e.a] & 1U);
  }
  static void SWAP(S s, E e) { s.r[e.a] = static_cast<u8>(s.r[e.a] << 4 | s.r[e.a] >> 4); }
  static void BST(S s, E e) { s.flags.set_t((s.r[e.a] >> e.b & 1U) != 0); }
  static void BLD(S s, E e) {
    const unsigned bit = 1U << e.b;
    s.r[e.a] = static_cast<u8>((s.r[e.a] & ~bit) | (s.flags.t() ? bit : 0));
  }
  static void BSET(S s, E e) {
    const bool before = s.flags.i();
    s.flags.set_byte(s.flags.byte() | 1U << e.b);
    if (!before && s.flags.i()) s.turned_on_interrupts();
  }
  static void BCLR(S s, E e) { s.flags.set_byte(s.flags.byte() & ~(1U << e.b)); }
  static void SBI(S s, E e) { s.store_bits(io(e), 0xff, static_cast<u8>(1U << e.b)); }
  static void CBI(S s, E e) { s.store_bits(io(e), 0, static_cast<u8>(1U << e.b)); }

  static void MOV(S s, E e) { s.r[e.a] = s.r[e.b]; }
  static void MOVW(S s, E e) { set_pair(s, e.a, pair(s, e.b)); }
  static void LDI(S s, E e) { s.r[e.a] = static_cast<u8>(e.k); }
  static void LDS(S s, E e) { s.r[e.a] = s.load(static_cast<u16>(e.k)); }
  static void LD_X(S s, E e) { s.r[e.a] = s.load(pair(s, kX)); }
  static void LD_XI(S s, E e) { load_inc(s, e, kX); }
  static void LD_XD(S s, E e) { load_dec(s, e, kX); }
  static void LD_Y(S s, E e) { s.r[e.a] = s.load(pair(s, kY)); }
  static void LD_YI(S s, E e) { load_inc(s, e, kY); }
  static void LD_YD(S s, E e) { load_dec(s, e, kY); }
  static void LDD_Y(S s, E e) { s.r[e.a] = s.load(displaced(s, e, kY)); }
  static void LD_Z(S s, E e) { s.r[e.a] = s.load(pair(s, kZreg)); }
  static void LD_ZI(S s, E e) { load_inc(s, e, kZreg); }
  static void LD_ZD(S s, E e) { load_dec(s, e, kZreg); }
  static void LDD_Z(S s, E e) { s.r[e.a] = s.load(displaced(s, e, kZreg)); }
  static void STS(S s, E e) { s.store(static_cast<u16>(e.k), s.r[e.a]); }
  static void ST_X(S s, E e) { s.store(pair(s, kX), s.r[e.a]); }
  static void ST_XI(S s, E e) { store_inc(s, e, kX); }
  static void ST_XD(S s, E e) { store_dec(s, e, kX); }
  static void ST_Y(S s, E e) { s.store(pair(s, kY), s.r[e.a]); }
  static void ST_YI(S s, E e) { store_inc(s, e, kY); }
  static void ST_YD(S s, E e) { store_dec(s, e, kY); }
  static void STD_Y(S s, E e) { s.store(displaced(s, e, kY), s.r[e.a]); }
  static void ST_Z(S s, E e) { s.store(pair(s, kZreg), s.r[e.a]); }
  static void ST_ZI(S s, E e) { store_inc(s, e, kZreg); }
  static void ST_ZD(S s, E e) { store_dec(s, e, kZreg); }
  static void STD_Z(S s, E e) { s.store(displaced(s, e, kZreg), s.r[e.a]); }
  static void LPM_0(S s, E /*e*/) { s.r[0] = s.flash(pair(s, kZreg)); }
  static void LPM(S s, E e) { s.r[e.a] = s.flash(pair(s, kZreg)); }
  static void LPM_I(S s, E e) {
    const u16 address = pair(s, kZreg);
    set_pair(s, kZreg, address + 1U);
    s.r[e.a] = s.flash(address);
  }
  static void ELPM_0(S s, E /*e*/) { s.r[0] = s.flash(far_z(s)); }
  static void ELPM(S s, E e) { s.r[e.a] = s.flash(far_z(s)); }
  static void ELPM_I(S s, E e) {
    const u32 address = far_z(s);
    set_pair(s, kZreg, address + 1U);
    s.set_rampz(static_cast<u8>((address + 1U) >> 16));
    s.r[e.a] = s.flash(address);
  }
  static void SPM(S s, E /*e*/) { s.self_program(); }
  static void IN(S s, E e) { s.r[e.a] = s.load(io(e)); }
  static void OUT(S s, E e) { s.store(io(e), s.r[e.a]); }
  static void PUSH(S s, E e) { s.push(s.r[e.a]); }
  static void POP(S s, E e) { s.r[e.a] = s.pop(); }

  static void RJMP(S s, E e) { s.jump_to(e); }
  static void IJMP(S s, E /*e*/) { s.jump(pair(s, kZreg)); }
  static void EIJMP(S s, E /*e*/) { s.jump(u32{s.eind()} << 16 | pair(s, kZreg)); }
  static void JMP(S s, E e) { s.jump_to(e); }
  static void RCALL(S s, E e) {
    s.push_pc();
    s.jump_to(e);
  }
  static void ICALL(S s, E /*e*/) {
    s.push_pc();
    s.jump(pair(s, kZreg));
  }
  static void EICALL(S s, E /*e*/) {
    s.push_pc();
    s.jump(u32{s.eind()} << 16 | pair(s, kZreg));
  }
  static void CALL(S s, E e) { RCALL(s, e); }
  static void RET(S s, E /*e*/) { s.jump(s.pop_pc()); }
  static void RETI(S s, E /*e*/) {
    s.jump(s.pop_pc());
    s.flags.set_i(true);
    s.returned_from_interrupt();
  }
  static void BRBS(S s, E e) {
    if (s.flags.test(e.b)) branch(s, e);
  }
  static void BRBC(S s, E e) {
    if (!s.flags.test(e.b)) branch(s, e);
  }
  static void SBRC(S s, E e) {
    if ((s.r[e.a] >> e.b & 1U) == 0) s.skip();
  }
  static void SBRS(S s, E e) {
    if ((s.r[e.a] >> e.b & 1U) != 0) s.skip();
  }
  static void SBIC(S s, E e) {
    if ((s.load(io(e)) >> e.b & 1U) == 0) s.skip();
  }
  static void SBIS(S s, E e) {
    if ((s.load(io(e)) >> e.b & 1U) != 0) s.skip();
  }

  static void NOP(S /*s*/, E /*e*/) {}
  static void SLEEP(S s, E /*e*/) { s.sleep(); }
  static void WDR(S s, E /*e*/) { s.watchdog_reset(); }
  static void BREAK(S /*s*/, E /*e*/) {}  // the engine pauses before it

 private:
  static unsigned constant(E e) { return static_cast<unsigned>(e.k); }
  static void branch(S s, E e) {
    s.took_branch();
    s.jump_to(e);
  }
};

}  // namespace lucid::avr

#endif  // LUCID_ISA_AVR_EXECUTE_H
