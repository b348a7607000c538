// SPDX-License-Identifier: MIT
#include "rv32_machine.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <limits>

#include "base/hash.h"
#include "base/text.h"

namespace lucid::rv32 {
namespace {

using machine::EventKind;
using machine::Fault;
using machine::Stop;

constexpr u32 kPinMask = 0xff;
// The causes of interrupts ("Machine Cause Register"); from 16 on they are the platform's own.
constexpr std::array<u32, kVectors> kCause{0, 7, 16, 17};
constexpr u32 kVectored = 1;  // mode, in mtvec

ChipInfo chip_info(u64 clock_hz) {
  ChipInfo made;
  ChipInfo* const info = &made;
  info->name = "Second32";
  info->core = "rv32im";
  info->clock_hz = clock_hz;
  info->memories = {{"flash", Space::kCode, 0, kFlashBytes},
                    {"ram", Space::kData, kRamBegin, kRamBegin + kRamBytes},
                    {"io", Space::kData, kIoBegin, kIoEnd}};
  const auto add = [&](const char* name, const char* peripheral, u32 number,
                       std::vector<IoField> fields = {}) {
    info->io.push_back({name, peripheral, io_address(number), 4, true, std::move(fields)});
  };
  add("PIN_DIRECTION", "PINS", kPinDirection);
  add("PIN_OUT", "PINS", kPinOut);
  add("PIN_IN", "PINS", kPinIn);
  add("PIN_RISING", "PINS", kPinRising);
  add("PIN_PENDING", "PINS", kPinPending);
  add("TIMER_COUNT", "TIMER", kTimerCount);
  add("TIMER_COMPARE", "TIMER", kTimerCompare);
  add("TIMER_CONTROL", "TIMER", kTimerControl, {{"INTERRUPT", 0, 1, {}}});
  add("SERIAL_DATA", "SERIAL", kSerialData);
  add("SERIAL_STATUS", "SERIAL", kSerialStatus, {{"THERE", 0, 1, {}}, {"SENDING", 1, 1, {}}});
  add("SERIAL_DIVIDER", "SERIAL", kSerialDivider);
  add("SERIAL_CONTROL", "SERIAL", kSerialControl, {{"INTERRUPT", 0, 1, {}}});
  info->vectors = {{kReset, "RESET", true, 0},
                   {kTimer, "TIMER", true, 0},
                   {kPins, "PINS", true, 0},
                   {kSerial, "SERIAL", true, 0}};
  info->serial_ports = {"SERIAL"};
  return made;
}

std::optional<unsigned> pin_number(const std::string& name) {
  for (unsigned i = 0; i < kPinCount; ++i)
    if (base::equal_ignoring_case(name, fmt::format("IO{}", i))) return i;
  return std::nullopt;
}

u32 word_at(const u8* bytes) {
  u32 out = 0;
  std::memcpy(&out, bytes, 4);
  return out;
}

}  // namespace

struct Rv32Machine::Board {
  ChipInfo info;
  machine::Outside outside;
  machine::Group group;
  u32 wired = 0;  ///< pins with wires to other chips
};

/// The machine as its companions meet it.
class Rv32Host final : public machine::Host {
 public:
  explicit Rv32Host(Rv32Machine& machine) : machine_(machine), world_(machine.world_) {}
  machine::GroupState& group() override { return world_.group; }
  [[nodiscard]] u64 tick() const override { return world_.now; }
  std::vector<machine::WireChange>& offers() override { return machine_.offers_; }
  void join(u8 pin, u8 offer) override {
    const u32 bit = 1U << pin;
    const bool low = (offer & machine::kOffersLow) != 0;
    const bool high = (offer & (machine::kOffersHigh | machine::kOffersPullUp)) != 0;
    world_.wire_low = low ? world_.wire_low | bit : world_.wire_low & ~bit;
    world_.wire_high = high ? world_.wire_high | bit : world_.wire_high & ~bit;
    machine_.settle_pins();
  }
  void say(const std::string& port, const std::string& bytes) override {
    machine_.serial_.push_back({port, bytes});
  }
  void note(const std::string& text) override { machine_.notes_.push_back({text, {}}); }
  void sync_at(u64 tick) override { world_.sync_at = tick; }

 private:
  Rv32Machine& machine_;
  World& world_;
};

/// The machine as what is outside reaches it.
class Rv32Terminals final : public machine::Terminals {
 public:
  explicit Rv32Terminals(Rv32Machine& machine) : machine_(machine), world_(machine.world_) {}
  machine::OutsideState& outside() override { return world_.outside; }
  [[nodiscard]] u64 tick() const override { return world_.now; }
  [[nodiscard]] u64 clock_hz() const override { return machine_.board_->info.clock_hz; }
  [[nodiscard]] std::int32_t supply() const override { return 3'300'000; }
  void set_supply(std::int32_t /*microvolts*/) override {}
  [[nodiscard]] bool level(unsigned pin) const override {
    return (machine_.levels() >> pin & 1U) != 0;
  }
  machine::OutsideLevel& by_hand(unsigned pin) override { return world_.by_hand[pin]; }
  void settle(unsigned pin, const machine::OutsideLevel& all, bool fought) override {
    using Level = machine::OutsideLevel;
    const u32 bit = 1U << pin;
    const bool high =
        all.kind == Level::kHigh || (all.kind == Level::kVoltage && all.microvolts > supply() / 2);
    world_.driven = all.kind == Level::kOpen ? world_.driven & ~bit : world_.driven | bit;
    world_.driven_high = high ? world_.driven_high | bit : world_.driven_high & ~bit;
    world_.fought = fought ? world_.fought | bit : world_.fought & ~bit;
    machine_.settle_pins();
  }
  void reset() override { note("its reset pin is not modelled"); }
  void send(const std::string& port, const std::string& bytes) override {
    static_cast<void>(machine_.feed(port, bytes));
  }
  void send_frame(const std::string& port, const SerialFrame& frame) override {
    send(port, std::string(1, static_cast<char>(frame.data)));
  }
  void transfer(const TwoWireTransfer& /*transfer*/) override {}
  void wake(unsigned part, std::optional<u64> tick) override {
    world_.wakes[part] = tick.value_or(kNever);
  }
  void note(const std::string& text) override { machine_.notes_.push_back({text, {}}); }
  void fail(const std::string& why) override { machine_.failure_ = why; }

 private:
  Rv32Machine& machine_;
  World& world_;
};

Result<std::unique_ptr<Rv32Machine>> Rv32Machine::make(const Chip::Options& options,
                                                       machine::Family::Joined joined) {
  auto board = std::make_shared<Board>();
  board->info = chip_info(options.clock_hz);
  for (const auto& part : options.parts) {
    std::vector<unsigned> pins;
    for (const std::string& name : part->pins()) {
      const auto pin = pin_number(name);
      if (!pin)
        return fail(ErrorCode::kNotFound, part->name() + ": there is no pin '" + name + "'");
      pins.push_back(*pin);
    }
    if (auto added = board->outside.add(part, std::move(pins)); !added) return fail(added.error());
  }
  for (const std::string& name : joined.pins) {
    const auto pin = pin_number(name);
    if (!pin) return fail(ErrorCode::kNotFound, "wire to '" + name + "': there is no such pin");
    board->wired |= 1U << *pin;
  }
  board->group = std::move(joined.group);
  for (auto& wire : board->group.wires)
    for (machine::Group::Place& place : wire)
      if (place.chip == 0) place.number = static_cast<u8>(pin_number(place.pin).value_or(0));
  return std::make_unique<Rv32Machine>(std::move(board));
}

const ChipInfo& Rv32Machine::info() const { return board_->info; }

bool Rv32Machine::assume(const machine::Machine& of) {
  const auto* other = dynamic_cast<const Rv32Machine*>(&of);
  if (other == nullptr || other->board_ != board_) return false;
  world_ = other->world_;
  return true;
}

std::optional<u8> Rv32Machine::wire_pin(const std::string& pin) const {
  const auto number = pin_number(pin);
  return number ? std::optional<u8>(static_cast<u8>(*number)) : std::nullopt;
}

machine::Companions& Rv32Machine::runners() const {
  if (!runners_.made)
    runners_.made = std::make_unique<machine::Companions>(board_->group, info().clock_hz);
  return *runners_.made;
}

std::vector<std::string> Rv32Machine::companions() const {
  std::vector<std::string> out;
  for (const auto& companion : board_->group.companions) out.push_back(companion.name);
  return out;
}

std::unique_ptr<machine::Machine> Rv32Machine::companion(const std::string& name) const {
  const auto which = runners().find(name);
  return which ? runners().as_now(world_.group, world_.now, *which).clone() : nullptr;
}

const machine::Machine* Rv32Machine::hear(const std::string& companion,
                                          const machine::Hearing& hearing) {
  const auto which = runners().find(companion);
  return which ? &runners().hear(world_.group, *which, hearing) : nullptr;
}

std::uint64_t Rv32Machine::hear_out(const std::string& companion) {
  const auto which = runners().find(companion);
  return which ? runners().hear_out(world_.group, world_.now, *which) : 0;
}

const Image* Rv32Machine::companion_image(const std::string& name) const {
  const auto which = runners().find(name);
  return which ? &board_->group.companions[*which].image : nullptr;
}

std::vector<SerialText> Rv32Machine::take_serial() {
  if (!board_->group.empty()) {
    Rv32Host host(*this);
    runners().catch_up(host);
  }
  return std::exchange(serial_, {});
}

/// To the wires: what this chip does to its pins, or what stands on them does.
void Rv32Machine::offer() {
  const u32 high =
      (world_.direction & world_.out) | (~world_.direction & world_.driven & world_.driven_high);
  const u32 low =
      (world_.direction & ~world_.out) | (~world_.direction & world_.driven & ~world_.driven_high);
  const u32 changed = board_->wired & ((high ^ world_.offers_high) | (low ^ world_.offers_low));
  world_.offers_high = high;
  world_.offers_low = low;
  for (unsigned i = 0; i < kPinCount; ++i) {
    if ((changed >> i & 1U) == 0) continue;
    const unsigned what =
        (low >> i & 1U) * machine::kOffersLow | (high >> i & 1U) * machine::kOffersHigh;
    offers_.push_back({world_.now, static_cast<u8>(i), static_cast<u8>(what)});
    happened(EventKind::kWire, 0, 0);
    if (!board_->group.empty()) world_.sync_at = std::min(world_.sync_at, world_.now);
  }
}

Rv32Machine::Rv32Machine(std::shared_ptr<const Board> board) : board_(std::move(board)) {
  world_.ram.assign(kRamBytes, 0);
  world_.wakes.assign(board_->outside.count(), kNever);
  board_->outside.clear(world_.outside);
  if (!board_->group.empty()) {
    Rv32Host host(*this);
    runners().power_on(host);
  }
  Rv32Terminals terminals(*this);
  for (unsigned i = 0; i < board_->outside.count(); ++i) board_->outside.start(terminals, i);
}

std::unique_ptr<machine::Machine> Rv32Machine::clone() const {
  return std::make_unique<Rv32Machine>(*this);
}

void Rv32Machine::reset() {
  World fresh;
  fresh.ram = std::move(world_.ram);
  fresh.flash = world_.flash;
  fresh.now = world_.now;
  fresh.driven = world_.driven;
  fresh.driven_high = world_.driven_high;
  fresh.fought = world_.fought;
  fresh.by_hand = world_.by_hand;
  fresh.outside = world_.outside;
  fresh.wakes = world_.wakes;
  fresh.seen = world_.seen;
  fresh.wire_low = world_.wire_low;
  fresh.wire_high = world_.wire_high;
  fresh.offers_low = world_.offers_low;
  fresh.offers_high = world_.offers_high;
  fresh.inbox = world_.inbox;
  fresh.group = world_.group;
  fresh.sync_at = world_.sync_at;
  world_ = std::move(fresh);
  settle_pins();
}

Result<void> Rv32Machine::load(const Image& image) {
  for (const Segment& segment : image.segments())
    if (segment.address.space != Space::kCode ||
        segment.address.offset + segment.bytes.size() > kFlashBytes)
      return fail(ErrorCode::kOutOfRange,
                  fmt::format("a segment at {:#x} does not lie in flash", segment.address.offset));
  world_.flash = machine::PagedMemory(kFlashBytes, 0xff);
  for (const Segment& segment : image.segments())
    for (std::size_t i = 0; i < segment.bytes.size(); ++i)
      world_.flash.write(segment.address.offset + static_cast<u32>(i), segment.bytes[i]);
  reset();
  return {};
}

Result<void> Rv32Machine::set_breakpoint(u32 address, bool on) {
  if (address % 4 != 0 || address >= kFlashBytes)
    return fail(ErrorCode::kOutOfRange, fmt::format("no instruction can begin at {:#x}", address));
  if (on)
    breakpoints_.insert(address);
  else
    breakpoints_.erase(address);
  return {};
}

void Rv32Machine::guard_stack(u32 begin, u32 end) {
  guard_begin_ = begin;
  guard_end_ = end;
}

Result<void> Rv32Machine::watch(Address address, std::uint8_t kinds) {
  if (!peek(address))
    return fail(ErrorCode::kOutOfRange, fmt::format("there is no memory at {:#x}", address.offset));
  if (kinds == 0)
    watched_.erase(address.offset);
  else
    watched_[address.offset] = kinds;
  return {};
}

// Running
// ------------------------------------------------------------------------------------------

Stop Rv32Machine::run(const machine::RunRequest& request) {
  wanted_events_ = request.events;
  bool pass = request.pass_first_breakpoint;
  u32 last_pc = world_.pc;
  const auto end = [&](Stop::Why why) {
    stop_.why = why;
    stop_.last_pc = last_pc;
    tap_.flush();
    return std::exchange(stop_, {});
  };
  stop_ = {};
  for (u64 n = 0;;) {
    do_events();
    if (!failure_.empty()) {
      fault(Fault::kOutside, 0);
      stop_.failure = std::exchange(failure_, {});
      return end(Stop::Why::kFault);
    }
    if (!stop_.events.empty()) return end(Stop::Why::kEvent);
    if (world_.now >= request.until_ticks || world_.now >= request.until_cycles)
      return end(Stop::Why::kTime);
    if (n >= request.instructions) return end(Stop::Why::kInstructions);
    if (request.pause_requested != nullptr && n % 1024 == 0 && *request.pause_requested)
      return end(Stop::Why::kRequested);
    if (request.within_begin && n > 0 &&
        (world_.pc < *request.within_begin || world_.pc >= request.within_end))
      return end(Stop::Why::kLeftRange);
    if (world_.asleep) {
      if (!sleep(request)) {
        fault(Fault::kNeverWakes, 0);
        return end(Stop::Why::kFault);
      }
      ++n;
      continue;
    }
    if (const unsigned vector = wanted(); vector != kReset) {
      enter(vector);
      ++n;
      pass = false;
      stop_.interrupt = static_cast<int>(vector);
      if (request.stop_at_interrupt) return end(Stop::Why::kInterruptEntered);
      if (!stop_.events.empty()) return end(Stop::Why::kEvent);
      stop_.interrupt = -1;
      continue;
    }
    if (!pass && breakpoints_.count(world_.pc) != 0 &&
        (request.marks == nullptr || request.marks->ends_run_at(world_.pc)))
      return end(Stop::Why::kBreakpoint);
    pass = false;
    if (world_.pc >= kFlashBytes || world_.pc % 4 != 0) {
      fault(Fault::kErasedFlash, world_.pc);
      return end(Stop::Why::kFault);
    }
    const Decoded d = rv32::decode(word_at(world_.flash.page_of(world_.pc) + world_.pc % 4096));
    stop_.last_pc = last_pc = world_.pc;
    if (d.op == kReserved) {
      const bool erased = word_at(world_.flash.page_of(world_.pc) + world_.pc % 4096) == ~0U;
      fault(erased ? Fault::kErasedFlash : Fault::kReservedInstruction, world_.pc);
      return end(Stop::Why::kFault);
    }
    const u32 sp_before = world_.x[kSp];
    world_.now += row(d.op).cycles;
    execute(d);
    world_.x[0] = 0;
    ++n;
    const u32 sp = world_.x[kSp];
    if (sp != sp_before && sp >= guard_begin_ && sp < guard_end_ &&
        fault_is_on(Fault::kStackIntoData))
      fault(Fault::kStackIntoData, sp);
    if (stop_.fault != Fault::kNone) {
      stop_.fault_pc = last_pc;
      return end(Stop::Why::kFault);
    }
    if (d.op == kEBREAK) return end(Stop::Why::kBreakInstruction);
    if (!stop_.accesses.empty()) return end(Stop::Why::kAccess);
    if (!stop_.events.empty()) return end(Stop::Why::kEvent);
  }
}

/// False: nothing is left that could wake it.
bool Rv32Machine::sleep(const machine::RunRequest& request) {
  const auto wakes = [&] { return (csr_value(kMip) & world_.mie) != 0; };
  if (!wakes()) {
    const u64 until = std::min({request.until_ticks, request.until_cycles, next_event()});
    if (until == kNever) return false;
    world_.now = std::max(world_.now, until);
    do_events();
  }
  if (wakes()) {
    world_.asleep = false;
    happened(EventKind::kWake, 0, 0);
  }
  return true;
}

unsigned Rv32Machine::wanted() const {
  if ((world_.mstatus & kMieBit) == 0) return kReset;
  const u32 ready = csr_value(kMip) & world_.mie;
  for (unsigned v = kVectors - 1; v != kReset; --v)
    if ((ready >> kCause[v] & 1U) != 0) return v;
  return kReset;
}

void Rv32Machine::enter(unsigned vector) {
  world_.mepc = world_.pc;
  world_.mcause = 1U << 31 | kCause[vector];
  const bool on = (world_.mstatus & kMieBit) != 0;
  world_.mstatus = (world_.mstatus & ~(kMieBit | kMpieBit)) | (on ? kMpieBit : 0U);
  const u32 base = world_.mtvec & ~3U;
  world_.pc = (world_.mtvec & 3U) == kVectored ? base + 4 * kCause[vector] : base;
  world_.now += 4;
  happened(EventKind::kInterrupt, vector, 0);
}

void Rv32Machine::branch(bool taken, const Decoded& d, u32 next) {
  if (taken) ++world_.now;
  world_.pc = taken ? world_.pc + static_cast<u32>(d.imm) : next;
}

void Rv32Machine::execute(const Decoded& d) {
  auto& x = world_.x;
  const u32 a = x[d.rs1];
  const u32 b = x[d.rs2];
  const auto sa = static_cast<i32>(a);
  const auto sb = static_cast<i32>(b);
  const auto imm = static_cast<u32>(d.imm);
  const u32 pc = world_.pc;
  const u32 next = pc + 4;
  u32& rd = x[d.rd];
  world_.pc = next;
  constexpr i32 kLeast = std::numeric_limits<i32>::min();
  const bool overflow = sa == kLeast && sb == -1;  // "M" extension: what division gives then
  switch (d.op) {
    case kLUI: rd = imm; break;
    case kAUIPC: rd = pc + imm; break;
    case kJAL:
      rd = next;
      world_.pc = pc + imm;
      break;
    case kJALR:
      world_.pc = (a + imm) & ~1U;
      rd = next;
      break;
    case kBEQ:
    case kBNE:
    case kBLT:
    case kBGE:
    case kBLTU:
    case kBGEU: {
      const bool less = d.op == kBLT || d.op == kBGE ? sa < sb : a < b;
      const bool holds = d.op == kBEQ || d.op == kBNE ? a == b : less;
      const bool inverted = d.op == kBNE || d.op == kBGE || d.op == kBGEU;
      world_.pc = pc;
      branch(holds != inverted, d, next);
      break;
    }
    case kLB: rd = static_cast<u32>(static_cast<std::int8_t>(load(a + imm, 1))); break;
    case kLH: rd = static_cast<u32>(static_cast<std::int16_t>(load(a + imm, 2))); break;
    case kLW: rd = load(a + imm, 4); break;
    case kLBU: rd = load(a + imm, 1); break;
    case kLHU: rd = load(a + imm, 2); break;
    case kSB: store(a + imm, 1, b); break;
    case kSH: store(a + imm, 2, b); break;
    case kSW: store(a + imm, 4, b); break;
    case kADDI: rd = a + imm; break;
    case kSLTI: rd = sa < d.imm ? 1 : 0; break;
    case kSLTIU: rd = a < imm ? 1 : 0; break;
    case kXORI: rd = a ^ imm; break;
    case kORI: rd = a | imm; break;
    case kANDI: rd = a & imm; break;
    case kSLLI: rd = a << imm; break;
    case kSRLI: rd = a >> imm; break;
    case kSRAI: rd = static_cast<u32>(sa >> imm); break;
    case kADD: rd = a + b; break;
    case kSUB: rd = a - b; break;
    case kSLL: rd = a << (b & 31U); break;
    case kSLT: rd = sa < sb ? 1 : 0; break;
    case kSLTU: rd = a < b ? 1 : 0; break;
    case kXOR: rd = a ^ b; break;
    case kSRL: rd = a >> (b & 31U); break;
    case kSRA: rd = static_cast<u32>(sa >> (b & 31U)); break;
    case kOR: rd = a | b; break;
    case kAND: rd = a & b; break;
    case kMUL: rd = a * b; break;
    case kMULH: rd = static_cast<u32>(std::int64_t{sa} * sb >> 32); break;
    case kMULHSU: rd = static_cast<u32>(std::int64_t{sa} * std::int64_t{b} >> 32); break;
    case kMULHU: rd = static_cast<u32>(u64{a} * b >> 32); break;
    case kDIV: rd = b == 0 ? ~0U : overflow ? a : static_cast<u32>(sa / sb); break;
    case kDIVU: rd = b == 0 ? ~0U : a / b; break;
    case kREM: rd = b == 0 ? a : overflow ? 0U : static_cast<u32>(sa % sb); break;
    case kREMU: rd = b == 0 ? a : a % b; break;
    case kWFI:
      world_.asleep = true;
      happened(EventKind::kSleep, 0, 0);
      break;
    case kMRET: {
      unsigned vector = kReset;
      for (unsigned v = 1; v < kVectors; ++v)
        if (world_.mcause == (1U << 31 | kCause[v])) vector = v;
      world_.pc = world_.mepc;
      const bool on = (world_.mstatus & kMpieBit) != 0;
      world_.mstatus = (world_.mstatus & ~kMieBit) | kMpieBit | (on ? kMieBit : 0U);
      happened(EventKind::kReturn, vector, 0);
      break;
    }
    case kCSRRW:
    case kCSRRS:
    case kCSRRC:
    case kCSRRWI:
    case kCSRRSI:
    case kCSRRCI: control(d); break;
    default: break;  // fences and ebreak
  }
}

// Control registers
// ---------------------------------------------------------------------------------

namespace {

/// The place of one that is nothing but memory; null for others.
template <class AnyWorld>
auto kept(AnyWorld& world, u32 number) -> decltype(&world.mie) {
  switch (number) {
    case kMstatus: return &world.mstatus;
    case kMie: return &world.mie;
    case kMtvec: return &world.mtvec;
    case kMscratch: return &world.mscratch;
    case kMepc: return &world.mepc;
    case kMcause: return &world.mcause;
    case kMtval: return &world.mtval;
    default: return nullptr;
  }
}

}  // namespace

u32 Rv32Machine::csr_value(u32 number) const {
  switch (number) {
    case kMip: {
      u32 out = 0;
      if ((world_.timer_control & 1U) != 0 && static_cast<u32>(world_.now) >= world_.compare)
        out |= 1U << kCause[kTimer];
      if (world_.pending != 0) out |= 1U << kCause[kPins];
      if ((world_.serial_control & 1U) != 0 && world_.has_received) out |= 1U << kCause[kSerial];
      return out;
    }
    case kMcycle: return static_cast<u32>(world_.now);
    case kMcycleh: return static_cast<u32>(world_.now >> 32);
    case kMisa: return 1U << 30 | 1U << ('I' - 'A') | 1U << ('M' - 'A');
    default: {
      const u32* held = kept(world_, number);
      return held != nullptr ? *held : 0;
    }
  }
}

void Rv32Machine::control(const Decoded& d) {
  const auto number = static_cast<u32>(d.imm);
  const bool by_number = row(d.op).format == D;
  const u32 operand = by_number ? d.rs1 : world_.x[d.rs1];
  const u32 old = csr_value(number);
  u32* held = kept(world_, number);
  if (held == nullptr && csr_value(number) == 0 && number != kMip && number != kMcycle &&
      number != kMcycleh)
    notes_.push_back({fmt::format("control register {:#x} is not modelled", number), {}});
  if (held != nullptr) {
    const Op op = d.op;
    if (op == kCSRRW || op == kCSRRWI)
      *held = operand;
    else if (op == kCSRRS || op == kCSRRSI)
      *held = old | operand;
    else
      *held = old & ~operand;
    if (held == &world_.mepc) *held &= ~3U;
  }
  world_.x[d.rd] = old;
}

// Memory ------------------------------------------------------------------------------------------

void Rv32Machine::fault(Fault fault, u32 address) {
  stop_.fault = fault;
  stop_.fault_pc = world_.pc;
  stop_.fault_address = address;
}

void Rv32Machine::note_access(u32 address, bool write, u8 before, u8 after) {
  const auto kinds = watched_.find(address);
  if (kinds == watched_.end()) return;
  if ((kinds->second & (write ? machine::kTapWrite : machine::kTapRead)) != 0)
    happened(write ? EventKind::kWrite : EventKind::kRead, address, after);
  const bool wanted = write ? (kinds->second & machine::kOnWrite) != 0 ||
                                  ((kinds->second & machine::kOnChange) != 0 && before != after)
                            : (kinds->second & machine::kOnRead) != 0;
  if (wanted)
    stop_.accesses.push_back({{Space::kData, address}, write, before, after, world_.pc - 4});
}

u32 Rv32Machine::load(u32 address, unsigned bytes) {
  if (address >= kIoBegin && address < kIoEnd) {
    for (unsigned i = 0; i < bytes; ++i) {
      const u8 byte = peek({Space::kData, address + i}).value_or(0);
      if (!watched_.empty()) note_access(address + i, false, byte, byte);
    }
    return io_read((address - kIoBegin) / 4) >> (8 * (address % 4));
  }
  u32 out = 0;
  for (unsigned i = 0; i < bytes; ++i) {
    const auto byte = peek({Space::kData, address + i});
    if (!byte && fault_is_on(Fault::kOutsideMemory)) fault(Fault::kOutsideMemory, address + i);
    out |= u32{byte.value_or(0)} << (8 * i);
    if (!watched_.empty()) note_access(address + i, false, byte.value_or(0), byte.value_or(0));
  }
  return out;
}

void Rv32Machine::store(u32 address, unsigned bytes, u32 value) {
  if (address >= kIoBegin && address < kIoEnd) {
    const u32 number = (address - kIoBegin) / 4;
    const u32 before = io(number);
    io_write(number, value << (8 * (address % 4)));
    for (unsigned i = 0; i < bytes && !watched_.empty(); ++i)
      note_access(address + i, true, static_cast<u8>(before >> (8 * i)),
                  static_cast<u8>(io(number) >> (8 * i)));
    return;
  }
  for (unsigned i = 0; i < bytes; ++i) {
    const u32 at = address + i;
    if (at < kRamBegin || at >= kRamBegin + kRamBytes) {
      if (fault_is_on(Fault::kOutsideMemory)) fault(Fault::kOutsideMemory, at);
      continue;
    }
    u8& held = world_.ram[at - kRamBegin];
    const u8 before = std::exchange(held, static_cast<u8>(value >> (8 * i)));
    if (!watched_.empty()) note_access(at, true, before, held);
  }
}

std::optional<u8> Rv32Machine::peek(Address address) const {
  const u32 at = address.offset;
  if (address.space != Space::kCode && address.space != Space::kData) return std::nullopt;
  if (at < kFlashBytes) return world_.flash[at];
  if (at >= kRamBegin && at < kRamBegin + kRamBytes) return world_.ram[at - kRamBegin];
  if (at >= kIoBegin && at < kIoEnd)
    return static_cast<u8>(io((at - kIoBegin) / 4) >> (8 * (at % 4)));
  return std::nullopt;
}

const u8* Rv32Machine::plain_bytes(Address address, unsigned bytes) const {
  const u32 at = address.offset;
  if (at >= kRamBegin && at + bytes <= kRamBegin + kRamBytes && bytes <= kRamBytes)
    return &world_.ram[at - kRamBegin];
  if (at + bytes <= kFlashBytes && at % 4096 + bytes <= 4096)
    return world_.flash.page_of(at) + at % 4096;
  return nullptr;
}

bool Rv32Machine::poke(Address address, u8 value) {
  const u32 at = address.offset;
  if (!peek(address)) return false;
  if (at < kFlashBytes) {
    world_.flash.write(at, value);
    return true;
  }
  if (at < kIoBegin) {
    world_.ram[at - kRamBegin] = value;
    return true;
  }
  return store(address, value);
}

bool Rv32Machine::store(Address address, u8 value) {
  if (address.offset < kIoBegin) return poke(address, value);
  if (!peek(address)) return false;
  const unsigned shift = 8 * (address.offset % 4);
  const u32 number = (address.offset - kIoBegin) / 4;
  io_write(number, (io(number) & ~(0xffU << shift)) | u32{value} << shift);
  return true;
}

u64 Rv32Machine::register_value(unsigned index) const {
  switch (index) {
    case kPcIndex: return world_.pc;
    case kMstatusIndex: return world_.mstatus;
    case kMieIndex: return world_.mie;
    case kMtvecIndex: return world_.mtvec;
    case kMepcIndex: return world_.mepc;
    case kMcauseIndex: return world_.mcause;
    default: return world_.x[index];
  }
}

void Rv32Machine::set_register(unsigned index, u64 value) {
  const auto word = static_cast<u32>(value);
  switch (index) {
    case 0: break;
    case kPcIndex: world_.pc = word; break;
    case kMstatusIndex: world_.mstatus = word; break;
    case kMieIndex: world_.mie = word; break;
    case kMtvecIndex: world_.mtvec = word; break;
    case kMepcIndex: world_.mepc = word; break;
    case kMcauseIndex: world_.mcause = word; break;
    default: world_.x[index] = word;
  }
}

u64 Rv32Machine::hash() const {
  base::Hasher hasher;
  world_.fields(hasher);
  for (const char c : world_.arriving) hasher(c);
  if (!board_->group.empty()) hasher(runners().hash(world_.group, world_.now));
  hasher.bytes(world_.ram.data(), world_.ram.size());
  world_.flash.hash(hasher);
  return hasher.value();
}

// Peripherals
// ---------------------------------------------------------------------------------------

u32 Rv32Machine::levels() const {
  const u32 in =
      (world_.driven & world_.driven_high) | (~world_.driven & ~world_.wire_low & world_.wire_high);
  return ((world_.direction & world_.out) | (~world_.direction & in)) & kPinMask;
}

u32 Rv32Machine::io(u32 number) const {
  switch (number) {
    case kPinDirection: return world_.direction;
    case kPinOut: return world_.out;
    case kPinIn: return levels();
    case kPinRising: return world_.rising;
    case kPinPending: return world_.pending;
    case kTimerCount: return static_cast<u32>(world_.now);
    case kTimerCompare: return world_.compare;
    case kTimerControl: return world_.timer_control;
    case kSerialData: return world_.received;
    case kSerialStatus:
      return (world_.has_received ? 1U : 0U) | (world_.sent_at != kNever ? 2U : 0U);
    case kSerialDivider: return world_.divider;
    case kSerialControl: return world_.serial_control;
    default: return 0;
  }
}

u32 Rv32Machine::io_read(u32 number) {
  const u32 out = io(number);
  if (number == kSerialData) world_.has_received = false;
  return out;
}

void Rv32Machine::io_write(u32 number, u32 value) {
  switch (number) {
    case kPinDirection: world_.direction = value & kPinMask; break;
    case kPinOut: world_.out = value & kPinMask; break;
    case kPinRising: world_.rising = value & kPinMask; break;
    case kPinPending: world_.pending &= ~value; break;
    case kTimerCompare: world_.compare = value; break;
    case kTimerControl: world_.timer_control = value & 1U; break;
    case kSerialDivider: world_.divider = std::max(1U, value); break;
    case kSerialControl: world_.serial_control = value & 1U; break;
    case kSerialData:
      world_.sending = static_cast<u8>(value);
      world_.sent_at = world_.now + u64{10} * world_.divider;
      break;
    default: notes_.push_back({"a write to a register that cannot be written", {}}); break;
  }
  settle_pins();
}

void Rv32Machine::settle_pins() {
  const u32 now = levels();
  const u32 changed = now ^ world_.seen;
  offer();
  world_.pending |= now & changed & world_.rising;
  world_.seen = now;
  Rv32Terminals terminals(*this);
  for (unsigned i = 0; i < kPinCount; ++i) {
    if ((changed >> i & 1U) == 0) continue;
    happened(EventKind::kEdge, i, now >> i & 1U, fmt::format("IO{}", i));
    if (tap_.wants(EventKind::kPin))
      tap_.put_pin(world_.now, i, static_cast<u8>(now >> i & 1U), stop_.last_pc, false);
    for (unsigned part = 0; part < board_->outside.count(); ++part)
      board_->outside.on_pin(terminals, part, i, (now >> i & 1U) != 0);
  }
}

void Rv32Machine::do_events() {
  Rv32Host host(*this);
  while (world_.sync_at <= world_.now) runners().sync(host);
  while (!world_.inbox.empty() && world_.inbox.front().tick <= world_.now) {
    const machine::WireChange change = world_.inbox.front();
    world_.inbox.erase(world_.inbox.begin());
    host.join(change.pin, change.offer);
  }
  for (unsigned part = 0; part < world_.wakes.size(); ++part) {
    if (world_.wakes[part] > world_.now) continue;
    world_.wakes[part] = kNever;
    Rv32Terminals terminals(*this);
    board_->outside.on_time(terminals, part);
  }
  if (world_.sent_at <= world_.now) {
    if (serial_.empty()) serial_.push_back({"SERIAL", {}});
    serial_.back().bytes += static_cast<char>(world_.sending);
    world_.sent_at = kNever;
    happened(EventKind::kByteOut, world_.sending, 0, "SERIAL");
    Rv32Terminals terminals(*this);
    for (unsigned part = 0; part < board_->outside.count(); ++part)
      board_->outside.on_byte(terminals, part, "SERIAL", world_.sending);
  }
  if (world_.arrives_at <= world_.now) {
    world_.received = static_cast<u8>(world_.arriving.front());
    world_.arriving.erase(0, 1);
    world_.has_received = true;
    world_.arrives_at =
        world_.arriving.empty() ? kNever : world_.arrives_at + u64{10} * world_.divider;
    happened(EventKind::kByteIn, world_.received, 0, "SERIAL");
  }
}

u64 Rv32Machine::next_event() const {
  u64 next = std::min({world_.sent_at, world_.arrives_at, world_.sync_at});
  if (!world_.inbox.empty()) next = std::min(next, world_.inbox.front().tick);
  for (const u64 at : world_.wakes) next = std::min(next, at);
  const auto now = static_cast<u32>(world_.now);
  if ((world_.timer_control & 1U) != 0 && now < world_.compare)
    next = std::min(next, world_.now + (world_.compare - now));
  return next;
}

void Rv32Machine::happened(EventKind kind, unsigned number, unsigned value, std::string name) {
  const bool byte = kind == EventKind::kByteIn || kind == EventKind::kByteOut;
  if (tap_.wants(kind))
    tap_.put({world_.now, kind, byte ? 0 : number, byte ? number : value, stop_.last_pc});
  if ((wanted_events_ & machine::bit(kind)) != 0)
    stop_.events.push_back({kind, number, value, std::move(name)});
}

std::vector<PinState> Rv32Machine::pins() const {
  std::vector<PinState> out;
  for (unsigned i = 0; i < kPinCount; ++i) {
    PinState pin;
    pin.name = fmt::format("IO{}", i);
    pin.output = (world_.direction >> i & 1U) != 0;
    pin.level = (levels() >> i & 1U) != 0;
    pin.driven = ((world_.driven | world_.wire_low | world_.wire_high) >> i & 1U) != 0;
    pin.driven_high = pin.driven && (world_.driven_high >> i & 1U) != 0;
    pin.floating = !pin.output && !pin.driven;
    pin.contention = (world_.fought >> i & 1U) != 0;
    out.push_back(std::move(pin));
  }
  return out;
}

Result<void> Rv32Machine::drive(const std::string& name, std::optional<bool> level) {
  const auto pin = pin_number(name);
  if (!pin) return Machine::drive(name, level);
  world_.by_hand[*pin] = machine::OutsideLevel::of(level);
  Rv32Terminals terminals(*this);
  board_->outside.settle(terminals, *pin);
  return {};
}

Result<void> Rv32Machine::act(const std::string& part, const std::string& action,
                              const std::string& value) {
  Rv32Terminals terminals(*this);
  return board_->outside.act(terminals, part, action, value);
}

std::vector<PartState> Rv32Machine::parts() const {
  Rv32Machine look = *this;  // a description changes nothing
  Rv32Terminals terminals(look);
  std::vector<PartState> out;
  const machine::Group& group = board_->group;
  for (unsigned i = 0; i < group.companions.size(); ++i)
    out.push_back({group.companions[i].name, group.pins_to(i + 1),
                   runners().describe(world_.group, world_.now, i), false});
  for (PartState& part : board_->outside.states(terminals)) out.push_back(std::move(part));
  return out;
}

Result<void> Rv32Machine::feed(const std::string& port, const std::string& bytes) {
  if (!base::equal_ignoring_case(port, "SERIAL")) return Machine::feed(port, bytes);
  if (world_.arriving.empty() && !bytes.empty())
    world_.arrives_at = world_.now + u64{10} * world_.divider;
  world_.arriving += bytes;
  return {};
}

Address Target::placed(u32 flat) const {
  return {flat < kFlashBytes ? Space::kCode : Space::kData, flat};
}

}  // namespace lucid::rv32
