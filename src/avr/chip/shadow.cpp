// SPDX-License-Identifier: MIT
#include "avr/chip/shadow.h"

#include <algorithm>

#include "avr/chip/attributes.h"

namespace lucid::avr {
namespace {

constexpr u32 kRegisters = 32;
constexpr std::size_t kRemembered = 256;  // blocks that have been given back
// Bytes around the blocks: what is accessed there was meant to be in one.
constexpr u32 kNear = 32;
constexpr unsigned kResult = 24;  // the pair of a function's argument and result

u32 pair(const World& world, unsigned n) { return world.data[n] | u32{world.data[n + 1]} << 8; }

}  // namespace

Shadow::Shadow(const AvrMachine& machine, const machine::ValueFollowing& how)
    : listener_(how.listener), how_(std::make_shared<machine::ValueFollowing>(how)) {
  auto words = std::make_shared<std::vector<u8>>(machine.fabric_->flash_span / 2);
  for (const auto& [begin, function] : how.heap)
    if (begin / 2 < words->size())
      (*words)[begin / 2] = static_cast<u8>(static_cast<unsigned>(function) + 1);
  heap_words_ = std::move(words);
  begin(machine);
}

void Shadow::begin(const AvrMachine& machine) {
  unknown_.assign(machine.world_.data.size(), 0);
  from_.resize(unknown_.size());
  left_by_.assign(unknown_.size(), 0);
  for (u32 a = 0; a < unknown_.size(); ++a) {
    if (machine.unwritten_[a] != 0) unknown_[a] = 0xff;
    from_[a] = a;
  }
  if (machine.world_.cpu.now == 0) std::fill_n(unknown_.begin(), kRegisters, u8{0xff});
  pointers_.begin(unknown_.size(), *how_);
  flags_ = {};
  sp_ = machine.world_.cpu.sp;
  calls_.clear();
  blocks_.clear();
  given_back_.clear();
  lowest_block_ = UINT32_MAX;
  highest_block_ = used_ = most_ = 0;
  given_ = refused_ = most_tick_ = 0;
}

std::unique_ptr<Shadow> Shadow::silent() const {
  std::unique_ptr<Shadow> out(new Shadow(*this));
  out->listener_ = nullptr;
  return out;
}

void Shadow::assume(const Shadow& other) {
  machine::ValueListener* const listener = listener_;
  *this = other;
  listener_ = listener;
}

bool Shadow::tell(machine::ValueFault fault) {
  fault.pc = pc_;
  ends_ = ends_ || (listener_ != nullptr && listener_->found(fault));
  return ends_;
}

/// One instruction's effect on what is known.
struct Shadow::Step {
  using Number = Partial;

  Shadow& shadow;
  const AvrMachine& machine;
  const World& world;
  const Entry& entry;
  BasicFlags<Partial>& flags;
  u16 sp;
  /// `eor r, r` and its kind: whatever is in the register, the result is known.
  bool cancels = false;

  Step(Shadow& the_shadow, const AvrMachine& the_machine, const Entry& the_entry)
      : shadow(the_shadow),
        machine(the_machine),
        world(the_machine.world_),
        entry(the_entry),
        flags(the_shadow.flags_),
        sp(world.cpu.sp) {
    switch (entry.op) {
      case kEOR:
      case kSUB:
      case kSBC:
      case kCP:
      case kCPC:
      case kCPSE: cancels = entry.a == entry.b;
    }
  }
  [[nodiscard]] Partial byte(u32 address) const {
    Partial out{world.data[address], shadow.unknown_[address], shadow.from_[address]};
    out.made_from = shadow.pointers_.of(address);
    return out;
  }
  void set_byte(u32 address, const Partial& value) const {
    shadow.pointers_.set(address, value.made_from);
    shadow.unknown_[address] = static_cast<u8>(value.unknown);
    shadow.from_[address] = value.from;
  }
  void judge(Kind kind, const Partial& value) const {
    if (value.unknown == 0) return;
    machine::ValueFault fault;
    fault.kind = kind;
    fault.address = value.from & 0xffffU;
    fault.pins = static_cast<u8>(value.from >> Partial::kPinsShift);
    shadow.tell(fault);
  }
  /// Where an address stands in the code somebody means the register.
  void told_null(u32 address, bool write) const {
    if (entry.op == kLDS || entry.op == kSTS) return;
    machine::ValueFault fault;
    fault.kind = Kind::kNull;
    fault.address = address;
    fault.write = write;
    shadow.tell(fault);
  }
  [[nodiscard]] bool is_memory(u32 address) const {
    return address >= machine.fabric_->device.ram_begin && address < world.data.size();
  }
  [[nodiscard]] bool is_plain(u32 address) const {
    const Fabric& fabric = *machine.fabric_;
    return address < fabric.plain.size() && fabric.plain[address];
  }

  [[nodiscard]] Partial reg(unsigned n) const {
    return cancels && n == entry.a ? Partial(world.data[n]) : byte(n);
  }
  void set_reg(unsigned n, const Partial& value) const { set_byte(n, value); }
  [[nodiscard]] Partial pair(unsigned n) const { return byte(n) | byte(n + 1) << 8U; }
  void set_pair(unsigned n, const Partial& value) const {
    set_byte(n, value);
    set_byte(n + 1, value >> 8U);
    if (const Pointers::Tag counted_on = shadow.pointers_.address(); counted_on != 0)
      for (const unsigned half : {n, n + 1}) shadow.pointers_.set(half, counted_on);
  }
  Partial load(const Partial& data_address) const {
    judge(Kind::kAddress, data_address);
    const u32 address = data_address.value & 0xffffU;
    if (address < kRegisters) {
      told_null(address, false);
      return u32{world.data[address]};
    }
    if (!shadow.leaves_object(machine, entry, Pointers::Memory::kData, address, false) &&
        is_memory(address))
      shadow.touch(machine, address, false);
    if (is_memory(address)) return byte(address);
    if (address == kSregAddress) return flags.low_bits() | u32{flags.i()} << 7U;
    const u32 value = machine.peek({Space::kData, address}).value_or(0);
    if (is_plain(address)) return {value, shadow.unknown_[address], shadow.from_[address]};
    for (const auto& port : machine.fabric_->ports)
      if (port->input() == address) {
        const u32 floating = port->floating(world);
        return {value, floating, address | floating << Partial::kPinsShift};
      }
    return value;
  }
  void store(const Partial& data_address, const Partial& value) const {
    judge(Kind::kAddress, data_address);
    const u32 address = data_address.value & 0xffffU;
    const bool leaves =
        address >= kRegisters &&
        shadow.leaves_object(machine, entry, Pointers::Memory::kData, address, true);
    if (address < kRegisters) {
      told_null(address, true);
      set_byte(address, value);
    } else if (is_memory(address)) {
      if (!leaves) shadow.touch(machine, address, true);
      set_byte(address, value);
    } else if (address == kSregAddress) {
      flags.set_low_bits(value);
      flags.set_i((value.value & kI) != 0);
    } else if (address == kSpl || address == kSph) {
      judge(Kind::kAddress, value & 0xffU);
    } else if (is_plain(address)) {
      set_byte(address, value);
    } else {
      judge(Kind::kOutput, value & 0xffU);
    }
  }
  void store_bits(const Partial& data_address, u8 /*value*/, u8 mask) const {
    if (const u32 address = data_address.value; is_plain(address))
      shadow.unknown_[address] = static_cast<u8>(shadow.unknown_[address] & ~mask);
  }
  void push(const Partial& value) {
    if (is_memory(sp)) entry.op == kPUSH&& makes_room() ? shadow.lose(sp) : set_byte(sp, value);
    --sp;
  }
  /// A compiler makes room for a local by pushing any register, in front of `in r28, SPL`.
  [[nodiscard]] bool makes_room() const {
    constexpr unsigned kMost = 6;  // instructions
    const u32 words = machine.fabric_->flash_span / 2;
    const auto word_at = [&](u32 word) {
      const u32 address = word % words * 2;
      return static_cast<u16>(world.flash[address] | world.flash[address + 1] << 8);
    };
    u32 word = world.cpu.pc;
    for (unsigned i = 0; i < kMost; ++i) {
      const Entry at =
          decode(machine.fabric_->target.core(), word_at(word), word_at(word + 1), word);
      if (at.op == kIN) return at.a == 28 && static_cast<u32>(at.k) + 0x20 == kSpl;
      const bool room = at.op == kRCALL && static_cast<u32>(at.k) == word + 1;
      if (!room && !(at.op == kPUSH && at.a <= 1)) return false;
      ++word;
    }
    return false;
  }
  Partial pop() {
    ++sp;
    if (!is_memory(sp)) return 0;
    const Partial value = byte(sp);
    shadow.lose(sp);
    shadow.left_by_[sp] = shadow.pc_;
    return value;
  }
  [[nodiscard]] bool wide_pc() const { return machine.fabric_->target.core().wide_pc(); }
  /// `rcall .+0` makes room on the stack.
  void push_pc() {
    const u32 next = world.cpu.pc + entry.length;
    const bool room = entry.op == kRCALL && static_cast<u32>(entry.k) == next;
    for (unsigned i = wide_pc() ? 3 : 2; i > 0; --i) {
      if (is_memory(sp)) room ? shadow.lose(sp) : set_byte(sp, 0);
      --sp;
    }
  }
  Partial pop_pc() {
    Partial word;
    if (wide_pc()) word = pop();
    word = word << 8U | pop();
    return word << 8U | pop();
  }
  [[nodiscard]] Partial flash(const Partial& address) const {
    judge(Kind::kAddress, address);
    shadow.leaves_object(machine, entry, Pointers::Memory::kFlash, address.value, false);
    return 0;
  }
  [[nodiscard]] Partial rampz() const { return u32{world.data[kRampzAddress]}; }
  void set_rampz(const Partial& /*value*/) const {}
  [[nodiscard]] Partial eind() const { return u32{world.data[kEindAddress]}; }
  void jump(const Partial& to) const { judge(Kind::kDecision, to); }
  void jump_to(const Entry& /*entry*/) const {}
  void branch_if(const Partial& condition, const Entry& /*entry*/) const {
    if (condition.unknown == 0) return;
    judge(Kind::kDecision, condition);
    // Told once, not by each branch that follows the same comparison.
    Partial known = flags.low_bits();
    known.unknown = 0;
    flags.set_low_bits(known);
  }
  void skip_if(const Partial& condition) const { judge(Kind::kDecision, condition); }
  void set_flag(unsigned bit, bool on) const {
    if (bit == 7) return flags.set_i(on);
    const u32 of = 1U << bit;
    flags.set_low_bits(on ? flags.low_bits() | of : flags.low_bits() & ~of);
  }
  void returned_from_interrupt() const {}
  void sleep() const {}
  void watchdog_reset() const {}
  void self_program() const {}

  void execute() {
    switch (entry.op) {
#define LUCID_AVR(id, ...)           \
  case k##id:                        \
    Execute<Step>::id(*this, entry); \
    break;
#include "avr/isa/instructions.def"
      default: break;
    }
  }
};

bool Shadow::follow(const AvrMachine& machine, const Entry& entry) {
  const CpuState& cpu = machine.world_.cpu;
  pc_ = 2 * cpu.pc;
  ends_ = false;
  const auto& [c, carries, sign, zero, t] = flags_.parts();
  BasicFlags<u32> now;
  now.set_parts({c.value, carries.value, sign.value, zero.value, t.value});
  if (const u32 low = cpu.sreg & 0x7fU; now.low_bits() != low)
    flags_.set_low_bits(low);  // somebody else has changed them
  flags_.set_i((cpu.sreg & kI) != 0);
  settle_stack(machine, entry);
  if (!how_->heap.empty()) follow_heap(machine, cpu.pc);
  Step step(*this, machine, entry);
  pointers_.before(entry);
  step.execute();
  pointers_.after(machine.world_, machine.fabric_->target.core(), entry);
  // A stack pointer is written in halves: it is looked at when both are there.
  if (step.sp != cpu.sp) sp_ = step.sp;
  return ends_;
}

/// What the stack has given up is nobody's.
void Shadow::settle_stack(const AvrMachine& machine, const Entry& entry) {
  const u16 sp = machine.world_.cpu.sp;
  if (sp == sp_) return;
  const u32 written = entry.op == kOUT   ? static_cast<u32>(entry.k) + 0x20
                      : entry.op == kSTS ? static_cast<u32>(entry.k)
                                         : 0;
  if (written >= kSpl && written <= kSregAddress) return;
  if (sp_ > how_->static_end)
    for (u32 a = sp_ + 1U; a <= sp && a < unknown_.size(); ++a) {
      // A stack may be in the heap, and another one be switched to.
      if (a < highest_block_ && block_at(a) != blocks_.end()) continue;
      lose(a);
      left_by_[a] = pc_;
    }
  sp_ = sp;
}

void Shadow::entered(const AvrMachine& machine) {
  sp_ = machine.world_.cpu.sp;
  const unsigned bytes = machine.fabric_->target.core().wide_pc() ? 3 : 2;
  for (u32 a = sp_ + 1U; a <= sp_ + bytes && a < unknown_.size(); ++a) written(a);
  flags_.set_i(false);
}

void Shadow::touch(const AvrMachine& machine, u32 address, bool write) {
  const u16 sp = machine.world_.cpu.sp;
  if (address < how_->static_end || address > sp || in_allocator()) return;
  machine::ValueFault fault;
  fault.address = address;
  fault.write = write;
  if (block_at(address) != blocks_.end()) return;
  if (left_by_[address] == 0 && address + kNear >= lowest_block_ &&
      address < highest_block_ + kNear) {
    fault.kind = Kind::kOutsideBlock;
    auto block = blocks_.upper_bound(address);  // behind the one below, or before the first
    if (block != blocks_.begin()) --block;
    if (block != blocks_.end()) {
      fault.begin = block->first;
      fault.bytes = block->second.bytes;
      fault.by = block->second.by;
    }
    for (const machine::HeapBlock& old : given_back_) {
      if (address < old.begin || address >= old.begin + old.bytes) continue;
      fault.kind = Kind::kFreed;
      fault.begin = old.begin;
      fault.bytes = old.bytes;
      fault.by = old.by;
    }
    tell(fault);
  } else if (left_by_[address] != 0) {
    fault.kind = Kind::kGone;
    fault.by = left_by_[address];
    tell(fault);
  }
}

/// Does an access lead out of the object that its address has been made from? Tells it.
bool Shadow::leaves_object(const AvrMachine& machine, const Entry& entry, Pointers::Memory memory,
                           u32 address, bool write) {
  if (pointers_.address() == 0 || in_allocator()) return false;
  machine::ValueFault fault;
  fault.address = address;
  fault.write = write;
  fault.in_code = memory == Pointers::Memory::kFlash;
  if (const auto begin = pointers_.heap_block()) {
    const auto block = blocks_.find(*begin);
    // Of one that has been given back, what is there now tells.
    if (block == blocks_.end() || (address >= *begin && address < *begin + block->second.bytes))
      return false;
    fault.kind = Kind::kOutsideBlock;
    fault.begin = *begin;
    fault.bytes = block->second.bytes;
    fault.by = block->second.by;
  } else if (const auto outside = pointers_.accessed(machine.world_, entry, memory, address)) {
    fault.kind = Kind::kOutside;
    fault.begin = outside->begin;
    fault.bytes = outside->bytes;
    fault.by = outside->made_at;
  } else {
    return false;
  }
  tell(fault);
  return true;
}

std::map<u32, Shadow::Block>::const_iterator Shadow::block_at(u32 address) const {
  const auto above = blocks_.upper_bound(address);
  if (above == blocks_.begin()) return blocks_.end();
  const auto block = std::prev(above);
  return address < block->first + block->second.bytes ? block : blocks_.end();
}

// The heap ----------------------------------------------------------------------------------------

void Shadow::follow_heap(const AvrMachine& machine, u32 word) {
  const u16 sp = machine.world_.cpu.sp;
  if (!calls_.empty() && word == calls_.back().back && sp == calls_.back().sp) {
    const Call call = calls_.back();
    calls_.pop_back();
    returned(machine, call);
  }
  if (!calls_.empty() && sp > calls_.back().sp) calls_.clear();  // left by another way
  const u8 function = (*heap_words_)[word];
  if (function != 0 && calls_.empty())
    call(machine, static_cast<machine::HeapFunction>(function - 1));
}

/// Arguments and results as by the compiler's calling convention.
void Shadow::call(const AvrMachine& machine, machine::HeapFunction function) {
  using machine::HeapFunction;
  constexpr unsigned kFirst = kResult, kSecond = 22;
  const World& world = machine.world_;
  const unsigned return_bytes = machine.fabric_->target.core().wide_pc() ? 3 : 2;
  Call made{function};
  made.sp = static_cast<u16>(world.cpu.sp + return_bytes);
  for (unsigned i = 1; i <= return_bytes; ++i)
    made.back = made.back << 8 | machine.peek({Space::kData, world.cpu.sp + i}).value_or(0);
  made.by = made.back == 0 ? 0 : 2 * made.back - 2;
  const u32 first = pair(world, kFirst), second = pair(world, kSecond);
  switch (function) {
    case HeapFunction::kMalloc: made.bytes = first; break;
    case HeapFunction::kCalloc: made.bytes = first * second & 0xffffU; break;
    case HeapFunction::kRealloc:
      made.block = first;
      made.bytes = second;
      break;
    case HeapFunction::kFree: made.block = first; break;
  }
  if (made.block != 0 && blocks_.count(made.block) == 0) {
    machine::ValueFault fault;
    fault.kind = Kind::kNeverGiven;
    fault.address = fault.begin = made.block;
    for (const machine::HeapBlock& old : given_back_) {
      if (old.begin != made.block) continue;
      fault.kind = Kind::kFreedAgain;
      fault.bytes = old.bytes;
      fault.by = old.by;
    }
    pc_ = made.by;
    tell(fault);
    pc_ = 2 * world.cpu.pc;
  }
  if (function == HeapFunction::kFree) give_back(made.block, made.by);
  calls_.push_back(made);
}

void Shadow::returned(const AvrMachine& machine, const Call& call) {
  using machine::HeapFunction;
  if (call.function == HeapFunction::kFree) return;
  const u32 begin = pair(machine.world_, kResult);
  if (begin == 0) {
    refused_ += call.bytes != 0 ? 1 : 0;
    return;
  }
  u32 kept = call.function == HeapFunction::kCalloc ? call.bytes : 0;
  if (call.function == HeapFunction::kRealloc && call.block != 0) {
    if (const auto old = blocks_.find(call.block); old != blocks_.end()) {
      kept = old->second.bytes;
      if (begin == call.block) {
        used_ -= kept;
        blocks_.erase(old);
      } else {
        give_back(call.block, call.by);
      }
    }
  }
  const u32 end = std::min<u32>(begin + call.bytes, static_cast<u32>(unknown_.size()));
  for (u32 a = begin + kept; a < end; ++a) lose(a);
  for (u32 a = begin; a < end; ++a) left_by_[a] = 0;
  pointers_.set_heap(kResult, begin);
  given_back_.erase(std::remove_if(given_back_.begin(), given_back_.end(),
                                   [&](const machine::HeapBlock& old) {
                                     return old.begin < end && begin < old.begin + old.bytes;
                                   }),
                    given_back_.end());
  blocks_[begin] = {call.bytes, call.by, machine.ticks()};
  lowest_block_ = std::min(lowest_block_, begin);
  highest_block_ = std::max(highest_block_, end);
  ++given_;
  used_ += call.bytes;
  if (used_ <= most_) return;
  most_ = used_;
  most_tick_ = machine.ticks();
}

void Shadow::give_back(u32 begin, u32 by) {
  const auto found = blocks_.find(begin);
  if (found == blocks_.end()) return;
  used_ -= found->second.bytes;
  given_back_.push_back({begin, found->second.bytes, by, 0});
  if (given_back_.size() > kRemembered) given_back_.pop_front();
  blocks_.erase(found);
}

machine::Heap Shadow::heap() const {
  machine::Heap out;
  for (const auto& [begin, block] : blocks_)
    out.blocks.push_back({begin, block.bytes, block.by, block.tick});
  out.given = given_;
  out.refused = refused_;
  out.used = used_;
  out.most = most_;
  out.most_tick = most_tick_;
  return out;
}

}  // namespace lucid::avr
