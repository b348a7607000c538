// SPDX-License-Identifier: MIT
#include "machine/counts.h"

#include <algorithm>

namespace lucid::machine {

bool Spread::add(std::uint64_t span, std::uint64_t ended) {
  const bool longest = count == 0 || span > most;
  least = count == 0 ? span : std::min(least, span);
  if (longest) {
    most = span;
    most_at = ended;
  }
  ++count;
  total += span;
  return longest;
}

void InterruptWatch::wait(std::uint64_t before, std::uint64_t now, const State& state) {
  for (std::uint64_t changed = before ^ now; changed != 0; changed &= changed - 1) {
    unsigned vector = 0;
    while ((changed >> vector & 1U) == 0) ++vector;
    if (vector >= since_.size()) continue;
    if ((now >> vector & 1U) != 0) {
      since_[vector] =
          Waiting{state, !handlers_.empty(), handlers_.empty() ? 0 : handlers_.back().vector};
    } else if (since_[vector]) {
      ++counts_[vector].withdrawn;
      since_[vector].reset();
    }
  }
}

void InterruptWatch::enter(unsigned vector, std::uint64_t tick, std::uint32_t pc,
                           std::uint32_t sp) {
  InterruptCounts& counts = counts_[vector];
  if (const auto& since = since_[vector];
      since && counts.wait.add(tick - since->state.tick, tick)) {
    HeldUp& held = counts.longest;
    held = {HeldUp::By::kInstruction, since->vector, since->state.pc, pc};
    if (since->in_handler)
      held.by = HeldUp::By::kHandler;
    else if (since->state.asleep)
      held.by = HeldUp::By::kSleep;
    else if (since->state.off)
      held.by = HeldUp::By::kOff;
  }
  since_[vector].reset();
  // Who is entered first holds up the others.
  for (auto& other : since_)
    if (other && !other->in_handler) {
      other->in_handler = true;
      other->vector = vector;
    }
  if (!handlers_.empty()) ++counts.nested;
  handlers_.push_back({vector, tick, 0, sp});
}

void InterruptWatch::leave(std::uint64_t tick, std::uint32_t sp) {
  // What was left by other ways (a jump out of a handler) is above this one's place.
  while (!handlers_.empty() && handlers_.back().sp < sp) handlers_.pop_back();
  if (handlers_.empty() || handlers_.back().sp != sp) return;
  const Handler handler = handlers_.back();
  handlers_.pop_back();
  const std::uint64_t whole = tick - handler.tick;
  InterruptCounts& counts = counts_[handler.vector];
  counts.whole.add(whole, tick);
  counts.inside.add(whole - handler.others, tick);
  if (!handlers_.empty()) handlers_.back().others += whole;
}

void InterruptWatch::forget() {
  std::fill(since_.begin(), since_.end(), std::nullopt);
  handlers_.clear();
}

}  // namespace lucid::machine
