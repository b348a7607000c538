// SPDX-License-Identifier: MIT
#include "avr/chip/engine.h"

#include <fmt/format.h>

#include <map>
#include <mutex>
#include <new>

#include "avr/chip/counter.h"
#include "avr/chip/shadow.h"
#include "avr/isa/flags.h"

namespace lucid::avr {

Engine::Engine(AvrMachine& machine)
    : machine_(machine),
      cpu_(machine.world_.cpu),
      fabric_(*machine.fabric_),
      pages_(fresh(machine)),
      attributes_(static_cast<u8*>(pages_.data())),
      table_(reinterpret_cast<const void**>(attributes_ + kAttributes)),
      code_(reinterpret_cast<Slot*>(table_ + fabric_.flash_span / 2 + 1)) {
  const u8 unwritten = machine.check_unwritten_ ? kUnwritten | kUnreadable : u8{kUnwritten};
  u8* const attributes = attributes_;  // beside each other in registers
  const u8* const marks = machine.unwritten_.data();
  const auto end = static_cast<u32>(machine.world_.data.size());
  for (u32 a = fabric_.device.ram_begin; a < end; ++a)
    attributes[a] = static_cast<u8>(attributes[a] | (marks[a] != 0 ? unwritten : 0));
  for (u32 a = machine.guard_begin_; a < machine.guard_end_; ++a) renew_attributes(a);
  for (const auto& [address, kinds] : machine.watched_)
    if (address.space == Space::kData) renew_attributes(address.offset);
  renew_observed();
  for (const u32 word : machine.breakpoints_) mark(word, true);
}

Engine::~Engine() {
  if (machine_.counter_ != nullptr) fold();
}

void Engine::fold() {
  if (translator_) translator_->each([this](const Code& code) { machine_.counter_->fold(code); });
}

namespace {
u8 plain_attribute(u32 address, u32 ram_begin, u32 ram_end) {
  unsigned attribute = 0;
  if (address < 0x20) attribute |= kNotRam;
  if (address >= 0x20 && address < ram_begin) attribute |= kIo;
  if (address >= ram_end) attribute |= kIo;
  return static_cast<u8>(attribute);
}
}  // namespace

/// What an engine begins with, the same for all chips with such memories: attributes of data
/// addresses, a table that leads out everywhere, slots of a flash of which nothing is known yet.
std::shared_ptr<const base::Pattern> Engine::fresh(const AvrMachine& machine) {
  const Device& device = machine.fabric_->device;
  const u32 words = machine.fabric_->flash_span / 2;
  const auto data_end = static_cast<u32>(machine.world_.data.size());
  const bool quick = machine.translate_after() > 0 && Translator::works();
  static std::mutex mutex;
  static std::map<std::array<u32, 5>, std::shared_ptr<const base::Pattern>> patterns;
  const std::lock_guard<std::mutex> lock(mutex);
  auto& pattern = patterns[{words, quick, device.ram_begin, device.ram_end, data_end}];
  if (pattern != nullptr) return pattern;
  const std::size_t bytes =
      kAttributes + (words + 1) * sizeof(const void*) + (words + 2) * sizeof(Slot);
  pattern = std::make_shared<base::Pattern>(bytes, [&](void* all) {
    auto* const attributes = static_cast<u8*>(all);
    for (u32 a = 0; a < kAttributes; ++a)
      attributes[a] =
          a < data_end ? plain_attribute(a, device.ram_begin, device.ram_end) : u8{kUnmapped};
    auto* const table = reinterpret_cast<const void**>(attributes + kAttributes);
    std::fill_n(table, words + 1, Translator::out());
    auto* const slots = reinterpret_cast<Slot*>(table + words + 1);
    for (u32 i = 0; i < words + 2; ++i) {
      Slot* const slot = new (slots + i) Slot;
      slot->entry.op = i < words ? kUndecoded : kEndOfFlash;
      slot->worst = i >= words || quick ? 0 : kNoRun;
    }
  });
  return pattern;
}

std::optional<u8> Engine::read_back(u32 pc) const {
  const auto at = [&](u32 word) {
    return decode(fabric_.target.core(), flash_word(word), flash_word(word + 1), word);
  };
  const u32 word = pc / 2;
  const Entry store = at(word);
  unsigned load = kNoOp;
  switch (store.op) {
    case kOUT: load = kIN; break;
    case kSTS: load = kLDS; break;
    case kST_X: load = kLD_X; break;
    case kST_Y: load = kLD_Y; break;
    case kST_Z: load = kLD_Z; break;
    case kSTD_Y: load = kLDD_Y; break;
    case kSTD_Z: load = kLDD_Z; break;
    default: return std::nullopt;
  }
  constexpr u32 kFarthest = 8;  // words
  u8 set = 0;
  for (u32 back = 1; back <= kFarthest && back <= word; ++back) {
    const Entry entry = at(word - back);
    if (entry.length > back || entry.a != store.a) continue;
    if (entry.op == kORI) set = static_cast<u8>(set | entry.k);
    if (entry.op == load && entry.k == store.k) return set;
  }
  return std::nullopt;
}

u16 Engine::flash_word(u32 word) const {
  const machine::PagedMemory& flash = machine_.world_.flash;
  const u32 address = word * 2 % flash.size();
  return static_cast<u16>(flash[address] | flash[address + 1] << 8);
}

Entry Engine::decoded(u32 word) const {
  Entry entry = decode(fabric_.target.core(), flash_word(word), flash_word(word + 1), word);
  if (entry.op == kNoOp) entry.op = kReserved;
  return entry;
}

void Engine::decode_at(u32 word) {
  Slot& slot = code_[word];
  slot.entry = decoded(word);
  set_jump(word, slot.entry);
  if (result_is_undefined(slot.entry)) stand_before(word, kUndefined);
}

void Engine::set_jump(u32 word, const Entry& entry) {
  const auto target =
      static_cast<std::int64_t>(static_cast<u32>(entry.k) & (fabric_.flash_span / 2 - 1));
  code_[word].jump = static_cast<std::int32_t>((target - word) * static_cast<int>(sizeof(Slot)));
}

void Engine::forget(u32 word) {
  forget_run(word);
  for (const u32 w : {word, word - 1}) {  // it may be the second word of the one before
    if (w >= fabric_.flash_span / 2) continue;
    if (code_[w].entry.op == kMarked)
      mark(w, true);
    else
      code_[w].entry.op = kUndecoded;
  }
}

void Engine::mark(u32 word, bool on) {
  forget_run(word);
  Slot& slot = code_[word];
  slot.entry = Entry{};
  slot.entry.op = kUndecoded;
  if (on) stand_before(word, kMarked);
}

/// The entry gets another label and keeps its operands: `behind` says how it goes on.
void Engine::stand_before(u32 word, u8 label) {
  Slot& slot = code_[word];
  slot.entry = decoded(word);
  set_jump(word, slot.entry);
  slot.behind = slot.entry.op;
  slot.entry.op = label;
  if (label == kMarked) slot.worst = kNoRun;
}

/// For a skip: the slot of an instruction, decoded, and at the start of flash behind its end.
const Engine::Slot* Engine::settled(const Slot* slot) {
  auto word = static_cast<u32>(slot - code_) % (fabric_.flash_span / 2);
  if (code_[word].entry.op == kUndecoded) decode_at(word);
  return &code_[word];
}

void Engine::renew_attributes(u32 address) {
  unsigned attribute = plain_attribute(address, fabric_.device.ram_begin, fabric_.device.ram_end);
  if (address >= machine_.guard_begin_ && address < machine_.guard_end_) attribute |= kGuarded;
  if (machine_.unwritten_[address] != 0) attribute |= kUnwritten;
  if (machine_.unwritten_[address] != 0 && machine_.check_unwritten_) attribute |= kUnreadable;
  if (const auto found = machine_.watched_.find({Space::kData, address});
      found != machine_.watched_.end()) {
    using machine::kOnRead, machine::kOnWrite, machine::kTapRead, machine::kTapWrite;
    if ((found->second & (kOnRead | kTapRead)) != 0) attribute |= kWatchRead;
    if ((found->second & (kOnWrite | kTapWrite)) != 0) attribute |= kWatchWrite;
  }
  attributes_[address] = static_cast<u8>(attribute);
}

/// Registers, flags and the stack pointer change without a store, I/O and EEPROM by hardware.
void Engine::renew_observed() {
  observed_.clear();
  for (const auto& [address, kinds] : machine_.watched_) {
    const bool ram = address.space == Space::kData && address.offset >= fabric_.device.ram_begin;
    if (!ram && (kinds & machine::kOnChange) != 0)
      observed_.emplace_back(address, *machine_.peek(address));
  }
  observe_at_ = observed_.empty() ? kNever : 0;
  tapped_.clear();
  for (const auto& [address, kinds] : machine_.watched_)
    if ((kinds & machine::kTapChange) != 0) tapped_.emplace_back(address, *machine_.peek(address));
}

/// To who listens: what has changed of such bytes, at a cycle that need not be now.
void Engine::tell_tapped(u64 t) {
  if (!machine_.outputs_.tap.wants(machine::EventKind::kIo)) return;
  for (auto& [address, value] : tapped_) {
    const Peripheral* owner =
        address.space == Space::kData ? fabric_.owner[address.offset] : nullptr;
    const u8 now = owner != nullptr ? owner->peek(machine_.world_, static_cast<u16>(address.offset),
                                                  owner->until(machine_.world_, t))
                                    : *machine_.peek(address);
    if (std::exchange(value, now) == now) continue;
    const bool data = address.space == Space::kData;
    bus().record(machine::EventKind::kIo, address.offset | (data ? 0U : machine::kNotData), now, t);
  }
}

void Engine::observe() {
  for (auto& [address, value] : observed_) {
    const u8 now = *machine_.peek(address);
    if (now == value) continue;
    stop_.accesses.push_back({address, true, value, now, stop_.last_pc});
    value = now;
  }
  observe_at_ = observed_until();
}

/// Up to which cycle no observed byte changes, if nobody has the bus before. 0: it is not known, as
/// of what instructions change by themselves.
u64 Engine::observed_until() const {
  u64 out = kNever;
  for (const auto& [address, value] : observed_) {
    if (address.space == Space::kEeprom) continue;  // programmed at an event
    const Peripheral* owner =
        address.space == Space::kData ? fabric_.owner[address.offset] : nullptr;
    if (owner == nullptr || owner->is_off(machine_.world_)) return 0;
    out = std::min(
        out, owner->steady_until(machine_.world_, static_cast<u16>(address.offset), cpu_.now));
  }
  return out;
}

// Slow paths: everything that is not plain memory ------------------------------------------------

void Engine::raise(machine::Fault fault, u32 address) {
  if (!machine_.fault_is_on(fault)) return;
  if (fault_ != machine::Fault::kNone) return;  // the first one is the cause
  fault_ = fault;
  fault_address_ = address;
  deadline_ = 0;
}

/// Of the instruction at the program counter, in which a mark may stand.
void Engine::follow_values(u8 op) {
  Entry entry = code_[cpu_.pc].entry;
  entry.op = op;
  if (machine_.shadow_->follow(machine_, entry)) raise(machine::Fault::kCheck, 0);
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

/// "External Memory Interface": a cycle more than RAM takes, and the wait states of the sector.
/// False: it is off, nothing answers.
bool Engine::reach_external(u16 address) {
  const unsigned xmcra = machine_.world_.data[fabric_.xmcra];
  if ((xmcra & 0x80U) == 0) {
    raise(machine::Fault::kOutsideMemory, address);
    return false;
  }
  const unsigned limit = xmcra >> 4 & 7U;  // SRL
  const bool lower = limit >= 2 && address < 0x2000U * limit;
  bus().stall(1 + (lower ? xmcra & 3U : xmcra >> 2 & 3U));
  return true;
}

/// What is switched off by power reduction cannot be reached; it reads as 0.
u8 Engine::note_off(u16 address) {
  for (const IoRegister& io : fabric_.info.io)
    if (io.address == address && io.bytes == 1)
      bus().misused(io.name + ": " + io.peripheral +
                    " is switched off in PRR; its registers cannot be read or written");
  return 0;
}

u8 Engine::slow_load(u16 address) {
  const unsigned attribute = attributes_[address];
  if ((attribute & kUnmapped) != 0) {
    raise(machine::Fault::kOutsideMemory, address);
    return 0;
  }
  u8 value = machine_.world_.data[address];
  if (address >= fabric_.device.ram_end) {
    if (!reach_external(address)) value = 0;
  } else if ((attribute & kIo) != 0) {
    if (const Peripheral* owner = fabric_.owner[address]; owner != nullptr) {
      if (owner->is_off(machine_.world_)) return note_off(address);
      // Most reads change nothing that the deadline rests on.
      const World& world = machine_.world_;
      const u64 t = cpu_.now - 1;
      const bool due = world.next_due() <= t;
      if (due) fire_due(t);
      const u64 next = world.next_due();
      const u64 pending = cpu_.pending;
      value = owner->read(bus(), address, t);
      if (!tapped_.empty()) tell_tapped(cpu_.now);
      if (due || world.next_due() != next || cpu_.pending != pending || observe_at_ == 0)
        set_deadline();
    } else if (fabric_.own[address]) {
      value = *machine_.peek({Space::kData, address});
    } else if (!fabric_.plain[address]) {
      note_unmodelled(address);
    }
  }
  if ((attribute & kUnreadable) != 0) raise(machine::Fault::kNeverWritten, address);
  if ((attribute & kWatchRead) != 0)
    note_access({{Space::kData, address}, false, value, value, stop_.last_pc});
  return value;
}

void Engine::slow_store(u16 address, u8 value, u8 mask) {
  const unsigned attribute = attributes_[address];
  if ((attribute & kUnmapped) != 0) {
    raise(machine::Fault::kOutsideMemory, address);
    return;
  }
  if ((attribute & kUnwritten) != 0) {
    machine_.unwritten_[address] = 0;
    attributes_[address] = static_cast<u8>(attribute & ~unsigned{kUnwritten | kUnreadable});
  }
  u8& byte = machine_.world_.data[address];
  if (address >= fabric_.device.ram_end) {
    if (reach_external(address)) byte = value;
  } else if ((attribute & kIo) == 0) {
    byte = value;
  } else if (const Peripheral* owner = fabric_.owner[address]; owner != nullptr) {
    const u64 t = cpu_.now - 1;
    if (owner->is_off(machine_.world_)) {
      note_off(address);
      return;
    }
    // Most writes to a port change nothing but its pins.
    const bool unheard = fabric_.of_port[address] && machine_.world_.next_due() > t &&
                         !machine_.outputs_.tap.wants_any() && tapped_.empty() && levels_.empty() &&
                         observed_.empty();
    if (unheard && static_cast<const Port*>(owner)->write_unheard(bus(), address, value, mask, t))
      return;
    fire_due(t);
    owner->write(bus(), address, value, mask, t);
    if (address == fabric_.clkpr) renew_end();
    if (!tapped_.empty()) tell_tapped(cpu_.now);
    set_deadline();
  } else {
    if (!fabric_.plain[address]) note_unmodelled(address);
    byte = merged(byte, value, mask);
    if (!tapped_.empty()) tell_tapped(cpu_.now);
    if (!observed_.empty()) observe_at_ = deadline_ = 0;  // some of them switch others
  }
}

bool Engine::pins_moved() const {
  if (levels_.empty()) return false;
  const auto& ports = machine_.world_.ports;
  return !std::equal(levels_.begin(), levels_.end(), ports.begin(),
                     [](u8 level, const PortState& port) { return level == port.level; });
}

void Engine::note_edges() {
  for (std::size_t i = 0; i < levels_.size(); ++i) {
    const u8 now = machine_.world_.ports[i].level;
    for (unsigned pin = 0; pin < 8; ++pin)
      if (((now ^ levels_[i]) >> pin & 1U) != 0)
        bus().happened(machine::EventKind::kEdge, 0, now >> pin & 1U,
                       fabric_.ports[i]->state(machine_.world_, pin).name);
    levels_[i] = now;
  }
}

/// The firmware is about to store where a debugger watches.
void Engine::note_store(u16 address, u8 value, u8 mask) {
  const u8 before = *machine_.peek({Space::kData, address});
  note_access({{Space::kData, address}, true, before, merged(before, value, mask), stop_.last_pc});
}

void Engine::happened(machine::EventKind kind, unsigned number) {
  bus().happened(kind, number);
  bus().record(kind, number, 0, cpu_.now);
}

void Engine::note_sleep(u64 cycles) {
  machine_.counter_->asleep += cycles;
  if (machine_.counter_->calls) machine_.counter_->calls->sleep(cycles);
}

void Engine::note_return(u64 now, u32 sp) {
  if (Counter* const counter = machine_.counter_.get()) {
    counter->interrupts.leave(machine_.world_.tick_at(now), sp);
    if (counter->calls) counter->calls->leave(sp, now);
  }
  bus().happened(machine::EventKind::kReturn);
  bus().record(machine::EventKind::kReturn, 0, 0, now);
  if (machine_.attendant_ != nullptr &&
      machine_.attendant_->returned(
          {2 * cpu_.pc, sp, machine_.world_.data.data(), kRegisters, cpu_.sreg}))
    raise(machine::Fault::kCheck, 0);
}

void Engine::note_call(machine::EventKind kind, u32 word, u32 sp, u64 now) {
  bus().record(kind, 2 * word, sp, now);
}

/// REQUIRES: it is watched.
void Engine::note_access(const machine::Access& access) {
  const unsigned kinds = machine_.watched_.find(access.address)->second;
  const bool write = access.write;
  if ((kinds & (write ? machine::kTapWrite : machine::kTapRead)) != 0)
    bus().record(write ? machine::EventKind::kWrite : machine::EventKind::kRead,
                 access.address.offset, access.after, cpu_.now);
  if ((kinds & (write ? machine::kOnWrite | machine::kOnChange : machine::kOnRead)) == 0) return;
  stop_.accesses.push_back(access);
  deadline_ = 0;
}

void Engine::note_undefined(u32 word) {
  Instruction instruction = machine_.instruction_at(word * 2);
  bus().note(fmt::format("{:#06x}: `{} {}`: the manual leaves its result undefined", word * 2,
                         instruction.mnemonic, instruction.operands));
}

void Engine::fall_asleep() {
  if (fabric_.smcr == 0) {
    bus().note("SLEEP was executed: sleep is not modelled on this part; it does nothing");
    return;
  }
  const unsigned smcr = machine_.world_.data[fabric_.smcr];
  if ((smcr & 1U) == 0) {
    bus().misused("SLEEP was executed while SE is 0: it does nothing");
    return;
  }
  machine_.fall_asleep(smcr >> 1 & 7U);
  happened(machine::EventKind::kSleep);
  deadline_ = 0;
}

void Engine::feed_watchdog() {
  if (fabric_.watchdog != nullptr) fabric_.watchdog->feed(bus());
  set_deadline();
}

void Engine::self_program() {
  if (fabric_.boot == nullptr) {
    bus().note("SPM: self-programming is not modelled on this part; flash is unchanged");
    return;
  }
  const u32 z = machine_.world_.data[30] | u32{machine_.world_.data[31]} << 8 |
                (fabric_.device.flash > 0x10000 ? u32{machine_.world_.data[0x5b]} << 16 : 0);
  const auto [begin, end] = fabric_.boot->spm(bus(), stop_.last_pc, z);
  for (u32 a = begin; a < end; a += 2) forget(a / 2);
  if (translator_) renew_memories();
  set_deadline();
}

// Boundaries
// ---------------------------------------------------------------------------------------

void Engine::fire_events(u64 until) {
  World& world = machine_.world_;
  while (world.next_due() <= until) {
    const unsigned slot = world.next_event();
    const u64 due = world.next_due();
    world.schedule(slot, kNever);
    machine_.outputs_.at = due;
    fabric_.slot_owner[slot]->on_event(bus(), slot, due);
    if (!tapped_.empty()) tell_tapped(due);
  }
  machine_.outputs_.at = kNever;
}

void Engine::set_deadline() {
  const World& world = machine_.world_;
  const bool interrupt = cpu_.pending != 0 && (cpu_.sreg & kI) != 0;
  if (interrupt || cpu_.hold != 0 || cpu_.asleep || cpu_.reset_cause != 0 || world.browned_out ||
      fault_ != machine::Fault::kNone || observe_at_ <= cpu_.now || !stop_.accesses.empty() ||
      !machine_.outputs_.failure.empty() || !machine_.outputs_.events.empty() || pins_moved() ||
      request_.instructions != UINT64_MAX || request_.within_begin || world.boot.rww_busy) {
    deadline_ = 0;
    return;
  }
  deadline_ = std::min({until_, world.next_due(), cpu_.now + kPauseGrain, observe_at_});
}

bool Engine::end(machine::Stop::Why why) {
  stop_.why = why;
  stop_.events = std::exchange(machine_.outputs_.events, {});
  return true;
}

bool Engine::enter_interrupt() {
  const u32 interrupted = 2 * cpu_.pc;
  const u32 sp_before = cpu_.sp;
  const u8 sreg_before = cpu_.sreg;
  const auto vector = static_cast<unsigned>(__builtin_ctzll(cpu_.pending));
  const unsigned bytes = fabric_.target.core().wide_pc() ? 3 : 2;
  for (unsigned i = 0; i < bytes; ++i) {
    const auto value = static_cast<u8>(cpu_.pc >> (8 * i));
    if (const unsigned attribute = attributes_[cpu_.sp]; (attribute & kSlowPush) == 0) {
      machine_.world_.data[cpu_.sp] = value;
    } else {
      if ((attribute & kNoStack) != 0) raise(machine::Fault::kStackOutsideRam, cpu_.sp);
      if ((attribute & kGuarded) != 0) raise(machine::Fault::kStackIntoData, cpu_.sp);
      if ((attribute & kWatchWrite) != 0) note_store(cpu_.sp, value, 0xff);
      if ((attribute & (kUnmapped | kIo)) == 0) slow_store(cpu_.sp, value, 0xff);
    }
    --cpu_.sp;
  }
  if (cpu_.sp < machine_.lowest_sp_)
    machine_.note_deepest(cpu_.sp, machine_.vector_word(vector), true);
  cpu_.sreg = static_cast<u8>(cpu_.sreg & ~unsigned{kI});
  cpu_.pc = machine_.vector_word(vector);
  cpu_.now += bytes == 3 ? 5 : 4;
  if (machine_.shadow_ != nullptr) machine_.shadow_->entered(machine_);
  if (machine_.counter_ != nullptr) {
    machine_.counter_->entering += bytes == 3 ? 5 : 4;
    if (const auto since = machine_.counter_->interrupts.waits_since(vector))
      machine_.counter_->interrupts.miss(
          vector, fabric_.vector_owner[vector]->again(machine_.world_, vector,
                                                      machine_.world_.cycle_at(*since), cpu_.now));
    machine_.counter_->interrupts.enter(vector, machine_.world_.tick_at(cpu_.now), interrupted,
                                        sp_before);
    if (machine_.counter_->calls)
      machine_.counter_->calls->enter(2 * cpu_.pc, cpu_.sp, cpu_.now - (bytes == 3 ? 5 : 4),
                                      cpu_.now);
  }
  entered_interrupt_ = true;
  stop_.interrupt = static_cast<int>(vector);
  fabric_.vector_owner[vector]->on_vector(bus(), vector);
  if (!tapped_.empty()) tell_tapped(cpu_.now);
  if (listened_) happened(machine::EventKind::kInterrupt, vector);
  if (machine_.attendant_ != nullptr &&
      machine_.attendant_->entered(
          vector, {interrupted, sp_before, machine_.world_.data.data(), kRegisters, sreg_before}))
    raise(machine::Fault::kCheck, 0);
  fire_due(cpu_.now);                     // the run may end here
  if (fault_ != machine::Fault::kNone) {  // of the pushes: no instruction has done it
    stop_.last_pc = interrupted;
    stop_.fault_in_entry = true;
    --steps_left_;
    return tell();
  }
  if (--steps_left_ == 0) return end(machine::Stop::Why::kInstructions);
  return request_.stop_at_interrupt && end(machine::Stop::Why::kInterruptEntered);
}

/// Anything that boundary() has to tell of, but for time and interrupts.
bool Engine::something_happened() const {
  return cpu_.reset_cause != 0 || fault_ != machine::Fault::kNone || observe_at_ <= cpu_.now ||
         !stop_.accesses.empty() || !machine_.outputs_.events.empty() ||
         !machine_.outputs_.failure.empty() || pins_moved();
}

/// Resets, faults, accesses and events. True: the run ends.
bool Engine::tell() {
  if (cpu_.reset_cause != 0) {
    const u8 cause = cpu_.reset_cause;
    machine_.reset_with(cause);
    if (machine_.attendant_ != nullptr) machine_.attendant_->forget();
    if (machine_.counter_ != nullptr && machine_.counter_->calls)
      machine_.counter_->calls->begin(cpu_.now, cpu_.now);
    renew_end();
    std::string name;
    for (const IoRegister& io : fabric_.info.io)
      for (const IoField& field : io.fields)
        if (io.name == "MCUSR" && cause == 1U << field.lowest) name = field.name;
    bus().happened(machine::EventKind::kReset, cause, 0, name);
    bus().record(machine::EventKind::kReset, cause, 0, cpu_.now);
    if (!tapped_.empty()) tell_tapped(cpu_.now);
  }
  if (fault_ != machine::Fault::kNone) {
    stop_.fault = std::exchange(fault_, machine::Fault::kNone);
    stop_.fault_pc = stop_.last_pc;
    stop_.fault_address = fault_address_;
    return end(machine::Stop::Why::kFault);
  }
  if (!machine_.outputs_.failure.empty()) {
    stop_.fault = machine::Fault::kOutside;
    stop_.fault_pc = stop_.last_pc;
    stop_.failure = std::exchange(machine_.outputs_.failure, {});
    return end(machine::Stop::Why::kFault);
  }
  if (!observed_.empty()) observe();
  if (pins_moved()) note_edges();
  if (!stop_.accesses.empty()) return end(machine::Stop::Why::kAccess);
  return !machine_.outputs_.events.empty() && end(machine::Stop::Why::kEvent);
}

bool Engine::boundary(bool executed) {
  for (;;) {
    fire_due(cpu_.now);
    if (executed && cpu_.hold != 0) --cpu_.hold;
    if (something_happened() && tell()) return true;
    if (executed) {
      if (--steps_left_ == 0) return end(machine::Stop::Why::kInstructions);
      if (request_.within_begin &&
          (cpu_.pc * 2 < *request_.within_begin || cpu_.pc * 2 >= request_.within_end))
        return end(machine::Stop::Why::kLeftRange);
    }
    if (cpu_.now >= until_) return end(machine::Stop::Why::kTime);
    if (request_.pause_requested != nullptr && request_.pause_requested->load())
      return end(machine::Stop::Why::kRequested);

    if (machine_.world_.browned_out) {
      const u64 next = machine_.world_.next_due();
      if (request_.endless && next == kNever) {
        stop_.fault = machine::Fault::kNeverWakes;
        stop_.fault_pc = stop_.last_pc;
        return end(machine::Stop::Why::kFault);
      }
      cpu_.now = std::min(next, until_);
      continue;
    }
    const bool enabled = (cpu_.sreg & kI) != 0;
    const bool interrupt =
        cpu_.pending != 0 && enabled && cpu_.hold == 0 && cpu_.now >= cpu_.ivce_until;
    if (cpu_.asleep) {
      if (cpu_.pending != 0 && enabled) {  // four more cycles to wake up
        const u64 before = cpu_.now;
        machine_.wake_up();
        if (machine_.counter_ != nullptr) note_sleep(cpu_.now - before);
        happened(machine::EventKind::kWake);
        executed = false;
        continue;
      }
      const u64 next = machine_.world_.next_due();
      // Without interrupts only the watchdog could end it.
      const bool may_reset = fabric_.watchdog != nullptr && fabric_.watchdog->runs(machine_.world_);
      if (request_.endless && (next == kNever || (!enabled && !may_reset))) {
        stop_.fault = machine::Fault::kNeverWakes;
        stop_.fault_pc = stop_.last_pc;
        return end(machine::Stop::Why::kFault);
      }
      const u64 end = std::min(next, until_);
      machine_.slept_ticks_ += (end - cpu_.now) << machine_.world_.clock.shift;
      if (machine_.counter_ != nullptr) note_sleep(end - cpu_.now);
      cpu_.now = end;
      executed = true;  // for who counts steps, a stretch of sleep is one
      continue;
    }
    if (interrupt) {
      if (enter_interrupt()) return true;
      executed = false;
      continue;
    }
    if (machine_.world_.boot.rww_busy && fabric_.boot->is_busy(machine_.world_, 2 * cpu_.pc)) {
      if (machine_.fault_is_on(machine::Fault::kBusyFlash)) {
        stop_.fault = machine::Fault::kBusyFlash;
        stop_.fault_pc = stop_.fault_address = 2 * cpu_.pc;
        return end(machine::Stop::Why::kFault);
      }
      cpu_.pc = (cpu_.pc + 1) % (fabric_.flash_span / 2);  // 0xffff does nothing
      ++cpu_.now;
      executed = true;
      continue;
    }
    set_deadline();
    if (cpu_.now < cpu_.ivce_until) deadline_ = 0;
    return false;
  }
}

}  // namespace lucid::avr
