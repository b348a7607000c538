// SPDX-License-Identifier: MIT
// Why a place has not been reached: the branch that turned away from it last, or the call that did
// not come.
#include <fmt/format.h>

#include <algorithm>
#include <deque>
#include <set>

#include "session/kept.h"
#include "session/origins.h"
#include "session/quiet.h"

namespace lucid {

/// Looks through the past, from a moment on. REQUIRES: a Quiet.
class Session::Core::Missed {
 public:
  Missed(Core& core, Point from, const record::Moment& present)
      : core_(core), from_(std::move(from)), present_(present) {
    stands_ = standing();
    core_.restore(from_);
    stood_ = standing();
    for (const Function& f : core_.program_.functions()) {
      if (f.begin >= f.end) continue;
      const frames::FlowGraph& graph = core_.flows_.of(core_.program_, machine(), f);
      for (const auto& node : graph.nodes()) {
        if (!node.reached || !node.target) continue;
        const bool inside = *node.target > f.begin && *node.target < f.end;
        if (!inside) ways_in_[*node.target].push_back({&f, node.address});
      }
    }
  }

  /// Which of these instructions have been executed. False: somebody asked for a pause.
  bool executed(std::set<std::uint32_t> wanted, std::set<std::uint32_t>& out) {
    core_.restore(from_);
    if (wanted.erase(machine().pc()) != 0) out.insert(machine().pc());
    core_.acts_until_ = present_.acts;
    machine::RunRequest request;
    request.until_ticks = present_.tick;
    while (machine().ticks() < present_.tick && !wanted.empty() && !core_.pause_requested_) {
      Target target;
      for (const std::uint32_t address : wanted) target.places.push_back({address, {}});
      const Outcome outcome = core_.run(request, &target);
      if (outcome.kind == Outcome::Kind::kTarget && core_.now() < present_) {
        out.insert(machine().pc());
        wanted.erase(machine().pc());
        core_.stood_at_ = {machine().pc(), machine().ticks()};
      } else if (outcome.kind != Outcome::Kind::kTarget &&
                 outcome.stop.why != machine::Stop::Why::kTime) {
        break;
      }
    }
    return !core_.pause_requested_;
  }

  /// The functions on all ways to a place, with the places in them that lead there, the nearest
  /// first.
  struct Level {
    const Function* function = nullptr;
    std::set<std::uint32_t> places;  ///< in it, that lead to the level before
    unsigned away = 0;               ///< calls
  };
  [[nodiscard]] std::vector<Level> ways_to(const std::vector<std::uint32_t>& places) const {
    std::vector<Level> out;
    const auto add = [&](const Function* function, std::uint32_t place, unsigned away) {
      for (Level& level : out)
        if (level.function == function) {
          if (level.away == away) level.places.insert(place);
          return;
        }
      out.push_back({function, {place}, away});
    };
    for (const std::uint32_t place : places)
      if (const auto f = core_.program_.function_at(place)) add(f, place, 0);
    for (std::size_t i = 0; i < out.size(); ++i) {
      const auto ways = ways_in_.find(out[i].function->begin);
      if (ways == ways_in_.end()) continue;
      const unsigned away = out[i].away + 1;
      for (const auto& [function, place] : ways->second) add(function, place, away);
    }
    return out;
  }

  [[nodiscard]] bool stands_in(const Function& function) const {
    return std::any_of(stands_.begin(), stands_.end(), [&](std::uint32_t place) {
      return place >= function.begin && place < function.end;
    });
  }

  /// The instructions of a function from which what leads to its places turned away.
  bool turns(const Level& level, std::set<std::uint32_t>& out) {
    const frames::FlowGraph graph = core_.flows_.of(core_.program_, machine(), *level.function);
    const auto& nodes = graph.nodes();
    std::set<unsigned> leads;  // to the places
    std::deque<unsigned> places;
    for (const std::uint32_t place : level.places)
      if (const auto node = graph.node_at(place)) places.push_back(*node);
    std::deque<unsigned> waiting = places;
    while (!waiting.empty()) {
      const unsigned node = waiting.front();
      waiting.pop_front();
      if (!leads.insert(node).second) continue;
      waiting.insert(waiting.end(), nodes[node].before.begin(), nodes[node].before.end());
    }
    // Where control can come in from more than one way, does not have to go on to, or goes back to.
    std::set<std::uint32_t> heads;
    for (const unsigned node : leads) {
      const auto& before = nodes[node].before;
      const bool straight =
          before.size() == 1 && before[0] < node && nodes[before[0]].next.size() == 1 &&
          nodes[before[0]].flow != Flow::kCall && nodes[before[0]].flow != Flow::kIndirectCall;
      const std::uint32_t at = nodes[node].address;
      if (!straight || stood_.count(at) != 0 || stands_.count(at) != 0) heads.insert(at);
    }
    std::set<std::uint32_t> ran = stood_;
    if (!executed(heads, ran)) return false;
    const auto has_run = [&](unsigned node) {
      while (heads.count(nodes[node].address) == 0) node = nodes[node].before[0];
      return ran.count(nodes[node].address) != 0;
    };
    // From the places back, through what has not run, to what has.
    std::set<unsigned> seen;
    waiting = places;
    while (!waiting.empty()) {
      const unsigned node = waiting.front();
      waiting.pop_front();
      if (!seen.insert(node).second) continue;
      for (const unsigned before : nodes[node].before)
        if (has_run(before))
          out.insert(nodes[before].address);
        else
          waiting.push_back(before);
    }
    return true;
  }

  [[nodiscard]] std::vector<std::uint32_t> calls_of(const Function& function) const {
    std::vector<std::uint32_t> out;
    if (const auto ways = ways_in_.find(function.begin); ways != ways_in_.end())
      for (const auto& [caller, place] : ways->second) out.push_back(place);
    return out;
  }

 private:
  [[nodiscard]] machine::Machine& machine() const { return core_.machine(); }
  [[nodiscard]] std::set<std::uint32_t> standing() const {
    std::set<std::uint32_t> out{machine().pc()};
    for (unsigned level = 1; level < core_.callers().size(); ++level)
      out.insert(core_.call_of(level));
    return out;
  }

  Core& core_;
  Point from_;
  record::Moment present_;
  std::set<std::uint32_t> stood_, stands_;  ///< at `from_`, and at present: of all call levels
  /// By the beginning of a function: who calls it or jumps to it, and where.
  std::map<std::uint32_t, std::vector<std::pair<const Function*, std::uint32_t>>> ways_in_;
};

namespace {

/// The interrupt that a function handles; null: none.
const InterruptVector* handled_by(const machine::Machine& machine, const Function& function) {
  const machine::Target& target = machine.target();
  for (const InterruptVector& vector : machine.info().vectors) {
    const std::string handler = target.handler_name(vector.number);
    if (!handler.empty() && (function.symbol() == handler || function.name == handler ||
                             function.name == target.handler_title(vector)))
      return &vector;
  }
  return nullptr;
}

}  // namespace

/// What an instruction looks at where its ways part, and what made that.
Result<void> Session::Core::why_turned(Origins& origins, const record::Moment& at) {
  restore_at(at);
  const Instruction instruction = machine().instruction_at(machine().pc());
  for (const machine::Cell& cell : machine().target().decides(machine(), instruction)) {
    restore_at(at);
    std::string name, value;
    const auto& registers = machine().target().registers();
    if (cell.kind == machine::Cell::Kind::kFlag) {
      const std::string letters = machine().flag_letters();
      name = fmt::format("flag {}", letters[letters.size() - 1 - cell.number]);
      value = std::to_string(machine().flags() >> cell.number & 1U);
    } else if (cell.kind == machine::Cell::Kind::kRegister) {
      const auto index = machine().find_dwarf_register(static_cast<int>(cell.number));
      if (!index) continue;
      name = registers[*index].name;
      value = fmt::format("{:#04x}", machine().register_value(*index));
    } else {
      name = data_name(cell.address.offset);
      for (const IoRegister& io : machine().info().io)
        if (name.empty() && cell.address.offset == io.address) name = io.name;
      value = fmt::format("{:#04x}", machine().peek(cell.address).value_or(0));
    }
    constexpr unsigned kDepth = 2;
    if (auto done = origins.tree(name, value, {cell}, at, 0, kDepth); !done) return done;
  }
  return {};
}

Result<MissedView> Session::Core::look_for_miss(const std::string& place,
                                                const std::vector<std::uint32_t>& places,
                                                Point from) {
  const record::Moment present = now();
  const std::uint64_t hz = machine().info().clock_hz;
  MissedView out;
  out.place = place;
  const Location here = location(machine().pc());
  const record::Moment begin = from.at;
  const Quiet quiet(*this);
  Missed missed(*this, std::move(from), present);
  const auto interrupted = [] { return fail(ErrorCode::kUsage, "interrupted"); };
  const std::vector<Missed::Level> ways = missed.ways_to(places);
  std::set<std::uint32_t> wanted(places.begin(), places.end()), ran;
  for (const Missed::Level& level : ways) wanted.insert(level.function->begin);
  if (!missed.executed(wanted, ran)) return interrupted();
  if (std::any_of(places.begin(), places.end(), [&](auto p) { return ran.count(p) != 0; })) {
    Target target;
    for (const std::uint32_t address : places) target.places.push_back({address, {}});
    const auto last = latest_at(target, present);
    if (!last) return interrupted();
    if (*last) out.executed_at = to_time((*last)->tick, hz);
    return out;
  }
  const auto has_run = [&](const Function& function) {
    return ran.count(function.begin) != 0 || missed.stands_in(function);
  };
  unsigned nearest = UINT32_MAX;  // calls away: where a function has run
  for (const Missed::Level& level : ways)
    if (has_run(*level.function)) nearest = std::min(nearest, level.away);
  std::set<std::uint32_t> turns;
  for (const Missed::Level& level : ways) {
    if (level.away > nearest) continue;
    if (level.away == nearest) {
      if (has_run(*level.function) && !missed.turns(level, turns)) return interrupted();
      continue;
    }
    MissedView::NotCalled none;
    none.function = level.function->name;
    for (const std::uint32_t call : missed.calls_of(*level.function))
      none.calls.push_back(location(call));
    if (const InterruptVector* vector = handled_by(machine(), *level.function))
      none.interrupt = vector->name;
    out.not_called.push_back(std::move(none));
  }
  if (turns.empty()) {
    for (const Missed::Level& level : ways)
      if (level.away == nearest && missed.stands_in(*level.function)) {
        out.turn = MissedView::Turn{};
        out.turn->where = here;
      }
    return out;
  }
  Target target;
  for (const std::uint32_t address : turns) target.places.push_back({address, {}});
  const auto last = latest_at(target, present);
  if (!last) return interrupted();
  if (!*last || **last < begin) return out;
  restore_at(**last);
  MissedView::Turn turn;
  turn.where = location(machine().pc());
  turn.time = to_time((*last)->tick, hz);
  const Instruction instruction = machine().instruction_at(machine().pc());
  turn.instruction =
      instruction.mnemonic + (instruction.operands.empty() ? "" : " " + instruction.operands);
  turn.flow = instruction.flow;
  machine::RunRequest one;
  one.instructions = 1;
  one.until_ticks = present.tick;
  (void)run(one);
  turn.went = location(machine().pc());
  Origins origins(*this);
  const bool decides = instruction.flow == Flow::kBranch || instruction.flow == Flow::kSkip ||
                       instruction.flow == Flow::kIndirectJump;
  if (decides)
    if (auto done = why_turned(origins, **last); !done) return interrupted();
  out.turn = std::move(turn);
  out.origins.nodes = std::move(origins.nodes);
  out.origins.cut = origins.cut;
  origin_moments_ = std::move(origins.moments);
  if (origin_moments_.empty()) origin_moments_.push_back(**last);
  return out;
}

Result<MissedView> Session::Core::missed(const std::string& place, const std::string& mark) {
  const auto places = resolve(place);
  if (!places) return fail(places.error());
  const Timeline::Copy* first = timeline_.first();
  if (first == nullptr) return no_past();
  Point from{first->at, first->machine};
  if (!mark.empty()) {
    const auto found = usable_mark(mark);
    if (!found) return fail(found.error());
    if (!is_on_this_timeline(**found) || now() < (*found)->at)
      return fail(ErrorCode::kUsage,
                  fmt::format("mark '{}' is not in the past of this moment", mark));
    if (now() == (*found)->at)
      return fail(ErrorCode::kUsage,
                  fmt::format("nothing has been executed since mark '{}'", mark));
    from = {(*found)->at, (*found)->kept->machine};
  }
  begin_back();
  const auto kept = keep();
  auto view = look_for_miss(place, *places, std::move(from));
  if (view) view->since = mark;
  pause_requested_ = false;
  running_ = false;
  (void)return_to(*kept).has_value();
  return view;
}

}  // namespace lucid
