// SPDX-License-Identifier: MIT
// Engine::run: the precise gear, one piece of code an instruction, made from the instruction table,
// and the way into the quick one.
#include "avr/chip/counter.h"
#include "avr/chip/engine.h"
#include "avr/chip/shadow.h"
#include "avr/isa/execute.h"

namespace lucid::avr {
/// The hot state, in local variables of run(). Slow paths get it through the world: no pointer to
/// a Frame leaves run(), so the compiler can keep it in registers.
struct Engine::Frame {
  using Number = u32;

  Engine& engine;
  CpuState& cpu;
  u8* const r;  ///< data space; the registers are its first 32 bytes
  const u8* const attributes;
  Slot* const code;
  const u32 pc_mask;
  const bool wide_pc;
  const Slot* slot = nullptr;  ///< being executed
  const Slot* next = nullptr;  ///< and what follows it
  u64 now = 0;
  u64 deadline = 0;
  u32 lowest_sp = 0;
  u16 sp = 0;
  Flags flags;

  explicit Frame(Engine& e)
      : engine(e),
        cpu(e.cpu_),
        r(e.machine_.world_.data.data()),
        attributes(e.attributes_),
        code(e.code_),
        pc_mask(e.fabric_.flash_span / 2 - 1),
        wide_pc(e.fabric_.target.core().wide_pc()) {
    fetch();
    slot = next;
  }
  [[nodiscard]] u32 word_of(const Slot* s) const { return static_cast<u32>(s - code); }
  void store_back() {
    cpu.now = now;
    cpu.pc = word_of(next) & pc_mask;
    cpu.sp = sp;
    cpu.sreg = flags.byte();
    engine.machine_.lowest_sp_ = lowest_sp;
    engine.deadline_ = deadline;
    engine.stop_.last_pc = 2 * word_of(slot);
  }
  /// After something slow that leaves the processor's registers alone.
  void fetch_time() {
    now = cpu.now;
    deadline = engine.deadline_;
  }
  void fetch() {
    fetch_time();
    next = code + cpu.pc;
    sp = cpu.sp;
    flags.set_byte(cpu.sreg);
    lowest_sp = engine.machine_.lowest_sp_;
  }
  /// Is there time for the translated run at `next`?
  [[nodiscard]] bool time_for_run() const { return now + next->worst < deadline; }
  /// Runs translated code from `next` on, as far as it goes. False: the next instruction is for the
  /// precise gear.
  template <bool kBehindMark>
  [[gnu::always_inline]] bool run_translated() {
    Native& native = engine.native_;
    const auto& parts = flags.parts();
    native.left = static_cast<std::int64_t>(deadline - now);
    native.flags = {parts.c, parts.carries, parts.sign, parts.zero, parts.t, u32{flags.i()}};
    native.sp = sp;
    native.lowest_sp = lowest_sp;
    cpu.sreg = static_cast<u8>(u32{flags.i()} << 7);  // what a deadline rests on
    engine.deadline_ = deadline;
    const u32 word = word_of(next);
    const Translator::Left left = kBehindMark ? engine.translator_->run_behind_mark(native, word)
                                              : engine.translator_->run(native, word);
    if (native.log != engine.calls_.data()) engine.take_calls();
    next = code + left.word;
    deadline = engine.deadline_;
    now = deadline - static_cast<u64>(native.left);
    sp = static_cast<u16>(native.sp);
    flags.set_parts(
        {native.flags[0], native.flags[1], native.flags[2], native.flags[3], native.flags[4]});
    return !left.precise;
  }

  /// All rounds but the last one, as far as there is time, of a loop that only counts.
  void skip_rounds() {
    const auto loop = engine.counted_loop(word_of(slot));
    if (!loop || now + 1 >= deadline) return;
    const u64 rounds = std::min(loop->rounds(r) - 1, (deadline - 1 - now) / loop->cycles);
    if (rounds == 0) return;
    loop->skip(r, rounds);
    skipped(rounds * loop->cycles);
    Counter* const counter = engine.machine_.counter_.get();
    if (counter == nullptr) return;
    for (u32 word = word_of(slot); word <= loop->branch; ++word) counter->executed[word] += rounds;
    counter->departed[loop->branch] += rounds;
  }

  void wait() {
    store_back();
    skipped(engine.wait(word_of(slot)));
  }
  void skipped(u64 cycles) {
    now += cycles;
    engine.machine_.skipped_ticks_ += cycles << engine.machine_.world_.clock.shift;
  }

  [[nodiscard]] u32 reg(unsigned n) const { return r[n]; }
  void set_reg(unsigned n, u32 value) const { r[n] = static_cast<u8>(value); }
  [[nodiscard]] u32 pair(unsigned n) const {
    const u8* const low = r + n;
    return static_cast<u32>(low[0] | low[1] << 8);
  }
  void set_pair(unsigned n, u32 value) const {
    u8* const low = r + n;
    low[0] = static_cast<u8>(value);
    low[1] = static_cast<u8>(value >> 8);
  }

  u32 load(u32 data_address) {
    const auto address = static_cast<u16>(data_address);
    if ((attributes[address] & kSlowLoad) == 0) return r[address];
    if ((attributes[address] & kWatchRead) == 0) {
      if (address == kSregAddress) return flags.byte();
      if (address == kSpl) return static_cast<u8>(sp);
      if (address == kSph) return static_cast<u8>(sp >> 8);
    }
    store_back();
    const u8 value = engine.slow_load(address);
    fetch_time();
    return value;
  }
  void store(u32 data_address, u32 byte) {
    const auto address = static_cast<u16>(data_address);
    const auto value = static_cast<u8>(byte);
    if ((attributes[address] & kSlowStore) == 0)
      r[address] = value;
    else
      store_bits(address, value, 0xff);
  }
  void store_bits(u32 data_address, u8 value, u8 mask) {
    const auto address = static_cast<u16>(data_address);
    if ((attributes[address] & kWatchWrite) != 0) {
      store_back();
      engine.note_store(address, value, mask);
      fetch_time();
    }
    if (address == kSregAddress) {
      const bool before = flags.i();
      flags.set_byte(value);
      if (!before && flags.i()) turned_on_interrupts();
    } else if (address == kSpl) {
      sp = static_cast<u16>((sp & 0xff00U) | value);
      if (sp < lowest_sp) note_deepest();
    } else if (address == kSph) {
      sp = static_cast<u16>((sp & 0xffU) | value << 8);
    } else {
      store_back();
      engine.slow_store(address, value, mask);
      fetch_time();
    }
  }
  void push(u32 byte) {
    const auto value = static_cast<u8>(byte);
    if ((attributes[sp] & kSlowPush) == 0)
      r[sp] = value;
    else
      slow_push(value);
    --sp;
    if (sp < lowest_sp) note_deepest();
  }
  /// Inlined: a Frame whose address is passed on would live in memory.
  [[gnu::always_inline]] void note_deepest() {
    lowest_sp = sp;
    engine.machine_.note_deepest(sp, word_of(slot) & pc_mask, false);
  }
  void slow_push(u8 value) {
    if ((attributes[sp] & (kNoStack | kGuarded)) != 0) stack_fault();
    store(sp, value);
  }
  u32 pop() {
    ++sp;
    if ((attributes[sp] & kSlowPop) == 0) return r[sp];
    if ((attributes[sp] & kNoStack) != 0) stack_fault();
    return load(sp);
  }
  void stack_fault() {
    store_back();
    const bool guarded = (attributes[sp] & kGuarded) != 0;
    engine.raise(guarded ? machine::Fault::kStackIntoData : machine::Fault::kStackOutsideRam, sp);
    fetch_time();
  }
  void push_pc() {
    const u32 pc = word_of(next) & pc_mask;
    push(pc);
    push(pc >> 8);
    if (wide_pc) push(pc >> 16);
  }
  u32 pop_pc() {
    u32 word = 0;
    if (wide_pc) word = pop();
    word = word << 8 | pop();
    return word << 8 | pop();
  }
  [[nodiscard]] u32 flash(u32 address) const {
    const World& world = engine.machine_.world_;
    if (now <= world.boot.enabled_until)  // LPM may read fuses instead
      if (const auto byte = engine.fabric_.boot->special_byte(world, address)) return *byte;
    if (world.boot.rww_busy && engine.fabric_.boot->is_busy(world, address)) {
      engine.raise(machine::Fault::kBusyFlash, address);
      return 0xff;
    }
    const machine::PagedMemory& memory = world.flash;
    return memory[address & (2 * pc_mask + 1)];
  }
  [[nodiscard]] u32 rampz() const { return r[kRampzAddress]; }
  void set_rampz(u32 value) const { r[kRampzAddress] = static_cast<u8>(value); }
  [[nodiscard]] u32 eind() const { return r[kEindAddress]; }
  void jump(u32 word) { next = code + (word & pc_mask); }
  void jump_to(const Entry& /*entry*/) {
    next = reinterpret_cast<const Slot*>(reinterpret_cast<const char*>(slot) + slot->jump);
  }
  void branch_if(u32 condition, const Entry& entry) {
    if (condition == 0) return;
    ++now;
    jump_to(entry);
  }
  void skip_if(u32 condition) {
    if (condition == 0) return;
    if (next->entry.op >= kUndecoded) next = engine.settled(next);
    const u8 length = next->entry.length;
    next += length;
    now += length;
  }
  void set_flag(unsigned bit, bool on) {
    const bool before = flags.i();
    const u32 mask = 1U << bit;
    flags.set_byte(on ? flags.byte() | mask : flags.byte() & ~mask);
    if (!before && flags.i()) turned_on_interrupts();
  }
  /// One more instruction before an interrupt may be entered. If none is asked for that makes no
  /// difference, but for who looks at the chip before that instruction.
  void turned_on_interrupts() {
    const bool looked_at =
        now >= deadline || next->entry.op >= kOpCount || next->entry.op == kBREAK;
    if (cpu.pending == 0 && !looked_at) return;
    cpu.hold = 2;
    deadline = 0;
  }
  void returned_from_interrupt() {
    if (engine.listened_) {
      store_back();
      engine.note_return(now, sp);
      fetch_time();
    }
    if (engine.machine_.outputs_.events_wanted != 0) deadline = 0;
    turned_on_interrupts();
  }
  void note_call(machine::EventKind kind) {
    // `rcall .+0` makes room on the stack.
    const bool calls = kind == machine::EventKind::kCall && next != slot + slot->entry.length;
    Counter* const counter = engine.machine_.counter_.get();
    if (counter != nullptr && counter->calls && calls)
      counter->calls->call(2 * (word_of(next) & pc_mask), sp, now);
    if (counter != nullptr && counter->calls && kind == machine::EventKind::kLeave)
      counter->calls->leave(sp, now);
    if (!engine.machine_.tells_calls_) return;
    engine.stop_.last_pc = 2 * word_of(slot);
    engine.note_call(kind, kind == machine::EventKind::kCall ? word_of(next) & pc_mask : 0, sp,
                     now);
  }
  void sleep() {
    store_back();
    engine.fall_asleep();
    fetch_time();
  }
  void watchdog_reset() {
    store_back();
    engine.feed_watchdog();
    fetch_time();
  }
  void self_program() {
    store_back();
    engine.self_program();
    fetch_time();
  }
};

#define LUCID_CONDITIONALS \
  LUCID_CONDITIONAL(BRBS)  \
  LUCID_CONDITIONAL(BRBC)  \
  LUCID_CONDITIONAL(CPSE)  \
  LUCID_CONDITIONAL(SBRC) LUCID_CONDITIONAL(SBRS) LUCID_CONDITIONAL(SBIC) LUCID_CONDITIONAL(SBIS)

__attribute__((flatten)) machine::Stop Engine::run(const machine::RunRequest& request) {
  static const void* const kLabelsOf[kLabels] = {
#define LUCID_AVR(id, ...) &&do_##id,
#include "avr/isa/instructions.def"
      &&undecoded, &&marked, &&undefined, &&end_of_flash, &&reserved};

  request_ = request;
  renew_end();
  stop_ = machine::Stop{};
  stop_.last_pc = cpu_.pc * 2;
  steps_left_ = request.instructions;
  entered_interrupt_ = false;
  fault_ = machine::Fault::kNone;
  if (!observed_.empty() || !tapped_.empty()) renew_observed();
  if (translator_) renew_memories();
  machine_.outputs_.pc = &stop_.last_pc;
  machine_.outputs_.code = this;
  machine_.outputs_.events_wanted = request.events;
  Counter* const counter = machine_.counter_.get();
  if (logs_calls() && calls_.empty()) {
    // A call or a return takes three cycles at least, a stretch of translated code kPauseGrain.
    calls_.resize(kPauseGrain / 3 + 100);
    native_.log = calls_.data();
  }
  listened_ = request.events != 0 || machine_.outputs_.tap.wants_any() || counter != nullptr ||
              machine_.attendant_ != nullptr;
  machine_.outputs_.events.clear();
  levels_.clear();
  if ((request.events & machine::bit(machine::EventKind::kEdge)) != 0)
    for (std::size_t i = 0; i < fabric_.ports.size(); ++i)
      levels_.push_back(machine_.world_.ports[i].level);
  if (steps_left_ == 0) return stop_;
  if (boundary(false)) return stop_;

  const bool tells_calls =
      (counter != nullptr && counter->calls) ||
      (machine_.tells_calls_ && machine_.outputs_.tap.wants(machine::EventKind::kCall));
  Frame f(*this);
  // Who counts goes over another table, which leads to the labels of the first.
  const void* const* labels = kLabelsOf;
  const void* counting[kLabels];
  u64* const executed = counter != nullptr ? counter->executed.data() : nullptr;
  if (counter != nullptr) {
    for (unsigned op = 0; op < kLabels; ++op)
      counting[op] = op < kOpCount && op != kBREAK ? &&counted : kLabelsOf[op];
#define LUCID_CONDITIONAL(id) counting[k##id] = &&counted_##id;
    LUCID_CONDITIONALS
#undef LUCID_CONDITIONAL
    labels = counting;
  }
  // And who follows values over a third, which leads to those of the second.
  Shadow* const shadow = machine_.shadow_.get();
  const void* const* const behind_following = labels;
  const void* following[kLabels];
  if (shadow != nullptr) {
    for (unsigned op = 0; op < kLabels; ++op)
      following[op] = op < kOpCount && op != kBREAK ? &&followed : kLabelsOf[op];
    labels = following;
  }
  if (request.pass_first_breakpoint && !entered_interrupt_) {
    const u32 word = f.word_of(f.slot);
    if (decoded(word).op == kBREAK) goto pass_break;
    if (f.slot->entry.op == kMarked) goto* labels[f.slot->behind];
  }
  goto go_on;

// What follows an instruction: is it time for something?
#define LUCID_NEXT()                           \
  do {                                         \
    if (f.now >= f.deadline) goto at_boundary; \
    f.slot = f.next;                           \
    goto* labels[f.slot->entry.op];            \
  } while (false)
// And where another run begins: is there one in machine code, or should there be?
#define LUCID_NEXT_RUN()                 \
  do {                                   \
    if (f.time_for_run()) goto next_run; \
    LUCID_NEXT();                        \
  } while (false)
#define LUCID_LENGTH(id) (k##id == kLDS || k##id == kSTS || k##id == kJMP || k##id == kCALL ? 2 : 1)
#define LUCID_CYCLES(c16, c22) ((c16) == (c22) || !f.wide_pc ? (c16) : (c22))

#define LUCID_AVR_MEMORY(id, mnemonic, pattern, operands, feature, reads, writes, c16, c22, ...) \
  do_##id : f.now += LUCID_CYCLES(c16, c22);                                                     \
  f.next = f.slot + LUCID_LENGTH(id);                                                            \
  Execute<Frame>::id(f, f.slot->entry);                                                          \
  LUCID_NEXT();
#define LUCID_AVR_PURE LUCID_AVR_MEMORY
// BREAK pauses before it executes.
#define LUCID_AVR(id, mnemonic, pattern, operands, feature, reads, writes, c16, c22, ...) \
  do_##id : if (k##id == kBREAK) goto break_instruction;                                  \
  f.now += LUCID_CYCLES(c16, c22);                                                        \
  f.next = f.slot + LUCID_LENGTH(id);                                                     \
  Execute<Frame>::id(f, f.slot->entry);                                                   \
  if (is_call(k##id) && tells_calls) f.note_call(machine::EventKind::kCall);              \
  if (k##id == kRET && tells_calls) f.note_call(machine::EventKind::kLeave);              \
  LUCID_NEXT_RUN();
#include "avr/isa/instructions.def"

followed : {
  const u8 op = f.slot->entry.op < kOpCount ? f.slot->entry.op : f.slot->behind;
  f.next = f.slot;
  f.store_back();
  follow_values(op);
  f.fetch_time();
  goto* behind_following[op];
}
counted:
  ++executed[f.word_of(f.slot)];
  goto* kLabelsOf[f.slot->entry.op < kOpCount ? f.slot->entry.op : f.slot->behind];
// A branch or a skip, and whether it leads elsewhere.
#define LUCID_CONDITIONAL(id)                                       \
  counted_##id : ++executed[f.word_of(f.slot)];                     \
  f.now += 1;                                                       \
  f.next = f.slot + 1;                                              \
  Execute<Frame>::id(f, f.slot->entry);                             \
  if (f.next != f.slot + 1) ++counter->departed[f.word_of(f.slot)]; \
  LUCID_NEXT_RUN();
  LUCID_CONDITIONALS
#undef LUCID_CONDITIONAL

next_run:
  f.slot = f.next;
  if (!f.slot->translated) {
    Slot& slot = code_[f.word_of(f.slot)];
    if (slot.heat == kCounted) {
      f.skip_rounds();
      goto* labels[slot.entry.op];
    }
    if (slot.heat == kWaits) {
      f.wait();
      if (slot.translated) goto run_it;
      goto* labels[slot.entry.op];
    }
    const bool first = slot.heat++ == 0;
    if (!first || !adopt(f.word_of(f.slot))) {
      if (slot.heat < machine_.translate_after()) goto* labels[slot.entry.op];
      if (counted_loop(f.word_of(f.slot))) {
        slot.heat = kCounted;
        f.skip_rounds();
        goto* labels[slot.entry.op];
      }
      if (const auto loop = waiting_loop(f.word_of(f.slot))) {
        if (code_[*loop].heat != kWaits) {
          forget_run(*loop);  // what goes on through it
          code_[*loop].heat = kWaits;
        }
        if (slot.heat == kWaits) goto* labels[slot.entry.op];
      }
      translate(f.word_of(f.slot));
    }
    if (!slot.translated) goto* labels[slot.entry.op];
  }
run_it:
  if (f.now <= machine_.world_.boot.enabled_until) goto* labels[f.slot->entry.op];
  if (f.run_translated<false>()) LUCID_NEXT_RUN();
  LUCID_NEXT();

pass_break:
  if (counter != nullptr) ++executed[f.word_of(f.slot)];
  f.next = f.slot + 1;
  f.now += 1;
at_boundary:
  f.store_back();
  if (boundary(true)) return stop_;
  f.fetch();
go_on:  // anywhere: no place to begin a run that is not there yet
  if (f.next->translated && f.time_for_run()) goto next_run;
  f.slot = f.next;
  goto* labels[f.slot->entry.op];

undecoded:
  decode_at(f.word_of(f.slot));
  goto* labels[f.slot->entry.op];
undefined:
  note_undefined(f.word_of(f.slot));
  goto* labels[f.slot->behind];
end_of_flash:
  f.slot = f.code;
  goto* labels[f.slot->entry.op];
marked:
  if (request_.marks != nullptr) {
    f.next = f.slot;
    f.store_back();
    if (!request_.marks->ends_run_at(2 * f.word_of(f.slot))) goto behind_mark;
    warm_mark(f.word_of(f.slot));
  }
  stop_.why = machine::Stop::Why::kBreakpoint;
  goto not_executed;
behind_mark:
  if (!f.slot->translated) {
    Slot& slot = code_[f.word_of(f.slot)];
    if (slot.heat < machine_.translate_after() && ++slot.heat == machine_.translate_after())
      translate(f.word_of(f.slot));
    if (!slot.translated) goto* labels[slot.behind];
  }
  if (f.slot->worst_behind == 0 || f.now + f.slot->worst_behind >= f.deadline ||
      f.now <= machine_.world_.boot.enabled_until)
    goto* labels[f.slot->behind];
  {
    const u64 before = f.now;
    if (f.run_translated<true>()) LUCID_NEXT_RUN();
    // Left at once, at an instruction that only the precise gear can do: the mark is not met again.
    if (f.next == f.slot && f.now == before) goto* labels[f.slot->behind];
  }
  LUCID_NEXT();
break_instruction:
  stop_.why = machine::Stop::Why::kBreakInstruction;
  goto not_executed;
reserved:
  if (!machine_.fault_is_on(flash_word(f.word_of(f.slot)) == 0xffff
                                ? machine::Fault::kErasedFlash
                                : machine::Fault::kReservedInstruction)) {
    if (counter != nullptr) ++executed[f.word_of(f.slot)];
    f.next = f.slot + 1;
    f.now += 1;
    LUCID_NEXT();
  }
  stop_.why = machine::Stop::Why::kFault;
  stop_.fault_pc = 2 * f.word_of(f.slot);
  stop_.fault = flash_word(f.word_of(f.slot)) == 0xffff ? machine::Fault::kErasedFlash
                                                        : machine::Fault::kReservedInstruction;
not_executed:
  const u32 last_pc = stop_.last_pc;
  f.next = f.slot;
  f.store_back();
  stop_.last_pc = last_pc;
  return stop_;

#undef LUCID_NEXT
#undef LUCID_NEXT_RUN
#undef LUCID_LENGTH
#undef LUCID_CYCLES
#undef LUCID_CONDITIONALS
}

}  // namespace lucid::avr
