// SPDX-License-Identifier: MIT
#include "session/checks.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>

namespace lucid {
namespace {

struct CheckName {
  const char* name;
  const char* words;
};
/// By Checks::Kind.
constexpr CheckName kNames[] = {
    {"torn-access", "an interrupt comes between the accesses to an object, and changes it"},
    {"registers", "a handler returns with a register or flags changed"},
    {"data-sheet",
     "a peripheral is used against the data sheet: a timed sequence that is missed, "
     "a register written while it is busy, halves in the wrong order, flags stored back"},
    {"contention", "the chip and something outside drive a pin to different levels"},
    {"nested", "a handler is entered within another one"},
    {"no-volatile",
     "an endless loop never looks again at a variable of its line that a handler "
     "changes"},
    {"slow-handler", "a handler takes longer than a given time, with those that come between"},
    {"never-written",
     "a decision, an address or what a peripheral is given depends on memory or "
     "a register that nothing has written"},
    {"floating-input", "a decision depends on an input that nothing holds at a level"},
    {"null-pointer", "a pointer leads to the lowest addresses, as a null pointer does"},
    {"gone-stack", "memory of a call that has returned is accessed"},
    {"heap", "memory of the heap is accessed outside of its block, or given back twice"},
    {"out-of-bounds", "an access through an object's address leads outside of the object"},
};

constexpr std::size_t kDeepest = 16;  // handlers within handlers

}  // namespace

std::vector<Session::Check> Session::Core::Checks::list() const {
  std::vector<Session::Check> out;
  for (unsigned kind = 0; kind < kKinds; ++kind)
    out.push_back({kNames[kind].name, kNames[kind].words, modes_[kind], {}, kind >= kNeverWritten});
  out[kSlow].over = slow_over_;
  return out;
}

Result<void> Session::Core::Checks::set(const std::string& name, CheckMode mode) {
  std::vector<std::string> names;
  for (unsigned kind = 0; kind < kKinds; ++kind) {
    names.emplace_back(kNames[kind].name);
    if (name != kNames[kind].name) continue;
    const CheckMode before = std::exchange(modes_[kind], mode);
    attend();
    if (follow_values()) return {};
    modes_[kind] = before;
    attend();
    return fail(ErrorCode::kUnsupported,
                fmt::format("{} cannot follow values", core_.machine().info().name));
  }
  return fail(ErrorCode::kNotFound, fmt::format("there is no check '{}'", name),
              did_you_mean(name, names));
}

void Session::Core::Checks::attend() {
  using machine::Note;
  const bool any =
      is_on(kTorn) || is_on(kRegisters) || is_on(kNested) || is_on(kNoVolatile) || is_on(kSlow);
  (void)core_.machine().attend(any ? this : nullptr);
  const auto pauses = [&](Kind kind, Note::Kind note) {
    return modes_[kind] == CheckMode::kPause ? 1U << static_cast<unsigned>(note) : 0U;
  };
  core_.machine().end_at_notes(static_cast<std::uint8_t>(
      pauses(kDataSheet, Note::Kind::kMisuse) | pauses(kContention, Note::Kind::kContention)));
  under_way_.clear();
}

void Session::Core::Checks::begin() {
  still_.clear();
  accesses_.forget();
  findings_.clear();
  known_.clear();
  unrestored_.clear();
  slowest_.clear();
  values_.clear();
  attend();
  follows_ = false;
  (void)follow_values();
}

void Session::Core::Checks::take(const machine::Note& note) {
  using machine::Note;
  if (note.kind == Note::Kind::kInformation) return;
  const Kind kind = note.kind == Note::Kind::kMisuse ? kDataSheet : kContention;
  if (!is_on(kind)) return;
  FindingView finding;
  finding.text = note.text;
  if (note.pc) finding.where = core_.location(*note.pc);
  finding.at = to_time(note.tick, core_.machine().info().clock_hz);
  (void)found(kind, std::move(finding));
}

bool Session::Core::Checks::found(Kind kind, FindingView finding) {
  constexpr std::size_t kMost = 1000;
  finding.check = kNames[kind].name;
  // A loop, and a line, are one wherever in it one stands.
  const bool by_place = finding.where && kind != kNoVolatile && kind != kTorn;
  const std::string key =
      fmt::format("{} {} {}", kind, finding.text, by_place ? finding.where->address : 0);
  const auto [known, is_new] = known_.try_emplace(key, findings_.size());
  if (!is_new) {
    if (known->second < findings_.size()) ++findings_[known->second].times;
    return false;
  }
  if (findings_.size() >= kMost) return false;
  if (finding.at.count == 0)
    finding.at = to_time(core_.machine().ticks(), core_.machine().info().clock_hz);
  findings_.push_back(finding);
  const bool by_note = kind == kDataSheet || kind == kContention;  // they are told as notes
  if (by_note || finding.harmless) return false;
  if (modes_[kind] == CheckMode::kPause) {
    ended_by_ = finding.text;
    return true;
  }
  // Those of values do not say where.
  core_.found_.push_back(kind < kNeverWritten || !finding.where
                             ? finding.text
                             : fmt::format("{} ({})", finding.text, said(*finding.where)));
  return false;
}

// Interrupts --------------------------------------------------------------------------------------

bool Session::Core::Checks::entered(unsigned vector, const State& state) {
  if (core_.walking_ || core_.replaying_ || state.bytes > 32) {
    under_way_.clear();
    return false;
  }
  // Those that did not return by themselves: their stack is gone.
  while (!under_way_.empty() && under_way_.back().sp <= state.sp) under_way_.pop_back();
  bool ends = false;
  if (is_on(kNested) && !under_way_.empty()) {
    FindingView finding;
    finding.where = core_.location(state.pc);
    finding.other = handler(vector);
    const auto& vectors = core_.machine().info().vectors;
    finding.text = fmt::format("{} is entered within the handler of {}", vectors[vector].name,
                               vectors[under_way_.back().vector].name);
    ends = found(kNested, std::move(finding));
  }
  if (is_on(kNoVolatile) && look_for_endless(state)) ends = true;
  if (under_way_.size() >= kDeepest) return ends;
  Entered& entered = under_way_.emplace_back();
  entered.vector = vector;
  entered.pc = state.pc;
  entered.sp = state.sp;
  entered.tick = core_.machine().ticks();
  entered.flags = state.flags;
  std::copy_n(state.registers, state.bytes, entered.registers.begin());
  if (is_on(kTorn)) {
    entered.open = accesses_.open_at(state.pc, vector, state.registers);
    for (const Open& one : *entered.open) {
      entered.before.push_back(bytes_of(one.object));
      entered.touched_by.push_back(toucher_of(entered, one));
    }
  }
  return ends;
}

bool Session::Core::Checks::returned(const State& state) {
  while (!under_way_.empty() && under_way_.back().sp < state.sp) under_way_.pop_back();
  if (under_way_.empty()) return false;
  const Entered& entered = under_way_.back();
  if (entered.pc != state.pc || entered.sp != state.sp) return false;  // to another stack
  bool ends = false;
  if (is_on(kRegisters)) ends = compare_registers(entered, state);
  if (entered.open != nullptr && compare_objects(entered)) ends = true;
  if (is_on(kSlow) && compare_time(entered)) ends = true;
  under_way_.pop_back();
  return ends;
}

bool Session::Core::Checks::compare_registers(const Entered& entered, const State& state) {
  const bool same = std::memcmp(state.registers, entered.registers.data(), state.bytes) == 0;
  if (same && entered.flags == state.flags) return false;
  const std::string letters = core_.machine().flag_letters();
  // The return itself turns interrupts on.
  const unsigned bits = letters.size();
  const unsigned kept = bits == 0 ? 0U : (1U << (bits - 1)) - 1;
  const unsigned flags = (entered.flags ^ state.flags) & kept;
  if (same && flags == 0) return false;
  std::string which;
  const auto name = [&](unsigned n) {
    for (const RegisterName& one : core_.machine().target().registers())
      if (one.dwarf == static_cast<int>(n)) return one.name;
    return fmt::format("register {}", n);
  };
  for (unsigned n = 0; n < state.bytes; ++n)
    if (state.registers[n] != entered.registers[n])
      which += fmt::format("{}{} ({:#04x} → {:#04x})", which.empty() ? "" : ", ", name(n),
                           entered.registers[n], state.registers[n]);
  for (unsigned bit = 0; bit < bits; ++bit)
    if ((flags >> bit & 1U) != 0)
      which += fmt::format("{}flag {}", which.empty() ? "" : ", ", letters[bits - 1 - bit]);
  // Once a handler: what it leaves changed depends on whom it interrupts.
  if (!unrestored_.insert(entered.vector).second) return false;
  FindingView finding;
  finding.where = handler(entered.vector);
  finding.other = core_.location(entered.pc);
  finding.text =
      fmt::format("the handler of {} returns to {} with {} changed",
                  core_.machine().info().vectors[entered.vector].name, said(*finding.other), which);
  return found(kRegisters, std::move(finding));
}

/// Once a handler, with its longest time.
bool Session::Core::Checks::compare_time(const Entered& entered) {
  const std::uint64_t hz = core_.machine().info().clock_hz;
  const std::uint64_t took = core_.machine().ticks() - entered.tick;
  if (took <= to_ticks(slow_over_, hz)) return false;
  const auto [known, is_new] = slowest_.try_emplace(entered.vector);
  Slowest& slowest = known->second;
  FindingView finding;
  finding.where = handler(entered.vector);
  finding.other = core_.location(entered.pc);
  finding.text = fmt::format("the handler of {} takes {}, having interrupted {}",
                             core_.machine().info().vectors[entered.vector].name,
                             to_text(to_time(took, hz)), said(*finding.other));
  if (is_new) {
    slowest = {took, findings_.size()};
    return found(kSlow, std::move(finding));
  }
  if (slowest.finding >= findings_.size()) return false;
  FindingView& told = findings_[slowest.finding];
  ++told.times;
  if (took <= slowest.ticks) return false;
  slowest.ticks = took;
  told.text = finding.text;
  told.other = finding.other;
  told.at = to_time(core_.machine().ticks(), hz);
  return false;
}

bool Session::Core::Checks::compare_objects(const Entered& entered) {
  bool ends = false;
  for (std::size_t i = 0; i < entered.open->size(); ++i) {
    const Open& open = (*entered.open)[i];
    const std::vector<std::uint8_t> now = bytes_of(open.object);
    const auto& by_handler = accesses_.of(entered.vector);
    const auto writer = std::find_if(by_handler.begin(), by_handler.end(), [&](const auto& access) {
      return access.write && open.object.holds(access.address);
    });
    const std::uint32_t toucher = entered.touched_by[i];
    if (open.object.io && writer == by_handler.end() && toucher == 0) continue;
    const bool changed = now != entered.before[i];
    if (!changed && (toucher == 0 || open.how != Open::How::kWrites)) continue;
    FindingView finding;
    finding.where = core_.location(entered.pc);
    finding.other = handler(entered.vector);
    if (toucher != 0) finding.other = core_.location(toucher);
    if (changed && writer != by_handler.end()) finding.other = core_.location(writer->pc);
    const char* how = open.how == Open::How::kReads    ? "read"
                      : open.how == Open::How::kWrites ? "written"
                                                       : "changed";
    finding.harmless = open.again;
    finding.text =
        fmt::format("{} is being {} at {} when {} comes between and {} it ({}){}", open.object.name,
                    how, said(*finding.where), core_.machine().info().vectors[entered.vector].name,
                    changed ? "changes" : "reads", said(*finding.other),
                    open.again ? "; it is read again until it is the same" : "");
    if (found(kTorn, std::move(finding))) ends = true;
  }
  return ends;
}

std::string Session::Core::Checks::said(const Location& where) const {
  return where.line != 0 ? fmt::format("{}:{}", where.file, where.line)
                         : core_.place_name(where.address);
}

Location Session::Core::Checks::handler(unsigned vector) const {
  return core_.location(accesses_.handler(vector));
}

std::vector<std::uint8_t> Session::Core::Checks::bytes_of(const Object& object) const {
  std::vector<std::uint8_t> out;
  for (std::uint32_t i = 0; i < object.bytes; ++i)
    out.push_back(core_.machine().peek({Space::kData, object.begin + i}).value_or(0));
  return out;
}

// Loops that never end ----------------------------------------------------------------------------

/// Whoever is interrupted goes around and around, and does not look at what a handler changes.
bool Session::Core::Checks::look_for_endless(const State& state) {
  constexpr unsigned kLooks = 8;  // it may be left the first times
  const auto [known, is_new] = still_.try_emplace(state.pc, 0);
  if (is_new && is_still(state.pc)) known->second = kLooks;
  if (known->second == 0) return false;
  --known->second;
  if (!is_endless(state)) return false;
  known->second = 0;
  const auto line = core_.program_.line_at(state.pc);
  if (!line) return false;
  const session::Sources::Text& text = core_.sources_.text(core_.program_.files()[line->file]);
  if (line->line == 0 || line->line > text.lines.size()) return false;
  frames::Scope scope{core_.program_, core_.machine(), accesses_.flows(), core_.static_end_, 0, {}};
  scope.names_at = state.pc;
  scope.globals_only = true;
  for (const std::string& name : expression::names_in(text.lines[line->line - 1])) {
    const auto parsed = expression::Expression::parse(name, scope);
    if (!parsed || !parsed->names_variable()) continue;
    const auto value = parsed->evaluate(scope);
    if (!value || value->place.kind != frames::Place::Kind::kMemory ||
        value->place.address.space != Space::kData)
      continue;
    for (const auto& [vector, begin] : core_.handler_begins())
      for (const Accesses::Access& access : accesses_.of(vector)) {
        if (!access.write || access.address < value->place.address.offset ||
            access.address >= value->place.address.offset + value->place.bytes)
          continue;
        FindingView finding;
        finding.where = core_.location(state.pc);
        finding.other = core_.location(access.pc);
        finding.text = fmt::format(
            "the loop at {} never looks at {} again, which {} changes ({}): is it volatile?",
            said(*finding.where), name, core_.machine().info().vectors[vector].name,
            said(*finding.other));
        return found(kNoVolatile, std::move(finding));
      }
  }
  return false;
}

/// Does a loop lead back to an instruction, all ways through which stay in registers?
bool Session::Core::Checks::is_still(std::uint32_t pc) {
  constexpr unsigned kLongest = 8;  // instructions
  const machine::Machine& machine = core_.machine();
  const Function* function = core_.program_.function_at(pc);
  if (function == nullptr) return false;
  const frames::FlowGraph& graph = accesses_.flows().of(core_.program_, machine, *function);
  const auto here = graph.node_at(pc);
  if (!here || graph.nodes()[*here].address != pc) return false;
  std::vector<unsigned> ways{*here};
  std::set<unsigned> seen;
  bool comes_back = false;
  while (!ways.empty() && seen.size() <= kLongest) {
    const unsigned node = ways.back();
    ways.pop_back();
    if (!seen.insert(node).second) continue;
    if (!machine.target().stays_in_registers(
            machine.instruction_at(graph.nodes()[node].address, false)))
      continue;  // a way out
    for (const unsigned next : graph.nodes()[node].next) {
      comes_back = comes_back || next == *here;
      ways.push_back(next);
    }
  }
  return comes_back;
}

/// On a copy that nothing interrupts: is it back, with nothing changed?
bool Session::Core::Checks::is_endless(const State& state) const {
  constexpr unsigned kLongest = 16;  // instructions
  const auto copy = core_.machine().clone();
  for (const std::uint32_t address : core_.marks_) (void)copy->set_breakpoint(address, false);
  copy->set_pc(state.pc);
  const auto& registers = copy->target().registers();
  for (unsigned index = 0; index < registers.size(); ++index)
    if (registers[index].dwarf == copy->target().convention().sp_dwarf)
      copy->set_register(index, state.sp);
  copy->target().mask_interrupts(*copy);
  machine::RunRequest one;
  one.instructions = 1;
  one.pass_first_breakpoint = true;
  const std::uint8_t flags = copy->flags();
  for (unsigned i = 0; i < kLongest; ++i) {
    if (!copy->target().stays_in_registers(copy->instruction_at(copy->pc(), false))) return false;
    (void)copy->run(one);
    if (copy->pc() != state.pc || copy->flags() != flags) continue;
    for (unsigned n = 0; n < state.bytes; ++n)
      if (copy->peek({Space::kData, n}) != state.registers[n]) return false;
    return true;
  }
  return false;
}

/// What a handler that has just been entered does to an object that is half written, or to an I/O
/// register, which the hardware may change as well; 0: nothing.
std::uint32_t Session::Core::Checks::toucher_of(const Entered& entered, const Open& open) {
  const bool reads = open.how == Open::How::kWrites;
  if (!reads && !open.object.io) return 0;  // what it holds afterwards tells
  const auto& all = accesses_.of(entered.vector);
  const bool is_known = std::any_of(all.begin(), all.end(), [&](const Accesses::Access& access) {
    return access.write != reads && open.object.holds(access.address);
  });
  if (reads ? !is_known : is_known || !accesses_.stores_anywhere(entered.vector)) return 0;
  return touched_on_a_copy(entered, open.object, !reads);
}

/// The handler's instruction that accesses an object.
std::uint32_t Session::Core::Checks::touched_on_a_copy(const Entered& entered, const Object& object,
                                                       bool write) {
  const auto copy = core_.machine().clone();
  for (const std::uint32_t address : core_.marks_) (void)copy->set_breakpoint(address, false);
  for (const auto& [address, kinds] : core_.watches_) (void)copy->watch(address, 0);
  for (std::uint32_t i = 0; i < object.bytes; ++i)
    (void)copy->watch({Space::kData, object.begin + i},
                      write ? machine::kOnWrite : machine::kOnRead);
  (void)copy->set_breakpoint(entered.pc, true);
  constexpr std::uint64_t kLongest = 1'000'000;  // cycles
  machine::RunRequest request;
  request.until_cycles = copy->cycles() + kLongest;
  for (;;) {
    const machine::Stop stop = copy->run(request);
    request.pass_first_breakpoint = true;
    for (const machine::Access& access : stop.accesses)
      if (access.write == write && object.holds(access.address.offset)) return access.pc;
    const bool goes_on = stop.why == machine::Stop::Why::kAccess ||
                         (stop.why == machine::Stop::Why::kBreakpoint && copy->sp() < entered.sp);
    if (!goes_on) return 0;
  }
}

// The session's part ------------------------------------------------------------------------------

Session::Core::Core(Chip chip) : chip_(std::move(chip)), checks_(std::make_unique<Checks>(*this)) {
  remember();
}
Session::Core::~Core() { (void)machine().attend(nullptr); }

std::string Session::Core::told_note(const machine::Note& note) const {
  if (!note.pc) return note.text;
  const Location where = location(*note.pc);
  if (where.line == 0) return fmt::format("{} ({})", note.text, place_name(*note.pc));
  return fmt::format("{} ({}:{} {})", note.text, where.file, where.line, where.function);
}

std::vector<WearView> Session::Core::wear() const {
  std::vector<WearView> out;
  const Picoseconds now = to_time(machine().ticks(), machine().info().clock_hz);
  for (const machine::Wear& worn : machine().wear()) {
    const Location by = location(worn.pc);
    const bool eeprom = worn.space == Space::kEeprom;
    // Cells that are written together are one row.
    if (eeprom && !out.empty() && out.back().end == worn.begin && out.back().times == worn.times &&
        out.back().by.function == by.function) {
      ++out.back().end;
      continue;
    }
    WearView view;
    view.memory = eeprom ? "eeprom" : "flash";
    view.begin = worn.begin;
    view.end = worn.begin + worn.bytes;
    view.times = worn.times;
    view.by = by;
    view.endurance = worn.endurance;
    if (worn.times > 1) {
      const long double lasts = static_cast<long double>(now.count) *
                                static_cast<long double>(worn.endurance) /
                                static_cast<long double>(worn.times);
      constexpr long double kMost = 1.8e19L;
      view.lasts = Picoseconds{static_cast<std::uint64_t>(std::min(lasts, kMost))};
    }
    out.push_back(std::move(view));
  }
  std::stable_sort(out.begin(), out.end(), [](const WearView& a, const WearView& b) {
    constexpr Picoseconds kEver{UINT64_MAX};
    return a.lasts.value_or(kEver).count < b.lasts.value_or(kEver).count;
  });
  return out;
}

std::optional<WatchdogView> Session::watchdog() const {
  const machine::WatchdogMargin margin = core_->machine().watchdog();
  if (margin.times == 0) return std::nullopt;
  const std::uint64_t hz = core_->machine().info().clock_hz;
  return WatchdogView{margin.times, to_time(margin.longest, hz), to_time(margin.period, hz),
                      to_time(margin.tick, hz), core_->location(margin.pc)};
}

void Session::set_slow_handler(Picoseconds over) { core_->checks_->set_slow(over); }

std::vector<WearView> Session::wear() const { return core_->wear(); }

std::vector<Session::Check> Session::checks() const { return core_->checks_->list(); }
Result<void> Session::set_check(const std::string& name, CheckMode mode) {
  return core_->checks_->set(name, mode);
}
std::vector<FindingView> Session::findings() const { return core_->checks_->findings(); }

}  // namespace lucid
