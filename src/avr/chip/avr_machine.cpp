// SPDX-License-Identifier: MIT
#include "avr/chip/avr_machine.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "avr/chip/counter.h"
#include "avr/chip/engine.h"
#include "avr/chip/shadow.h"
#include "avr/peripherals/system.h"
#include "avr/peripherals/two_wire_bus.h"
#include "avr/peripherals/wire_end.h"
#include "base/text.h"

namespace lucid::avr {

AvrMachine::AvrMachine(std::shared_ptr<const Fabric> fabric, const Chip::Options& options)
    : fabric_(std::move(fabric)),
      fuses_(options.fuses.value_or(fabric_->usual_fuses())),
      world_(fabric_->shape()),
      translate_after_(options.translate_after),
      code_store_(std::make_shared<CodeStore>()) {
  world_.supply = world_.reference = options.supply;
  if (!fabric_->group.empty())
    companions_ = std::make_unique<machine::Companions>(fabric_->group, info().clock_hz);
  outputs_.companions = companions_.get();
  power_on(fuses_);
}

AvrMachine::AvrMachine(const AvrMachine& other)
    : Machine(other),
      fabric_(other.fabric_),
      fuses_(other.fuses_),
      world_(other.world_),
      slept_ticks_(other.slept_ticks_),
      skipped_ticks_(other.skipped_ticks_),
      lowest_sp_(other.lowest_sp_),
      deepest_(other.deepest_),
      guard_begin_(other.guard_begin_),
      guard_end_(other.guard_end_),
      breakpoints_(other.breakpoints_),
      watched_(other.watched_),
      unwritten_(other.unwritten_),
      check_unwritten_(other.check_unwritten_),
      tells_calls_(other.tells_calls_),
      translate_after_(other.translate_after_),
      outputs_(other.outputs_),
      code_store_(other.code_store_) {
  if (other.companions_)
    companions_ = std::make_unique<machine::Companions>(fabric_->group, info().clock_hz);
  if (other.shadow_) shadow_ = other.shadow_->silent();
  outputs_.companions = companions_.get();
  outputs_.end_run();  // it may be a copy of one that runs
}

AvrMachine::~AvrMachine() = default;

std::unique_ptr<machine::Machine> AvrMachine::clone() const {
  return std::make_unique<AvrMachine>(*this);
}

bool AvrMachine::assume(const machine::Machine& of) {
  const auto* other = dynamic_cast<const AvrMachine*>(&of);
  if (other == nullptr || other->fabric_ != fabric_) return false;
  if (!world_.flash.shares_all_with(other->world_.flash)) engine_.reset();
  world_ = other->world_;
  slept_ticks_ = other->slept_ticks_;
  skipped_ticks_ = other->skipped_ticks_;
  lowest_sp_ = other->lowest_sp_;
  deepest_ = other->deepest_;
  if (shadow_ != nullptr && other->shadow_ != nullptr) shadow_->assume(*other->shadow_);
  const u8 ends_at = outputs_.ends_at;
  outputs_ = other->outputs_;
  outputs_.ends_at = ends_at;
  outputs_.companions = companions_.get();
  outputs_.end_run();
  if (attendant_ != nullptr) attendant_->forget();
  const std::vector<u8> before = std::exchange(unwritten_, other->unwritten_);
  if (shadow_ != nullptr && other->shadow_ == nullptr) shadow_->begin(*this);
  if (engine_ != nullptr) {
    if (before != unwritten_)
      for (u32 a = 0; a < world_.data.size(); ++a)
        if (before[a] != unwritten_[a]) engine_->renew_attributes(a);
    engine_->renew_observed();
  }
  if (companions_) companions_->forget();
  return true;
}

void AvrMachine::power_on(const std::array<u8, 3>& fuses) {
  slept_ticks_ = skipped_ticks_ = 0;
  unwritten_.assign(world_.data.size(), 0);
  std::fill(unwritten_.begin() + fabric_->device.ram_begin, unwritten_.end(), u8{1});
  world_.fuses = fuses;
  world_.browned_out = false;
  world_.cpu.now = 0;
  world_.clock = ClockState{};
  for (PortState& port : world_.ports) {
    port.held_low = port.pulled_up = 0;
    port.wire_low = port.wire_high = port.wire_pull = 0;
    port.offers_low = port.offers_high = port.offers_pull = 0;
  }
  outputs_.offers.clear();
  fabric_->reach.outside.clear(world_.outside);
  const Bus bus(world_, outputs_);
  if (companions_) {
    WireHost host(fabric_->ports, bus, world_.cpu.now);
    companions_->power_on(host);
  }
  reset_with(kPorf);
  for (const Attached* part : fabric_->attached) part->start(bus);
}

/// "System Clock and Clock Options", by CKSEL.
void AvrMachine::note_oscillator() {
  const unsigned cksel = world_.fuses[0] & 15U;
  const u64 hz = cksel == 2 ? 8'000'000 : cksel == 3 ? 128'000 : info().clock_hz;
  if (fabric_->clkpr == 0 || hz == info().clock_hz) return;
  Bus(world_, outputs_)
      .note(fmt::format(
          "the fuses select the internal oscillator of {} kHz, but the chip was given a "
          "clock of {} kHz, which counts",
          hz / 1000, static_cast<double>(info().clock_hz) / 1000));
}

void AvrMachine::reset() { reset_with(kExtrf); }

/// To who listens, what nobody has had to look at since cycle `from`.
void AvrMachine::tell_moments(u64 from) {
  if (!outputs_.tap.wants(machine::EventKind::kMoment)) return;
  const Bus bus(world_, outputs_);
  for (const Peripheral* p : fabric_->all) p->tell(bus, from, seen_until(*p));
  outputs_.tap.moments_told(ticks());
}

/// Time stands still for what has no clock.
u64 AvrMachine::seen_until(const Peripheral& p) const {
  const bool stands = world_.cpu.deep && !p.runs_asleep(world_, sleep_mode());
  return p.until(world_, stands ? world_.cpu.slept_at : world_.cpu.now);
}

/// Registers of I/O go to their reset values; RAM, EEPROM and the general registers keep theirs.
void AvrMachine::reset_with(u8 cause) {
  const u64 now = world_.cpu.now;
  tell_moments(0);
  const u16 mcusr = fabric_->mcusr;
  const u8 causes = mcusr != 0 ? world_.data[mcusr] : 0;
  std::fill(world_.data.begin() + 0x20, world_.data.begin() + fabric_->device.ram_begin, u8{0});
  world_.cpu = CpuState{};
  world_.cpu.now = now;
  world_.cpu.sp = static_cast<u16>(fabric_->device.ram_end - 1);
  world_.cpu.pc = reset_word();
  if (mcusr != 0) world_.data[mcusr] = static_cast<u8>(causes | cause);
  world_.thaw_all();
  world_.set_clock(fabric_->divided_at_reset(world_) ? 3 : 0, now);
  const Bus bus(world_, outputs_);
  for (const Peripheral* p : fabric_->all) p->reset(bus);
  lowest_sp_ = UINT32_MAX;
}

void AvrMachine::fall_asleep(unsigned sm) {
  const Bus bus(world_, outputs_);
  if (sm == 4 || sm == 5) {
    bus.misused("SMCR: this sleep mode is reserved; it sleeps as in idle mode");
    sm = 0;
  }
  CpuState& cpu = world_.cpu;
  cpu.asleep = true;
  cpu.deep = sm != 0;
  cpu.slept_at = cpu.now;
  cpu.bod_off = cpu.now <= cpu.bod_off_until;
  for (const Peripheral* p : fabric_->all) p->on_sleep(bus, sm, cpu.now);
  if (!cpu.deep) return;
  for (const Peripheral* p : fabric_->all)
    if (!p->runs_asleep(world_, sm))
      for (const unsigned slot : p->slots()) world_.freeze(slot);
}

/// "Sleep Modes": the clocks that stood still go on where they were.
void AvrMachine::wake_up() {
  const Bus bus(world_, outputs_);
  CpuState& cpu = world_.cpu;
  cpu.asleep = false;
  if (std::exchange(cpu.bod_off, false)) set_supply(bus, world_.supply);
  cpu.now += wake_up_cycles();
  if (!std::exchange(cpu.deep, false)) return;
  const unsigned sm = sleep_mode();
  const u64 cycles = cpu.now - cpu.slept_at;
  for (const Peripheral* p : fabric_->all) {
    if (p->runs_asleep(world_, sm)) continue;
    for (const unsigned slot : p->slots()) world_.thaw(slot, cycles);
    if (!p->is_off(world_)) p->stood_still(bus, cycles);
  }
}

/// Four cycles, and where the oscillator was off its start-up time by the fuses CKSEL and SUT
/// ("System Clock and Clock Options"), which counts the oscillator's ticks.
u64 AvrMachine::wake_up_cycles() const {
  const unsigned sm = world_.cpu.deep ? sleep_mode() : 0;
  const unsigned shift = world_.clock.shift;
  const auto cycles = [shift](u64 ticks) { return ((ticks - 1) >> shift) + 1 + 4; };
  if (sm != 2 && sm != 3) return sm >= 6 ? cycles(6) : 4;
  const unsigned cksel = world_.fuses[0] & 15U;
  const unsigned sut = world_.fuses[0] >> 4 & 3U;
  u64 start = 6;
  if (cksel == 4) start = 1024;
  if (cksel == 5) start = 32'768;
  if (cksel >= 6) {  // crystals and resonators
    if (cksel % 2 == 0)
      start = sut < 2 ? 258 : 1024;
    else
      start = sut == 0 ? 1024 : 16'384;
  }
  return cycles(start);
}

u32 AvrMachine::reset_word() const {
  const Boot* boot = fabric_->boot;
  return boot != nullptr && boot->starts_in_boot(world_) ? boot->boot_word(world_) : 0;
}

u32 AvrMachine::vector_word(unsigned vector) const {
  const bool in_boot = fabric_->mcucr != 0 && (world_.data[fabric_->mcucr] & 2U) != 0;
  return (in_boot ? fabric_->boot->boot_word(world_) : 0) + vector * fabric_->device.vector_words;
}

machine::Stop AvrMachine::run(const machine::RunRequest& request) {
  if (engine_ == nullptr) engine_ = std::make_unique<Engine>(*this);
  const u64 before = world_.cpu.now, tick = ticks();
  if (counter_ != nullptr) {
    outputs_.interrupts = &counter_->interrupts;
    outputs_.stalls = counter_->stalled.data();
    if (apart_ == nullptr &&
        counter_->until != tick) {  // another future: what was under way is not
      counter_->interrupts.forget();
      if (counter_->calls) counter_->calls->begin(counter_->until_cycle, world_.cpu.now);
    }
  }
  outputs_.tap.begin_at(tick);
  machine::Stop stop = engine_->run(request);
  if (counter_ != nullptr) {
    counter_->elapsed += world_.cpu.now - before;
    counter_->ticks += ticks() - tick;
    counter_->until = ticks();
    counter_->until_cycle = world_.cpu.now;
  }
  outputs_.end_run();
  tell_moments(before);
  outputs_.tap.flush();
  return stop;
}

Result<void> AvrMachine::load(const Image& image) {
  constexpr std::uint16_t kElfAvr = 83;
  if (image.is_elf() && image.machine() != kElfAvr)
    return fail(
        ErrorCode::kBadImage,
        fmt::format("{}: built for ELF machine {}, not for AVR", image.name(), image.machine()),
        "build it with avr-gcc");
  const auto size_of = [&](Space space) -> u32 {
    for (const MemoryArea& area : info().memories)
      if (area.space == space && area.name != "registers" && area.name != "io") return area.end;
    return 0;
  };
  for (const Segment& segment : image.segments()) {
    const u64 end = u64{segment.address.offset} + segment.bytes.size();
    const u32 most = size_of(segment.address.space);
    if (segment.address.space == Space::kSignature || segment.address.space == Space::kData)
      continue;
    if (end <= most) continue;
    const char* what = segment.address.space == Space::kCode     ? "flash"
                       : segment.address.space == Space::kEeprom ? "EEPROM"
                                                                 : "configuration";
    return fail(ErrorCode::kOutOfRange,
                fmt::format("{}: it needs {} bytes of {}, {} has {}", image.name(), end, what,
                            info().name, most),
                "choose a larger chip with --chip, or make the program smaller");
  }
  world_.flash = machine::PagedMemory(fabric_->flash_span, 0xff);
  for (const Segment& segment : image.segments()) {
    for (u32 i = 0; i < segment.bytes.size(); ++i) {
      const u32 offset = segment.address.offset + i;
      switch (segment.address.space) {
        case Space::kCode: world_.flash.write(offset, segment.bytes[i]); break;
        case Space::kEeprom: world_.eeprom[offset] = segment.bytes[i]; break;
        case Space::kFuse: world_.fuses[offset] = segment.bytes[i]; break;
        case Space::kLock: world_.lock = segment.bytes[i]; break;
        default: break;
      }
    }
  }
  engine_.reset();
  if (counter_ != nullptr) {
    counter_ = std::make_unique<Counter>(*fabric_, counter_->calls.has_value());
    if (counter_->calls) counter_->calls->begin(0, 0);
  }
  apart_.reset();
  shadow_.reset();
  breakpoints_.clear();
  const u8 ends_at = outputs_.ends_at;
  outputs_ = Outputs{};
  outputs_.ends_at = ends_at;
  outputs_.companions = companions_.get();
  if (attendant_ != nullptr) attendant_->forget();
  world_.cpu.now = 0;
  world_.data.assign(world_.data.size(), 0);
  power_on(std::array<u8, 3>{world_.fuses});
  if (world_.fuses != fabric_->usual_fuses()) note_oscillator();
  return {};
}

Result<void> AvrMachine::set_breakpoint(std::uint32_t address, bool on) {
  if (address >= fabric_->device.flash || address % 2 != 0)
    return fail(ErrorCode::kOutOfRange,
                fmt::format("{:#06x} is not the address of an instruction in {} bytes of flash",
                            address, fabric_->device.flash));
  const u32 word = address / 2;
  const auto found = std::find(breakpoints_.begin(), breakpoints_.end(), word);
  if (on == (found != breakpoints_.end())) return {};
  if (on)
    breakpoints_.push_back(word);
  else
    breakpoints_.erase(found);
  if (engine_ != nullptr) engine_->mark(word, on);
  return {};
}

void AvrMachine::pass(std::uint32_t address, const machine::Passing* passing) {
  using Kind = machine::Predicate::Kind;
  const u32 word = address / 2;
  const auto found = conditions_.find(word);
  const bool known = found != conditions_.end();
  if (passing != nullptr && passing->unless)
    for (const machine::Predicate::Operation& op : passing->unless->operations)
      if (op.kind == Kind::kRegister && (op.value == kPc || op.value == kSreg)) passing = nullptr;
  if (passing == nullptr && !known) return;
  if (passing != nullptr && known) {
    const machine::Passing& before = found->second.passing;
    const bool same = before.times == passing->times &&
                      before.unless.has_value() == passing->unless.has_value() &&
                      (!before.unless || before.unless->operations == passing->unless->operations);
    if (same) return;  // what has been translated stays
  }
  conditions_.erase(word);
  if (passing != nullptr) conditions_[word].passing = *passing;
  if (engine_ != nullptr && std::count(breakpoints_.begin(), breakpoints_.end(), word) != 0)
    engine_->mark(word, true);
}

void AvrMachine::allow_passes(std::uint32_t address, std::uint64_t times) {
  const auto found = conditions_.find(address / 2);
  if (found != conditions_.end()) found->second.left = found->second.allowed = times;
}

machine::Passed AvrMachine::take_passed(std::uint32_t address) {
  const auto found = conditions_.find(address / 2);
  if (found == conditions_.end()) return {};
  Condition& condition = found->second;
  return {std::exchange(condition.unheld, 0),
          std::exchange(condition.allowed, condition.left) - condition.left};
}

void AvrMachine::guard_stack(std::uint32_t begin, std::uint32_t end) {
  guard_begin_ = begin;
  guard_end_ = end;
  renew_attributes();
}

Result<void> AvrMachine::watch(Address address, std::uint8_t kinds) {
  if (!peek(address))
    return fail(ErrorCode::kOutOfRange,
                fmt::format("there is no memory at {:#06x} on {}", address.offset, info().name));
  if (kinds == 0)
    watched_.erase(address);
  else
    watched_[address] = kinds;
  if (engine_ == nullptr) return {};
  if (address.space == Space::kData) engine_->renew_attributes(address.offset);
  engine_->renew_observed();
  return {};
}

Result<void> AvrMachine::listen(std::uint32_t kinds, machine::RecordSink* sink) {
  outputs_.tap.listen(kinds, sink);
  return {};
}

/// What has been translated goes through calls: it is made anew, without them.
bool AvrMachine::tell_calls(bool on) {
  if (std::exchange(tells_calls_, on) == on) return true;
  engine_.reset();
  code_store_ = std::make_shared<CodeStore>();
  return true;
}

/// Translated code counts by itself or not: it is made anew.
Result<void> AvrMachine::count(bool on, bool calls) {
  engine_.reset();
  apart_.reset();
  counter_ = on ? std::make_unique<Counter>(*fabric_, calls) : nullptr;
  if (!on) return {};
  counter_->until = ticks();
  counter_->until_cycle = world_.cpu.now;
  if (calls) counter_->calls->begin(world_.cpu.now, world_.cpu.now);
  return {};
}

void AvrMachine::count_apart(bool on) {
  if (counter_ == nullptr || on == (apart_ != nullptr)) return;
  if (engine_ != nullptr) engine_->fold();
  if (on) {
    apart_ = std::make_unique<Counter>(*counter_);
    return;
  }
  *counter_ = std::move(*apart_);
  apart_.reset();
}

std::optional<machine::Counts> AvrMachine::counts() const {
  if (counter_ == nullptr) return std::nullopt;
  if (apart_ != nullptr) return apart_->counts(*fabric_, world_);
  if (engine_ != nullptr) engine_->fold();
  return counter_->counts(*fabric_, world_);
}

void AvrMachine::check_unwritten(bool on) {
  check_unwritten_ = on;
  renew_attributes();
}

bool AvrMachine::follow_values(const std::optional<machine::ValueFollowing>& how) {
  shadow_ = how ? std::make_unique<Shadow>(*this, *how) : nullptr;
  engine_.reset();  // it translates, or it does not
  return true;
}

std::optional<machine::Heap> AvrMachine::heap() const {
  if (shadow_ == nullptr) return std::nullopt;
  return shadow_->heap();
}

void AvrMachine::renew_attributes() {
  if (engine_ == nullptr) return;
  for (u32 a = 0; a < world_.data.size(); ++a) engine_->renew_attributes(a);
}

std::optional<std::uint8_t> AvrMachine::peek(Address address) const {
  const u32 a = address.offset;
  switch (address.space) {
    case Space::kCode:
      if (a < fabric_->device.flash) return world_.flash[a];
      break;
    case Space::kData:
      if (a >= world_.data.size()) break;
      if (a == 0x5d) return static_cast<u8>(world_.cpu.sp);
      if (a == 0x5e) return static_cast<u8>(world_.cpu.sp >> 8);
      if (a == 0x5f) return world_.cpu.sreg;
      if (a < fabric_->owner.size() && fabric_->owner[a] != nullptr) {
        const Peripheral& owner = *fabric_->owner[a];
        return owner.peek(world_, static_cast<u16>(a), seen_until(owner));
      }
      return world_.data[a];
    case Space::kEeprom:
      if (a < world_.eeprom.size()) return world_.eeprom[a];
      break;
    case Space::kFuse:
      if (a < world_.fuses.size()) return world_.fuses[a];
      break;
    case Space::kLock:
      if (a == 0) return world_.lock;
      break;
    case Space::kSignature:
      if (a < 3) return fabric_->device.signature[a];
      break;
    case Space::kNowhere: break;
  }
  return std::nullopt;
}

const std::uint8_t* AvrMachine::plain_bytes(Address address, unsigned bytes) const {
  constexpr u32 kPage = machine::PagedMemory::kPageBytes;
  if (address.space == Space::kCode)
    return address.offset % kPage + u64{bytes} <= kPage &&
                   address.offset + u64{bytes} <= fabric_->device.flash
               ? world_.flash.page_of(address.offset) + address.offset % kPage
               : nullptr;
  const bool ram = address.space == Space::kData && address.offset >= fabric_->device.ram_begin &&
                   address.offset + u64{bytes} <= fabric_->device.ram_end;
  return ram ? world_.data.data() + address.offset : nullptr;
}

bool AvrMachine::store(Address address, std::uint8_t value) {
  const u32 a = address.offset;
  if (address.space != Space::kData || a >= fabric_->owner.size() || fabric_->owner[a] == nullptr)
    return poke(address, value);
  // In the cycle that has just ended.
  fabric_->owner[a]->write(Bus(world_, outputs_), static_cast<u16>(a), value, 0xff,
                           std::max<u64>(world_.cpu.now, 1) - 1);
  if (world_.cpu.hold != 0) world_.cpu.hold = 1;  // there is no instruction to complete
  return true;
}

bool AvrMachine::poke(Address address, std::uint8_t value) {
  const u32 a = address.offset;
  if (!peek(address)) return false;
  switch (address.space) {
    case Space::kCode:
      world_.flash.write(a, value);
      if (engine_ != nullptr) engine_->forget(a / 2);
      return true;
    case Space::kData:
      if (a == 0x5d) {
        world_.cpu.sp = static_cast<u16>((world_.cpu.sp & 0xff00U) | value);
      } else if (a == 0x5e) {
        world_.cpu.sp = static_cast<u16>((world_.cpu.sp & 0xffU) | value << 8);
      } else if (a == 0x5f) {
        world_.cpu.sreg = value;
      } else if (a < fabric_->owner.size() && fabric_->owner[a] != nullptr) {
        return fabric_->owner[a]->assume(Bus(world_, outputs_), static_cast<u16>(a), value,
                                         world_.cpu.now);
      } else {
        world_.data[a] = value;
        unwritten_[a] = 0;
        if (shadow_ != nullptr) shadow_->written(a);
        if (engine_ != nullptr) engine_->renew_attributes(a);
      }
      return true;
    case Space::kEeprom: world_.eeprom[a] = value; return true;
    case Space::kFuse: world_.fuses[a] = value; return true;
    case Space::kLock: world_.lock = value; return true;
    case Space::kSignature:
    case Space::kNowhere: return false;
  }
  return false;
}

std::uint64_t AvrMachine::register_value(unsigned index) const {
  if (index < 32) return world_.data[index];
  switch (index) {
    case kSp: return world_.cpu.sp;
    case kSreg: return world_.cpu.sreg;
    case kPc: return pc();
    default: {
      const unsigned low = 26 + 2 * (index - kXPair);
      return world_.data[low] | unsigned{world_.data[low + 1]} << 8;
    }
  }
}

void AvrMachine::set_register(unsigned index, std::uint64_t value) {
  if (shadow_ != nullptr)
    for (const Address& byte : register_bytes(index)) shadow_->written(byte.offset);
  if (index < 32) {
    world_.data[index] = static_cast<u8>(value);
  } else if (index == kSp) {
    world_.cpu.sp = static_cast<u16>(value);
  } else if (index == kSreg) {
    world_.cpu.sreg = static_cast<u8>(value);
  } else if (index == kPc) {
    set_pc(static_cast<u32>(value));
  } else {
    const unsigned low = 26 + 2 * (index - kXPair);
    world_.data[low] = static_cast<u8>(value);
    world_.data[low + 1] = static_cast<u8>(value >> 8);
  }
}

std::vector<Address> AvrMachine::register_bytes(unsigned index) const {
  const auto at = [](u32 low, u32 bytes) {
    std::vector<Address> out;
    for (u32 i = 0; i < bytes; ++i) out.push_back({Space::kData, low + i});
    return out;
  };
  if (index < 32) return at(index, 1);
  switch (index) {
    case kSp: return at(0x5d, 2);
    case kSreg: return at(0x5f, 1);
    case kPc: return {};
    default: return at(26 + 2 * (index - kXPair), 2);
  }
}

void AvrMachine::set_pc(std::uint32_t address) {
  world_.cpu.pc = address / 2 % (fabric_->flash_span / 2);
  world_.cpu.hold = 0;  // execution begins there: nothing is to be completed first
  if (world_.cpu.asleep) wake_up();
}

bool AvrMachine::interrupt_imminent() const {
  const CpuState& cpu = world_.cpu;
  return cpu.pending != 0 && (cpu.sreg & 0x80U) != 0 && cpu.hold == 0 && cpu.now >= cpu.ivce_until;
}

std::optional<std::uint32_t> AvrMachine::deepest_sp() const {
  if (lowest_sp_ == UINT32_MAX) return std::nullopt;
  return lowest_sp_;
}

void AvrMachine::note_deepest(u32 sp, u32 pc, bool entered) {
  lowest_sp_ = sp;
  deepest_.pc = pc;
  deepest_.entered = entered;
  const auto data = world_.data.begin();
  deepest_.registers.assign(data, data + 32);
  const u32 end = fabric_->device.ram_end;
  deepest_.stack.assign(data + std::min(sp + 1, end), data + end);
}

std::unique_ptr<machine::Machine> AvrMachine::at_deepest() const {
  if (lowest_sp_ == UINT32_MAX || deepest_.registers.empty()) return nullptr;
  auto out = std::make_unique<AvrMachine>(*this);
  World& world = out->world_;
  std::copy(deepest_.registers.begin(), deepest_.registers.end(), world.data.begin());
  std::copy(deepest_.stack.begin(), deepest_.stack.end(),
            world.data.begin() + fabric_->device.ram_end -
                static_cast<std::ptrdiff_t>(deepest_.stack.size()));
  world.cpu.sp = static_cast<u16>(lowest_sp_);
  const Instruction by = instruction_at(2 * deepest_.pc, false);
  u32 pc = 2 * deepest_.pc;
  if (!deepest_.entered) {
    pc += by.size;
    if (by.flow == Flow::kCall && by.target) pc = *by.target;
    if (by.flow == Flow::kIndirectCall) pc = 2U * (world.data[30] | world.data[31] << 8U);
  }
  world.cpu.pc = pc / 2 % (fabric_->flash_span / 2);
  return out;
}

}  // namespace lucid::avr
