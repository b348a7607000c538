// SPDX-License-Identifier: MIT
// Counter: what an AvrMachine keeps while it counts. The precise gear counts instruction by
// instruction, translated code the ways by which its blocks are left; `fold` makes the one of the
// other.
#ifndef LUCID_AVR_CHIP_COUNTER_H
#define LUCID_AVR_CHIP_COUNTER_H

#include "avr/chip/fabric.h"
#include "avr/chip/translator.h"
#include "machine/counts.h"

namespace lucid::avr {

class Counter {
 public:
  Counter(const Fabric& fabric, bool with_calls);

  std::vector<u64> executed, departed, stalled;  ///< by word
  machine::InterruptWatch interrupts;
  std::optional<machine::CallTree> calls;  ///< if they are told
  u64 elapsed = 0, ticks = 0;              ///< cycles and ticks in all
  u64 asleep = 0, entering = 0;
  u64 until = 0, until_cycle = 0;  ///< the tick up to which it has counted, and the cycle

  void stall(u32 word, u64 cycles) {
    if (word < stalled.size()) stalled[word] += cycles;
  }
  /// What translated code has noted; it counts the cycles left until `deadline`.
  void take(const CallRecord* begin, const CallRecord* end, u64 deadline);
  /// What a block's ways have counted goes to its instructions; they begin anew.
  void fold(const Code& code);
  [[nodiscard]] machine::Counts counts(const Fabric& fabric, const World& world) const;
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_CHIP_COUNTER_H
