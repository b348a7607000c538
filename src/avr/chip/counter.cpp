// SPDX-License-Identifier: MIT
#include "avr/chip/counter.h"

#include "avr/isa/table.h"

namespace lucid::avr {

Counter::Counter(const Fabric& fabric, bool with_calls)
    : executed(fabric.flash_span / 2),
      departed(fabric.flash_span / 2),
      stalled(fabric.flash_span / 2),
      interrupts(fabric.info.vectors.size()) {
  if (with_calls) calls.emplace();
}

void Counter::take(const CallRecord* begin, const CallRecord* end, u64 deadline) {
  for (const CallRecord* r = begin; r != end; ++r) {
    if (r->returns())
      calls->leave(r->sp, r->cycle(deadline));
    else
      calls->call(2 * r->word, r->sp, r->cycle(deadline));
  }
}

void Counter::fold(const Code& code) {
  for (std::size_t i = 0; i < code.ways.size(); ++i) {
    const u64 times = std::exchange(code.counts[i], 0);
    if (times == 0) continue;
    const Way& way = code.ways[i];
    for (u32 k = 0; k < way.executed; ++k) {
      const Block::Passed& passed = code.path[k];
      executed[passed.word] += times;
      if (passed.departs || (way.departs && k + 1 == way.executed)) departed[passed.word] += times;
    }
  }
}

machine::Counts Counter::counts(const Fabric& fabric, const World& world) const {
  machine::Counts out;
  out.unit = 2;
  out.executed = executed;
  out.departed = departed;
  out.cycles = stalled;
  out.interrupts = interrupts.counts();
  if (calls) out.calls = calls->nodes(until_cycle);
  out.elapsed = elapsed;
  out.ticks = ticks;
  out.asleep = asleep;
  out.entering = entering;
  const auto words = static_cast<u32>(executed.size());
  const auto word_at = [&](u32 word) {
    const u32 address = word * 2 % world.flash.size();
    return static_cast<u16>(world.flash[address] | world.flash[address + 1] << 8);
  };
  const auto& core = fabric.target.core();
  for (u32 word = 0; word < words; ++word) {
    if (executed[word] == 0) continue;
    const Entry entry = decode(core, word_at(word), word_at((word + 1) % words), word);
    u64 once = 1, departing = 1;
    if (entry.op < kOpCount) {
      once = core.wide_pc() ? row(entry.op).cycles22 : row(entry.op).cycles;
      if (row(entry.op).flow == Flow::kSkip) {
        const u32 next = (word + 1) % words;
        const Entry skipped = decode(core, word_at(next), word_at((next + 1) % words), next);
        departing = skipped.op < kOpCount ? skipped.length : 1;
      }
    }
    out.cycles[word] += executed[word] * once + departed[word] * departing;
  }
  return out;
}

}  // namespace lucid::avr
