// SPDX-License-Identifier: MIT
// Loops that wait: a flag or a variable is looked at again and again. One round is gone through
// beside the machine; if it leaves everything as it was, so do all rounds before something happens,
// and they are done at once. The last whole one before that is executed.
#include "avr/chip/counter.h"
#include "avr/chip/engine.h"
#include "avr/isa/execute.h"

namespace lucid::avr {
namespace {

constexpr u32 kLongestLoop = 48;    // words, from its first to the branch back
constexpr unsigned kLongest = 256;  // instructions of a round, calls included
constexpr u32 kNowhere = ~0U;
// Points for rounds that have changed something: a loop that computes is no waiting one.
constexpr unsigned kChanges = 8, kLeaves = 1, kComputes = 64;

}  // namespace

/// A state of the processor beside the machine's own. It gives up (`lost`) at whatever does not
/// leave the world as it is.
struct Engine::Round {
  using Number = u32;

  Engine& engine;
  const World& world;
  std::array<u8, kRegisters> r{};
  Flags flags;
  u32 word = 0, next = 0;
  u16 sp = 0;
  u64 cycles = 0;
  u64 until = kNever;  ///< so long all that is looked at stays as it is
  bool lost = false;

  Round(Engine& the_engine, u32 begin)
      : engine(the_engine), world(the_engine.machine_.world_), word(begin) {
    std::copy_n(world.data.begin(), kRegisters, r.begin());
    flags.set_byte(engine.cpu_.sreg);
    sp = engine.cpu_.sp;
  }
  [[nodiscard]] u32 mask() const { return engine.fabric_.flash_span / 2 - 1; }
  [[nodiscard]] bool wide_pc() const { return engine.fabric_.target.core().wide_pc(); }

  [[nodiscard]] u32 reg(unsigned n) const { return r[n]; }
  void set_reg(unsigned n, u32 value) { r[n] = static_cast<u8>(value); }
  [[nodiscard]] u32 pair(unsigned n) const { return static_cast<u32>(r[n] | r[n + 1] << 8); }
  void set_pair(unsigned n, u32 value) {
    set_reg(n, value);
    set_reg(n + 1, value >> 8);
  }
  u32 load(u32 data_address) {
    const auto address = static_cast<u16>(data_address);
    const unsigned attribute = engine.attributes_[address];
    if (address < kRegisters) return r[address];
    if ((attribute & kSlowLoad) == 0) return world.data[address];
    if ((attribute & (kSlowLoad & ~kIo)) != 0) return lose();
    if (address == kSregAddress) return flags.byte();
    if (address == kSpl) return static_cast<u8>(sp);
    if (address == kSph) return static_cast<u8>(sp >> 8);
    const Peripheral* owner = engine.fabric_.owner[address];
    if (owner == nullptr) return engine.fabric_.plain[address] ? world.data[address] : lose();
    if (owner->is_off(world)) return lose();
    const u64 steady = owner->steady_until(world, address, engine.cpu_.now);
    if (steady == 0 || owner->loading_acts(address)) return lose();
    until = std::min(until, steady);
    return owner->peek(world, address, engine.cpu_.now);
  }
  void store(u32 data_address, u32 value) {
    const auto address = static_cast<u16>(data_address);
    if (address < kRegisters)
      set_reg(address, value);
    else if (address == kSregAddress && (engine.attributes_[address] & kWatchWrite) == 0)
      flags.set_byte(value & 0xffU);
    else if ((engine.attributes_[address] & kSlowStore) != 0 ||
             world.data[address] != static_cast<u8>(value))
      lose();
  }
  void store_bits(u32 /*data_address*/, u32 /*value*/, u32 /*mask*/) { lose(); }
  void push(u32 value) {
    if ((engine.attributes_[sp] & kSlowPush) != 0 || world.data[sp] != static_cast<u8>(value))
      lose();
    --sp;
    if (sp < engine.machine_.lowest_sp_) lose();
  }
  u32 pop() {
    ++sp;
    return (engine.attributes_[sp] & kSlowPop) == 0 ? world.data[sp] : lose();
  }
  void push_pc() {
    push(next);
    push(next >> 8);
    if (wide_pc()) push(next >> 16);
  }
  u32 pop_pc() {
    u32 out = 0;
    if (wide_pc()) out = pop();
    out = out << 8 | pop();
    return out << 8 | pop();
  }
  [[nodiscard]] u32 flash(u32 address) const { return world.flash[address & (2 * mask() + 1)]; }
  [[nodiscard]] u32 rampz() const { return world.data[kRampzAddress]; }
  void set_rampz(u32 value) {
    if (value != rampz()) lose();
  }
  [[nodiscard]] u32 eind() const { return world.data[kEindAddress]; }
  void jump(u32 to) { next = to & mask(); }
  void jump_to(const Entry& entry) { jump(static_cast<u32>(entry.k)); }
  void branch_if(u32 condition, const Entry& entry) {
    if (condition == 0) return;
    ++cycles;
    jump_to(entry);
  }
  void skip_if(u32 condition) {
    if (condition == 0) return;
    const u8 length = engine.settled(&engine.code_[next])->entry.length;
    next = (next + length) & mask();
    cycles += length;
  }
  void set_flag(unsigned bit, bool on) {
    const u32 of = 1U << bit;
    flags.set_byte(on ? flags.byte() | of : flags.byte() & ~of);
  }
  void returned_from_interrupt() { lose(); }
  void sleep() { lose(); }
  void watchdog_reset() { lose(); }
  void self_program() { lose(); }
  u32 lose() {
    lost = true;
    return 0;
  }

  /// The instruction at `word`. False: it is none that could be part of such a loop.
  bool execute() {
    const Entry& entry = engine.settled(&engine.code_[word])->entry;
    next = (word + entry.length) & mask();
    switch (entry.op) {
#define LUCID_AVR_MEMORY(id, mnemonic, pattern, operands, feature, reads, writes, c16, c22, ...) \
  case k##id:                                                                                    \
    cycles += wide_pc() ? (c22) : (c16);                                                         \
    Execute<Round>::id(*this, entry);                                                            \
    return !lost;
#define LUCID_AVR_PURE LUCID_AVR_MEMORY
#define LUCID_AVR LUCID_AVR_MEMORY
#include "avr/isa/instructions.def"
      default: return false;
    }
  }
};

/// Code from a word on leads back to it or to a place before it, not far.
std::optional<u32> Engine::waiting_loop(u32 begin) {
  const u32 end = std::min(begin + kLongestLoop, fabric_.flash_span / 2 - 2);
  for (u32 word = begin; word < end;) {
    const Entry entry = decoded(word);
    if (entry.op == kNoOp || entry.op >= kOpCount) return std::nullopt;
    const bool leads =
        entry.op == kRJMP || entry.op == kJMP || entry.op == kBRBS || entry.op == kBRBC;
    const u32 to = static_cast<u32>(entry.k) & (fabric_.flash_span / 2 - 1);
    if (leads && to <= begin && word - to < kLongestLoop) {
      Waiting& loop = waits_[to];
      if (loop.failures >= kComputes) return std::nullopt;
      loop.last = std::max(loop.last, word);
      return to;
    }
    word += entry.length;
  }
  return std::nullopt;
}

u64 Engine::wait(u32 begin) {
  if (cpu_.hold != 0 || cpu_.pending != 0 || deadline_ <= cpu_.now + 1 ||
      cpu_.now <= machine_.world_.boot.enabled_until)
    return 0;
  const bool tells_calls = machine_.tells_calls_ ||
                           (machine_.counter_ != nullptr && machine_.counter_->calls.has_value());
  Waiting& loop = waits_[begin];
  if (deadline_ - cpu_.now <= 2 * loop.cycles) return 0;  // no two rounds, as far as is known
  Round round(*this, begin);
  round_.clear();
  // Where it last went back to, and how it was there: another loop that waits is never left.
  u32 went_to = kNowhere;
  std::array<u8, kRegisters> r_there{};
  u8 flags_there = 0;
  u16 sp_there = 0;
  bool back = false;
  while (!back && round_.size() < kLongest) {
    if (!round.execute()) break;
    const Entry& entry = code_[round.word].entry;
    if (tells_calls && (is_call(entry.op) || entry.op == kRET)) break;
    round_.push_back({round.word, round.next != ((round.word + entry.length) & round.mask())});
    back = round.next == begin;
    if (!back && round.next < round.word) {
      if (round.next == went_to && round.sp == sp_there && round.flags.byte() == flags_there &&
          round.r == r_there)
        break;
      went_to = round.next;
      r_there = round.r;
      flags_there = round.flags.byte();
      sp_there = round.sp;
    }
    round.word = round.next;
  }
  const World& world = machine_.world_;
  const bool same = back && round.sp == cpu_.sp && round.flags.byte() == cpu_.sreg &&
                    std::equal(round.r.begin(), round.r.end(), world.data.begin());
  if (!same) {
    // Where it leads out of the loop it may wait the next time.
    const bool left = !back && (round.word < begin || round.word > loop.last);
    loop.failures = static_cast<u8>(loop.failures + (left ? kLeaves : kChanges));
    if (loop.failures >= kComputes) {
      code_[begin].heat = 0;
      translate(begin);
    }
    return 0;
  }
  loop.failures = 0;
  loop.cycles = round.cycles;
  const u64 end = std::min(deadline_, round.until);
  if (end <= cpu_.now + 1) return 0;
  const u64 rounds = (end - 1 - cpu_.now) / round.cycles;
  if (rounds < 2) return 0;
  if (Counter* const counter = machine_.counter_.get()) {
    for (const Passed& passed : round_) {
      counter->executed[passed.word] += rounds - 1;
      const Flow flow = row(code_[passed.word].entry.op).flow;
      if (passed.departs && (flow == Flow::kBranch || flow == Flow::kSkip))
        counter->departed[passed.word] += rounds - 1;
    }
  }
  return (rounds - 1) * round.cycles;
}

}  // namespace lucid::avr
