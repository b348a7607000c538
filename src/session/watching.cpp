// SPDX-License-Identifier: MIT
// Breakpoints that are no places: accesses to an object, an expression that becomes true, events.
//
// The machine knows bytes; this file knows objects. A wide object is stored byte by byte, so what
// is stored is judged when all of its bytes have been, or the statement is left, an interrupt is
// entered, or the object is read, whichever is first.
#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "expression/object.h"
#include "session/bytes_of.h"
#include "session/core.h"

namespace lucid {

std::vector<expression::WatchedByte> session::bytes_of(const expression::Operand& operand,
                                                       const Program& program,
                                                       const machine::Machine& machine) {
  using Place = frames::Place;
  std::vector<expression::WatchedByte> out;
  const Place& place = operand.place;
  switch (place.kind) {
    case Place::Kind::kMemory: {
      std::uint32_t bytes = place.bytes;
      if (operand.value.kind == Value::Kind::kAggregate)
        bytes = operand.type != 0 ? program.types()[operand.type].bytes
                                  : static_cast<std::uint32_t>(operand.value.integer);
      for (std::uint32_t i = 0; i < bytes; ++i) {
        unsigned mask = 0xff;
        if (place.bit_size != 0) {
          const std::uint64_t bits = ((std::uint64_t{1} << place.bit_size) - 1) << place.bit_offset;
          mask = static_cast<unsigned>(bits >> (8 * i)) & 0xff;
        }
        out.push_back({{place.address.space, place.address.offset + i}, mask});
      }
      break;
    }
    case Place::Kind::kRegister:
      for (const Address address : machine.register_bytes(place.index))
        out.push_back({address, 0xff});
      break;
    case Place::Kind::kFlag:
      if (const auto index = machine.find_register(machine.target().flags_register()))
        for (const Address address : machine.register_bytes(*index))
          out.push_back({address, 1U << place.index});
      break;
    default: break;
  }
  return out;
}

namespace {

using Kind = BreakpointSpec::Kind;

std::optional<machine::EventKind> event_of(Kind kind) {
  switch (kind) {
    case Kind::kInterrupt: return machine::EventKind::kInterrupt;
    case Kind::kReturn: return machine::EventKind::kReturn;
    case Kind::kEdge: return machine::EventKind::kEdge;
    case Kind::kByteIn: return machine::EventKind::kByteIn;
    case Kind::kByteOut: return machine::EventKind::kByteOut;
    case Kind::kSleep: return machine::EventKind::kSleep;
    case Kind::kWake: return machine::EventKind::kWake;
    case Kind::kEepromWrite: return machine::EventKind::kEepromWrite;
    case Kind::kReset: return machine::EventKind::kReset;
    default: return std::nullopt;
  }
}

bool is_data(Kind kind) {
  return kind == Kind::kRead || kind == Kind::kWrite || kind == Kind::kChange;
}

}  // namespace

/// Finds the bytes behind a data breakpoint or `when`. Nothing is changed on failure.
Result<void> Session::Core::bind_object(Entry& entry) const {
  const frames::Scope here = scope();
  auto expression = expression::Expression::parse(entry.point.spec.place, here);
  if (!expression) return fail(expression.error());
  auto now = expression->evaluate(here);
  if (!now) return fail(now.error());
  const auto local_level = expression->local_level(here);
  const unsigned level = local_level.value_or(level_);
  std::vector<WatchedObject> objects;
  std::optional<Entry::Frame> frame;
  bool every_instruction = false, on_edges = false;
  if (is_data(entry.point.spec.kind)) {
    WatchedObject object;
    object.bytes = session::bytes_of(*now, program_, machine());
    // A local in registers moves from one to another: its value is looked at.
    if (now->elsewhere != nullptr)
      return not_this_chip(entry.point.spec.place, now->elsewhere->chip);
    if (object.bytes.empty() && now->place.kind == frames::Place::Kind::kPieces) {
      if (entry.point.spec.kind != Kind::kChange)
        return fail(ErrorCode::kUnsupported,
                    fmt::format("'{}' is kept in registers here", entry.point.spec.place),
                    "`pause on change` looks at its value");
      every_instruction = true;
      entry.last = expression::written(*now, {}, here);
      entry.cfa = frames::call_levels(program_, machine(), flows_)[level].cfa;
    } else if (object.bytes.empty())
      return fail(ErrorCode::kUsage,
                  fmt::format("'{}' has no place that can be watched", entry.point.spec.place),
                  "name a variable, a register, a flag, an I/O register or bytes of memory");
    objects.push_back(std::move(object));
    if (entry.point.spec.following) {
      auto pointers = expression->pointers(here);
      if (!pointers) return fail(pointers.error());
      for (const expression::Operand& pointer : *pointers) {
        WatchedObject lead;
        lead.leads = true;
        lead.bytes = session::bytes_of(pointer, program_, machine());
        if (lead.bytes.empty())
          return fail(ErrorCode::kUnsupported, "a pointer in a register cannot be followed",
                      "leave `following` out: the object it leads to now is watched");
        objects.push_back(std::move(lead));
      }
      if (objects.size() == 1)
        return fail(ErrorCode::kUsage, "no pointer leads to this object", "leave `following` out");
    }
    if (local_level) {
      const auto levels = frames::call_levels(program_, machine(), flows_);
      const auto frames = frames::unwind(program_, machine(), flows_);
      for (std::size_t i = 0; i + 1 < frames.size(); ++i) {
        if (frames[i].cfa != levels[level].cfa) continue;
        const Function* function = frames[i].function;
        frame = Entry::Frame{frames[i + 1].pc, frames[i].cfa,
                             function != nullptr ? function->name : "its function"};
      }
    }
  } else {
    std::vector<expression::Operand> parts;
    every_instruction = !expression->parts(here, parts);
    for (const expression::Operand& part : parts) {
      on_edges = on_edges || part.place.kind == frames::Place::Kind::kPin;
      if (part.place.kind == frames::Place::Kind::kPin) continue;
      WatchedObject object;
      object.bytes = session::bytes_of(part, program_, machine());
      object.at_once = part.place.kind == frames::Place::Kind::kMemory && !object.bytes.empty() &&
                       is_io(object.bytes[0].address);
      every_instruction = every_instruction || object.bytes.empty();
      objects.push_back(std::move(object));
    }
    auto holds = expression->holds(here);
    if (!holds) return fail(holds.error());
    entry.held = *holds;
  }
  entry.object_type = now->type;
  entry.object_place = now->place;
  entry.objects = std::move(objects);
  entry.frame = frame;
  entry.every_instruction = every_instruction;
  entry.on_edges = on_edges;
  entry.object = std::make_shared<const expression::Expression>(std::move(*expression));
  entry.point.remark = every_instruction
                           ? (is_data(entry.point.spec.kind)
                                  ? "it is in registers: looked at after every instruction"
                                  : "what it depends on moves: looked at after every instruction")
                           : "";
  return {};
}

Result<void> Session::Core::bind_event(Entry& entry) const {
  const BreakpointSpec& spec = entry.point.spec;
  std::vector<std::string> names;
  std::string name = spec.place;
  const char* what = nullptr;
  switch (spec.kind) {
    case Kind::kInterrupt:
    case Kind::kReturn:
      what = "interrupt";
      for (const InterruptVector& v : machine().info().vectors) names.push_back(v.name);
      break;
    case Kind::kEdge:
      what = "pin";
      name = name.substr(0, name.find(' '));
      for (const PinState& pin : machine().pins()) names.push_back(pin.name);
      if (name.empty()) return fail(ErrorCode::kUsage, "an edge of which pin?");
      break;
    case Kind::kByteIn:
    case Kind::kByteOut:
      what = "serial port";
      names = machine().info().serial_ports;
      break;
    default: break;
  }
  if (what == nullptr || name.empty()) return {};
  for (const std::string& n : names)
    if (base::equal_ignoring_case(n, name)) return {};
  return fail(ErrorCode::kNotFound,
              fmt::format("there is no {} '{}' on {}", what, name, machine().info().name),
              did_you_mean(name, names));
}

bool Session::Core::is_io(const Address& address) const {
  const MemoryArea* io = machine().area("io");
  return io != nullptr && address.space == io->space && address.offset >= io->begin &&
         address.offset < io->end;
}

/// Tells the machine which bytes matter.
void Session::Core::sync_watches() {
  std::map<Address, std::uint8_t> wanted;
  const MemoryArea* ram = machine().area("ram");
  each_that_acts([&](const Entry& entry) {
    for (const WatchedObject& object : entry.objects) {
      for (const expression::WatchedByte& byte : object.bytes) {
        const bool in_ram =
            ram != nullptr && byte.address.space == ram->space && byte.address.offset >= ram->begin;
        const bool io_write = is_io(byte.address);
        std::uint8_t kinds = in_ram ? machine::kOnWrite : machine::kOnChange;
        if (entry.point.spec.kind == Kind::kWrite && io_write) kinds = machine::kOnWrite;
        if (entry.point.spec.kind == Kind::kRead && !object.leads) kinds = machine::kOnRead;
        wanted[byte.address] |= kinds;
      }
    }
  });
  if (listening_ != nullptr)
    for (const auto& [address, kinds] : listening_->own().taps()) wanted[address] |= kinds;
  for (const auto& [address, kinds] : watches_)
    if (wanted.count(address) == 0) (void)machine().watch(address, 0).has_value();
  for (const auto& [address, kinds] : wanted) (void)machine().watch(address, kinds).has_value();
  watches_ = std::move(wanted);
}

std::uint32_t Session::Core::events_wanted() const {
  std::uint32_t events = 0;
  each_that_acts([&](const Entry& entry) {
    if (const auto kind = event_of(entry.point.spec.kind)) events |= machine::bit(*kind);
    if (entry.on_edges) events |= machine::bit(machine::EventKind::kEdge);
  });
  return events;
}

bool Session::Core::object_under_way() const {
  bool out = false;
  const auto look = [&](const Entry& entry) {
    for (const WatchedObject& object : entry.objects) out = out || object.partial;
  };
  for (const Entry& entry : breakpoints_) look(entry);
  if (sought_) look(*sought_);
  return out;
}

bool Session::Core::looks_at_every_instruction() const {
  bool out = false;
  each_that_acts([&](const Entry& entry) { out = out || entry.every_instruction; });
  return out;
}

/// The object of a data breakpoint as text, in a machine at any moment. `held`: the bytes of an I/O
/// register, if they are others than there.
std::string Session::Core::object_text(const Entry& entry, const machine::Machine& at,
                                       const std::map<Address, std::uint8_t>& held) const {
  const frames::Scope there{program_, at, flows_, static_end_, 0, {}};
  Result<expression::Operand> value =
      entry.frame ? expression::object_at(entry.object_place, entry.object_type, there)
                  : entry.object->evaluate(there);
  if (!value) return "?";
  const frames::Place& place = value->place;
  if (!held.empty() && value->type == 0 && place.kind == frames::Place::Kind::kMemory) {
    std::uint64_t whole = 0;
    for (const auto& [address, byte] : held)
      whole |= std::uint64_t{byte} << 8 * (address.offset - place.address.offset);
    whole >>= place.bit_offset;
    if (place.bit_size != 0) whole &= (std::uint64_t{1} << place.bit_size) - 1;
    value->value.integer = static_cast<std::int64_t>(whole);
  }
  return expression::written(*value, {}, there);
}

/// What an access came to, for the pause it may become.
DataAccess Session::Core::account(const Entry& entry, const WatchedObject& object,
                                  const Partial& partial, const machine::Stop& stop) const {
  DataAccess out;
  out.object = entry.point.spec.place;
  out.after = object_text(entry, machine());
  const auto before = machine().clone();
  // What a pin or a peripheral says cannot be written into a register.
  std::map<Address, std::uint8_t> held;
  bool taken = true;
  for (std::size_t i = 0; i < object.bytes.size(); ++i) {
    const Address& address = object.bytes[i].address;
    before->poke(address, held[address] = partial.before[i]);
    taken = taken && before->peek(address) == partial.before[i];
  }
  if (taken) held.clear();
  out.before = object_text(entry, *before, held);
  out.stores = partial.stores;
  const std::uint32_t by = partial.stores.empty() ? stop.last_pc : partial.stores.back();
  out.by = location(by);
  const Instruction instruction = machine().instruction_at(by);
  out.instruction = instruction.mnemonic + " " + instruction.operands;
  const auto& vectors = machine().info().vectors;
  if (partial.interrupt && *partial.interrupt < vectors.size())
    out.interrupt = vectors[*partial.interrupt].name;
  return out;
}

/// All that matters of an object has been stored.
void Session::Core::judge(Entry& entry, WatchedObject& object, const machine::Stop& stop,
                          Outcome& outcome) {
  const Partial partial = *std::exchange(object.partial, std::nullopt);
  if (object.leads) {
    follow(entry);
    return;
  }
  bool changed = false;
  for (std::size_t i = 0; i < object.bytes.size(); ++i) {
    const unsigned now = machine().peek(object.bytes[i].address).value_or(0);
    changed = changed || ((now ^ partial.before[i]) & object.bytes[i].mask) != 0;
  }
  if (entry.point.spec.kind == Kind::kChange && !changed) return;
  if (entry.point.spec.kind == Kind::kWhen) {
    became_true(entry, outcome);
    return;
  }
  if (!counts(entry, outcome)) return;
  outcome.cause = Pause::Cause::kData;
  outcome.data = account(entry, object, partial, stop);
  outcome.data->how = changed ? DataAccess::How::kChanged : DataAccess::How::kWritten;
}

/// A pointer has moved: the object is now where it leads, or nowhere until it leads somewhere.
void Session::Core::follow(Entry& entry) {
  const frames::Scope here = scope();
  const auto pointers = entry.object->pointers(here);
  const auto now = entry.object->evaluate(here);
  entry.objects[0].bytes =
      now ? session::bytes_of(*now, program_, machine()) : std::vector<expression::WatchedByte>{};
  entry.objects[0].partial.reset();
  if (pointers && pointers->size() + 1 == entry.objects.size())
    for (std::size_t i = 0; i < pointers->size(); ++i)
      entry.objects[i + 1].bytes = session::bytes_of((*pointers)[i], program_, machine());
  watches_moved_ = true;
}

/// A local in registers, in its own frame: pauses if it has another value than when last known.
void Session::Core::look_at_local(Entry& entry, const machine::Stop& stop, Outcome& outcome) {
  frames::Scope there = scope();
  const auto levels = frames::call_levels(program_, machine(), flows_);
  for (there.level = 0; there.level < levels.size(); ++there.level) {
    if (levels[there.level].cfa != entry.cfa) continue;
    const auto now = entry.object->evaluate(there);
    if (!now) continue;
    const std::string value = expression::written(*now, {}, there);
    if (value == entry.last) return;
    const std::string before = std::exchange(entry.last, value);
    if (!counts(entry, outcome)) return;
    const Instruction instruction = machine().instruction_at(stop.last_pc);
    outcome.cause = Pause::Cause::kData;
    outcome.data = DataAccess{};
    outcome.data->object = entry.point.spec.place;
    outcome.data->how = DataAccess::How::kChanged;
    outcome.data->before = before;
    outcome.data->after = value;
    outcome.data->stores = {stop.last_pc};
    outcome.data->by = location(stop.last_pc);
    outcome.data->instruction = instruction.mnemonic + " " + instruction.operands;
    return;
  }
}

void Session::Core::became_true(Entry& entry, Outcome& outcome) {
  const auto holds = entry.object->holds(scope());
  if (sought_ && &entry == &*sought_) {
    if (holds && !*holds) return;
    outcome.sought = true;
    outcome.cause = holds ? Pause::Cause::kHolds : Pause::Cause::kCannotTell;
    outcome.detail = holds ? entry.point.spec.place : holds.error().text();
    return;
  }
  if (!holds) {
    outcome.cause = Pause::Cause::kCannotTell;
    outcome.detail = fmt::format("`when` of breakpoint {} cannot be told: {}", entry.point.id,
                                 holds.error().text());
    outcome.ids.push_back(entry.point.id);
    return;
  }
  if (!std::exchange(entry.held, *holds) && *holds && counts(entry, outcome)) {
    outcome.cause = Pause::Cause::kHolds;
    outcome.detail = entry.point.spec.place;
  }
}

/// One access to a byte of an object. True if the object is to be judged now.
bool Session::Core::note(Entry& entry, WatchedObject& object, std::size_t index,
                         const machine::Access& access, const machine::Stop& stop,
                         Outcome& outcome) {
  const Kind kind = entry.point.spec.kind;
  if (!access.write && object.leads) return false;
  if (!access.write) {
    if (object.partial) judge(entry, object, stop, outcome);
    if (kind == Kind::kRead && !object.read_now && counts(entry, outcome)) {
      Partial seen;
      for (const expression::WatchedByte& byte : object.bytes)
        seen.before.push_back(machine().peek(byte.address).value_or(0));
      outcome.cause = Pause::Cause::kData;
      outcome.data = account(entry, object, seen, stop);
      outcome.data->how = DataAccess::How::kRead;
    }
    object.read_now = true;
    return false;
  }
  if (kind == Kind::kRead && !object.leads) return false;
  if (!object.partial) {
    Partial partial;
    for (const expression::WatchedByte& byte : object.bytes)
      partial.before.push_back(machine().peek(byte.address).value_or(0));
    partial.stored.assign(object.bytes.size(), false);
    const auto line = program_.line_at(access.pc);
    partial.line = line ? line->line : 0;
    object.partial = partial;
  }
  Partial& partial = *object.partial;
  if (!partial.stored[index]) partial.before[index] = access.before;
  partial.stored[index] = true;
  if (partial.stores.empty() || partial.stores.back() != access.pc)
    partial.stores.push_back(access.pc);
  return entry.point.spec.each_byte || object.at_once ||
         std::find(partial.stored.begin(), partial.stored.end(), false) == partial.stored.end();
}

/// What a stretch of running brought for data breakpoints and events. True: one wants to pause.
bool Session::Core::digest(const machine::Stop& stop, Outcome& outcome) {
  // Entries may go while this runs: those for once.
  each_that_acts([&](Entry& entry) {
    for (WatchedObject& object : entry.objects) {
      object.read_now = false;
      bool whole = false;
      // Only one that is entered between two of the stores cuts an object in halves.
      const bool cut = object.partial && stop.interrupt >= 0;
      if (cut) object.partial->interrupt = static_cast<unsigned>(stop.interrupt);
      for (const machine::Access& access : stop.accesses)
        for (std::size_t i = 0; i < object.bytes.size(); ++i)
          if (object.bytes[i].address == access.address &&
              (!access.write || entry.point.spec.kind == Kind::kWrite ||
               ((access.before ^ access.after) & object.bytes[i].mask) != 0 ||
               object.bytes.size() > 1))
            whole = note(entry, object, i, access, stop, outcome) || whole;
      if (!object.partial) continue;
      const auto line = program_.line_at(machine().pc());
      const bool left = (line ? line->line : 0) != object.partial->line;
      if (whole || left || cut) judge(entry, object, stop, outcome);
    }
    const bool edge =
        entry.on_edges &&
        std::any_of(stop.events.begin(), stop.events.end(), [](const machine::Event& event) {
          return event.kind == machine::EventKind::kEdge;
        });
    if (edge || (entry.every_instruction && !is_data(entry.point.spec.kind)))
      became_true(entry, outcome);
    else if (entry.every_instruction)
      look_at_local(entry, stop, outcome);
    for (const machine::Event& event : stop.events) {
      if (event_of(entry.point.spec.kind) != event.kind || !matches(entry, event, stop)) continue;
      if (sought_ && &entry == &*sought_) {
        outcome.sought = outcome.sought || heard(static_cast<char>(event.number));
      } else if (counts(entry, outcome)) {
        outcome.cause = Pause::Cause::kEvent;
        outcome.detail = event_text(event);
      }
    }
  });
  if (std::exchange(watches_moved_, false)) sync_watches();
  return settle(outcome);
}

/// One more byte while a text is waited for. True: that was its last.
bool Session::Core::heard(char byte) {
  last_heard_ += byte;
  if (last_heard_.size() > sought_text_.size()) last_heard_.erase(0, 1);
  return last_heard_ == sought_text_;
}

bool Session::Core::matches(const Entry& entry, const machine::Event& event,
                            const machine::Stop& stop) const {
  const std::string& place = entry.point.spec.place;
  if (place.empty()) return true;
  const auto& vectors = machine().info().vectors;
  switch (event.kind) {
    case machine::EventKind::kInterrupt:
      return event.number < vectors.size() &&
             base::equal_ignoring_case(vectors[event.number].name, place);
    case machine::EventKind::kReturn: {
      if (event.number != 0)  // the machine knows
        return event.number < vectors.size() &&
               base::equal_ignoring_case(vectors[event.number].name, place);
      const Function* handler = program_.function_at(stop.last_pc);
      if (handler == nullptr) return false;
      return std::any_of(vectors.begin(), vectors.end(), [&](const InterruptVector& v) {
        return base::equal_ignoring_case(v.name, place) &&
               frames::is_handler_of(machine(), *handler, v);
      });
    }
    case machine::EventKind::kEdge: {
      const std::size_t space = place.find(' ');
      if (!base::equal_ignoring_case(place.substr(0, space), event.name)) return false;
      if (space == std::string::npos) return true;
      return place.substr(space + 1) == (event.value != 0 ? "rising" : "falling");
    }
    case machine::EventKind::kByteIn:
    case machine::EventKind::kByteOut: return base::equal_ignoring_case(place, event.name);
    default: return true;
  }
}

std::string Session::Core::event_text(const machine::Event& event) const {
  const auto& vectors = machine().info().vectors;
  const auto byte = [&] {
    const bool printable = event.number >= 0x20 && event.number < 0x7f;
    return printable ? fmt::format("'{}' (0x{:02x})", static_cast<char>(event.number), event.number)
                     : fmt::format("0x{:02x}", event.number);
  };
  switch (event.kind) {
    case machine::EventKind::kInterrupt:
      return fmt::format("interrupt {} has been entered",
                         event.number < vectors.size() ? vectors[event.number].name : "?");
    case machine::EventKind::kReturn: return "returned from an interrupt";
    case machine::EventKind::kSleep: return "the processor sleeps";
    case machine::EventKind::kWake: return "the processor has woken up";
    case machine::EventKind::kByteOut: return fmt::format("{} has sent {}", event.name, byte());
    case machine::EventKind::kByteIn: return fmt::format("{} has received {}", event.name, byte());
    case machine::EventKind::kEepromWrite:
      return fmt::format("EEPROM write of 0x{:02x} to 0x{:04x} has begun", event.value,
                         event.number);
    case machine::EventKind::kEdge:
      return fmt::format("{} has gone {}", event.name, event.value != 0 ? "high" : "low");
    case machine::EventKind::kWire: return "a wire has changed";
    case machine::EventKind::kRead:
    case machine::EventKind::kPin:
    case machine::EventKind::kIo:
    case machine::EventKind::kVoltage:
    case machine::EventKind::kQuantity:
    case machine::EventKind::kBusIn:
    case machine::EventKind::kBusOut:
    case machine::EventKind::kMoment:
    case machine::EventKind::kLook:
    case machine::EventKind::kCall:
    case machine::EventKind::kLeave:
    case machine::EventKind::kWrite: break;  // only told to who listens
    case machine::EventKind::kReset: return fmt::format("the chip has been reset ({})", event.name);
  }
  return {};
}

/// Breakpoints on locals go with the frame they belong to.
void Session::Core::end_frames() {
  const std::uint32_t pc = machine().pc();
  std::vector<unsigned> gone;
  for (const Entry& entry : breakpoints_)
    if (entry.frame && entry.frame->return_pc == pc && machine().sp() >= entry.frame->cfa) {
      gone.push_back(entry.point.id);
      if (listener_ != nullptr && !replaying_)
        listener_->on_note(fmt::format("breakpoint {} on {} is gone: {} has returned",
                                       entry.point.id, entry.point.spec.place,
                                       entry.frame->function));
    }
  for (const unsigned id : gone) spend(id);
}

}  // namespace lucid
