// SPDX-License-Identifier: MIT
// Breakpoints: places bound to addresses, passes counted, marks kept in step with the machine.
#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "base/text.h"
#include "session/core.h"

namespace lucid {

/// Finds what a breakpoint means in the program at hand. On failure it waits.
Result<void> Session::Core::bind(Entry& entry) {
  Breakpoint& point = entry.point;
  point.addresses.clear();
  point.functions.clear();
  point.waits_because.clear();
  point.where = Location{};
  entry.condition.reset();
  entry.objects.clear();
  const auto wait = [&](const Error& error, const char* prefix = "") {
    point.addresses.clear();
    entry.objects.clear();
    point.waits_because = prefix + error.text();
    return fail(error);
  };
  std::vector<std::uint32_t> addresses;
  entry.arrivals.clear();
  if (point.spec.kind == BreakpointSpec::Kind::kPlace) {
    auto found = places(point.spec.place);
    if (!found) return wait(found.error());
    for (const frames::Arrival& arrival : *found) addresses.push_back(arrival.address);
    entry.arrivals = std::move(*found);
  } else if (point.spec.kind <= BreakpointSpec::Kind::kWhen) {
    if (auto bound = bind_object(entry); !bound) return wait(bound.error());
  } else if (auto bound = bind_event(entry); !bound) {
    return wait(bound.error());
  }
  if (!point.spec.condition.empty()) {
    frames::Scope there = scope();
    there.level = 0;
    if (!addresses.empty()) there.names_at = addresses[0];  // names mean what they mean there
    auto condition = expression::Expression::parse(point.spec.condition, there);
    if (!condition) return wait(condition.error(), "its condition: ");
    entry.predicates.clear();
    entry.condition = std::make_shared<const expression::Expression>(std::move(*condition));
  }
  if (addresses.empty()) return {};
  point.addresses = addresses;
  point.where = location(addresses[0]);
  for (const std::uint32_t address : addresses)
    if (const Function* in = program_.function_at(address);
        in != nullptr && std::find(point.functions.begin(), point.functions.end(), in->name) ==
                             point.functions.end())
      point.functions.push_back(in->name);
  point.remark.clear();
  if (std::any_of(entry.arrivals.begin(), entry.arrivals.end(),
                  [](const frames::Arrival& a) { return a.rounds; }))
    point.remark = "the loop on this line counts as one pass, however many rounds it makes";
  entry.line_text = line_text(point.where);
  return {};
}

Result<Breakpoint> Session::Core::add(const BreakpointSpec& spec) {
  if (spec.count == 0) return fail(ErrorCode::kUsage, "passes are counted from 1");
  Entry entry;
  entry.point.spec = spec;
  // What the image could still bring waits; what can never be right is refused.
  const bool is_place = spec.kind == BreakpointSpec::Kind::kPlace;
  const auto place = is_place ? resolve(spec.place) : Result<std::vector<std::uint32_t>>{};
  const bool may_wait = is_place && (program_.functions().empty() ||
                                     (!place && place.error().code == ErrorCode::kNotFound));
  if (auto bound = bind(entry); !bound && !may_wait) return fail(bound.error());
  // A line of the current file keeps its meaning when the execution moves on.
  if (!entry.point.addresses.empty() && base::parse_unsigned(spec.place) &&
      !entry.point.where.file.empty() && spec.place.find('x') == std::string::npos)
    entry.point.spec.place = fmt::format("{}:{}", entry.point.where.file, spec.place);
  entry.point.id = next_id_++;
  breakpoints_.push_back(std::move(entry));
  arm(breakpoints_.back());
  sync_marks();
  return breakpoints_.back().point;
}

std::string Session::Core::line_text(const Location& where) const {
  if (where.file.empty()) return "";
  const auto& lines = sources_.text(program_.files()[where.file_index]).lines;
  return where.line >= 1 && where.line <= lines.size()
             ? std::string(base::trim(lines[where.line - 1]))
             : "";
}

std::vector<std::string> Session::Core::follow_lines() {
  std::vector<std::string> moved;
  for (Entry& entry : breakpoints_) {
    std::string& place = entry.point.spec.place;
    const std::size_t colon = place.rfind(':');
    const auto line = colon == place.npos
                          ? std::nullopt
                          : base::parse_unsigned(std::string_view(place).substr(colon + 1));
    if (entry.point.spec.kind != BreakpointSpec::Kind::kPlace || !line || entry.line_text.empty())
      continue;
    const auto files = program_.find_files(place.substr(0, colon));
    if (files.empty()) continue;
    const SourceFile& file = program_.files()[files[0]];
    const auto& lines = sources_.text(file).lines;
    const auto distance = [&](unsigned n) { return n > *line ? n - *line : *line - n; };
    std::optional<unsigned> nearest;
    for (const unsigned n : file.lines_with_code)
      if (n <= lines.size() && base::trim(lines[n - 1]) == entry.line_text &&
          (!nearest || distance(n) < distance(*nearest)))
        nearest = n;
    if (nearest && *nearest == *line) continue;
    if (lines.empty()) continue;
    if (!nearest) {
      moved.push_back(fmt::format("breakpoint {}: the text of {} is no longer '{}'; it stays there",
                                  entry.point.id, place, entry.line_text));
      continue;
    }
    const std::string to = fmt::format("{}:{}", place.substr(0, colon), *nearest);
    moved.push_back(
        fmt::format("breakpoint {} moved with its line: {} → {}", entry.point.id, place, to));
    place = to;
  }
  return moved;
}

Session::Core::Entry* Session::Core::find(unsigned id) {
  for (Entry& entry : breakpoints_)
    if (entry.point.id == id) return &entry;
  return nullptr;
}

tl::unexpected<Error> Session::Core::no_breakpoint(unsigned id) {
  return fail(ErrorCode::kNotFound, fmt::format("there is no breakpoint {}", id),
              "`breakpoints` lists them");
}

Result<void> Session::Core::enable(unsigned id, bool on) {
  Entry* entry = find(id);
  if (entry == nullptr) return no_breakpoint(id);
  entry->point.enabled = on;
  sync_marks();
  return {};
}

Result<void> Session::Core::rearm(unsigned id) {
  Entry* entry = find(id);
  if (entry == nullptr) return no_breakpoint(id);
  arm(*entry);
  return {};
}

Result<void> Session::Core::tabulate(unsigned id, const std::vector<std::string>& row) {
  Entry* entry = find(id);
  if (entry == nullptr) return no_breakpoint(id);
  frames::Scope there = scope();
  there.level = 0;
  if (!entry->point.addresses.empty()) there.names_at = entry->point.addresses[0];
  for (const std::string& text : row)
    if (auto known = expression::Expression::parse(text, there); !known) return fail(known.error());
  entry->point.spec.row = row;
  sync_marks();
  return {};
}

void Session::Core::tell_row(const Breakpoint& point) {
  std::vector<Value> values;
  for (const std::string& text : point.spec.row) {
    auto expression = expression::Expression::parse(text, scope());
    auto operand = expression ? expression->evaluate(scope())
                              : Result<expression::Operand>(fail(expression.error()));
    Value value;
    value.unknown = !operand;
    if (operand) value = operand->value;
    value.text = operand ? expression::written(*operand, {}, scope()) : operand.error().what;
    values.push_back(std::move(value));
  }
  listener_->on_row(point.id, to_time(machine().ticks(), machine().info().clock_hz), values);
}

/// It goes by itself. Before this moment it is there again.
void Session::Core::spend(unsigned id) {
  const Entry* entry = find(id);
  if (entry == nullptr) return;
  spent_.push_back(std::make_shared<const Entry>(*entry));
  (void)remove(id).has_value();
}

Result<void> Session::Core::remove(unsigned id) {
  const auto watch = std::find_if(watched_.begin(), watched_.end(),
                                  [id](const WatchView& w) { return w.id == id; });
  if (watch != watched_.end()) {
    watched_.erase(watch);
    return {};
  }
  if (find(id) == nullptr) return no_breakpoint(id);
  breakpoints_.erase(std::remove_if(breakpoints_.begin(), breakpoints_.end(),
                                    [id](const Entry& e) { return e.point.id == id; }),
                     breakpoints_.end());
  sync_marks();
  return {};
}

void Session::Core::bind_all() {
  for (Entry& entry : breakpoints_) {
    (void)bind(entry).has_value();
    entry.point.passes = entry.point.reached = 0;
  }
  marks_.clear();  // the machine has none after a load
  watches_.clear();
  sync_marks();
}

/// Before a run, if they have changed: so that setting many is no more than setting each.
void Session::Core::make_marks() {
  if (!std::exchange(marks_changed_, false)) return;
  std::set<std::uint32_t> wanted(temporary_.begin(), temporary_.end());
  wanted.insert(also_at_.begin(), also_at_.end());
  wanted.insert(looked_at_.begin(), looked_at_.end());
  if (breakpoints_on_) {
    for (const Entry& entry : breakpoints_) {
      if (!entry.point.enabled) continue;
      wanted.insert(entry.point.addresses.begin(), entry.point.addresses.end());
      if (entry.frame) wanted.insert(entry.frame->return_pc);
    }
  }
  if (no_handler_ && pause_without_handler_) wanted.insert(*no_handler_);
  feeders_.clear();
  for (const Entry& entry : breakpoints_) {
    if (!breakpoints_on_ || !entry.point.enabled) continue;
    for (const frames::Arrival& arrival : entry.arrivals)
      for (const auto* list : {&arrival.inner, &arrival.outer})
        for (const std::uint32_t before : *list) {
          feeders_[before].insert(arrival.address);
          wanted.insert(before);
        }
  }
  for (const std::uint32_t address : marks_)
    if (wanted.count(address) == 0) (void)machine().set_breakpoint(address, false).has_value();
  std::set<std::uint32_t> set;
  for (const std::uint32_t address : wanted)
    if (machine().set_breakpoint(address, true)) set.insert(address);
  marks_ = std::move(set);
  std::map<std::uint32_t, std::vector<std::size_t>> simple;
  if (breakpoints_on_)
    for (std::size_t i = 0; i < breakpoints_.size(); ++i)
      for (const std::uint32_t address : breakpoints_[i].point.addresses)
        if (breakpoints_[i].point.enabled) simple[address].push_back(i);
  for (const Entry& entry : breakpoints_)
    if (entry.frame) simple.erase(entry.frame->return_pc);
  for (const std::uint32_t address : temporary_) simple.erase(address);
  for (const auto* others : {&also_at_, &looked_at_})
    for (const std::uint32_t address : *others) simple.erase(address);
  if (no_handler_) simple.erase(*no_handler_);
  simple_.assign(simple.begin(), simple.end());
  for (const std::uint32_t address : marks_) {
    const auto at = simple.find(address);
    const bool alone = at != simple.end() && at->second.size() == 1 &&
                       feeders_.count(address) == 0 &&
                       breakpoints_[at->second.front()].inner_at(address) == nullptr;
    Entry* entry = alone ? &breakpoints_[at->second.front()] : nullptr;
    machine::Passing passing;
    bool passes = false;
    if (entry != nullptr) {
      passing.times = counts_down(*entry);
      if (entry->condition != nullptr) passing.unless = predicate_at(*entry, address);
      passes = passing.unless || (passing.times && entry->condition == nullptr);
    }
    machine().pass(address, passes ? &passing : nullptr);
  }
  sync_watches();
}

/// Its passes can be counted where it stands: that is in one place.
bool Session::Core::counts_down(const Entry& entry) {
  return entry.point.spec.rule != BreakpointSpec::Rule::kAlways &&
         entry.point.addresses.size() == 1;
}

std::optional<machine::Predicate> Session::Core::predicate_at(Entry& entry,
                                                              std::uint32_t address) const {
  if (!entry.condition->uses_locals()) return entry.condition->predicate(machine());
  const auto [known, is_new] = entry.predicates.try_emplace(address);
  if (is_new) known->second = predicate_in_frame(entry, address);
  return known->second;
}

/// A condition as the machine may work it out at an address. Locals are in the same registers
/// there, or at the same distance from the same register, each time.
std::optional<machine::Predicate> Session::Core::predicate_in_frame(const Entry& entry,
                                                                    std::uint32_t address) const {
  const auto there = machine().clone();
  there->set_pc(address);
  // A frame like others: its pointer is where the stack is.
  const auto& memories = machine().info().memories;
  const auto ram = std::find_if(memories.begin(), memories.end(),
                                [](const MemoryArea& area) { return area.name == "ram"; });
  if (ram == memories.end()) return std::nullopt;
  const auto& registers = machine().target().registers();
  for (unsigned index = 0; index < registers.size(); ++index)
    if (registers[index].bits == 8U * machine().target().convention().pointer_bytes)
      there->set_register(index, (ram->begin + ram->end) / 2);
  frames::Scope scope{program_, *there, flows_, static_end_, 0, {}};
  scope.at_one_place = true;
  const auto condition = expression::Expression::parse(entry.point.spec.condition, scope);
  return condition ? condition->predicate(*there) : std::nullopt;
}

/// How many passes from now on are passed over.
void Session::Core::allow_passes(const Entry& entry) {
  const BreakpointSpec& spec = entry.point.spec;
  const std::uint64_t passes = entry.point.passes;
  std::uint64_t times = spec.count > passes ? spec.count - 1 - passes : 0;
  if (spec.rule == BreakpointSpec::Rule::kOn && passes >= spec.count) times = UINT64_MAX;
  if (spec.rule == BreakpointSpec::Rule::kEvery) times = spec.count - 1 - passes % spec.count;
  machine().allow_passes(entry.point.addresses.front(), times);
}

void Session::Core::allow_passes() {
  for (const auto& [address, ids] : simple_)
    if (ids.size() == 1 && counts_down(breakpoints_[ids.front()]))
      allow_passes(breakpoints_[ids.front()]);
}

/// What the machine has passed without asking.
void Session::Core::count_passed() {
  for (const auto& [address, ids] : simple_)
    if (ids.size() == 1) count_passed(breakpoints_[ids.front()], address);
}

void Session::Core::count_passed(Entry& entry, std::uint32_t address) {
  const machine::Passed passed = machine().take_passed(address);
  entry.point.reached += passed.unheld + passed.held;
  entry.point.passes += passed.held;
}

std::vector<unsigned> Session::Core::ids_at(std::uint32_t address) const {
  std::vector<unsigned> out;
  for (const Entry& entry : breakpoints_) {
    const auto& addresses = entry.point.addresses;
    if (std::find(addresses.begin(), addresses.end(), address) != addresses.end())
      out.push_back(entry.point.id);
  }
  return out;
}

bool Session::Core::rule_says_pause(const BreakpointSpec& spec, std::uint64_t passes) {
  switch (spec.rule) {
    case BreakpointSpec::Rule::kAlways: return true;
    case BreakpointSpec::Rule::kOn: return passes == spec.count;
    case BreakpointSpec::Rule::kFrom: return passes >= spec.count;
    case BreakpointSpec::Rule::kEvery: return passes % spec.count == 0;
  }
  return true;
}

std::string Session::Core::filled(const std::string& log) const {
  std::string out;
  for (std::size_t i = 0; i < log.size(); ++i) {
    const std::size_t end = log[i] == '{' ? log.find('}', i) : std::string::npos;
    if (end == std::string::npos) {
      out += log[i];
      continue;
    }
    std::string text = log.substr(i + 1, end - i - 1);
    Format format;
    if (const std::size_t as = text.rfind(" as "); as != std::string::npos) {
      if (auto parsed = parse_format(text.substr(as + 4))) {
        format = *parsed;
        text.resize(as);
      }
    }
    auto expression = expression::Expression::parse(text, scope());
    auto operand = expression ? expression->evaluate(scope())
                              : Result<expression::Operand>(fail(expression.error()));
    out += operand ? expression::written(*operand, format, scope())
                   : "{" + text + ": " + operand.error().what + "}";
    i = end;
  }
  return out;
}

const std::vector<std::uint32_t>* Session::Core::Entry::inner_at(std::uint32_t address) const {
  for (const frames::Arrival& arrival : arrivals)
    if (arrival.address == address && !arrival.inner.empty()) return &arrival.inner;
  return nullptr;
}

/// Notes that an instruction is about to execute from which a line may be gone on with.
void Session::Core::note_feeder(std::uint32_t pc) {
  const auto found = feeders_.find(pc);
  if (found == feeders_.end()) return;
  const Instruction instruction = machine().instruction_at(pc, false);
  const machine::StackEffect effect = machine().target().stack_effect(instruction);
  const bool pops = effect.kind == machine::StackEffect::Kind::kPop;
  const std::uint32_t sp = machine().sp() + (pops ? effect.bytes : 0U) - (pops ? 0U : effect.bytes);
  for (const std::uint32_t address : found->second) came_from_[address] = {pc, sp};
}

/// Has the place been reached from within its line?
bool Session::Core::goes_on(const Entry& entry, std::uint32_t pc) const {
  const auto* inner = entry.inner_at(pc);
  const auto from = came_from_.find(pc);
  return inner != nullptr && from != came_from_.end() && from->second.second == machine().sp() &&
         std::find(inner->begin(), inner->end(), from->second.first) != inner->end();
}

bool Session::Core::counts(Entry& entry, Outcome& outcome) {
  Breakpoint& point = entry.point;
  if (point.spec.kind == BreakpointSpec::Kind::kPlace && goes_on(entry, machine().pc()))
    return false;
  ++point.reached;
  if (entry.condition != nullptr) {
    const auto holds = entry.condition->holds(scope());
    if (!holds) {
      outcome.cause = Pause::Cause::kCannotTell;
      outcome.detail = fmt::format("the condition of breakpoint {} cannot be told: {}", point.id,
                                   holds.error().text());
      outcome.ids.push_back(point.id);
      return false;
    }
    if (!*holds) return false;
  }
  ++point.passes;
  if (!rule_says_pause(point.spec, point.passes)) return false;
  if (listening_ != nullptr) listening_->mark(point.id, machine());
  if (!point.spec.log.empty() || !point.spec.row.empty()) {
    const bool tell = listener_ != nullptr && !replaying_;
    if (tell && !point.spec.log.empty()) listener_->on_message(filled(point.spec.log));
    if (tell && !point.spec.row.empty()) tell_row(point);
    if (point.spec.once && entry.armed_at <= now()) used_up_.push_back(point.id);
    return false;
  }
  outcome.ids.push_back(point.id);
  if (point.spec.once && entry.armed_at <= now()) used_up_.push_back(point.id);
  return outcome.cause != Pause::Cause::kCannotTell;
}

bool Session::Core::settle(const Outcome& outcome) {
  if (!outcome.ids.empty()) {
    const Entry* first = find(outcome.ids[0]);
    pause_.passes = first->point.passes;
    pause_.reached = first->point.reached;
    pause_.then.clear();
    for (const unsigned id : outcome.ids)
      if (const Entry* entry = find(id); !entry->point.spec.then.empty())
        pause_.then.push_back(entry->point.spec.then);
  }
  for (const unsigned id : std::exchange(used_up_, {}))
    if (find(id) != nullptr) {
      spend(id);
      remark(fmt::format("breakpoint {} was for once and is gone", id));
    }
  return !outcome.ids.empty() || outcome.sought;
}

bool Session::Core::ends_run_at(std::uint32_t pc) {
  if (pauses_at(pc)) return true;
  executes(pc);
  return false;
}

/// A marked instruction does. How it was come to is settled by then: whoever comes next has come
/// by another way, though nothing is noted of it, such as a call.
void Session::Core::executes(std::uint32_t pc) {
  if (feeders_.empty()) return;
  came_from_.erase(pc);
  note_feeder(pc);
}

bool Session::Core::pauses_at(std::uint32_t pc) {
  const auto found =
      std::lower_bound(simple_.begin(), simple_.end(), pc,
                       [](const auto& row, std::uint32_t address) { return row.first < address; });
  if (found == simple_.end() || found->first != pc) {
    if (target_ == nullptr && feeders_.count(pc) == 0) return true;
    const bool other = !ids_at(pc).empty() || pc == no_handler_ || looked_at_.count(pc) != 0 ||
                       std::any_of(breakpoints_.begin(), breakpoints_.end(), [&](const Entry& e) {
                         return e.frame && e.frame->return_pc == pc;
                       });
    return other || (target_ != nullptr && target_->is_at(pc, machine().sp()));
  }
  // First whether all of them are to be passed, then the counting: it must not be done twice.
  const bool alone = found->second.size() == 1;
  for (const std::size_t i : found->second) {
    Entry& entry = breakpoints_[i];
    if (goes_on(entry, pc)) continue;
    const bool in_machine = alone && counts_down(entry);
    if (in_machine) count_passed(entry, pc);
    if (entry.condition != nullptr) {
      const auto holds = entry.condition->quick_truth(machine());
      if (!holds) return true;
      if (!*holds) {
        if (alone) ++entry.point.reached;
        continue;
      }
    }
    if (!alone || rule_says_pause(entry.point.spec, entry.point.passes + 1)) return true;
    ++entry.point.reached;
    ++entry.point.passes;
    if (in_machine) allow_passes(entry);
  }
  if (!alone)
    for (const std::size_t i : found->second)
      if (!goes_on(breakpoints_[i], pc)) ++breakpoints_[i].point.reached;
  return false;
}

bool Session::Core::hit(Outcome& outcome) {
  const std::uint32_t pc = machine().pc();
  counted_ = {pc, machine().ticks()};
  if (!breakpoints_on_) return false;
  for (Entry& entry : breakpoints_) {
    const auto& addresses = entry.point.addresses;
    if (entry.point.enabled &&
        std::find(addresses.begin(), addresses.end(), pc) != addresses.end() &&
        counts(entry, outcome))
      outcome.cause = Pause::Cause::kBreakpoint;
  }
  return settle(outcome);
}

namespace {

struct FaultName {
  const char* name;
  machine::Fault fault;
  const char* words;
};
constexpr FaultName kFaults[] = {
    {"reserved-instruction", machine::Fault::kReservedInstruction, "a word that is no instruction"},
    {"erased-flash", machine::Fault::kErasedFlash, "erased flash is executed"},
    {"busy-flash", machine::Fault::kBusyFlash,
     "flash is read or executed that is busy being programmed"},
    {"outside-memory", machine::Fault::kOutsideMemory, "a load or store where there is no memory"},
    {"stack-outside-ram", machine::Fault::kStackOutsideRam, "the stack is used outside RAM"},
    {"stack-into-data", machine::Fault::kStackIntoData, "the stack writes over static data"},
    {"never-written-read", machine::Fault::kNeverWritten,
     "RAM is read that nothing has written since power-on"},
    {"no-handler", machine::Fault::kNone, "an interrupt without a handler is entered"},
};

}  // namespace

std::vector<Session::Fault> Session::Core::faults() const {
  std::vector<Session::Fault> out;
  for (const FaultName& row : kFaults)
    out.push_back({row.name, row.words,
                   row.fault == machine::Fault::kNone ? pause_without_handler_
                                                      : machine().fault_is_on(row.fault)});
  return out;
}

Result<void> Session::Core::set_fault(const std::string& name, bool on) {
  std::vector<std::string> names;
  for (const FaultName& row : kFaults) {
    names.emplace_back(row.name);
    if (name != row.name) continue;
    if (row.fault == machine::Fault::kNone)
      pause_without_handler_ = on;
    else
      machine().set_fault(row.fault, on);
    sync_marks();
    return {};
  }
  return fail(ErrorCode::kNotFound, fmt::format("there is no kind of fault '{}'", name),
              did_you_mean(name, names));
}

}  // namespace lucid
