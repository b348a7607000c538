// SPDX-License-Identifier: MIT
// What a machine that follows values has found, in a person's words; and the heap.
#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "expression/object.h"
#include "frames/callers.h"
#include "frames/frame_objects.h"
#include "session/checks.h"

namespace lucid {
namespace {

using machine::ValueFault;

std::string in_bytes(std::uint32_t bytes) {
  return fmt::format("{} byte{}", bytes, bytes == 1 ? "" : "s");
}

/// `3 bytes behind the end of`.
std::string far_from(const ValueFault& fault) {
  return fault.address < fault.begin
             ? in_bytes(fault.begin - fault.address) + " before"
             : in_bytes(fault.address - fault.begin - fault.bytes + 1) + " behind the end of";
}

/// An array without a length at the end of a structure: the linker does not know its size, either.
bool is_open(const Program& program, unsigned type) {
  const Type& t = program.types()[type];
  if (t.kind == Type::Kind::kArray) return t.count == 0;
  return t.kind == Type::Kind::kStruct && !t.members.empty() &&
         is_open(program, t.members.back().type);
}

/// Static objects of a space, as the linker and the compiler know them; from `first` on: those that
/// the linker has left out are at 0.
std::vector<machine::Extent> objects_in(const Program& program, Space space, std::uint32_t first) {
  std::vector<machine::Extent> out;
  std::set<std::uint32_t> begins;
  const auto add = [&](const Address& address, std::uint32_t bytes, std::int32_t unit) {
    if (address.space != space || bytes == 0 || address.offset < first) return;
    const auto begin = static_cast<std::int32_t>(address.offset);
    out.push_back({begin, begin + static_cast<std::int32_t>(bytes), unit});
    begins.insert(address.offset);
  };
  for (const Symbol& symbol : program.symbols())
    if (symbol.kind == Symbol::Kind::kObject) add(symbol.address, symbol.size, 1);
  for (const Variable& variable : program.variables())
    add(variable.address, program.types()[variable.type].bytes,
        frames::unit_of(program, variable.type));
  for (const Variable& variable : program.variables())
    if (variable.address.space == space && is_open(program, variable.type))
      if (const auto next = begins.upper_bound(variable.address.offset); next != begins.end())
        add(variable.address, *next - variable.address.offset, 1);
  return frames::apart(std::move(out));
}

}  // namespace

/// Machines follow values as long as a check asks for it.
bool Session::Core::Checks::follow_values() {
  const bool wanted = std::any_of(modes_.begin() + kNeverWritten, modes_.end(),
                                  [](CheckMode mode) { return mode != CheckMode::kOff; });
  if (wanted == follows_) return true;
  if (!wanted) {
    follows_ = false;
    (void)core_.machine().follow_values(std::nullopt);
    return true;
  }
  using machine::HeapFunction;
  constexpr std::pair<const char*, HeapFunction> kFunctions[] = {
      {"malloc", HeapFunction::kMalloc},
      {"calloc", HeapFunction::kCalloc},
      {"realloc", HeapFunction::kRealloc},
      {"free", HeapFunction::kFree}};
  machine::ValueFollowing how;
  how.listener = this;
  how.static_end = core_.static_end_.value_or(0);
  for (const auto& [name, function] : kFunctions)
    if (const Symbol* symbol = core_.program_.find_symbol(name);
        symbol != nullptr && symbol->address.space == Space::kCode)
      how.heap.emplace(symbol->address.offset, function);
  const MemoryArea* const ram = core_.machine().area("ram");
  how.data = objects_in(core_.program_, Space::kData, ram != nullptr ? ram->begin : 1);
  how.code = objects_in(core_.program_, Space::kCode, 1);
  how.around = [program = core_.program_,
                convention = core_.machine().target().convention()](std::uint32_t pc) {
    machine::Surroundings out;
    const Function* const function = program.function_at(pc);
    out.knows_objects = function != nullptr && function->name.rfind("__", 0) != 0;
    if (out.knows_objects && function->has_lines)
      out.frame = frames::frame_objects(program, *function, convention);
    return out;
  };
  follows_ = core_.machine().follow_values(how);
  return follows_;
}

bool Session::Core::Checks::found(const ValueFault& fault) {
  if (core_.walking_ || core_.replaying_) return false;
  const bool floats = fault.pins != 0;
  Kind kind = kHeap;
  switch (fault.kind) {
    case ValueFault::Kind::kDecision:
    case ValueFault::Kind::kAddress:
    case ValueFault::Kind::kOutput: kind = floats ? kFloating : kNeverWritten; break;
    case ValueFault::Kind::kNull: kind = kNullPointer; break;
    case ValueFault::Kind::kGone: kind = kGoneStack; break;
    case ValueFault::Kind::kOutside: kind = kBounds; break;
    default: break;
  }
  if (!is_on(kind)) return false;
  // A loop comes by often, and a number has several bytes: words are found once a line. What the
  // library does is its caller's.
  Location where = core_.location(fault.pc);
  std::string within;
  if (where.line == 0) {
    const auto levels = frames::call_levels(core_.program_, core_.machine(), core_.flows_);
    for (const frames::Frame& level : levels)
      if (const Location caller = core_.location(level.at_call ? level.pc - 1 : level.pc);
          caller.line != 0) {
        within = std::exchange(where, caller).function;
        break;
      }
  }
  const auto place = where.line == 0
                         ? std::pair(std::string(), fault.pc)
                         : std::pair(where.file, static_cast<std::uint32_t>(where.line));
  const auto [known, is_new] = values_.try_emplace({fault.kind, place}, findings_.size());
  if (!is_new) {
    if (known->second < findings_.size()) ++findings_[known->second].times;
    return false;
  }
  FindingView finding;
  finding.where = where;
  if (fault.by != 0) finding.other = core_.location(fault.by);
  finding.text = told(fault);
  if (!within.empty()) finding.text += fmt::format(", within {}", within);
  return found(kind, std::move(finding));
}

std::string Session::Core::Checks::told(const ValueFault& fault) const {
  const std::string by =
      fault.by == 0 ? std::string() : fmt::format(" at {}", said(core_.location(fault.by)));
  const std::string access =
      fmt::format("{} {:#06x}", fault.write ? "a store to" : "a load from", fault.address);
  const std::string who = fault.by == 0 ? std::string() : core_.location(fault.by).function;
  switch (fault.kind) {
    case ValueFault::Kind::kDecision:
    case ValueFault::Kind::kAddress:
    case ValueFault::Kind::kOutput: break;
    case ValueFault::Kind::kNull:
      return fmt::format("{}, through a pointer that is null or nearly so", access);
    case ValueFault::Kind::kGone:
      return fmt::format("{}, in the stack of {} that has returned", access,
                         who.empty() ? "a call" : "a call of " + who);
    case ValueFault::Kind::kFreed:
      return fmt::format("{}, in {} of the heap that were given back{}", access,
                         in_bytes(fault.bytes), by);
    case ValueFault::Kind::kOutsideBlock:
      return fmt::format("{}, {} {} that were asked for{}", access, far_from(fault),
                         in_bytes(fault.bytes), by);
    case ValueFault::Kind::kOutside: {
      const std::string there = fault.in_code ? fmt::format("{:#06x} in flash", fault.address)
                                              : value_name(fault.address);
      const Location made = core_.location(fault.by), here = core_.location(fault.pc);
      return fmt::format("a {} {}, {} {} ({}){}", fault.write ? "store to" : "load from", there,
                         far_from(fault), object_name(fault), in_bytes(fault.bytes),
                         made.function == here.function || made.line == 0
                             ? std::string()
                             : ", whose address is from " + said(made));
    }
    case ValueFault::Kind::kFreedAgain:
      return fmt::format("{} of the heap at {:#06x} are given back again; first{}",
                         in_bytes(fault.bytes), fault.begin, by);
    case ValueFault::Kind::kNeverGiven:
      return fmt::format("{:#06x} is given back, and has not come from the heap", fault.address);
  }
  const std::string what =
      fault.pins != 0 ? fmt::format("{}, which float{}: nothing holds an input at a level",
                                    pins_of(fault), fault.pins & (fault.pins - 1) ? "" : "s")
                      : value_name(fault.address) + ", which nothing has written";
  if (fault.kind == ValueFault::Kind::kDecision) return "a decision depends on " + what;
  if (fault.kind == ValueFault::Kind::kAddress) return "an address depends on " + what;
  std::string to;
  if (const auto data = core_.machine().instruction_at(fault.pc, false).data)
    to = core_.data_name(*data);
  return fmt::format("{} depends on {}", to.empty() ? "what a peripheral is given" : to, what);
}

/// `PD2 and PD3`.
std::string Session::Core::Checks::pins_of(const ValueFault& fault) const {
  const std::string port = core_.data_name(fault.address);  // PIND
  std::string out;
  for (unsigned bit = 0; bit < 8; ++bit)
    if ((fault.pins >> bit & 1U) != 0)
      out += fmt::format("{}P{}{}", out.empty() ? "" : ", ", port.empty() ? '?' : port.back(), bit);
  return out;
}

/// Of a call level that is there: the local that has an address, in memory or a register of it.
std::optional<Session::Core::Checks::LocalAt> Session::Core::Checks::local_at(
    std::uint32_t address) const {
  const machine::Machine& machine = core_.machine();
  frames::Scope scope{core_.program_, machine, core_.flows_, core_.static_end_, 0, {}};
  scope.as_described = true;
  const auto levels = frames::call_levels(core_.program_, machine, core_.flows_);
  for (; scope.level < levels.size(); ++scope.level)
    for (const Local* local : frames::locals_of(scope)) {
      const auto value = expression::local_value(*local, scope);
      if (!value) continue;
      const frames::Place& place = value->place;
      const bool in_memory = place.kind == frames::Place::Kind::kMemory;
      bool is_it = in_memory && place.address.space == Space::kData &&
                   address >= place.address.offset && address < place.address.offset + place.bytes;
      const auto holds = [&](unsigned index) {
        const auto bytes = machine.register_bytes(index);
        return std::find(bytes.begin(), bytes.end(), Address{Space::kData, address}) != bytes.end();
      };
      if (place.kind == frames::Place::Kind::kRegister) is_it = holds(place.index);
      for (const frames::Piece& piece : place.pieces)
        is_it = is_it || (piece.kind == frames::Piece::Kind::kRegister && holds(piece.index)) ||
                (piece.kind == frames::Piece::Kind::kMemory &&
                 piece.address == Address{Space::kData, address});
      if (!is_it) continue;
      const frames::Frame& level = levels[scope.level];
      LocalAt out{local->name, {}, {}};
      if (in_memory) out.path = core_.path_into(local->type, address - place.address.offset);
      if (level.function != nullptr && level.inlined == nullptr)
        out.function = " of " + level.function->name;
      return out;
    }
  return std::nullopt;
}

/// The object that an access has left.
std::string Session::Core::Checks::object_name(const ValueFault& fault) const {
  const Address begin{fault.in_code ? Space::kCode : Space::kData, fault.begin};
  for (const Variable& variable : core_.program_.variables())
    if (variable.address == begin) return variable.name;
  for (const Symbol& symbol : core_.program_.symbols())
    if (symbol.kind == Symbol::Kind::kObject && symbol.address == begin) return symbol.name;
  if (const auto local = fault.in_code ? std::nullopt : local_at(fault.begin))
    return local->name + local->function;
  return fmt::format("an object at {:#06x}", fault.begin);
}

/// A static object, a local of a call level that is there or has been, or just the address.
std::string Session::Core::Checks::value_name(std::uint32_t address) const {
  const machine::Machine& machine = core_.machine();
  std::string name = core_.data_name(address);
  std::string from = fmt::format("{:#06x}", address);
  for (unsigned index = 0; index < machine.target().registers().size(); ++index) {
    const auto bytes = machine.register_bytes(index);
    if (bytes.size() == 1 && bytes[0] == Address{Space::kData, address})
      from = machine.target().registers()[index].name;
  }
  if (name.empty())
    if (const auto local = local_at(address)) name = local->name + local->path + local->function;
  if (!name.empty()) return fmt::format("{} ({})", name, from);
  if (const auto heap = machine.heap())
    for (const machine::HeapBlock& block : heap->blocks)
      if (address >= block.begin && address < block.begin + block.bytes)
        return fmt::format("byte {} of {} that were asked for at {}", address - block.begin,
                           in_bytes(block.bytes), said(core_.location(block.by)));
  const bool in_stack = core_.static_end_ && address >= *core_.static_end_;
  return in_stack && address >= machine.sp() ? from + " of the stack" : from;
}

std::optional<HeapView> Session::heap() const {
  const auto heap = core_->machine().heap();
  if (!heap) return std::nullopt;
  const std::uint64_t hz = core_->machine().info().clock_hz;
  HeapView out;
  out.used = heap->used;
  out.most = heap->most;
  out.most_at = to_time(heap->most_tick, hz);
  out.given = heap->given;
  out.refused = heap->refused;
  for (const machine::HeapBlock& block : heap->blocks) {
    const Location by = core_->location(block.by);
    auto holder = std::find_if(out.holders.begin(), out.holders.end(),
                               [&](const auto& one) { return one.by.address == by.address; });
    if (holder == out.holders.end()) {
      out.holders.push_back({by, 0, 0, to_time(block.tick, hz)});
      holder = std::prev(out.holders.end());
    }
    ++holder->blocks;
    holder->bytes += block.bytes;
    holder->since = std::min(holder->since, to_time(block.tick, hz),
                             [](Picoseconds a, Picoseconds b) { return a.count < b.count; });
  }
  std::stable_sort(out.holders.begin(), out.holders.end(),
                   [](const auto& a, const auto& b) { return a.bytes > b.bytes; });
  return out;
}

}  // namespace lucid
