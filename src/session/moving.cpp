// SPDX-License-Identifier: MIT
// Running and stepping. Everything is made of one stretch of running, `run`, which counts passes
// and knows one temporary target; calls are told apart by the stack pointer, never by counting.
#include <fmt/format.h>

#include <algorithm>

#include "base/names.h"
#include "base/text.h"
#include "session/checks.h"

namespace lucid {
namespace {

const machine::Event* reset_in(const machine::Stop& stop) {
  for (const machine::Event& event : stop.events)
    if (event.kind == machine::EventKind::kReset) return &event;
  return nullptr;
}

}  // namespace

void Session::Core::deliver() {
  const std::vector<SerialText> serial = machine().take_serial();
  const auto notes = machine().take_notes();
  const bool told = listener_ != nullptr && !replaying_;
  for (const SerialText& text : serial) {
    heard_ += text.bytes.size();
    if (told && again_)
      listener_->on_serial_again(text.port, text.bytes);
    else if (told)
      listener_->on_serial(text.port, text.bytes);
  }
  for (const machine::Note& note : notes)
    if (!replaying_) checks_->take(note);
  const std::vector<std::string> found = std::exchange(found_, {});
  if (!told) return;
  for (const machine::Note& note : notes) listener_->on_note(told_note(note));
  for (const std::string& text : found) listener_->on_note("found: " + text);
}

machine::Stop Session::Core::run_in_slices(machine::RunRequest request) {
  request.pause_requested = &attention_;
  const std::uint64_t end = request.until_ticks;
  request.endless = end == UINT64_MAX && request.until_cycles == UINT64_MAX;
  for (;;) {
    if (happen()) {
      request.pass_first_breakpoint = true;
      hear_on();
    }
    again_ = in_past();
    request.until_ticks = std::min({end, later(kSliceTicks), limit_end_, next_pace_, next_stop()});
    machine().count_apart(again_ || walking_);
    machine::Stop stop = machine().run(request);
    count_passed();  // a copy that is kept here has them
    deliver();
    look_at_timeline();
    if (machine().ticks() >= next_pace_) keep_pace();
    if (attention_.exchange(false)) {
      if (!replaying_) do_posted();
      hear_on();
      if (stop.why == machine::Stop::Why::kTime) stop.why = machine::Stop::Why::kRequested;
    }
    // A run that looks at each instruction comes by often, in little simulated time.
    constexpr unsigned kOften = 1024;
    const bool sliced = stop.why == machine::Stop::Why::kTime;
    if (sliced || ++stretches_ % kOften == 0) tell_progress();
    if (stop.why == machine::Stop::Why::kTime && unmet_here()) {
      stop.why = machine::Stop::Why::kBreakpoint;
      return stop;
    }
    if (stop.why != machine::Stop::Why::kTime || machine().ticks() >= end ||
        machine().cycles() >= request.until_cycles || over_limit())
      return stop;
    request.pass_first_breakpoint = false;
  }
}

void Session::Core::tell_progress() {
  if (listener_ != nullptr)
    listener_->on_progress(to_time(machine().ticks(), machine().info().clock_hz));
}

void Session::Core::do_posted() {
  std::vector<std::function<void()>> requests;
  {
    const std::lock_guard<std::mutex> lock(posting_);
    requests.swap(posted_);
  }
  for (const auto& request : requests) request();
}

void Session::Core::keep_pace() {
  const std::uint64_t hz = machine().info().clock_hz;
  next_pace_ = later(std::max<std::uint64_t>(1, to_ticks(pace_, hz)));
  if (in_past()) {  // what comes from outside waits until the present is passed
    next_pace_ = std::max(next_pace_, timeline_.end().tick + 1);
    return;
  }
  if (listener_ == nullptr) return;
  for (const SerialText& text : listener_->on_pace(to_time(machine().ticks(), hz)))
    (void)feed(text.port, text.bytes).has_value();
}

Session::Core::Outcome Session::Core::run(machine::RunRequest request, const Target* target) {
  temporary_.clear();
  target_ = target;
  if (target != nullptr)
    for (const Target::Place& place : target->places) temporary_.push_back(place.address);
  if (!temporary_.empty()) sync_marks();
  Outcome outcome;
  request.marks = this;
  int interrupt = -1;
  for (;;) {
    make_marks();
    allow_passes();
    // What the program stands before, or what has been counted, is not met again.
    const std::pair<std::uint32_t, std::uint64_t> here{machine().pc(), machine().ticks()};
    machine::RunRequest stretch = request;
    stretch.pass_first_breakpoint = here == stood_at_ || counted_ == here;
    if (stretch.pass_first_breakpoint) {
      stand_in_trace();
      executes(here.first);
    }
    const bool one = object_under_way() || looks_at_every_instruction();
    if (one) stretch.instructions = 1;
    stretch.events = events_wanted() | events_too_;
    if (steps_) stretch.events |= machine::bit(machine::EventKind::kReset);
    outcome.stop = run_in_slices(stretch);
    if (outcome.stop.interrupt >= 0) interrupt = outcome.stop.interrupt;
    const auto why = outcome.stop.why;
    if (digest(outcome.stop, outcome)) {
      outcome.kind = Outcome::Kind::kBreakpoint;
      break;
    }
    if (const machine::Event* reset = steps_ ? reset_in(outcome.stop) : nullptr) {
      outcome.kind = Outcome::Kind::kBreakpoint;  // what was stepped through is no more
      outcome.cause = Pause::Cause::kEvent;
      outcome.detail = event_text(*reset);
      break;
    }
    if (why == machine::Stop::Why::kAccess || why == machine::Stop::Why::kEvent ||
        (one && why == machine::Stop::Why::kInstructions)) {
      if (events_too_ != 0) break;
      if (request.instructions != UINT64_MAX) {
        outcome.stop.why = machine::Stop::Why::kInstructions;
        break;
      }
      if (request.stop_at_interrupt && outcome.stop.interrupt >= 0) {
        outcome.stop.why = machine::Stop::Why::kInterruptEntered;
        break;
      }
      if (request.within_begin &&
          (machine().pc() < *request.within_begin || machine().pc() >= request.within_end)) {
        outcome.stop.why = machine::Stop::Why::kLeftRange;
        break;
      }
      if (pause_requested_ || over_limit()) {
        outcome.stop.why =
            pause_requested_ ? machine::Stop::Why::kRequested : machine::Stop::Why::kTime;
        break;
      }
      continue;
    }
    // Something was posted: it may have set breakpoints.
    if (why == machine::Stop::Why::kRequested && !pause_requested_) continue;
    if (why != machine::Stop::Why::kBreakpoint) break;
    stand_in_trace();
    end_frames();
    if (hit(outcome)) {
      outcome.kind = Outcome::Kind::kBreakpoint;
      break;
    }
    if (pause_without_handler_ && no_handler_ && machine().pc() == *no_handler_) {
      const auto& vectors = machine().info().vectors;
      const auto number = static_cast<std::size_t>(interrupt);
      outcome.kind = Outcome::Kind::kBreakpoint;
      outcome.cause = Pause::Cause::kFault;
      outcome.detail =
          fmt::format("interrupt {} has been entered and has no handler: it leads to a restart",
                      interrupt >= 0 && number < vectors.size() ? vectors[number].name : "?");
      break;
    }
    if ((target != nullptr && target->is_at(machine().pc(), machine().sp())) ||
        also_at_.count(machine().pc()) != 0) {
      outcome.kind = Outcome::Kind::kTarget;
      break;
    }
  }
  target_ = nullptr;
  if (!temporary_.empty()) {
    temporary_.clear();
    sync_marks();
  }
  return outcome;
}

/// For people, with the pause that comes; what is said again is counted.
void Session::Core::Remarks::add(const std::string& text, std::uint64_t times) {
  constexpr std::size_t kMost = 100;
  const auto same = std::find_if(all.begin(), all.end(),
                                 [&](const auto& remark) { return remark.first == text; });
  if (same != all.end())
    same->second += times;
  else if (all.size() < kMost)
    all.emplace_back(text, times);
}
std::vector<std::string> Session::Core::Remarks::texts() const {
  std::vector<std::string> out;
  for (const auto& [text, times] : all)
    out.push_back(times == 1 ? text : fmt::format("{} ({} times)", text, times));
  return out;
}

void Session::Core::remember() { before_ = machine().clone(); }

void Session::Core::count_since(Pause& pause, const Instant& start) const {
  const bool back = machine().ticks() < start.ticks;
  const std::uint64_t ticks = machine().ticks();
  const std::uint64_t cycles = machine().cycles();
  pause.cycles_since = back ? start.cycles - cycles : cycles - start.cycles;
  pause.since =
      to_time(back ? start.ticks - ticks : ticks - start.ticks, machine().info().clock_hz);
}

void Session::Core::begin_run() {
  if (!replaying_) {  // what was armed later, in what is the future now, counts from here
    for (Entry& entry : breakpoints_)
      if (now() < entry.armed_at) arm(entry);
    if (armings_ != kept_armings_) keep_here();
    kept_armings_ = armings_;
  }
  remember();
  remarks_ = {};
  returned_.clear();
  level_ = 0;
  running_ = true;
  started_ = {machine().cycles(), machine().ticks()};
  const std::uint64_t hz = machine().info().clock_hz;
  const auto later = [&](Picoseconds span) {
    return span.count == 0 ? UINT64_MAX
                           : this->later(std::max<std::uint64_t>(1, to_ticks(span, hz)));
  };
  limit_end_ = later(limit_);
  next_pace_ = later(pace_);
  stood_at_ = {machine().pc(), started_.ticks};
  for (Entry& entry : breakpoints_) {
    if (entry.point.spec.kind != BreakpointSpec::Kind::kWhen || entry.object == nullptr) continue;
    entry.held = entry.object->holds(scope()).value_or(false);
  }
  if (!replaying_ && !recording_.empty()) listen(recording_);
}

/// Works out the pause that an outcome stands for, and counts the breakpoints that stand here.
Pause Session::Core::finish(const Outcome& outcome, Pause::Cause at_end, std::string detail) {
  Outcome end = outcome;
  Pause pause;
  pause.cause = at_end;
  pause.detail = std::move(detail);
  if (end.kind == Outcome::Kind::kBreakpoint) {
    pause.cause = end.cause;
    pause.detail = end.detail;
    pause.data = end.data;
  } else if (end.kind == Outcome::Kind::kEnd) {
    switch (end.stop.why) {
      case machine::Stop::Why::kRequested: pause.cause = Pause::Cause::kRequested; break;
      case machine::Stop::Why::kBreakInstruction:
        pause.cause = Pause::Cause::kBreakInstruction;
        break;
      case machine::Stop::Why::kFault:
        pause.cause = Pause::Cause::kFault;
        pause.detail = end.stop.fault == machine::Fault::kCheck ? checks_->ended_by()
                                                                : machine::fault_text(end.stop);
        break;
      default: break;
    }
    if (pause.cause == at_end && over_limit() && at_end != Pause::Cause::kTimeUp) {
      pause.cause = Pause::Cause::kLimit;
      pause.detail = to_text(limit_);
    }
  }
  if (listening_ != nullptr) stop_listening(*listening_);
  const machine::Machine& m = machine();
  // A breakpoint where another cause paused: its instruction executes next, so this is a pass. At
  // a BREAK it has been met before that.
  const std::pair<std::uint32_t, std::uint64_t> here{m.pc(), m.ticks()};
  if (end.kind != Outcome::Kind::kBreakpoint && counted_ != here &&
      end.stop.why != machine::Stop::Why::kBreakInstruction && !m.interrupt_imminent() &&
      !ids_at(m.pc()).empty() && hit(end) && pause.cause != Pause::Cause::kFault) {
    remark("at a breakpoint, too");
    if (end.cause == Pause::Cause::kCannotTell) pause.detail = end.detail;
  }
  pause.breakpoints = end.ids;
  if (!end.ids.empty()) {
    pause.passes = pause_.passes;
    pause.reached = pause_.reached;
    pause.then = pause_.then;
  }
  pause.where = location(m.pc());
  if (!pause.where.vector.empty() && end.stop.interrupt >= 0) {
    pause.interrupt = pause.where.vector;
    if (const auto target = m.instruction_at(m.pc()).target) pause.handler = location(*target);
    const auto levels = callers();
    if (levels.size() > 1) pause.interrupted = levels[levels.size() - 2].where;
  }
  pause.time = to_time(m.ticks(), m.info().clock_hz);
  pause.cycles = m.cycles();
  count_since(pause, started_);
  pause.remarks = remarks_.texts();
  pause.returned = std::move(returned_);
  returned_.clear();
  pause_ = pause;
  look_at_watches();
  running_ = false;
  asked_ = pause_requested_.exchange(false) && pause.cause != Pause::Cause::kRequested;
  deliver();
  if (!in_past()) timeline_.reach(now());
  told(pause);
  note_pause(pause);
  return pause;
}

/// Where something has paused, rather than a step or a time that was over.
void Session::Core::note_pause(const Pause& pause) {
  switch (pause.cause) {
    case Pause::Cause::kReady:
    case Pause::Cause::kStep:
    case Pause::Cause::kTimeUp:
    case Pause::Cause::kMoved:
    case Pause::Cause::kLimit:
      if (pause.breakpoints.empty()) return;
      break;
    default: break;
  }
  constexpr std::size_t kMost = 10'000;
  const std::uint64_t tick = machine().ticks();
  const auto at =
      std::lower_bound(paused_.begin(), paused_.end(), tick,
                       [](const Paused& other, std::uint64_t t) { return other.tick < t; });
  const Paused paused{tick, {pause.time, pause.cause, pause.breakpoints}};
  if (at != paused_.end() && at->tick == tick)
    *at = paused;
  else
    paused_.insert(at, paused);
  if (paused_.size() > kMost) paused_.erase(paused_.begin());
}

std::vector<Session::PausedView> Session::pauses() const {
  std::vector<PausedView> out;
  for (const Core::Paused& paused : core_->paused_) out.push_back(paused.view);
  return out;
}

/// A time that is told may be given back.
void Session::Core::told(Picoseconds time, std::uint64_t tick) {
  constexpr std::size_t kMost = 10'000;
  if (told_times_.size() > kMost) told_times_.erase(told_times_.begin());
  if (const auto shown = parse_time(to_text(time))) told_times_[shown->count] = tick;
}

Picoseconds Session::Core::meant(Picoseconds time) const {
  const auto told = told_times_.find(time.count);
  return told == told_times_.end() ? time : to_time(told->second, machine().info().clock_hz);
}

Pause Session::Core::go(machine::RunRequest request, Pause::Cause at_end) {
  begin_run();
  return finish(run(request), at_end);
}

Result<Pause> Session::Core::go_to(const std::vector<std::string>& places, std::uint64_t until) {
  Target target;
  for (const std::string& place : places) {
    const auto addresses = resolve(place);
    if (!addresses) return fail(addresses.error());
    for (const std::uint32_t address : *addresses) target.places.push_back({address, {}});
  }
  begin_run();
  machine::RunRequest request;
  request.until_ticks = until;
  const Outcome outcome = run(request, &target);
  const bool here = outcome.stop.why == machine::Stop::Why::kBreakpoint &&
                    target.is_at(machine().pc(), machine().sp());
  return outcome.kind == Outcome::Kind::kTarget
             ? found(true, finish(outcome, Pause::Cause::kArrived, places[0]))
             : found(here, finish(outcome, at_end(until)));
}

Pause Session::Core::found(bool it, Pause pause) {
  pause_.found = pause.found = it;
  return pause;
}

/// Why a run ends where nothing is met.
Pause::Cause Session::Core::at_end(std::uint64_t until) const {
  return machine().ticks() >= until ? Pause::Cause::kTimeUp : Pause::Cause::kStep;
}

/// Runs on until something is there, beside whatever breakpoints there are.
Session::Core::Outcome Session::Core::seek(Entry entry, std::uint64_t until) {
  sought_ = std::move(entry);
  sync_marks();
  machine::RunRequest request;
  request.until_ticks = until;
  Outcome outcome = run(request);
  sought_.reset();
  sync_marks();
  if (outcome.sought) outcome.kind = Outcome::Kind::kTarget;  // breakpoints here are counted, too
  return outcome;
}

Result<Pause> Session::Core::go_until(const std::string& text, std::uint64_t until) {
  Entry entry;
  entry.point.spec.kind = BreakpointSpec::Kind::kWhen;
  entry.point.spec.place = text;
  if (auto bound = bind_object(entry); !bound) return fail(bound.error());
  const std::shared_ptr<const expression::Expression> expression = entry.object;
  const frames::Scope names = scope();
  begin_run();
  machine::RunRequest request;
  request.instructions = 1;
  request.until_ticks = until;
  for (;;) {
    Outcome outcome = run(request);
    if (outcome.kind == Outcome::Kind::kBreakpoint ||
        outcome.stop.why != machine::Stop::Why::kInstructions)
      return finish(outcome, at_end(until));
    if (pause_requested_) {
      outcome.stop.why = machine::Stop::Why::kRequested;
      return finish(outcome, Pause::Cause::kRequested);
    }
    if (over_limit()) {
      outcome.stop.why = machine::Stop::Why::kTime;
      return finish(outcome, at_end(until));
    }
    const auto holds = expression->holds(names);
    if (!holds) return finish(outcome, Pause::Cause::kCannotTell, holds.error().text());
    if (*holds) return found(true, finish(outcome, Pause::Cause::kHolds, text));
    if (machine().ticks() >= until) return finish(outcome, Pause::Cause::kTimeUp);
    if (marks_.count(machine().pc()) != 0 && !machine().interrupt_imminent() && hit(outcome)) {
      outcome.kind = Outcome::Kind::kBreakpoint;
      return finish(outcome, Pause::Cause::kStep);
    }
    // What stays where it is is looked at when it changes.
    if (entry.every_instruction) continue;
    outcome = seek(std::move(entry), until);
    if (!outcome.sought) return finish(outcome, at_end(until));
    return found(outcome.cause == Pause::Cause::kHolds,
                 finish(outcome, outcome.cause, outcome.detail));
  }
}

Result<Pause> Session::Core::go_until_sent(const std::string& port, const std::string& text,
                                           std::uint64_t until) {
  if (text.empty()) return fail(ErrorCode::kUsage, "no text to wait for");
  Entry entry;
  entry.point.spec.kind = BreakpointSpec::Kind::kByteOut;
  entry.point.spec.place = port;
  if (auto bound = bind_event(entry); !bound) return fail(bound.error());
  begin_run();
  // Where something else has paused, what was heard until then is not forgotten.
  const std::string wish = port + "\n" + text;
  if (wish != heard_wish_ || machine().ticks() != heard_until_ || in_past()) last_heard_.clear();
  heard_wish_ = wish;
  sought_text_ = text;
  const Outcome outcome = seek(std::move(entry), until);
  heard_until_ = machine().ticks();
  if (!outcome.sought) return finish(outcome, at_end(until));
  last_heard_.clear();
  return found(true, finish(outcome, Pause::Cause::kEvent,
                            fmt::format("{} has sent what was waited for", port)));
}

Result<void> Session::Core::filter_steps(std::vector<std::string> stay_in,
                                         std::vector<std::string> run_through) {
  std::vector<std::string> names;
  for (const SourceFile& file : program_.files())
    if (!file.lines_with_code.empty()) names.push_back(file.name);
  for (const std::string& name : stay_in)
    if (program_.find_files(name).empty())
      return fail(ErrorCode::kNotFound, fmt::format("no file '{}' is part of this program", name),
                  did_you_mean(name, names));
  for (const Function& function : program_.functions()) names.push_back(function.name);
  for (const std::string& name : run_through)
    if (program_.find_files(name).empty() && program_.find_functions(name).empty())
      return fail(ErrorCode::kNotFound, fmt::format("there is no file or function '{}'", name),
                  did_you_mean(name, names));
  stay_in_ = std::move(stay_in);
  run_through_ = std::move(run_through);
  return {};
}

std::string Session::Core::passed_over(const Function& callee) const {
  if (run_all_through_) return "it was stepped over";
  const auto line = program_.line_at(callee.begin);
  const std::string file = line ? program_.files()[line->file].name : std::string();
  const auto among = [&](const std::vector<std::string>& list) {
    return std::any_of(list.begin(), list.end(), [&](const std::string& name) {
      return base::means(callee.name, name) || name == file;
    });
  };
  if (among(run_through_)) return "`run through` says so";
  if (!stay_in_.empty() && !among(stay_in_) && line) return file + " is not among `stay in`";
  return {};
}

Result<Pause> Session::Core::stepped(StepKind kind, StepUnit unit, std::uint64_t count) {
  if (count == 0) return fail(ErrorCode::kUsage, "a step is made at least once");
  auto first_before = machine().clone();
  const Instant first_start{machine().cycles(), machine().ticks()};
  Pause pause;
  Remarks remarks;
  steps_ = true;
  for (std::uint64_t i = 0; i < count; ++i) {
    pause = kind == StepKind::kOut           ? step_out()
            : unit == StepUnit::kInstruction ? step_instruction(kind)
                                             : step_line(kind);
    for (const auto& [text, times] : remarks_.all) remarks.add(text, times);
    if (limit_.count != 0 && pause.cause == Pause::Cause::kStep && i + 1 < count &&
        to_time(machine().ticks() - first_start.ticks, machine().info().clock_hz).count >=
            limit_.count) {
      pause.cause = Pause::Cause::kLimit;
      pause.detail = to_text(limit_);
    }
    const bool early = pause.cause != Pause::Cause::kStep || !pause.breakpoints.empty();
    if (asked_ && !early) remarks.add("a pause was asked for", 1);
    if (asked_) break;
    if (early && i + 1 < count) remarks.add(fmt::format("after {} of {} steps", i + 1, count), 1);
    if (pause.cause == Pause::Cause::kBreakpoint)
      remarks.add("paused before the step was finished", 1);
    if (early) break;
  }
  steps_ = false;
  // "Since the last pause" means since the whole command began.
  before_ = std::move(first_before);
  count_since(pause, first_start);
  pause.remarks = remarks.texts();
  pause_ = pause;
  return pause;
}

Result<Pause> Session::Core::move_to(const std::string& place) {
  const auto addresses = resolve(place);
  if (!addresses) return fail(addresses.error());
  begin_run();
  const Function* from = program_.function_at(machine().pc());
  machine().set_pc((*addresses)[0]);
  record::Act act;
  act.edits.push_back({machine::Edit::Kind::kPlace, {}, 0, (*addresses)[0]});
  act.standing = true;
  acted(std::move(act));
  const Function* to = program_.function_at(machine().pc());
  if (from != to)
    remark("this is another function: the stack and registers are still those of the old one");
  else
    remark("nothing between was executed: registers and variables are as they were");
  return finish({Outcome::Kind::kTarget, {}, Pause::Cause::kMoved, {}, {}, {}},
                Pause::Cause::kMoved);
}

Pause Session::Core::reset() {
  begin_run();
  machine().reset();
  Input input;
  input.reset = true;
  record::Act act;
  act.input = std::move(input);
  act.standing = true;
  if (machine().ticks() > 0) acted(std::move(act));
  counted_.reset();
  return finish({Outcome::Kind::kTarget, {}, Pause::Cause::kReady, {}, {}, {}},
                Pause::Cause::kReady, "reset");
}

}  // namespace lucid
