// SPDX-License-Identifier: MIT
// Engine::run: both gears, one block an instruction, made from the instruction table.
#include "chip/engine.h"
#include "isa/avr/execute.h"

namespace lucid::chip {
namespace {

constexpr u16 kSpl = 0x5d, kSph = 0x5e, kSregAddress = 0x5f;
constexpr u16 kRampz = 0x5b, kEind = 0x5c;

}  // namespace

/// The hot state, in local variables of run(). Slow paths get it through the world: no pointer to
/// a Frame leaves run(), so the compiler can keep it in registers.
struct Engine::Frame {
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
  u64 limit = 0;  ///< before it there is time for any run
  u32 lowest_sp = 0;
  u16 sp = 0;
  avr::Flags flags;
  bool left = false;  ///< the run ends here: a jump, or something slow has happened

  explicit Frame(Engine& e)
      : engine(e),
        cpu(e.cpu_),
        r(e.machine_.world_.data.data()),
        attributes(e.attributes_.data()),
        code(e.code_.data()),
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
    left = true;
    now = cpu.now;
    set_deadline(engine.deadline_);
  }
  void fetch() {
    fetch_time();
    next = code + cpu.pc;
    sp = cpu.sp;
    flags.set_byte(cpu.sreg);
    lowest_sp = engine.machine_.lowest_sp_;
  }
  void set_deadline(u64 ticks) {
    deadline = ticks;
    limit = ticks > kRunCycles ? ticks - kRunCycles : 0;
  }
  /// Is there time for the run that starts at `s`?
  [[nodiscard]] bool time_for(const Slot* s) const { return now + s->worst < deadline; }

  u8 load(u16 address) {
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
  void store(u16 address, u8 value) {
    if ((attributes[address] & kSlowStore) == 0)
      r[address] = value;
    else
      store_bits(address, value, 0xff);
  }
  void store_bits(u16 address, u8 value, u8 mask) {
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
  void push(u8 value) {
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
  u8 pop() {
    ++sp;
    if ((attributes[sp] & kSlowPop) == 0) return r[sp];
    if ((attributes[sp] & kNoStack) != 0) stack_fault();
    return load(sp);
  }
  void stack_fault() {
    store_back();
    const bool guarded = (attributes[sp] & kGuarded) != 0;
    engine.raise(guarded ? isa::Fault::kStackIntoData : isa::Fault::kStackOutsideRam, sp);
    fetch_time();
  }
  void push_pc() {
    const u32 pc = word_of(next) & pc_mask;
    push(static_cast<u8>(pc));
    push(static_cast<u8>(pc >> 8));
    if (wide_pc) push(static_cast<u8>(pc >> 16));
  }
  u32 pop_pc() {
    u32 word = 0;
    if (wide_pc) word = pop();
    word = word << 8 | pop();
    return word << 8 | pop();
  }
  [[nodiscard]] u8 flash(u32 address) const {
    const World& world = engine.machine_.world_;
    if (now <= world.boot.enabled_until)  // LPM may read fuses instead
      if (const auto byte = engine.fabric_.boot->special_byte(world, address)) return *byte;
    const PagedMemory& memory = world.flash;
    return memory[address & (2 * pc_mask + 1)];
  }
  [[nodiscard]] u8 rampz() const { return r[kRampz]; }
  void set_rampz(u8 value) const { r[kRampz] = value; }
  [[nodiscard]] u8 eind() const { return r[kEind]; }
  void jump(u32 word) {
    next = code + (word & pc_mask);
    left = true;
  }
  void jump_to(const avr::Entry& /*entry*/) {
    next = reinterpret_cast<const Slot*>(reinterpret_cast<const char*>(slot) + slot->jump);
    left = true;
  }
  void took_branch() { ++now; }
  void skip() {
    if (next->entry.op >= kUndecoded) next = engine.settled(next);
    const u8 length = next->entry.length;
    next += length;
    now += length;
    left = true;
  }
  void turned_on_interrupts() {
    cpu.hold = 2;
    set_deadline(0);
    left = true;
  }
  void returned_from_interrupt() {
    engine.bus().happened(isa::EventKind::kReturn);
    turned_on_interrupts();
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

namespace {

/// BRBS and BRBC with the flag known when this is compiled.
template <class Frame, unsigned kBit, bool kSet>
void branch_on_flag(Frame& f) {
  if (f.flags.test(kBit) != kSet) return;
  f.took_branch();
  f.jump_to(f.slot->entry);
}

}  // namespace

__attribute__((flatten)) isa::Stop Engine::run(const isa::RunRequest& request) {
#define LUCID_EACH_FLAG(X) X(0) X(1) X(2) X(3) X(4) X(5) X(6) X(7)
  // Where each entry is executed, in the precise gear and in the quick one.
  static const void* const kPreciseLabels[kLabels] = {
#define LUCID_AVR(id, ...) &&do_##id,
#include "isa/avr/instructions.def"
      &&undecoded, &&marked, &&undefined, &&end_of_flash, &&reserved};
#define LUCID_IF_SET(bit) &&branch_set_##bit,
#define LUCID_IF_CLEAR(bit) &&branch_clear_##bit,
  static const void* const kQuickLabels[] = {
#define LUCID_AVR(id, ...) &&quick_##id,
#include "isa/avr/instructions.def"
      &&unknown, &&checkpoint, &&precise,
#define LUCID_AVR_PURE(id, ...) &&carry_##id,
#define LUCID_AVR(id, ...) &&precise,
#include "isa/avr/instructions.def"
#define LUCID_AVR_PURE(id, ...) &&quiet_##id,
#define LUCID_AVR(id, ...) &&precise,
#include "isa/avr/instructions.def"
      LUCID_EACH_FLAG(LUCID_IF_SET) LUCID_EACH_FLAG(LUCID_IF_CLEAR)};
#undef LUCID_IF_SET
#undef LUCID_IF_CLEAR

  if (quick_labels_ == nullptr) {
    quick_labels_ = kQuickLabels;
    for (Slot& s : code_) s.quick = kQuickLabels[kUnknown];
  }
  request_ = request;
  stop_ = isa::Stop{};
  stop_.last_pc = cpu_.pc * 2;
  steps_left_ = request.instructions;
  entered_interrupt_ = false;
  fault_ = isa::Fault::kNone;
  if (!observed_.empty()) renew_observed();
  machine_.outputs_.events_wanted = request.events;
  machine_.outputs_.events.clear();
  levels_.clear();
  if ((request.events & isa::bit(isa::EventKind::kEdge)) != 0)
    for (std::size_t i = 0; i < fabric_.ports.size(); ++i)
      levels_.push_back(machine_.world_.ports[i].level);
  if (steps_left_ == 0) return stop_;
  if (boundary(false)) return stop_;

  Frame f(*this);
  if (request.pass_first_breakpoint && !entered_interrupt_) {
    const u32 word = f.word_of(f.slot);
    if (decoded(word).op == avr::kBREAK) goto pass_break;
    if (f.slot->entry.op == kMarked) goto* kPreciseLabels[f.slot->behind];
  }
  goto go_on;

// What follows an instruction. In the precise gear: is it time for something?
#define LUCID_PRECISE()                        \
  do {                                         \
    if (f.now >= f.deadline) goto at_boundary; \
    f.slot = f.next;                           \
    goto* kPreciseLabels[f.slot->entry.op];    \
  } while (false)
// Where a run ends: with time enough for another one, in the quick gear.
#define LUCID_END_OF_RUN()                \
  do {                                    \
    if (f.now >= f.limit) goto run_ended; \
    f.slot = f.next;                      \
    goto* f.slot->quick;                  \
  } while (false)
// Within a run of the quick gear nothing is asked, unless the instruction has left it.
#define LUCID_QUICK(cycles, words, execute) \
  f.now += (cycles);                        \
  f.next = f.slot + (words);                \
  f.left = false;                           \
  execute;                                  \
  if (f.left) LUCID_END_OF_RUN();           \
  f.slot = f.next;                          \
  goto* f.slot->quick;
#define LUCID_LENGTH(id)                                                            \
  (avr::k##id == avr::kLDS || avr::k##id == avr::kSTS || avr::k##id == avr::kJMP || \
           avr::k##id == avr::kCALL                                                 \
       ? 2                                                                          \
       : 1)
#define LUCID_CYCLES(c16, c22) ((c16) == (c22) || !f.wide_pc ? (c16) : (c22))

  // The precise gear. BREAK pauses before it executes.
#define LUCID_AVR_PURE(id, mnemonic, pattern, operands, feature, reads, writes, c16, c22, ...) \
  do_##id : f.now += LUCID_CYCLES(c16, c22);                                                   \
  f.next = f.slot + LUCID_LENGTH(id);                                                          \
  avr::Execute<Frame>::id(f, f.slot->entry);                                                   \
  LUCID_PRECISE();
#define LUCID_AVR(id, mnemonic, pattern, operands, feature, reads, writes, c16, c22, ...) \
  do_##id : if (avr::k##id == avr::kBREAK) goto break_instruction;                        \
  f.now += LUCID_CYCLES(c16, c22);                                                        \
  f.next = f.slot + LUCID_LENGTH(id);                                                     \
  avr::Execute<Frame>::id(f, f.slot->entry);                                              \
  LUCID_END_OF_RUN();
#include "isa/avr/instructions.def"

  // The quick gear.
#define LUCID_AVR(id, mnemonic, pattern, operands, feature, reads, writes, c16, c22, ...) \
  quick_##id : if (avr::k##id == avr::kBREAK) goto precise;                               \
  LUCID_QUICK(LUCID_CYCLES(c16, c22), LUCID_LENGTH(id), (avr::Execute<Frame>::id(f, f.slot->entry)))
#include "isa/avr/instructions.def"
#define LUCID_IF_SET(bit) \
  branch_set_##bit : LUCID_QUICK(1, 1, (branch_on_flag<Frame, bit, true>(f)))
#define LUCID_IF_CLEAR(bit) \
  branch_clear_##bit : LUCID_QUICK(1, 1, (branch_on_flag<Frame, bit, false>(f)))
  LUCID_EACH_FLAG(LUCID_IF_SET)
  LUCID_EACH_FLAG(LUCID_IF_CLEAR)

  // The same with only C, and without flags.
#define LUCID_AVR_PURE(id, mnemonic, pattern, operands, feature, reads, writes, c16, c22, ...) \
  carry_##id : LUCID_QUICK(LUCID_CYCLES(c16, c22), LUCID_LENGTH(id),                           \
                           (avr::Execute<Frame, avr::Seen::kCarry>::id(f, f.slot->entry)))     \
                   quiet_##id                                                                  \
      : LUCID_QUICK(LUCID_CYCLES(c16, c22), LUCID_LENGTH(id),                                  \
                    (avr::Execute<Frame, avr::Seen::kNone>::id(f, f.slot->entry)))
#define LUCID_AVR(id, ...)
#include "isa/avr/instructions.def"

unknown:
  shift_up(f.word_of(f.slot));
  goto* f.slot->quick;
checkpoint:
  if (f.now < f.limit || f.time_for(f.slot)) goto* kQuickLabels[f.slot->behind];
precise:
  goto* kPreciseLabels[f.slot->entry.op];
run_ended:
  if (f.now >= f.deadline) goto at_boundary;
  f.slot = f.next;
  if (f.time_for(f.slot)) goto* f.slot->quick;
  goto* kPreciseLabels[f.slot->entry.op];

pass_break:
  f.next = f.slot + 1;
  f.now += 1;
at_boundary:
  f.store_back();
  if (boundary(true)) return stop_;
  f.fetch();
  f.slot = f.next;
go_on:
  if (f.time_for(f.slot)) goto* f.slot->quick;
  goto* kPreciseLabels[f.slot->entry.op];

undecoded:
  decode_at(f.word_of(f.slot));
  goto* kPreciseLabels[f.slot->entry.op];
undefined:
  note_undefined(f.word_of(f.slot));
  goto* kPreciseLabels[f.slot->behind];
end_of_flash:
  f.slot = f.code;
  goto* kPreciseLabels[f.slot->entry.op];
marked:
  if (request_.marks != nullptr) {
    f.next = f.slot;
    f.store_back();
    if (!request_.marks->ends_run_at(2 * f.word_of(f.slot))) goto* kPreciseLabels[f.slot->behind];
  }
  stop_.why = isa::Stop::Why::kBreakpoint;
  goto not_executed;
break_instruction:
  stop_.why = isa::Stop::Why::kBreakInstruction;
  goto not_executed;
reserved:
  if (!machine_.fault_is_on(flash_word(f.word_of(f.slot)) == 0xffff
                                ? isa::Fault::kErasedFlash
                                : isa::Fault::kReservedInstruction)) {
    f.next = f.slot + 1;
    f.now += 1;
    LUCID_PRECISE();
  }
  stop_.why = isa::Stop::Why::kFault;
  stop_.fault_pc = 2 * f.word_of(f.slot);
  stop_.fault = flash_word(f.word_of(f.slot)) == 0xffff ? isa::Fault::kErasedFlash
                                                        : isa::Fault::kReservedInstruction;
not_executed:
  const u32 last_pc = stop_.last_pc;
  f.next = f.slot;
  f.store_back();
  stop_.last_pc = last_pc;
  return stop_;

#undef LUCID_EACH_FLAG
#undef LUCID_IF_SET
#undef LUCID_IF_CLEAR
#undef LUCID_PRECISE
#undef LUCID_END_OF_RUN
#undef LUCID_QUICK
#undef LUCID_LENGTH
#undef LUCID_CYCLES
}

}  // namespace lucid::chip
