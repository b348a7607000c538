// SPDX-License-Identifier: MIT
// Counts: what has been executed how often, and how long interrupts waited. They are beside the
// world, like a debugger's marks: a copy of a machine has none.
#ifndef LUCID_MACHINE_COUNTS_H
#define LUCID_MACHINE_COUNTS_H

#include <cstdint>
#include <optional>
#include <vector>

#include "machine/call_tree.h"

namespace lucid::machine {

/// Of one kind of span: from a request to its handler, or in a handler. In ticks of the oscillator.
struct Spread {
  std::uint64_t count = 0, total = 0, least = 0, most = 0;
  std::uint64_t most_at = 0;  ///< the tick at which the longest one ended

  /// True: it is the longest so far.
  bool add(std::uint64_t span, std::uint64_t ended);
};

/// What kept an interrupt waiting.
struct HeldUp {
  enum class By : std::uint8_t {
    kInstruction,  ///< nothing but the instruction under way
    kOff,          ///< interrupts were off when it was requested, in no handler
    kHandler,      ///< the handler of `vector`
    kSleep,        ///< the processor had to wake up
  } by = By::kInstruction;
  unsigned vector = 0;
  std::uint32_t requested_pc = 0;  ///< the next instruction when it was requested
  std::uint32_t entered_pc = 0;    ///< and when it was entered: what held it up ended before this
};

struct InterruptCounts {
  Spread wait;               ///< from the request to the first instruction of the handler
  Spread inside;             ///< from there to the return, handlers that have come between left out
  Spread whole;              ///< the same, with them
  HeldUp longest;            ///< what held up the longest wait
  std::uint64_t nested = 0;  ///< entered while a handler was under way
  std::uint64_t withdrawn = 0;  ///< requests that ended without an entry
  std::uint64_t missed = 0;     ///< events that came while the one before still waited
};

struct Counts {
  unsigned unit = 1;  ///< bytes of code memory that an entry of these stands for
  /// Of the instruction that begins there: how often it has executed; how often it led elsewhere
  /// than to what follows it, if it is a branch or a skip; and the cycles that took, the processor
  /// asleep or entering interrupts left out.
  std::vector<std::uint64_t> executed, departed, cycles;
  std::vector<InterruptCounts> interrupts;  ///< by vector
  std::vector<CallTree::Node> calls;        ///< the first is the program
  std::uint64_t elapsed = 0, ticks = 0;     ///< cycles in all, and of the oscillator
  std::uint64_t asleep = 0;                 ///< of those: sleeping and waking up
  std::uint64_t entering = 0;               ///< and entering interrupts
};

/// Follows requests, entries and returns.
class InterruptWatch {
 public:
  explicit InterruptWatch(std::size_t vectors) : counts_(vectors), since_(vectors) {}

  struct State {
    std::uint64_t tick;
    std::uint32_t pc;  ///< of the next instruction
    bool off;          ///< interrupts are
    bool asleep;
  };
  /// Which vectors wait, one bit each.
  void wait(std::uint64_t before, std::uint64_t now, const State& state);
  /// The handler's first instruction is next; `pc` is where it will return to, `sp` the stack
  /// pointer before.
  void enter(unsigned vector, std::uint64_t tick, std::uint32_t pc, std::uint32_t sp);
  /// Since when a vector waits; nothing: it does not, or it is not known.
  [[nodiscard]] std::optional<std::uint64_t> waits_since(unsigned vector) const {
    if (!since_[vector]) return std::nullopt;
    return since_[vector]->state.tick;
  }
  void miss(unsigned vector, std::uint64_t events) { counts_[vector].missed += events; }
  /// By a return from interrupt; `sp` is the stack pointer behind it.
  void leave(std::uint64_t tick, std::uint32_t sp);
  /// The machine is another one from here on, or at another time: what was under way is not known.
  void forget();
  [[nodiscard]] const std::vector<InterruptCounts>& counts() const { return counts_; }

 private:
  struct Handler {
    unsigned vector;
    std::uint64_t tick, others;  ///< entered; time of handlers within
    std::uint32_t sp;
  };
  struct Waiting {
    State state;
    bool in_handler;
    unsigned vector;  ///< the handler's
  };
  std::vector<InterruptCounts> counts_;
  std::vector<std::optional<Waiting>> since_;
  std::vector<Handler> handlers_;
};

}  // namespace lucid::machine

#endif  // LUCID_MACHINE_COUNTS_H
