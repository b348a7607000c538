// SPDX-License-Identifier: MIT
// A block as x86-64 code, and what all such code agrees on. Only for the translator: asmjit is
// heavy.
#ifndef LUCID_AVR_CHIP_EMITTER_H
#define LUCID_AVR_CHIP_EMITTER_H

#include <asmjit/x86.h>

#include "avr/chip/translator.h"

namespace lucid::avr {

namespace x86 = asmjit::x86;

// The host's registers that stay the same in all blocks; calls preserve them.
inline const x86::Gp kData = x86::rbx;          ///< Native::data
inline const x86::Gp kState = x86::rbp;         ///< Native
inline const x86::Gp kAttributesAt = x86::r12;  ///< Native::attributes
inline const x86::Gp kLeft = x86::r13;          ///< Native::left
inline const x86::Gp kTable = x86::r14;  ///< code by word; what leads out stands in front of it

/// Set in the word with which code leads out: see Translator::Left.
constexpr u32 kPrecise = 1U << 31;

/// A member of the state, by its offset.
inline x86::Mem field(std::size_t offset, u32 bytes) {
  return x86::Mem(kState, static_cast<std::int32_t>(offset), bytes);
}

/// False if the block needs too much.
bool emit(const Block& block, x86::Assembler& out, u32 page_bytes);

}  // namespace lucid::avr

#endif  // LUCID_AVR_CHIP_EMITTER_H
