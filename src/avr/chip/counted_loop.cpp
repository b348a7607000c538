// SPDX-License-Identifier: MIT
// Loops that only count: `1: sbiw r24, 1; brne 1b` and their kind, in which firmware waits. All of
// their rounds but the last are done at once, as far as nothing is due within them. What remains is
// executed, so flags and whatever comes next are as they would be.
#include "avr/chip/engine.h"

namespace lucid::avr {

std::optional<Engine::CountedLoop> Engine::counted_loop(u32 word) const {
  constexpr unsigned kLongest = 8;  // words
  constexpr unsigned kZero = 1;     // the flag
  CountedLoop out;
  bool borrows = false;  // the instructions before leave a borrow for the next byte
  const auto counts = [&](unsigned reg) {
    for (unsigned i = 0; i < out.bytes; ++i)
      if (out.registers[i] == reg) return false;
    if (out.bytes == out.registers.size()) return false;
    out.registers[out.bytes++] = static_cast<u8>(reg);
    return true;
  };
  for (u32 at = word; at < word + kLongest && at < fabric_.flash_span / 2; ++at) {
    if (code_[at].entry.op >= kOpCount) return std::nullopt;  // marked, or not executed yet
    const Entry& entry = code_[at].entry;
    switch (entry.op) {
      case kNOP:
        // The first instruction of a round sets all flags that one leaves: wherever it is cut, they
        // are of the round under way.
        if (out.bytes == 0) return std::nullopt;
        ++out.cycles;
        continue;
      case kDEC:
        if (out.bytes != 0 || !counts(entry.a)) return std::nullopt;
        ++out.cycles;
        continue;
      case kSUBI:
        if (out.bytes != 0 || entry.k != 1 || !counts(entry.a)) return std::nullopt;
        borrows = true;
        ++out.cycles;
        continue;
      case kSBCI:
        if (!borrows || entry.k != 0 || !counts(entry.a)) return std::nullopt;
        ++out.cycles;
        continue;
      case kSBIW:
        if (out.bytes != 0 || entry.k != 1 || !counts(entry.a) || !counts(entry.a + 1U))
          return std::nullopt;
        out.cycles += 2;
        continue;
      case kBRBC:
        if (entry.b != kZero || out.bytes == 0 ||
            (static_cast<u32>(entry.k) & (fabric_.flash_span / 2 - 1)) != word)
          return std::nullopt;
        out.branch = at;
        out.cycles += 2;
        return out;
      default: return std::nullopt;
    }
  }
  return std::nullopt;
}

u64 Engine::CountedLoop::rounds(const u8* data) const {
  u64 number = 0;
  for (unsigned i = 0; i < bytes; ++i) number |= u64{data[registers[i]]} << (8 * i);
  return number == 0 ? u64{1} << (8 * bytes) : number;
}

void Engine::CountedLoop::skip(u8* data, u64 rounds) const {
  u64 number = 0;
  for (unsigned i = 0; i < bytes; ++i) number |= u64{data[registers[i]]} << (8 * i);
  number -= rounds;
  for (unsigned i = 0; i < bytes; ++i) data[registers[i]] = static_cast<u8>(number >> (8 * i));
}

}  // namespace lucid::avr
