// SPDX-License-Identifier: MIT
#include "chip/engine.h"

#include <fmt/format.h>

#include "isa/avr/execute.h"

namespace lucid::chip {
namespace {

// A request to pause is looked at at least this often.
constexpr u64 kPauseGrain = 100'000;
constexpr u16 kSpl = 0x5d, kSph = 0x5e, kSregAddress = 0x5f;
constexpr u16 kSmcr = 0x53, kRampz = 0x5b, kEind = 0x5c;

/// What the quick gear has to know of a row.
struct RunTraits {
  bool pure;        ///< registers, flags and flash only
  bool only_flags;  ///< a comparison
  u8 reads;         ///< flags, as bits of the status register
  u8 writes;
};

constexpr u8 flag_bits(std::string_view letters) {
  unsigned bits = 0;
  for (const char letter : letters) bits |= 1U << std::string_view("CZNVSHTI").find(letter);
  return static_cast<u8>(bits);
}

constexpr RunTraits kRunTraits[] = {
#define LUCID_AVR_PURE(id, mnemonic, pattern, operands, feature, reads, writes, ...) \
  {true, std::string_view(mnemonic).substr(0, 2) == "cp", flag_bits(reads), flag_bits(writes)},
#define LUCID_AVR(id, ...) {false, false, 0, 0},
#include "isa/avr/instructions.def"
};

}  // namespace

Engine::Engine(AvrMachine& machine)
    : machine_(machine),
      cpu_(machine.world_.cpu),
      fabric_(*machine.fabric_),
      code_(fabric_.row.flash / 2 + 2),
      attributes_(0x10000, kUnmapped) {
  const u32 words = fabric_.row.flash / 2;
  for (u32 i = 0; i < words; ++i) code_[i].entry.op = kUndecoded;
  code_[words].entry.op = code_[words + 1].entry.op = kEndOfFlash;
  for (u32 a = 0; a < fabric_.row.ram_end; ++a)
    attributes_[a] = a < 0x20 ? kNotRam : a < fabric_.row.ram_begin ? kIo : 0;
  guard(machine.guard_begin_, machine.guard_end_);
  for (const u32 word : machine.breakpoints_) mark(word, true);
}

u16 Engine::flash_word(u32 word) const {
  const PagedMemory& flash = machine_.world_.flash;
  const u32 address = word * 2 % flash.size();
  return static_cast<u16>(flash[address] | flash[address + 1] << 8);
}

avr::Entry Engine::decoded(u32 word) const {
  avr::Entry entry =
      avr::decode(fabric_.target.core(), flash_word(word), flash_word(word + 1), word);
  if (entry.op == avr::kNoOp) entry.op = kReserved;
  return entry;
}

void Engine::decode_at(u32 word) {
  code_[word].entry = decoded(word);
  if (avr::result_is_undefined(code_[word].entry)) code_[word].entry.op = kUndefined;
}

void Engine::forget(u32 word) {
  forget_run(word);
  for (const u32 w : {word, word - 1}) {  // it may be the second word of the one before
    if (w >= fabric_.row.flash / 2) continue;
    if (code_[w].entry.op == kMarked)
      mark(w, true);
    else
      code_[w].entry.op = kUndecoded;
  }
}

/// What the quick gear decided for the words before may rest on this one.
void Engine::forget_run(u32 word) {
  if (quick_labels_ == nullptr) return;
  for (u32 w = word > 2 * kRunWords ? word - 2 * kRunWords : 0; w <= word; ++w)
    code_[w].quick = quick_labels_[kUnknown];
}

void Engine::mark(u32 word, bool on) {
  forget_run(word);
  code_[word].entry = avr::Entry{};
  code_[word].entry.op = kUndecoded;
  if (on) {
    const avr::Entry entry = decoded(word);
    behind_marks_[word] = entry;
    code_[word].entry.op = kMarked;
    code_[word].entry.length = entry.length;
  } else {
    behind_marks_.erase(word);
  }
}

void Engine::guard(u32 begin, u32 end) {
  for (u8& attribute : attributes_) attribute = static_cast<u8>(attribute & ~unsigned{kGuarded});
  for (u32 a = begin; a < end && a < attributes_.size(); ++a) attributes_[a] |= kGuarded;
}

// The quick gear's view of a word
// -------------------------------------------------------------------

/// Decides what the quick gear does at a word.
void Engine::shift_up(u32 word) {
  if (code_[word].entry.op == kUndecoded) decode_at(word);
  const u8 op = code_[word].entry.op;
  unsigned what = op;
  if (op >= avr::kOpCount) {
    what = kPrecise;
  } else if (word % kRunWords == 0) {
    what = kCheckpoint;
  } else if (kRunTraits[op].pure) {
    const unsigned seen = flags_seen_behind(word) & kRunTraits[op].writes;
    if (seen == 0)
      what = kQuiet + op;
    else if (seen == avr::kC)
      what = kCarry + op;
  }
  code_[word].quick = quick_labels_[what];
}

/// The flags behind an instruction that something could see: an instruction whose own result is
/// seen, or a look from outside at a place where the run may end.
unsigned Engine::flags_seen_behind(u32 word) {
  std::array<const RunTraits*, kRunWords> run{};
  unsigned length = 0;
  for (u32 w = word + code_[word].entry.length; w % kRunWords != 0 && w + 2 < code_.size();) {
    if (code_[w].entry.op == kUndecoded) decode_at(w);
    const u8 op = code_[w].entry.op;
    if (op >= avr::kOpCount || !kRunTraits[op].pure) break;
    run[length++] = &kRunTraits[op];
    w += code_[w].entry.length;
  }
  unsigned seen = 0xff;
  while (length > 0) {
    const RunTraits& traits = *run[--length];
    // CPC, SBC and SBCI read Z only to keep it: that matters if their own Z is seen. A comparison
    // leaves nothing but flags.
    unsigned reads = traits.reads;
    if ((traits.writes & seen & avr::kZ) == 0) reads &= ~unsigned{avr::kZ};
    if (traits.only_flags && (traits.writes & seen) == 0) reads = 0;
    seen = (seen & ~unsigned{traits.writes}) | reads;
  }
  return seen;
}

// Slow paths: everything that is not plain memory ------------------------------------------------

void Engine::raise(isa::Fault fault, u32 address) {
  if (fault_ != isa::Fault::kNone) return;  // the first one is the cause
  fault_ = fault;
  fault_address_ = address;
  deadline_ = 0;
}

void Engine::note_unmodelled(u16 address) {
  std::string name;
  for (const IoRegister& io : fabric_.info.io)
    if (io.address == address && io.bytes == 1) name = io.name + " (" + io.peripheral + ")";
  if (name.empty())
    bus().note(fmt::format("I/O address {:#04x}: there is no register here on {}", address,
                           fabric_.info.name));
  else
    bus().note(name + " is not modelled: it behaves as memory");
}

u8 Engine::slow_load(u16 address) {
  if ((attributes_[address] & kUnmapped) != 0) {
    raise(isa::Fault::kOutsideMemory, address);
    return 0;
  }
  const Peripheral* owner = fabric_.owner[address];
  if (owner == nullptr) {
    if (!fabric_.plain[address]) note_unmodelled(address);
    return machine_.world_.data[address];
  }
  const u64 t = cpu_.now - 1;
  fire_due(t);
  const u8 value = owner->read(bus(), address, t);
  set_deadline();
  return value;
}

void Engine::slow_store(u16 address, u8 value, u8 mask) {
  if ((attributes_[address] & kUnmapped) != 0) {
    raise(isa::Fault::kOutsideMemory, address);
    return;
  }
  if (const Peripheral* owner = fabric_.owner[address]; owner != nullptr) {
    const u64 t = cpu_.now - 1;
    fire_due(t);
    owner->write(bus(), address, value, mask, t);
    set_deadline();
  } else {
    if (!fabric_.plain[address]) note_unmodelled(address);
    u8& byte = machine_.world_.data[address];
    byte = merged(byte, value, mask);
  }
}

void Engine::note_undefined(u32 word) {
  Instruction instruction = machine_.instruction_at(word * 2);
  bus().note(fmt::format("{:#06x}: `{} {}`: the manual leaves its result undefined", word * 2,
                         instruction.mnemonic, instruction.operands));
}

void Engine::fall_asleep() {
  const unsigned smcr = machine_.world_.data[kSmcr];
  if ((smcr & 1U) == 0) {
    bus().note("SLEEP was executed while SE is 0: it does nothing");
    return;
  }
  if ((smcr & 0xeU) != 0)
    bus().note("only idle sleep is modelled: deeper modes stop no clock here");
  cpu_.asleep = true;
  deadline_ = 0;
}

// Boundaries
// ---------------------------------------------------------------------------------------

void Engine::fire_due(u64 until) {
  World& world = machine_.world_;
  for (unsigned slot = world.next_event(); world.due[slot] <= until; slot = world.next_event()) {
    const u64 due = world.due[slot];
    world.due[slot] = kNever;
    fabric_.slot_owner[slot]->on_event(bus(), slot, due);
  }
}

void Engine::set_deadline() {
  const World& world = machine_.world_;
  const bool interrupt = cpu_.pending != 0 && (cpu_.sreg & avr::kI) != 0;
  if (interrupt || cpu_.hold != 0 || cpu_.asleep || fault_ != isa::Fault::kNone ||
      request_.instructions != UINT64_MAX || request_.within_begin) {
    deadline_ = 0;
    return;
  }
  deadline_ =
      std::min({request_.until_ticks, world.due[world.next_event()], cpu_.now + kPauseGrain});
}

bool Engine::end(isa::Stop::Why why) {
  stop_.why = why;
  return true;
}

bool Engine::enter_interrupt() {
  unsigned vector = 0;
  while ((cpu_.pending >> vector & 1U) == 0) ++vector;
  const unsigned bytes = fabric_.target.core().wide_pc() ? 3 : 2;
  for (unsigned i = 0; i < bytes; ++i) {
    if ((attributes_[cpu_.sp] & kSlowStack) != 0) raise(isa::Fault::kStackOutsideRam, cpu_.sp);
    if ((attributes_[cpu_.sp] & (kUnmapped | kIo)) == 0)
      machine_.world_.data[cpu_.sp] = static_cast<u8>(cpu_.pc >> (8 * i));
    --cpu_.sp;
  }
  machine_.lowest_sp_ = std::min<u32>(machine_.lowest_sp_, cpu_.sp);
  cpu_.sreg = static_cast<u8>(cpu_.sreg & ~unsigned{avr::kI});
  cpu_.pc = machine_.vector_word(vector);
  cpu_.now += bytes == 3 ? 5 : 4;
  entered_interrupt_ = true;
  stop_.interrupt = static_cast<int>(vector);
  fabric_.vector_owner[vector]->on_vector(bus(), vector);
  if (--steps_left_ == 0) return end(isa::Stop::Why::kInstructions);
  return request_.stop_at_interrupt && end(isa::Stop::Why::kInterruptEntered);
}

bool Engine::boundary(bool executed) {
  for (;;) {
    fire_due(cpu_.now);
    if (executed && cpu_.hold != 0) --cpu_.hold;
    if (fault_ != isa::Fault::kNone) {
      stop_.fault = std::exchange(fault_, isa::Fault::kNone);
      stop_.fault_pc = stop_.last_pc;
      stop_.fault_address = fault_address_;
      return end(isa::Stop::Why::kFault);
    }
    if (executed) {
      if (--steps_left_ == 0) return end(isa::Stop::Why::kInstructions);
      if (request_.within_begin &&
          (cpu_.pc * 2 < *request_.within_begin || cpu_.pc * 2 >= request_.within_end))
        return end(isa::Stop::Why::kLeftRange);
    }
    if (cpu_.now >= request_.until_ticks) return end(isa::Stop::Why::kTime);
    if (request_.pause_requested != nullptr && request_.pause_requested->load())
      return end(isa::Stop::Why::kRequested);

    const bool enabled = (cpu_.sreg & avr::kI) != 0;
    const bool interrupt =
        cpu_.pending != 0 && enabled && cpu_.hold == 0 && cpu_.now >= cpu_.ivce_until;
    if (cpu_.asleep) {
      if (cpu_.pending != 0 && enabled) {  // four more cycles to wake up
        cpu_.asleep = false;
        cpu_.now += 4;
        executed = false;
        continue;
      }
      const World& world = machine_.world_;
      const u64 next = world.due[world.next_event()];
      if (request_.endless && (next == kNever || !enabled)) {
        stop_.fault = isa::Fault::kNeverWakes;
        stop_.fault_pc = stop_.last_pc;
        return end(isa::Stop::Why::kFault);
      }
      cpu_.now = std::min(next, request_.until_ticks);
      executed = true;  // for who counts steps, a stretch of sleep is one
      continue;
    }
    if (interrupt) {
      if (enter_interrupt()) return true;
      executed = false;
      continue;
    }
    set_deadline();
    if (cpu_.now < cpu_.ivce_until) deadline_ = 0;
    return false;
  }
}

// The run
// ------------------------------------------------------------------------------------------

/// The hot state, in local variables of run(). Slow paths get it through the world: no pointer to
/// a Frame leaves run(), so the compiler can keep it in registers.
struct Engine::Frame {
  static constexpr bool kOnlyCarry = false;
  Engine& engine;
  CpuState& cpu;
  u8* const r;  ///< data space; the registers are its first 32 bytes
  const u8* const attributes;
  Slot* const code;
  const u32 pc_mask;
  const bool wide_pc;
  u64 now = 0;
  u64 deadline = 0;
  u32 pc = 0;
  u32 lowest_sp = 0;
  u16 sp = 0;
  u8 sreg = 0;
  bool slow = false;  ///< the last access was not to plain memory

  explicit Frame(Engine& e)
      : engine(e),
        cpu(e.cpu_),
        r(e.machine_.world_.data.data()),
        attributes(e.attributes_.data()),
        code(e.code_.data()),
        pc_mask(e.fabric_.row.flash / 2 - 1),
        wide_pc(e.fabric_.target.core().wide_pc()) {
    fetch();
  }
  void store_back() {
    cpu.now = now;
    cpu.pc = pc;
    cpu.sp = sp;
    cpu.sreg = sreg;
    engine.machine_.lowest_sp_ = lowest_sp;
    engine.deadline_ = deadline;
  }
  void fetch() {
    slow = true;
    now = cpu.now;
    pc = cpu.pc;
    sp = cpu.sp;
    sreg = cpu.sreg;
    lowest_sp = engine.machine_.lowest_sp_;
    deadline = engine.deadline_;
  }

  u8 load(u16 address) {
    if ((attributes[address] & kSlowAccess) == 0) return r[address];
    return load_io(address);
  }
  u8 load_io(u16 address) {
    if (address == kSregAddress) return sreg;
    if (address == kSpl) return static_cast<u8>(sp);
    if (address == kSph) return static_cast<u8>(sp >> 8);
    store_back();
    const u8 value = engine.slow_load(address);
    fetch();
    return value;
  }
  void store(u16 address, u8 value) {
    if ((attributes[address] & kSlowAccess) == 0)
      r[address] = value;
    else
      store_bits(address, value, 0xff);
  }
  void store_bits(u16 address, u8 value, u8 mask) {
    if (address == kSregAddress) {
      if ((value & ~unsigned{sreg} & avr::kI) != 0) turned_on_interrupts();
      sreg = value;
      slow = true;
    } else if (address == kSpl) {
      sp = static_cast<u16>((sp & 0xff00U) | value);
      if (sp < lowest_sp) lowest_sp = sp;
    } else if (address == kSph) {
      sp = static_cast<u16>((sp & 0xffU) | value << 8);
    } else {
      store_back();
      engine.slow_store(address, value, mask);
      fetch();
    }
  }
  void push(u8 value) {
    if ((attributes[sp] & kSlowStack) == 0) {
      r[sp] = value;
    } else {
      stack_fault();
      store(sp, value);
    }
    --sp;
    if (sp < lowest_sp) lowest_sp = sp;
  }
  u8 pop() {
    ++sp;
    if ((attributes[sp] & (kSlowStack & ~kGuarded)) == 0) return r[sp];
    stack_fault();
    return load(sp);
  }
  void stack_fault() {
    store_back();
    const bool guarded = (attributes[sp] & kGuarded) != 0;
    engine.raise(guarded ? isa::Fault::kStackIntoData : isa::Fault::kStackOutsideRam, sp);
    fetch();
  }
  void push_pc() {
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
    const PagedMemory& memory = engine.machine_.world_.flash;
    return memory[address & (2 * pc_mask + 1)];
  }
  [[nodiscard]] u8 rampz() const { return r[kRampz]; }
  void set_rampz(u8 value) const { r[kRampz] = value; }
  [[nodiscard]] u8 eind() const { return r[kEind]; }
  void jump(u32 word) { pc = word & pc_mask; }
  void took_branch() { ++now; }
  void skip() {
    if (code[pc].entry.op == kUndecoded) engine.decode_at(pc);
    const u8 length = code[pc].entry.length;
    pc += length;
    now += length;
  }
  void turned_on_interrupts() {
    cpu.hold = 2;
    deadline = 0;
  }
  void returned_from_interrupt() { turned_on_interrupts(); }
  void sleep() {
    store_back();
    engine.fall_asleep();
    fetch();
  }
  void watchdog_reset() const {}
  void self_program() {
    store_back();
    engine.bus().note("SPM: self-programming is not modelled; flash is unchanged");
    fetch();
  }
};

/// A Frame with a status register of its own, of which at most C is kept: for instructions whose
/// flags cannot be seen.
struct Engine::Quiet {
  static constexpr bool kOnlyCarry = true;
  const Frame& frame;
  u8* const r;
  u8 sreg;
  [[nodiscard]] u8 flash(u32 address) const { return frame.flash(address); }
};

__attribute__((flatten)) isa::Stop Engine::run(const isa::RunRequest& request) {
  // Where each entry is executed, in the precise gear and in the quick one.
  static const void* const kPreciseLabels[kLabels] = {
#define LUCID_AVR(id, ...) &&do_##id,
#include "isa/avr/instructions.def"
      &&undecoded, &&marked, &&undefined, &&end_of_flash, &&reserved};
  static const void* const kQuickLabels[] = {
#define LUCID_AVR_PURE(id, ...) &&quick_##id,
#define LUCID_AVR_MEMORY(id, ...) &&quick_##id,
#define LUCID_AVR(id, ...) &&quick_##id,
#include "isa/avr/instructions.def"
      &&unknown,
      &&checkpoint,
      &&precise,
#define LUCID_AVR_PURE(id, ...) &&carry_##id,
#define LUCID_AVR_MEMORY(id, ...) &&precise,
#define LUCID_AVR(id, ...) &&precise,
#include "isa/avr/instructions.def"
#define LUCID_AVR_PURE(id, ...) &&quiet_##id,
#define LUCID_AVR_MEMORY(id, ...) &&precise,
#define LUCID_AVR(id, ...) &&precise,
#include "isa/avr/instructions.def"
  };

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
  // Running off the end of flash leaves the counter there until the next dispatch: wrap it first.
  cpu_.pc &= fabric_.row.flash / 2 - 1;
  if (steps_left_ == 0) return stop_;
  if (boundary(false)) return stop_;

  // f.pc is behind the instruction while it executes. Within a run of the quick gear it stands
  // still: `slot` alone moves, and f.pc is set again where the run ends.
  Frame f(*this);
  const Slot* slot = &f.code[f.pc];
  Slot shadow;  // what stands behind a marked or annotated slot
  u32 shadow_pc = 0;
  if (request.pass_first_breakpoint && !entered_interrupt_ &&
      (slot->entry.op == kMarked || slot->entry.op == avr::kBREAK ||
       (slot->entry.op == kUndecoded && decoded(f.pc).op == avr::kBREAK))) {
    const auto behind = behind_marks_.find(f.pc);
    shadow.entry = behind != behind_marks_.end() ? behind->second : decoded(f.pc);
    shadow_pc = f.pc;
    slot = &shadow;
    if (shadow.entry.op == avr::kBREAK) goto pass_break;
  }
  goto* kPreciseLabels[slot->entry.op];

#define LUCID_PRECISE()                        \
  do {                                         \
    if (f.now >= f.deadline) goto at_boundary; \
    slot = &f.code[f.pc];                      \
    goto* kPreciseLabels[slot->entry.op];      \
  } while (false)
// Where a run ends: with time enough for another one, in the quick gear.
#define LUCID_END_OF_RUN()                 \
  do {                                     \
    if (f.now + kRunCycles < f.deadline) { \
      slot = &f.code[f.pc];                \
      goto * slot->quick;                  \
    }                                      \
    LUCID_PRECISE();                       \
  } while (false)
#define LUCID_LENGTH(id)                                                            \
  (avr::k##id == avr::kLDS || avr::k##id == avr::kSTS || avr::k##id == avr::kJMP || \
           avr::k##id == avr::kCALL                                                 \
       ? 2U                                                                         \
       : 1U)
#define LUCID_CYCLES(c16, c22) ((c16) == (c22) || !f.wide_pc ? (c16) : (c22))

  // The precise gear: one block an instruction, from the table. BREAK pauses before it executes.
  // What ends a run is the same block in both gears.
#define LUCID_AVR_PURE(id, mnemonic, pattern, operands, feature, reads, writes, c16, c22, ...) \
  do_##id : f.pc += LUCID_LENGTH(id);                                                          \
  f.now += LUCID_CYCLES(c16, c22);                                                             \
  avr::Execute<Frame>::id(f, slot->entry);                                                     \
  LUCID_PRECISE();
#define LUCID_AVR_MEMORY LUCID_AVR_PURE
#define LUCID_AVR(id, mnemonic, pattern, operands, feature, reads, writes, c16, c22, ...) \
  quick_##id : f.pc = static_cast<u32>(slot - f.code);                                    \
  do_##id : if (avr::k##id == avr::kBREAK) goto break_instruction;                        \
  f.pc += LUCID_LENGTH(id);                                                               \
  f.now += LUCID_CYCLES(c16, c22);                                                        \
  avr::Execute<Frame>::id(f, slot->entry);                                                \
  LUCID_END_OF_RUN();
#include "isa/avr/instructions.def"

  // The quick gear: no comparison, unless a data access was not to plain memory.
#define LUCID_AVR_PURE(id, mnemonic, pattern, operands, feature, reads, writes, c16, c22, ...) \
  quick_##id : f.now += LUCID_CYCLES(c16, c22);                                                \
  avr::Execute<Frame>::id(f, slot->entry);                                                     \
  slot += LUCID_LENGTH(id);                                                                    \
  goto * slot->quick;
#define LUCID_AVR_MEMORY(id, mnemonic, pattern, operands, feature, reads, writes, c16, c22, ...) \
  quick_##id : f.pc = static_cast<u32>(slot - f.code) + LUCID_LENGTH(id);                        \
  f.now += LUCID_CYCLES(c16, c22);                                                               \
  f.slow = false;                                                                                \
  avr::Execute<Frame>::id(f, slot->entry);                                                       \
  if (f.slow) LUCID_END_OF_RUN();                                                                \
  slot += LUCID_LENGTH(id);                                                                      \
  goto * slot->quick;
#define LUCID_AVR(id, ...)
#include "isa/avr/instructions.def"

  // The same with only C, and without flags.
#define LUCID_AVR_PURE(id, mnemonic, pattern, operands, feature, reads, writes, c16, c22, ...) \
  carry_##id : f.now += LUCID_CYCLES(c16, c22);                                                \
  {                                                                                            \
    Quiet q{f, f.r, f.sreg};                                                                   \
    avr::Execute<Quiet>::id(q, slot->entry);                                                   \
    f.sreg = static_cast<u8>((f.sreg & ~unsigned{avr::kC}) | (q.sreg & avr::kC));              \
  }                                                                                            \
  slot += LUCID_LENGTH(id);                                                                    \
  goto * slot->quick;                                                                          \
  quiet_##id : f.now += LUCID_CYCLES(c16, c22);                                                \
  {                                                                                            \
    Quiet q{f, f.r, f.sreg};                                                                   \
    avr::Execute<Quiet>::id(q, slot->entry);                                                   \
  }                                                                                            \
  slot += LUCID_LENGTH(id);                                                                    \
  goto * slot->quick;
#define LUCID_AVR_MEMORY(id, ...)
#define LUCID_AVR(id, ...)
#include "isa/avr/instructions.def"

unknown:
  shift_up(static_cast<u32>(slot - f.code));
  goto * slot->quick;
checkpoint:
  if (f.now + kRunCycles < f.deadline) goto* kQuickLabels[slot->entry.op];
precise:
  f.pc = static_cast<u32>(slot - f.code);
  LUCID_PRECISE();

pass_break:
  f.pc += 1;
  f.now += 1;
at_boundary:
  f.store_back();
  stop_.last_pc = 2 * (slot == &shadow ? shadow_pc : static_cast<u32>(slot - f.code));
  if (boundary(true)) return stop_;
  f.fetch();
  slot = &f.code[f.pc];
  goto* kPreciseLabels[slot->entry.op];

undecoded:
  decode_at(f.pc);
  goto* kPreciseLabels[slot->entry.op];
undefined:
  note_undefined(f.pc);
  shadow.entry = decoded(f.pc);
  shadow_pc = f.pc;
  slot = &shadow;
  goto* kPreciseLabels[slot->entry.op];
end_of_flash:
  f.pc &= f.pc_mask;
  slot = &f.code[f.pc];
  goto* kPreciseLabels[slot->entry.op];
marked:
  f.store_back();
  stop_.why = isa::Stop::Why::kBreakpoint;
  return stop_;
break_instruction:
  f.store_back();
  stop_.why = isa::Stop::Why::kBreakInstruction;
  return stop_;
reserved:
  f.store_back();
  stop_.why = isa::Stop::Why::kFault;
  stop_.fault =
      flash_word(f.pc) == 0xffff ? isa::Fault::kErasedFlash : isa::Fault::kReservedInstruction;
  stop_.fault_pc = 2 * f.pc;
  return stop_;

#undef LUCID_PRECISE
#undef LUCID_END_OF_RUN
#undef LUCID_LENGTH
#undef LUCID_CYCLES
}

}  // namespace lucid::chip
