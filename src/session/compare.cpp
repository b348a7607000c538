// SPDX-License-Identifier: MIT
// What differs between two moments, and between what comes and what would come after a change.
#include <fmt/format.h>

#include <algorithm>

#include "expression/object.h"
#include "session/kept.h"

namespace lucid {
namespace {

using machine::EventKind;

class Listening final : public machine::RecordSink {
 public:
  void take(const machine::Record* records, std::size_t count) override {
    constexpr std::size_t kMost = 2'000'000;
    if (all.size() < kMost) all.insert(all.end(), records, records + count);
  }
  std::vector<machine::Record> all;
};

std::uint32_t value_of(const machine::Machine& machine, const IoRegister& io) {
  std::uint32_t value = 0;
  for (unsigned i = 0; i < io.bytes; ++i)
    value |= std::uint32_t{machine.peek({Space::kData, io.address + i}).value_or(0)} << (8 * i);
  return value;
}

}  // namespace

std::vector<Difference> Session::Core::differences(const machine::Machine& a,
                                                   const machine::Machine& b) const {
  std::vector<Difference> out;
  const auto add = [&](const char* kind, std::string name, std::string then, std::string now) {
    if (then != now) out.push_back({kind, std::move(name), std::move(then), std::move(now)});
  };
  const frames::Scope in_a{program_, a, flows_, static_end_, 0, {}};
  const frames::Scope in_b{program_, b, flows_, static_end_, 0, {}};
  std::vector<bool> told(65536, false);  // bytes of RAM that a variable stands for
  for (const Variable& v : program_.variables()) {
    const std::string name =
        v.name + " in " + (v.function.empty() ? program_.files()[v.file].name : v.function);
    const auto text = [&](const frames::Scope& scope) -> std::string {
      const auto expression = expression::Expression::parse(name, scope);
      if (!expression) return "?";
      const auto value = expression->evaluate(scope);
      return value ? expression::written(*value, {}, scope) : "?";
    };
    add("variable", v.name, text(in_a), text(in_b));
    if (v.address.space != Space::kData) continue;
    const std::uint32_t begin = v.address.offset;
    for (std::uint32_t i = begin; i < begin + program_.types()[v.type].bytes && i < told.size();
         ++i)
      told[i] = true;
  }
  const auto chain = [&](const machine::Machine& m) {
    std::string text;
    const auto levels = frames::call_levels(program_, m, flows_);
    for (auto level = levels.rbegin(); level != levels.rend(); ++level)
      text += (text.empty() ? "" : " → ") + place_name(level->pc);
    return text;
  };
  add("callers", "", chain(a), chain(b));
  const auto& registers = b.target().registers();
  for (unsigned i = 0; i < registers.size(); ++i)
    if (registers[i].dwarf >= 0 || registers[i].bits == 8 || registers[i].name == "pc")
      add("register", registers[i].name, fmt::format("{:#x}", a.register_value(i)),
          fmt::format("{:#x}", b.register_value(i)));
  const auto& all = b.info().io;
  const auto is_half = [&](const IoRegister& io) {
    return io.bytes == 1 && std::any_of(all.begin(), all.end(), [&](const IoRegister& wide) {
             return wide.bytes > 1 && io.address >= wide.address &&
                    io.address < wide.address + wide.bytes;
           });
  };
  for (const IoRegister& io : all)
    if (!is_half(io) && !b.find_register(io.name))
      add("io", io.name, fmt::format("{:#x}", value_of(a, io)),
          fmt::format("{:#x}", value_of(b, io)));
  for (const char* name : {"ram", "eeprom"})
    if (const MemoryArea* area = b.area(name)) {
      unsigned bytes = 0;
      for (std::uint32_t i = area->begin; i < area->end; ++i) {
        if (area->space == Space::kData && i < told.size() && told[i]) continue;
        const Address at{area->space, i};
        if (a.peek(at) == b.peek(at)) continue;
        constexpr unsigned kMost = 8;
        if (++bytes <= kMost)
          add(name, fmt::format("{:#06x}", i), fmt::format("{:#04x}", a.peek(at).value_or(0)),
              fmt::format("{:#04x}", b.peek(at).value_or(0)));
      }
      constexpr unsigned kMost = 8;
      if (bytes > kMost) out.push_back({name, "", "", fmt::format("{} more", bytes - kMost)});
    }
  const auto pins_a = a.pins();
  const auto pins_b = b.pins();
  for (std::size_t i = 0; i < pins_a.size() && i < pins_b.size(); ++i)
    add("pin", pins_b[i].name, pins_a[i].level ? "high" : "low", pins_b[i].level ? "high" : "low");
  const auto parts_a = a.parts();
  const auto parts_b = b.parts();
  for (std::size_t i = 0; i < parts_a.size() && i < parts_b.size(); ++i)
    add("part", parts_b[i].name, parts_a[i].state, parts_b[i].state);
  return out;
}

Result<ComparisonView> Session::Core::compare(const std::string& name, const std::string& with) {
  const auto a = usable_mark(name);
  if (!a) return fail(a.error());
  const Mark* b = nullptr;
  if (!with.empty()) {
    const auto other = usable_mark(with);
    if (!other) return fail(other.error());
    b = *other;
  }
  const std::uint64_t hz = machine().info().clock_hz;
  ComparisonView out;
  out.differences = differences(*(*a)->kept->machine, b != nullptr ? *b->kept->machine : machine());
  out.then = to_time((*a)->at.tick, hz);
  out.now = to_time(b != nullptr ? b->at.tick : machine().ticks(), hz);
  const std::uint64_t sent_then = (*a)->kept->heard;
  const std::uint64_t sent_now = b != nullptr ? b->kept->heard : heard_;
  if (sent_then != sent_now)
    out.differences.push_back(
        {"sent", "bytes", std::to_string(sent_then), std::to_string(sent_now)});
  return out;
}

/// What would come, without any trace of it: pins, bytes, pauses; and calls.
Session::Core::Future Session::Core::what_comes(std::uint64_t until,
                                                const std::vector<std::uint32_t>& places) {
  Listening listening;
  std::map<std::uint32_t, std::string> pins;
  for (const PinState& pin : machine().pins())
    if (const auto number = machine().wire_pin(pin.name)) pins[*number] = pin.name;
  const auto& ports = machine().info().serial_ports;
  const std::uint32_t kinds =
      bit(EventKind::kEdge) | bit(EventKind::kByteOut) | bit(EventKind::kReset);
  (void)machine().listen(kinds, &listening).has_value();
  Future out;
  std::vector<Happening> pauses;
  std::set<std::uint32_t> entries;
  for (const Function& f : program_.functions())
    if (f.has_lines && !machine().target().is_handler_name(f.symbol())) entries.insert(f.begin);
  also_at_ = entries;
  also_at_.insert(places.begin(), places.end());
  sync_marks();
  walking_ = true;  // nothing of it is kept
  begin_run_quietly();
  limit_end_ = next_pace_ = UINT64_MAX;  // `until` is the end
  (void)run_again({until, SIZE_MAX}, [&](const Outcome& outcome) {
    constexpr std::size_t kMost = 1'000'000;
    const std::uint32_t pc = machine().pc();
    if (outcome.kind != Outcome::Kind::kTarget) {
      std::string what = "a fault: " + machine::fault_text(outcome.stop);
      if (outcome.kind == Outcome::Kind::kBreakpoint) {
        what = "breakpoint";
        for (const unsigned id : outcome.ids) what += fmt::format(" {}", id);
        if (outcome.ids.empty()) what = outcome.detail;
      }
      pauses.push_back({machine().ticks(), std::move(what), pc});
    }
    const bool here = outcome.stop.why == machine::Stop::Why::kBreakpoint;
    if (here && entries.count(pc) != 0)
      out.calls.push_back({machine().ticks(), program_.function_at(pc)->name + " is called", pc});
    out.arrived = here && std::find(places.begin(), places.end(), pc) != places.end();
    return out.arrived || pauses.size() + out.calls.size() >= kMost;
  });
  walking_ = false;
  also_at_.clear();
  sync_marks();
  (void)machine().listen(0, nullptr).has_value();
  for (const machine::Record& record : listening.all) {
    std::string what = "a reset by the chip itself";
    if (record.kind == EventKind::kEdge)
      what = fmt::format("{} goes {}", pins.count(record.number) != 0 ? pins[record.number] : "?",
                         record.value != 0 ? "high" : "low");
    if (record.kind == EventKind::kByteOut) {
      const bool printable = record.value >= 0x20 && record.value < 0x7f;
      what = fmt::format("{} sends {}", record.number < ports.size() ? ports[record.number] : "?",
                         printable ? fmt::format("'{}'", static_cast<char>(record.value))
                                   : fmt::format("{:#04x}", record.value));
    }
    out.seen.push_back({record.tick, std::move(what), record.pc});
  }
  out.seen.insert(out.seen.end(), pauses.begin(), pauses.end());
  std::stable_sort(out.seen.begin(), out.seen.end(),
                   [](const Happening& a, const Happening& b) { return a.tick < b.tick; });
  out.end = machine().ticks();
  out.machine = machine().clone();
  return out;
}

Result<void> Session::Core::change(const Session::Change& change) {
  if (change.instruction.empty()) return assign(change.object, change.expression, false);
  const auto places = resolve(change.place);
  if (!places) return fail(places.error());
  const std::uint32_t address = places->front();
  const machine::Target& target = machine().target();
  std::vector<std::uint8_t> bytes = target.encode(change.instruction, address);
  if (bytes.empty())
    return fail(ErrorCode::kUsage, fmt::format("'{}' is no instruction here", change.instruction),
                "write it as `show disassembly` does");
  const Instruction old = machine().instruction_at(address);
  if (bytes.size() > old.size)
    return fail(ErrorCode::kUsage, fmt::format("'{}' takes {} bytes, `{} {}` at {} has {}",
                                               change.instruction, bytes.size(), old.mnemonic,
                                               old.operands, place_name(address), old.size));
  while (bytes.size() < old.size) {
    const auto more = target.encode("nop", address + static_cast<std::uint32_t>(bytes.size()));
    if (more.empty() || bytes.size() + more.size() > old.size)
      return fail(ErrorCode::kUnsupported, "what is left of the old instruction cannot be filled");
    bytes.insert(bytes.end(), more.begin(), more.end());
  }
  record::Act act;
  for (std::uint32_t i = 0; i < bytes.size(); ++i)
    act.edits.push_back({machine::Edit::Kind::kPoke, {Space::kCode, address + i}, 0, bytes[i]});
  for (const machine::Edit& edit : act.edits)
    if (!machine::make(machine(), edit))
      return fail(ErrorCode::kUnsupported, "code cannot be changed there");
  acted(std::move(act));
  return {};
}

namespace {

/// The first at which two futures part; of those that happen at other times only, the first.
template <typename List>
std::pair<std::size_t, std::optional<std::size_t>> parting(const List& a, const List& b) {
  std::size_t same = 0;
  std::optional<std::size_t> moved;
  while (same < a.size() && same < b.size() && a[same].what == b[same].what) {
    if (!moved && a[same].tick != b[same].tick) moved = same;
    ++same;
  }
  return {same, moved};
}

}  // namespace

Result<SuppositionView> Session::Core::suppose(const std::vector<Session::Change>& changes,
                                               Picoseconds span, const std::string& place) {
  if (changes.empty()) return fail(ErrorCode::kUsage, "there is nothing to suppose");
  std::vector<std::uint32_t> places;
  if (!place.empty()) {
    const auto found = resolve(place);
    if (!found) return fail(found.error());
    places = *found;
  }
  const std::uint64_t hz = machine().info().clock_hz;
  const std::uint64_t begin = machine().ticks();
  const std::uint64_t longest = limit_.count != 0 ? later(to_ticks(limit_, hz)) : UINT64_MAX;
  const std::uint64_t end =
      places.empty() ? later(std::max<std::uint64_t>(1, to_ticks(span, hz))) : longest;
  if (end > longest)
    return fail(ErrorCode::kOutOfRange,
                fmt::format("a command may run for {} at most", to_text(limit_)),
                "--limit allows more");
  const auto kept = keep();
  const auto return_here = [&] {
    running_ = false;
    return return_to(*kept);
  };
  const auto interrupted = [&] { return pause_requested_.exchange(false); };
  // What cannot be done is found out before anything runs.
  supposing_ = true;
  Result<void> changed;
  for (const Session::Change& one : changes)
    if (changed) changed = change(one);
  supposing_ = false;
  if (auto back = return_here(); !back) return fail(back.error());
  if (!changed) return fail(changed.error());

  const Future as_is = what_comes(end, places);
  const bool asked = interrupted();
  if (auto back = return_here(); !back) return fail(back.error());
  if (asked) return fail(ErrorCode::kUsage, "interrupted: nothing was supposed");
  if (!places.empty() && !as_is.arrived)
    return fail(ErrorCode::kNotFound, place + " is not reached as it is");
  supposing_ = true;
  for (const Session::Change& one : changes) (void)change(one).has_value();
  supposing_ = false;
  constexpr std::uint64_t kLonger = 10;
  const Future supposed =
      what_comes(places.empty() ? end : begin + (as_is.end - begin) * kLonger + hz, places);
  const bool asked_then = interrupted();
  if (auto back = return_here(); !back) return fail(back.error());
  if (asked_then) return fail(ErrorCode::kUsage, "interrupted: nothing was supposed");

  SuppositionView out;
  const auto told = [&](const std::vector<Happening>& list,
                        std::size_t at) -> std::optional<SuppositionView::Happening> {
    if (at >= list.size()) return std::nullopt;
    return SuppositionView::Happening{to_time(list[at].tick, hz), list[at].what,
                                      location(list[at].pc)};
  };
  const auto [same, moved] = parting(as_is.seen, supposed.seen);
  out.same = same;
  out.as_is = told(as_is.seen, same);
  out.supposed = told(supposed.seen, same);
  if (!out.as_is && !out.supposed && moved) {
    out.only_shifted = true;
    out.as_is = told(as_is.seen, *moved);
    out.supposed = told(supposed.seen, *moved);
  }
  const std::size_t call = parting(as_is.calls, supposed.calls).first;
  out.call_as_is = told(as_is.calls, call);
  out.call_supposed = told(supposed.calls, call);
  out.until = to_time(as_is.end, hz);
  out.place = place;
  if (supposed.arrived) out.supposed_until = to_time(supposed.end, hz);
  for (Difference& difference : differences(*as_is.machine, *supposed.machine))
    if (difference.kind == "variable" || difference.kind == "part" || difference.kind == "eeprom")
      out.at_end.push_back(std::move(difference));
  return out;
}

}  // namespace lucid
