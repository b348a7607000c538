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
  const auto find = [&](const std::string& wanted) -> Result<const Mark*> {
    const Mark* mark = find_mark(wanted);
    if (mark == nullptr)
      return fail(ErrorCode::kNotFound, fmt::format("there is no mark '{}'", wanted),
                  "`marks` lists them");
    if (mark->kept->loads != loads_)
      return fail(ErrorCode::kUsage, fmt::format("the image of mark '{}' is gone", wanted),
                  "moments end when an image is loaded");
    return mark;
  };
  const auto a = find(name);
  if (!a) return fail(a.error());
  const Mark* b = nullptr;
  if (!with.empty()) {
    const auto other = find(with);
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

/// What would come, without any trace of it: pins, bytes, pauses.
std::vector<Session::Core::Happening> Session::Core::what_comes(std::uint64_t ticks) {
  Listening listening;
  std::map<std::uint32_t, std::string> pins;
  for (const PinState& pin : machine().pins())
    if (const auto number = machine().wire_pin(pin.name)) pins[*number] = pin.name;
  const auto& ports = machine().info().serial_ports;
  const std::uint32_t kinds =
      bit(EventKind::kEdge) | bit(EventKind::kByteOut) | bit(EventKind::kReset);
  (void)machine().listen(kinds, &listening).has_value();
  std::vector<Happening> out;
  std::vector<Happening> pauses;
  walking_ = true;  // nothing of it is kept
  const record::Moment end{ticks, SIZE_MAX};
  begin_run_quietly();
  (void)run_again(end, [&](const Outcome& outcome) {
    constexpr std::size_t kMost = 100'000;
    std::string what = "a fault: " + machine::fault_text(outcome.stop);
    if (outcome.kind == Outcome::Kind::kBreakpoint) {
      what = "breakpoint";
      for (const unsigned id : outcome.ids) what += fmt::format(" {}", id);
      if (outcome.ids.empty()) what = outcome.detail;
    }
    pauses.push_back({machine().ticks(), std::move(what), machine().pc()});
    return pauses.size() >= kMost;
  });
  walking_ = false;
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
    out.push_back({record.tick, std::move(what), record.pc});
  }
  out.insert(out.end(), pauses.begin(), pauses.end());
  std::stable_sort(out.begin(), out.end(),
                   [](const Happening& a, const Happening& b) { return a.tick < b.tick; });
  return out;
}

Result<SuppositionView> Session::Core::suppose(const std::string& object, const std::string& text,
                                               Picoseconds span) {
  const frames::Scope here = scope();
  auto to = expression::Expression::parse(object, here);
  if (!to) return fail(to.error());
  const std::uint64_t hz = machine().info().clock_hz;
  const std::uint64_t end = later(std::max<std::uint64_t>(1, to_ticks(span, hz)));
  const auto kept = keep();
  const auto give = [&](std::vector<Happening>& into, std::shared_ptr<machine::Machine>& at_end) {
    into = what_comes(end);
    at_end = machine().clone();
  };
  std::vector<Happening> as_is, supposed;
  std::shared_ptr<machine::Machine> end_as_is, end_supposed;
  give(as_is, end_as_is);
  const bool asked = pause_requested_.exchange(false);
  if (auto back = return_to(*kept); !back) return fail(back.error());
  if (asked) return fail(ErrorCode::kUsage, "interrupted: nothing was supposed");
  supposing_ = true;
  auto stored = assign(object, text, false);
  supposing_ = false;
  if (!stored) return fail(stored.error());
  give(supposed, end_supposed);
  const bool asked_then = pause_requested_.exchange(false);
  running_ = false;
  (void)return_to(*kept).has_value();
  if (asked_then) return fail(ErrorCode::kUsage, "interrupted: nothing was supposed");
  SuppositionView out;
  const auto told = [&](const Happening& h) {
    return SuppositionView::Happening{to_time(h.tick, hz), h.what, location(h.pc)};
  };
  std::size_t same = 0;
  std::optional<std::size_t> moved;
  while (same < as_is.size() && same < supposed.size() && as_is[same].what == supposed[same].what) {
    if (!moved && as_is[same].tick != supposed[same].tick) moved = same;
    ++same;
  }
  out.same = same;
  if (same < as_is.size()) out.as_is = told(as_is[same]);
  if (same < supposed.size()) out.supposed = told(supposed[same]);
  if (!out.as_is && !out.supposed && moved) {
    out.only_shifted = true;
    out.as_is = told(as_is[*moved]);
    out.supposed = told(supposed[*moved]);
  }
  out.until = to_time(end, hz);
  for (Difference& difference : differences(*end_as_is, *end_supposed))
    if (difference.kind == "variable" || difference.kind == "part" || difference.kind == "eeprom")
      out.at_end.push_back(std::move(difference));
  return out;
}

}  // namespace lucid
