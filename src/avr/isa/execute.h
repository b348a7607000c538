// SPDX-License-Identifier: MIT
// What each instruction does, one function per row of instructions.def.
//
// `State` is whatever runs the program, or takes down what running it would do (the translator); it
// provides
//   Number                 u32, or what stands for one: the functions only calculate with it, and
//                          leave it to the state to decide something by it
//   reg(n) set_reg(n, v)   a register; v is cut to a byte
//   pair(n) set_pair(n, v) two of them, as 16 bits
//   flags                  the status register
//   load(a) store(a, v)    the firmware's access to data space, with its side effects
//   store_bits(a, v, mask) the same for SBI and CBI: only the bits in mask are written
//   push(v) pop()          through the stack pointer
//   push_pc() pop_pc()     two or three bytes
//   flash(a)               a byte of program memory
//   rampz() set_rampz(v) eind()
//   jump(word) jump_to(e)  to a word address; to the one the entry holds
//   branch_if(v, e) skip_if(v)   unless v is 0; a branch takes one more cycle
//   set_flag(bit, on)      BSET and BCLR
//   returned_from_interrupt() sleep() watchdog_reset() self_program()
// Flags follow the Boolean formulas of the manual's instruction pages.
#ifndef LUCID_AVR_ISA_EXECUTE_H
#define LUCID_AVR_ISA_EXECUTE_H

#include <cstdint>

#include "avr/isa/flags.h"
#include "avr/isa/table.h"

namespace lucid::avr {

constexpr u32 low8(u32 value) { return value & 0xffU; }
constexpr u32 low16(u32 value) { return value & 0xffffU; }
constexpr u32 signed8(u32 value) { return static_cast<u32>(static_cast<std::int8_t>(value)); }

template <class State>
class Execute {
  using S = State&;
  using E = const Entry&;
  using Number = typename State::Number;
  using N = const Number&;

  static Number constant(E e) { return Number(static_cast<u32>(e.k)); }

  static void add(S s, E e, N b, N carry) {
    const Number a = s.reg(e.a);
    const Number result = a + b + carry;
    s.flags.sum(result, a, b);
    s.set_reg(e.a, result);
  }
  static Number difference(S s, N a, N b) {
    const Number result = a - b;
    s.flags.difference(result, a, b);
    return result;
  }
  static Number chained(S s, N a, N b) {
    const Number result = a - b - s.flags.c();
    s.flags.chained(result, a, b);
    return result;
  }
  static void step(S s, E e, u32 by) {
    const Number a = s.reg(e.a);
    const Number result = a + by;
    s.flags.stepped(result, a);
    s.set_reg(e.a, result);
  }
  static void logic(S s, E e, N result) {
    s.flags.logic(result);
    s.set_reg(e.a, result);
  }
  /// A right shift: `out` is the bit that left, and V = N xor C.
  static void shifted(S s, E e, N result, N out) {
    s.flags.with_carry(result, (result >> 7U & 1U) ^ out, out);
    s.set_reg(e.a, result);
  }
  static void product(S s, N value, N carry) {
    const Number low = low16(value);
    s.set_pair(0, low);
    s.flags.product(low, carry);
  }
  static void whole(S s, N value) { product(s, value, value >> 15U & 1U); }
  static void fraction(S s, N value) { product(s, value << 1U, value >> 15U & 1U); }
  static void set_wide(S s, E e, N result, N v, N c) {
    s.set_pair(e.a, result);
    s.flags.wide(result, v, c);
  }

  static void load_inc(S s, E e, unsigned n) {
    const Number address = s.pair(n);
    const Number value = s.load(address);
    s.set_pair(n, low16(address + 1U));
    s.set_reg(e.a, value);
  }
  static void load_dec(S s, E e, unsigned n) {
    const Number address = low16(s.pair(n) - 1U);
    s.set_pair(n, address);
    s.set_reg(e.a, s.load(address));
  }
  static void store_inc(S s, E e, unsigned n) {
    const Number address = s.pair(n);
    s.store(address, s.reg(e.a));
    s.set_pair(n, low16(address + 1U));
  }
  static void store_dec(S s, E e, unsigned n) {
    const Number address = low16(s.pair(n) - 1U);
    const Number value = s.reg(e.a);
    s.set_pair(n, address);
    s.store(address, value);
  }
  static Number displaced(S s, E e, unsigned n) { return low16(s.pair(n) + constant(e)); }
  static constexpr unsigned kX = 26, kY = 28, kZreg = 30;
  static Number io(E e) { return Number(static_cast<u32>(e.k) + 0x20U); }

  static Number far_z(S s) { return s.rampz() << 16U | s.pair(kZreg); }
  static Number far_target(S s) { return s.eind() << 16U | s.pair(kZreg); }
  /// 0 if the bit is clear.
  static Number bit(N value, E e) { return value & (1U << e.b); }

 public:
  static void ADD(S s, E e) { add(s, e, s.reg(e.b), Number(0U)); }
  static void ADC(S s, E e) { add(s, e, s.reg(e.b), s.flags.c()); }
  static void ADIW(S s, E e) {
    const Number before = s.pair(e.a);
    const Number after = low16(before + constant(e));
    set_wide(s, e, after, (~before & after) >> 15U & 1U, (before & ~after) >> 15U & 1U);
  }
  static void SUB(S s, E e) { s.set_reg(e.a, difference(s, s.reg(e.a), s.reg(e.b))); }
  static void SUBI(S s, E e) { s.set_reg(e.a, difference(s, s.reg(e.a), constant(e))); }
  static void SBC(S s, E e) { s.set_reg(e.a, chained(s, s.reg(e.a), s.reg(e.b))); }
  static void SBCI(S s, E e) { s.set_reg(e.a, chained(s, s.reg(e.a), constant(e))); }
  static void SBIW(S s, E e) {
    const Number before = s.pair(e.a);
    const Number after = low16(before - constant(e));
    set_wide(s, e, after, (before & ~after) >> 15U & 1U, (~before & after) >> 15U & 1U);
  }
  static void AND(S s, E e) { logic(s, e, s.reg(e.a) & s.reg(e.b)); }
  static void ANDI(S s, E e) { logic(s, e, s.reg(e.a) & constant(e)); }
  static void OR(S s, E e) { logic(s, e, s.reg(e.a) | s.reg(e.b)); }
  static void ORI(S s, E e) { logic(s, e, s.reg(e.a) | constant(e)); }
  static void EOR(S s, E e) { logic(s, e, s.reg(e.a) ^ s.reg(e.b)); }
  static void COM(S s, E e) {
    const Number result = s.reg(e.a) ^ 0xffU;
    s.flags.with_carry(result, Number(0U), Number(1U));
    s.set_reg(e.a, result);
  }
  static void NEG(S s, E e) { s.set_reg(e.a, difference(s, Number(0U), s.reg(e.a))); }
  static void INC(S s, E e) { step(s, e, 1U); }
  static void DEC(S s, E e) { step(s, e, ~0U); }
  static void MUL(S s, E e) { whole(s, s.reg(e.a) * s.reg(e.b)); }
  static void MULS(S s, E e) { whole(s, signed8(s.reg(e.a)) * signed8(s.reg(e.b))); }
  static void MULSU(S s, E e) { whole(s, signed8(s.reg(e.a)) * s.reg(e.b)); }
  static void FMUL(S s, E e) { fraction(s, s.reg(e.a) * s.reg(e.b)); }
  static void FMULS(S s, E e) { fraction(s, signed8(s.reg(e.a)) * signed8(s.reg(e.b))); }
  static void FMULSU(S s, E e) { fraction(s, signed8(s.reg(e.a)) * s.reg(e.b)); }

  static void CP(S s, E e) { difference(s, s.reg(e.a), s.reg(e.b)); }
  static void CPC(S s, E e) { chained(s, s.reg(e.a), s.reg(e.b)); }
  static void CPI(S s, E e) { difference(s, s.reg(e.a), constant(e)); }
  static void CPSE(S s, E e) { s.skip_if(is_zero(s.reg(e.a) ^ s.reg(e.b))); }

  static void LSR(S s, E e) { shifted(s, e, s.reg(e.a) >> 1U, s.reg(e.a) & 1U); }
  static void ROR(S s, E e) {
    shifted(s, e, s.reg(e.a) >> 1U | s.flags.c() << 7U, s.reg(e.a) & 1U);
  }
  static void ASR(S s, E e) {
    shifted(s, e, s.reg(e.a) >> 1U | (s.reg(e.a) & 0x80U), s.reg(e.a) & 1U);
  }
  static void SWAP(S s, E e) { s.set_reg(e.a, s.reg(e.a) << 4U | s.reg(e.a) >> 4U); }
  static void BST(S s, E e) { s.flags.set_t(s.reg(e.a) >> e.b & 1U); }
  static void BLD(S s, E e) { s.set_reg(e.a, (s.reg(e.a) & ~(1U << e.b)) | s.flags.t() << e.b); }
  static void BSET(S s, E e) { s.set_flag(e.b, true); }
  static void BCLR(S s, E e) { s.set_flag(e.b, false); }
  static void SBI(S s, E e) { s.store_bits(io(e), 0xff, static_cast<u8>(1U << e.b)); }
  static void CBI(S s, E e) { s.store_bits(io(e), 0, static_cast<u8>(1U << e.b)); }

  static void MOV(S s, E e) { s.set_reg(e.a, s.reg(e.b)); }
  static void MOVW(S s, E e) { s.set_pair(e.a, s.pair(e.b)); }
  static void LDI(S s, E e) { s.set_reg(e.a, constant(e)); }
  static void LDS(S s, E e) { s.set_reg(e.a, s.load(constant(e))); }
  static void LD_X(S s, E e) { s.set_reg(e.a, s.load(s.pair(kX))); }
  static void LD_XI(S s, E e) { load_inc(s, e, kX); }
  static void LD_XD(S s, E e) { load_dec(s, e, kX); }
  static void LD_Y(S s, E e) { s.set_reg(e.a, s.load(s.pair(kY))); }
  static void LD_YI(S s, E e) { load_inc(s, e, kY); }
  static void LD_YD(S s, E e) { load_dec(s, e, kY); }
  static void LDD_Y(S s, E e) { s.set_reg(e.a, s.load(displaced(s, e, kY))); }
  static void LD_Z(S s, E e) { s.set_reg(e.a, s.load(s.pair(kZreg))); }
  static void LD_ZI(S s, E e) { load_inc(s, e, kZreg); }
  static void LD_ZD(S s, E e) { load_dec(s, e, kZreg); }
  static void LDD_Z(S s, E e) { s.set_reg(e.a, s.load(displaced(s, e, kZreg))); }
  static void STS(S s, E e) { s.store(constant(e), s.reg(e.a)); }
  static void ST_X(S s, E e) { s.store(s.pair(kX), s.reg(e.a)); }
  static void ST_XI(S s, E e) { store_inc(s, e, kX); }
  static void ST_XD(S s, E e) { store_dec(s, e, kX); }
  static void ST_Y(S s, E e) { s.store(s.pair(kY), s.reg(e.a)); }
  static void ST_YI(S s, E e) { store_inc(s, e, kY); }
  static void ST_YD(S s, E e) { store_dec(s, e, kY); }
  static void STD_Y(S s, E e) { s.store(displaced(s, e, kY), s.reg(e.a)); }
  static void ST_Z(S s, E e) { s.store(s.pair(kZreg), s.reg(e.a)); }
  static void ST_ZI(S s, E e) { store_inc(s, e, kZreg); }
  static void ST_ZD(S s, E e) { store_dec(s, e, kZreg); }
  static void STD_Z(S s, E e) { s.store(displaced(s, e, kZreg), s.reg(e.a)); }
  static void LPM_0(S s, E /*e*/) { s.set_reg(0, s.flash(s.pair(kZreg))); }
  static void LPM(S s, E e) { s.set_reg(e.a, s.flash(s.pair(kZreg))); }
  static void LPM_I(S s, E e) {
    const Number address = s.pair(kZreg);
    s.set_pair(kZreg, low16(address + 1U));
    s.set_reg(e.a, s.flash(address));
  }
  static void ELPM_0(S s, E /*e*/) { s.set_reg(0, s.flash(far_z(s))); }
  static void ELPM(S s, E e) { s.set_reg(e.a, s.flash(far_z(s))); }
  static void ELPM_I(S s, E e) {
    const Number address = far_z(s);
    const Number next = address + 1U;
    s.set_pair(kZreg, low16(next));
    s.set_rampz(low8(next >> 16U));
    s.set_reg(e.a, s.flash(address));
  }
  static void SPM(S s, E /*e*/) { s.self_program(); }
  static void IN(S s, E e) { s.set_reg(e.a, s.load(io(e))); }
  static void OUT(S s, E e) { s.store(io(e), s.reg(e.a)); }
  static void PUSH(S s, E e) { s.push(s.reg(e.a)); }
  static void POP(S s, E e) { s.set_reg(e.a, s.pop()); }

  static void RJMP(S s, E e) { s.jump_to(e); }
  static void IJMP(S s, E /*e*/) { s.jump(s.pair(kZreg)); }
  static void EIJMP(S s, E /*e*/) { s.jump(far_target(s)); }
  static void JMP(S s, E e) { s.jump_to(e); }
  static void RCALL(S s, E e) {
    s.push_pc();
    s.jump_to(e);
  }
  static void ICALL(S s, E /*e*/) {
    s.push_pc();
    s.jump(s.pair(kZreg));
  }
  static void EICALL(S s, E /*e*/) {
    s.push_pc();
    s.jump(far_target(s));
  }
  static void CALL(S s, E e) { RCALL(s, e); }
  static void RET(S s, E /*e*/) { s.jump(s.pop_pc()); }
  static void RETI(S s, E /*e*/) {
    s.jump(s.pop_pc());
    s.flags.set_i(true);
    s.returned_from_interrupt();
  }
  static void BRBS(S s, E e) { s.branch_if(s.flags.test(e.b), e); }
  static void BRBC(S s, E e) { s.branch_if(is_zero(s.flags.test(e.b)), e); }
  static void SBRC(S s, E e) { s.skip_if(is_zero(bit(s.reg(e.a), e))); }
  static void SBRS(S s, E e) { s.skip_if(bit(s.reg(e.a), e)); }
  static void SBIC(S s, E e) { s.skip_if(is_zero(bit(s.load(io(e)), e))); }
  static void SBIS(S s, E e) { s.skip_if(bit(s.load(io(e)), e)); }

  static void NOP(S /*s*/, E /*e*/) {}
  static void SLEEP(S s, E /*e*/) { s.sleep(); }
  static void WDR(S s, E /*e*/) { s.watchdog_reset(); }
  static void BREAK(S /*s*/, E /*e*/) {}  // the engine pauses before it
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_ISA_EXECUTE_H
