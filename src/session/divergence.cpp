// SPDX-License-Identifier: MIT
// Where two runs part. Each leaves a trail of events; the trails are compared as they grow.
#include "lucid/divergence.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "expression/object.h"
#include "session/core.h"

namespace lucid {
namespace {

using machine::EventKind;

constexpr const char* kReturned = "what it returns";

struct Event {
  std::string what;                                         ///< `control_step is called`
  std::vector<std::pair<std::string, std::string>> values;  ///< that are known
  record::Moment at;
  std::uint32_t pc = 0;

  [[nodiscard]] std::string text() const {
    if (values.size() == 1 && values[0].first == kReturned) return what + " " + values[0].second;
    std::string out;
    for (const auto& [name, value] : values)
      out += (out.empty() ? "" : ", ") + (name.empty() ? value : name + " = " + value);
    return out.empty() ? what : what + ": " + out;
  }
};

/// Addresses are the linker's business, and what stands where no text does is chance.
std::string without_addresses(const std::string& value) {
  std::string out;
  if (value.find("\\x") != std::string::npos && value.find('"') != std::string::npos) return out;
  const std::size_t arrow = value.rfind(" → ");
  const bool behind =
      arrow != std::string::npos && value.find(" end of ", arrow) != std::string::npos;
  const std::string kept = value.substr(0, behind ? arrow : std::string::npos);
  for (std::size_t at = 0; at < kept.size();) {
    const std::size_t end = std::min(kept.find(' ', at), kept.size());
    if (kept.compare(at, 2, "0x") != 0) out += (out.empty() ? "" : " ") + kept.substr(at, end - at);
    at = end + 1;
  }
  return out;
}

/// The names of values that both know and that differ.
std::vector<std::string> differing(const Event& a, const Event& b) {
  std::vector<std::string> out;
  for (const auto& [name, value] : a.values)
    for (const auto& [other, with] : b.values)
      if (name == other && value != with) out.push_back(name);
  return out;
}

bool same(const Event& a, const Event& b) { return a.what == b.what && differing(a, b).empty(); }

/// Events in their order.
class Stream {
 public:
  /// So many may still turn out to be the beginning of a repetition.
  static constexpr std::size_t kLongest = 24;

  void add(Event event) { events_.push_back(std::move(event)); }
  /// A piece that only repeats the one before it is left out.
  void add_once(Event event) {
    add(std::move(event));
    for (std::size_t length = 1; length <= kLongest && 2 * length <= events_.size(); ++length) {
      const auto behind = events_.end() - static_cast<std::ptrdiff_t>(length);
      const auto repeats = [](const Event& x, const Event& y) {
        return x.what == y.what && x.values == y.values;
      };
      if (!std::equal(behind, events_.end(), behind - static_cast<std::ptrdiff_t>(length), repeats))
        continue;
      events_.erase(behind, events_.end());
      return;
    }
  }
  [[nodiscard]] const std::vector<Event>& events() const { return events_; }
  std::size_t compared = 0;

 private:
  std::vector<Event> events_;
};

}  // namespace

/// Runs a session on, and notes what happens.
class Session::Core::Trail {
 public:
  using Align = DivergenceOptions::Align;

  Trail(Core& core, Align align) : core_(core), align_(align) {}
  ~Trail() {
    core_.also_at_.clear();
    core_.replaying_ = false;
    core_.running_ = false;
    (void)machine().listen(0, nullptr).has_value();
    if (watched_ != 0) (void)core_.remove(watched_).has_value();
    core_.sync_marks();
  }
  Trail(const Trail&) = delete;
  Trail& operator=(const Trail&) = delete;

  /// `both`: the functions whose calls are compared, by name.
  Result<void> begin(const std::set<std::string>& both, const std::string& object) {
    core_.begin_run_quietly();
    core_.limit_end_ = core_.next_pace_ = UINT64_MAX;
    core_.replaying_ = true;
    if (align_ == Align::kWrites) {
      BreakpointSpec spec;
      spec.place = object;
      spec.kind = BreakpointSpec::Kind::kWrite;
      const auto set = core_.add(spec);
      if (!set) return fail(set.error());
      watched_ = set->id;
    }
    if (align_ == Align::kSerial) return machine().listen(bit(EventKind::kByteOut), &listening_);
    if (align_ == Align::kPins) {
      for (const PinState& pin : machine().pins())
        if (const auto number = machine().wire_pin(pin.name)) pins_[*number] = pin.name;
      return machine().listen(bit(EventKind::kEdge), &listening_);
    }
    if (align_ == Align::kCalls) mark_calls(both);
    return {};
  }

  /// False: it has come to its end, or somebody asked for a pause.
  bool advance(std::uint64_t until) {
    machine::RunRequest request;
    request.until_ticks = until;
    while (!ended_ && machine().ticks() < until && !core_.pause_requested_) {
      const Outcome outcome = core_.run(request);
      core_.remarks_ = {};
      core_.stood_at_ = {machine().pc(), machine().ticks()};
      const bool stands = outcome.stop.why == machine::Stop::Why::kFault ||
                          outcome.cause == Pause::Cause::kFault ||
                          outcome.stop.why == machine::Stop::Why::kBreakInstruction;
      if (outcome.kind == Outcome::Kind::kTarget) {
        met();
      } else if (stands) {
        ended_ = true;
        streams[""].add({"a fault",
                         {{"", outcome.stop.why == machine::Stop::Why::kFault
                                   ? machine::fault_text(outcome.stop)
                                   : outcome.detail}},
                         core_.now(),
                         machine().pc()});
      } else if (outcome.data) {
        add("", outcome.data->object + " is written", {{"", outcome.data->after}},
            outcome.data->by.address);
      }
    }
    take_heard();
    return !ended_ && !core_.pause_requested_;
  }

  std::map<std::string, Stream> streams;  ///< by handler

 private:
  class Listening final : public machine::RecordSink {
   public:
    void take(const machine::Record* records, std::size_t count) override {
      all.insert(all.end(), records, records + count);
    }
    std::vector<machine::Record> all;
  };
  /// Where a function is entered.
  struct Entry {
    const Function* function = nullptr;
    bool handler = false;
    std::optional<machine::Anchor>
        anchor;  ///< how the stack pointer at its first instruction is found
  };
  /// A function that has been entered.
  struct Level {
    const Function* function = nullptr;
    std::uint32_t cfa = 0;
    std::string handler;  ///< within which
  };

  [[nodiscard]] machine::Machine& machine() const { return core_.machine(); }

  /// The caller's stack pointer, at an entry.
  [[nodiscard]] std::uint32_t cfa_at(const Entry& entry) const {
    const machine::CallConvention convention = machine().target().convention();
    if (entry.anchor && entry.anchor->dwarf_register == convention.sp_dwarf)
      return machine().sp() - static_cast<std::uint32_t>(entry.anchor->offset) +
             convention.return_bytes;
    const auto frames = frames::unwind(core_.program_, machine(), core_.flows_);
    return frames.empty() ? machine().sp() : frames[0].cfa;
  }

  void mark_calls(const std::set<std::string>& both) {
    for (const Function& f : core_.program_.functions()) {
      const auto& nodes = core_.flows_.of(core_.program_, machine(), f).nodes();
      for (const auto& node : nodes)
        if (node.flow == Flow::kCall || node.flow == Flow::kIndirectCall)
          returns_.insert(node.address + node.size);
        else if (node.flow == Flow::kInterruptReturn)
          ends_.insert(node.address);
      const bool handler = machine().target().is_handler_name(f.symbol());
      if (!f.has_lines || (!handler && both.count(f.name) == 0)) continue;
      const std::uint32_t at = handler ? f.begin : core_.arrival_at(core_.body_of(f)).address;
      Entry entry{&f, handler, {}};
      const frames::FlowGraph& graph = core_.flows_.of(core_.program_, machine(), f);
      if (const auto node = graph.node_at(at))
        if (const machine::FrameState* state = graph.state_at(*node))
          entry.anchor = machine().target().anchor(*state);
      entries_[at] = entry;
    }
    core_.also_at_ = returns_;
    core_.also_at_.insert(ends_.begin(), ends_.end());
    for (const auto& [address, function] : entries_) core_.also_at_.insert(address);
    core_.sync_marks();
  }

  void add(const std::string& stream, std::string what,
           std::vector<std::pair<std::string, std::string>> values, std::uint32_t pc) {
    for (auto& [name, value] : values) value = without_addresses(value);
    values.erase(std::remove_if(values.begin(), values.end(),
                                [](const auto& value) { return value.second.empty(); }),
                 values.end());
    Event event{std::move(what), std::move(values), core_.now(), pc};
    if (align_ == Align::kCalls)
      streams[stream].add_once(std::move(event));
    else
      streams[stream].add(std::move(event));
  }

  /// At an entry, at the end of a handler, or where calls return to.
  void met() {
    const std::uint32_t pc = machine().pc();
    if (ends_.count(pc) != 0) {  // of a handler: it is the innermost
      while (!levels_.empty() && levels_.back().function != nullptr) levels_.pop_back();
      if (!levels_.empty()) levels_.pop_back();
      return;
    }
    if (returns_.count(pc) != 0) {
      const std::uint32_t sp = machine().sp();
      while (!levels_.empty() && levels_.back().cfa <= sp) {
        const Level level = levels_.back();
        levels_.pop_back();
        if (level.cfa != sp || level.function == nullptr) continue;
        std::vector<std::pair<std::string, std::string>> values;
        if (const auto value = core_.returned_value(*level.function, core_.machine()))
          values.emplace_back(kReturned, *value);
        add(level.handler, level.function->name + " returns", std::move(values), pc);
      }
    }
    const auto entry = entries_.find(pc);
    if (entry == entries_.end()) return;
    const Function& f = *entry->second.function;
    const std::uint32_t cfa = cfa_at(entry->second);
    const auto is_gone = [&](const Level& level) {  // a tail call leaves a frame that is as deep
      return level.cfa < cfa || (level.function == nullptr && level.cfa == cfa);
    };
    while (!levels_.empty() && is_gone(levels_.back())) levels_.pop_back();
    if (!levels_.empty() && levels_.back().cfa == cfa && levels_.back().function == &f) return;
    const std::string outer = levels_.empty() ? "" : levels_.back().handler;
    if (entry->second.handler) {
      levels_.push_back({nullptr, cfa, f.name});
      return;
    }
    levels_.push_back({&f, cfa, outer});
    std::vector<std::pair<std::string, std::string>> values;
    const frames::Scope here = core_.scope();
    for (const Local* local : frames::locals_of(here)) {
      if (!local->parameter || local->name.empty()) continue;
      const auto expression = expression::Expression::parse(local->name, here);
      if (!expression) continue;
      const auto value = expression->evaluate(here);
      if (value && value->value.kind != Value::Kind::kAggregate)
        values.emplace_back(local->name, expression::written(*value, {}, here));
    }
    add(outer, f.name + " is called", std::move(values), pc);
  }

  void take_heard() {
    const auto& ports = machine().info().serial_ports;
    for (const machine::Record& record : listening_.all) {
      Event event;
      event.at = {record.tick, core_.timeline_.done()};
      event.pc = record.pc;
      if (record.kind == EventKind::kEdge) {
        const auto pin = pins_.find(record.number);
        if (pin == pins_.end()) continue;
        event.what = pin->second + (record.value != 0 ? " goes high" : " goes low");
      } else {
        event.what = (record.number < ports.size() ? ports[record.number] : "?") + " sends";
        const bool printable = record.value >= 0x20 && record.value < 0x7f;
        event.values = {{"", printable ? fmt::format("'{}'", static_cast<char>(record.value))
                                       : fmt::format("byte {}", record.value)}};
      }
      streams[""].add(std::move(event));
    }
    listening_.all.clear();
  }

  Core& core_;
  Align align_;
  bool ended_ = false;
  unsigned watched_ = 0;
  std::set<std::uint32_t> returns_;         ///< behind calls
  std::set<std::uint32_t> ends_;            ///< returns from interrupts
  std::map<std::uint32_t, Entry> entries_;  ///< behind their prologues
  std::vector<Level> levels_;
  Listening listening_;
  std::map<std::uint32_t, std::string> pins_;
};

Result<Divergence> Session::Core::first_divergence(Core& a, Core& b,
                                                   const DivergenceOptions& options) {
  if (&a == &b) return fail(ErrorCode::kUsage, "a session does not part from itself");
  for (const Core* core : {&a, &b})
    if (!core->timeline_.on() || core->image_path_.empty())
      return fail(ErrorCode::kUsage, "both sides need an image and a timeline");
  std::set<std::string> names, both;
  for (const Function& f : a.program_.functions())
    if (f.has_lines) names.insert(f.name);
  for (const Function& f : b.program_.functions())
    if (f.has_lines && names.count(f.name) != 0) both.insert(f.name);
  Divergence out;
  struct Found {
    std::string stream;
    std::optional<Event> a, b;
  };
  std::optional<Found> found;
  {
    Trail left(a, options.align), right(b, options.align);
    if (auto begun = left.begin(both, options.object); !begun) return fail(begun.error());
    if (auto begun = right.begin(both, options.object); !begun) return fail(begun.error());
    const auto tick = [&](const Core& core, std::uint64_t begin, Picoseconds time) {
      return begin + std::max<std::uint64_t>(1, to_ticks(time, core.machine().info().clock_hz));
    };
    const std::uint64_t begin_a = a.machine().ticks(), begin_b = b.machine().ticks();
    const std::uint64_t a_hz = a.machine().info().clock_hz, b_hz = b.machine().info().clock_hz;
    const auto time_of = [&](const Found& f) {
      return f.a ? to_time(f.a->at.tick - begin_a, a_hz).count
                 : to_time(f.b->at.tick - begin_b, b_hz).count;
    };
    constexpr std::uint64_t kFirst = 1'000'000'000;  // 1 ms, then twice as much
    Picoseconds so_far{0}, slice{kFirst};
    // Which stream parts first, by time on the left: those that may yet repeat themselves wait.
    const auto compare = [&](bool at_end) {
      for (auto& named : left.streams) {
        Stream& mine = named.second;
        Stream& other = right.streams[named.first];
        const std::size_t size = std::min(mine.events().size(), other.events().size());
        const std::size_t kept = at_end ? 0 : Stream::kLongest;
        while (mine.compared + kept < size &&
               same(mine.events()[mine.compared], other.events()[mine.compared]))
          ++mine.compared;
        const auto at = [&](const Stream& stream) {
          return mine.compared < stream.events().size()
                     ? std::optional<Event>(stream.events()[mine.compared])
                     : std::nullopt;
        };
        Found here{named.first, at(mine), at(other)};
        if (at_end && !here.a != !here.b) {
          // One has no more. What only comes a little later lies behind the end.
          const Picoseconds time = here.a ? to_time(here.a->at.tick - begin_a, a_hz)
                                          : to_time(here.b->at.tick - begin_b, b_hz);
          if (time.count > so_far.count / 10 * 9) continue;
        } else if (mine.compared + kept >= size) {
          continue;
        }
        if (!found || time_of(here) < time_of(*found)) found = std::move(here);
      }
    };
    bool ended = false;
    while (!found && so_far.count < options.span.count && !ended) {
      so_far.count = std::min(options.span.count, so_far.count + slice.count);
      slice.count = std::min<std::uint64_t>(slice.count * 2, 1'000'000'000'000);
      const bool left_goes_on = left.advance(tick(a, begin_a, so_far));
      const bool right_goes_on = right.advance(tick(b, begin_b, so_far));
      const bool asked_a = a.pause_requested_.exchange(false);
      const bool asked_b = b.pause_requested_.exchange(false);
      if (asked_a || asked_b || (options.go_on && !options.go_on(so_far)))
        return fail(ErrorCode::kUsage, "interrupted");
      ended = !left_goes_on && !right_goes_on;
      compare(false);
    }
    if (!found) compare(true);
    if (found) {
      const Stream& stream = left.streams[found->stream];
      out.same = stream.compared;
      if (stream.compared != 0) out.last_same = stream.events()[stream.compared - 1].text();
    } else {
      for (const auto& [name, mine] : left.streams) out.same += mine.compared;
    }
    out.until = so_far;
  }
  if (!found) {
    for (Core* core : {&a, &b}) {
      Outcome here;
      here.kind = Outcome::Kind::kTarget;
      (void)core->finish_back(here, Pause::Cause::kTimeUp);
    }
    return out;
  }
  out.handler = found->stream;
  if (found->a && found->b) out.in = differing(*found->a, *found->b);
  const auto stand = [](Core& core, const Event& event) -> Result<Divergence::Side> {
    auto there = core.arrive(event.at, Pause::Cause::kArrived, event.what);
    if (!there) return fail(there.error());
    return Divergence::Side{to_time(event.at.tick, core.machine().info().clock_hz), event.text(),
                            core.location(event.pc), core.callers()};
  };
  // Who has no more stands at the end.
  for (auto [core, event, side] : {std::tuple(&a, &found->a, &out.a), {&b, &found->b, &out.b}}) {
    if (!*event) continue;
    auto there = stand(*core, **event);
    if (!there) return fail(there.error());
    *side = std::move(*there);
  }
  return out;
}

Result<Divergence> first_divergence(Session& a, Session& b, const DivergenceOptions& options) {
  return Session::Core::first_divergence(*a.core_, *b.core_, options);
}

}  // namespace lucid
