// SPDX-License-Identifier: MIT
// Running and stepping. Everything is made of one stretch of running, `run`, which counts passes
// and knows one temporary target; calls are told apart by the stack pointer, never by counting.
#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "session/core.h"

namespace lucid {
namespace {

constexpr std::uint64_t kSliceTicks = 4'000'000;  // output is delivered at least this often

bool is_call(Flow flow) { return flow == Flow::kCall || flow == Flow::kIndirectCall; }

}  // namespace

void Session::Core::deliver() {
  const std::vector<SerialText> serial = machine().take_serial();
  const auto notes = machine().take_notes();
  if (listener_ == nullptr) return;
  for (const SerialText& text : serial) listener_->on_serial(text.port, text.bytes);
  for (const std::string& note : notes) listener_->on_note(note);
}

isa::Stop Session::Core::run_in_slices(isa::RunRequest request) {
  request.pause_requested = &pause_requested_;
  const std::uint64_t end = request.until_ticks;
  request.endless = end == UINT64_MAX && request.until_cycles == UINT64_MAX;
  for (;;) {
    request.until_ticks = std::min(end, machine().ticks() + kSliceTicks);
    if (!driven_until_.empty())
      request.until_ticks = std::min(request.until_ticks, driven_until_.begin()->first);
    isa::Stop stop = machine().run(request);
    let_go();
    deliver();
    if (stop.why != isa::Stop::Why::kTime || machine().ticks() >= end ||
        machine().cycles() >= request.until_cycles)
      return stop;
    if (listener_ != nullptr)
      listener_->on_progress(to_time(machine().ticks(), machine().info().clock_hz));
    request.pass_first_breakpoint = false;
  }
}

Session::Core::Outcome Session::Core::run(isa::RunRequest request, const Target* target) {
  temporary_ = target != nullptr ? target->addresses : std::vector<std::uint32_t>{};
  if (!temporary_.empty()) sync_marks();
  Outcome outcome;
  request.events = events_wanted();
  request.marks = this;
  int interrupt = -1;
  for (;;) {
    // What the program stands before, or what has been counted, is not met again.
    const std::pair<std::uint32_t, std::uint64_t> here{machine().pc(), machine().ticks()};
    isa::RunRequest stretch = request;
    stretch.pass_first_breakpoint = here == stood_at_ || counted_ == here;
    const bool one = object_under_way() || looks_at_every_instruction();
    if (one) stretch.instructions = 1;
    outcome.stop = run_in_slices(stretch);
    count_passed();
    if (outcome.stop.interrupt >= 0) interrupt = outcome.stop.interrupt;
    const auto why = outcome.stop.why;
    if (digest(outcome.stop, outcome)) {
      outcome.kind = Outcome::Kind::kBreakpoint;
      break;
    }
    if (why == isa::Stop::Why::kAccess || why == isa::Stop::Why::kEvent ||
        (one && why == isa::Stop::Why::kInstructions)) {
      if (request.instructions != UINT64_MAX) {
        outcome.stop.why = isa::Stop::Why::kInstructions;
        break;
      }
      if (request.stop_at_interrupt && outcome.stop.interrupt >= 0) {
        outcome.stop.why = isa::Stop::Why::kInterruptEntered;
        break;
      }
      if (request.within_begin &&
          (machine().pc() < *request.within_begin || machine().pc() >= request.within_end)) {
        outcome.stop.why = isa::Stop::Why::kLeftRange;
        break;
      }
      if (pause_requested_) {
        outcome.stop.why = isa::Stop::Why::kRequested;
        break;
      }
      continue;
    }
    if (why != isa::Stop::Why::kBreakpoint) break;
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
    const bool arrived =
        target != nullptr && machine().sp() >= target->least_sp &&
        std::count(target->addresses.begin(), target->addresses.end(), machine().pc()) != 0;
    if (arrived) {
      outcome.kind = Outcome::Kind::kTarget;
      break;
    }
  }
  if (!temporary_.empty()) {
    temporary_.clear();
    sync_marks();
  }
  return outcome;
}

void Session::Core::remember() { before_ = machine().clone(); }

void Session::Core::count_since(Pause& pause, const Moment& start) const {
  pause.cycles_since = machine().cycles() - start.cycles;
  pause.since = to_time(machine().ticks() - start.ticks, machine().info().clock_hz);
}

void Session::Core::begin_run() {
  remember();
  remarks_.clear();
  level_ = 0;
  pause_requested_ = false;
  running_ = true;
  started_ = {machine().cycles(), machine().ticks()};
  stood_at_ = {machine().pc(), started_.ticks};
  for (Entry& entry : breakpoints_) {
    if (entry.point.spec.kind != BreakpointSpec::Kind::kWhen || entry.object == nullptr) continue;
    entry.held = entry.object->holds(scope()).value_or(false);
  }
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
      case isa::Stop::Why::kRequested: pause.cause = Pause::Cause::kRequested; break;
      case isa::Stop::Why::kBreakInstruction: pause.cause = Pause::Cause::kBreakInstruction; break;
      case isa::Stop::Why::kFault:
        pause.cause = Pause::Cause::kFault;
        pause.detail = isa::fault_text(end.stop);
        break;
      default: break;
    }
  }
  const isa::Machine& m = machine();
  // A breakpoint where another cause paused: its instruction executes next, so this is a pass.
  const std::pair<std::uint32_t, std::uint64_t> here{m.pc(), m.ticks()};
  if (end.kind != Outcome::Kind::kBreakpoint && counted_ != here && !m.interrupt_imminent() &&
      !ids_at(m.pc()).empty() && hit(end) && pause.cause != Pause::Cause::kFault) {
    remarks_.push_back("at a breakpoint, too");
    if (end.cause == Pause::Cause::kCannotTell) pause.detail = end.detail;
  }
  pause.breakpoints = end.ids;
  if (!end.ids.empty()) {
    pause.passes = pause_.passes;
    pause.reached = pause_.reached;
    pause.then = pause_.then;
  }
  pause.where = location(m.pc());
  pause.time = to_time(m.ticks(), m.info().clock_hz);
  pause.cycles = m.cycles();
  count_since(pause, started_);
  pause.remarks = std::move(remarks_);
  remarks_.clear();
  pause_ = pause;
  look_at_watches();
  running_ = false;
  pause_requested_ = false;
  deliver();
  return pause;
}

Pause Session::Core::go(isa::RunRequest request, Pause::Cause at_end) {
  begin_run();
  return finish(run(request), at_end);
}

Result<Pause> Session::Core::go_to(const std::string& place) {
  const auto addresses = resolve(place);
  if (!addresses) return fail(addresses.error());
  begin_run();
  const Target target{*addresses, 0};
  return finish(run({}, &target), Pause::Cause::kArrived, place);
}

Result<Pause> Session::Core::go_until(const std::string& text) {
  auto expression = session::Expression::parse(text, scope());
  if (!expression) return fail(expression.error());
  const session::Scope names = scope();
  if (auto first = expression->holds(names); !first) return fail(first.error());
  begin_run();
  isa::RunRequest request;
  request.instructions = 1;
  for (;;) {
    Outcome outcome = run(request);
    if (outcome.kind == Outcome::Kind::kBreakpoint ||
        outcome.stop.why != isa::Stop::Why::kInstructions)
      return finish(outcome, Pause::Cause::kStep);
    if (pause_requested_) {
      outcome.stop.why = isa::Stop::Why::kRequested;
      return finish(outcome, Pause::Cause::kRequested);
    }
    const auto holds = expression->holds(names);
    if (!holds) return finish(outcome, Pause::Cause::kCannotTell, holds.error().text());
    if (*holds) return finish(outcome, Pause::Cause::kHolds, text);
    if (marks_.count(machine().pc()) != 0 && !machine().interrupt_imminent() && hit(outcome)) {
      outcome.kind = Outcome::Kind::kBreakpoint;
      return finish(outcome, Pause::Cause::kStep);
    }
  }
}

Session::Core::Outcome Session::Core::run_to(std::uint32_t address, std::uint32_t least_sp) {
  const Target target{{address}, least_sp};
  return run({}, &target);
}

std::uint32_t Session::Core::return_address_at_sp() const {
  const isa::CallConvention convention = machine().target().convention();
  std::vector<std::uint8_t> bytes;
  for (std::uint32_t i = 0; i < convention.return_bytes; ++i)
    bytes.push_back(
        machine().peek({Space::kData, machine().sp() + convention.stack_gap + i}).value_or(0));
  return machine().target().return_address(bytes);
}

Pause Session::Core::step_instruction(StepKind kind) {
  begin_run();
  const Instruction instruction = machine().instruction_at(machine().pc(), false);
  const std::uint32_t sp = machine().sp();
  const bool calls = is_call(instruction.flow) && !machine().interrupt_imminent();
  isa::RunRequest request;
  request.instructions = 1;
  Outcome outcome = run(request);
  if (outcome.stop.interrupt >= 0) {
    const auto& vectors = machine().info().vectors;
    const auto number = static_cast<std::size_t>(outcome.stop.interrupt);
    return finish(outcome, Pause::Cause::kStep,
                  fmt::format("interrupt {} was entered",
                              number < vectors.size() ? vectors[number].name : "?"));
  }
  if (kind == StepKind::kOver && calls && outcome.stop.why == isa::Stop::Why::kInstructions)
    outcome = run_to(instruction.address + instruction.size, sp);
  return finish(outcome, Pause::Cause::kStep);
}

/// True if the jump just made leads to the start of another function.
bool Session::Core::is_tail_call(const Instruction& last) const {
  if (last.flow != Flow::kJump && last.flow != Flow::kIndirectJump) return false;
  const Function* callee = program_.function_at(machine().pc());
  return callee != nullptr && callee->begin == machine().pc() &&
         callee != program_.function_at(last.address);
}

/// Runs until the function at hand has returned; does nothing if its caller is not known.
Session::Core::Outcome Session::Core::run_to_caller() {
  const auto frames = session::unwind(program_, machine(), flows_);
  if (frames.size() < 2) return {};
  return run_to(frames[1].pc, frames[0].cfa);
}

/// A call has just been made out of a line. `done`: the step ends in the called function.
std::optional<Session::Core::Outcome> Session::Core::run_through_call(StepKind kind, bool& done) {
  const std::uint32_t back = return_address_at_sp();
  const std::uint32_t sp = machine().sp() + machine().target().convention().return_bytes;
  const Function* callee = program_.function_at(machine().pc());
  done = false;
  if (kind == StepKind::kInto) {
    const std::string filtered = callee != nullptr ? passed_over(*callee) : std::string();
    if (callee != nullptr && !filtered.empty()) {
      remarks_.push_back(fmt::format("ran through {}: {}", callee->name, filtered));
      return run_to(back, sp);
    }
    if (callee != nullptr && callee->has_lines && callee->begin == machine().pc()) {
      done = true;
      const std::uint32_t body = program_.body_of(*callee);
      if (body == machine().pc()) return std::nullopt;
      Outcome outcome = run_to(body, 0);
      return outcome;
    }
    remarks_.push_back(fmt::format("ran through {}: it has no source",
                                   callee != nullptr ? callee->name : place_name(machine().pc())));
  }
  return run_to(back, sp);
}

Result<void> Session::Core::filter_steps(std::vector<std::string> stay_in,
                                         std::vector<std::string> run_through) {
  std::vector<std::string> names;
  for (const SourceFile& file : program_.files())
    if (!file.lines_with_code.empty()) names.push_back(file.name);
  for (const std::string& name : stay_in)
    if (program_.find_files(name).empty())
      return fail(ErrorCode::kNotFound, fmt::format("no file '{}' is part of this program", name),
                  base::did_you_mean(name, names));
  for (const Function& function : program_.functions()) names.push_back(function.name);
  for (const std::string& name : run_through)
    if (program_.find_files(name).empty() && program_.find_functions(name).empty())
      return fail(ErrorCode::kNotFound, fmt::format("there is no file or function '{}'", name),
                  base::did_you_mean(name, names));
  stay_in_ = std::move(stay_in);
  run_through_ = std::move(run_through);
  return {};
}

std::string Session::Core::passed_over(const Function& callee) const {
  const auto line = program_.line_at(callee.begin);
  const std::string file = line ? program_.files()[line->file].name : std::string();
  const auto among = [&](const std::vector<std::string>& list) {
    return std::any_of(list.begin(), list.end(), [&](const std::string& name) {
      return name == callee.name || name == file;
    });
  };
  if (among(run_through_)) return "`run through` says so";
  if (!stay_in_.empty() && !among(stay_in_) && line) return file + " is not among `stay in`";
  return {};
}

/// Does the program stand in an inlined call that has been made from where a step began?
bool Session::Core::deeper(const std::vector<const InlinedCall*>& began_in) const {
  const auto now = program_.inlined_at(machine().pc());
  return now.size() > began_in.size() &&
         std::equal(began_in.rbegin(), began_in.rend(), now.rbegin());
}

/// Runs until the inlined body at hand is left, in this frame.
Pause Session::Core::step_out_of_inlined(const InlinedCall& call) {
  const auto inside = [&] {
    const std::uint32_t pc = machine().pc();
    return std::any_of(call.ranges.begin(), call.ranges.end(), [pc](const Local::Range& range) {
      return pc >= range.begin && pc < range.end;
    });
  };
  Outcome outcome;
  for (;;) {
    isa::RunRequest request;
    const std::uint32_t pc = machine().pc();
    for (const Local::Range& range : call.ranges)
      if (pc >= range.begin && pc < range.end) {
        request.within_begin = range.begin;
        request.within_end = range.end;
      }
    request.stop_at_interrupt = true;
    outcome = run(request);
    if (outcome.kind == Outcome::Kind::kBreakpoint) break;
    const bool call_made = outcome.stop.why == isa::Stop::Why::kLeftRange &&
                           is_call(machine().instruction_at(outcome.stop.last_pc, false).flow);
    if (outcome.stop.interrupt >= 0 || call_made) {
      outcome = run_to(return_address_at_sp(),
                       machine().sp() + machine().target().convention().return_bytes);
      if (outcome.kind != Outcome::Kind::kTarget) break;
    } else if (outcome.stop.why != isa::Stop::Why::kLeftRange) {
      break;
    }
    if (!inside()) break;
  }
  return finish(outcome, Pause::Cause::kStep, "out of " + call.name + ", which is inlined");
}

Pause Session::Core::step_line(StepKind kind) {
  begin_run();
  auto start = program_.line_at(machine().pc());
  if (!start) {  // no source here: an instruction is the smallest thing to step by
    remarks_.emplace_back("no source here: stepped by instruction");
    const auto kept = remarks_;
    Pause pause = step_instruction(kind);
    pause.remarks.insert(pause.remarks.begin(), kept.begin(), kept.end());
    pause_ = pause;
    return pause;
  }
  const std::uint32_t start_sp = machine().sp();
  const std::uint32_t start_begin = start->begin;
  const auto began_in = program_.inlined_at(machine().pc());
  std::optional<std::uint32_t> returned_to;  // in the caller's line, if the function has returned
  LineRange range = *start;
  for (;;) {
    isa::RunRequest request;
    request.within_begin = range.begin;
    request.within_end = range.end;
    request.stop_at_interrupt = true;
    Outcome outcome = run(request);
    if (outcome.kind == Outcome::Kind::kBreakpoint) return finish(outcome, Pause::Cause::kStep);
    bool done = false;
    std::optional<Outcome> through;
    if (outcome.stop.interrupt >= 0) {  // handlers are run through
      const std::uint32_t back = return_address_at_sp();
      through = run_to(back, machine().sp() + machine().target().convention().return_bytes);
    } else if (outcome.stop.why != isa::Stop::Why::kLeftRange) {
      return finish(outcome, Pause::Cause::kStep);
    } else {
      const Instruction last = machine().instruction_at(outcome.stop.last_pc, false);
      if (is_call(last.flow)) {
        through = run_through_call(kind, done);
        if (done && !through) return finish(outcome, Pause::Cause::kStep);
      } else if (last.flow == Flow::kReturn || last.flow == Flow::kInterruptReturn) {
        start = program_.line_at(machine().pc());  // the caller's line: go on to where one begins
        returned_to = machine().pc();
        if (!start) {
          remarks_.emplace_back("returned to code without source");
          return finish(outcome, Pause::Cause::kStep);
        }
      } else if (is_tail_call(last)) {
        const Function* callee = program_.function_at(machine().pc());
        if (kind == StepKind::kInto && callee->has_lines) {
          const std::uint32_t body = program_.body_of(*callee);
          if (body == machine().pc()) return finish(outcome, Pause::Cause::kStep);
          return finish(run_to(body, 0), Pause::Cause::kStep);
        }
        through = run_to_caller();
        start = program_.line_at(machine().pc());
      }
    }
    if (through) {
      if (through->kind != Outcome::Kind::kTarget) return finish(*through, Pause::Cause::kStep);
      if (done) return finish(*through, Pause::Cause::kStep);
      outcome = *through;
    }
    const auto now = program_.line_at(machine().pc());
    if (!now) {  // into code without lines: out of it again
      const Outcome back = run_to_caller();
      start = program_.line_at(machine().pc());
      if (back.kind != Outcome::Kind::kTarget || !start) return finish(back, Pause::Cause::kStep);
      range = *start;
      continue;
    }
    if (kind == StepKind::kOver && deeper(began_in)) {  // the body of an inlined call
      range = *now;
      continue;
    }
    const bool begins = now->statement && now->begin == machine().pc();
    const bool other_line = start && (now->line != start->line || now->file != start->file);
    const bool came_round = outcome.stop.why == isa::Stop::Why::kLeftRange &&
                            (returned_to ? machine().pc() <= *returned_to
                                         : now->begin == start_begin && machine().sp() == start_sp);
    if (begins && (other_line || came_round)) return finish(outcome, Pause::Cause::kStep);
    range = *now;
  }
}

Pause Session::Core::step_out() {
  const auto frames = session::unwind(program_, machine(), flows_);
  begin_run();
  if (const auto inlined = program_.inlined_at(machine().pc()); !inlined.empty())
    return step_out_of_inlined(*inlined.front());
  if (frames.size() < 2) {
    remarks_.emplace_back("there is no caller to step out to: nothing was executed");
    return finish({}, Pause::Cause::kStep);
  }
  return finish(run_to(frames[1].pc, frames[0].cfa), Pause::Cause::kStep,
                frames[0].function != nullptr ? "out of " + frames[0].function->name : "");
}

Result<Pause> Session::Core::stepped(StepKind kind, StepUnit unit, std::uint64_t count) {
  if (count == 0) return fail(ErrorCode::kUsage, "a step is made at least once");
  auto first_before = machine().clone();
  const Moment first_start{machine().cycles(), machine().ticks()};
  Pause pause;
  std::vector<std::string> remarks;
  for (std::uint64_t i = 0; i < count; ++i) {
    pause = kind == StepKind::kOut           ? step_out()
            : unit == StepUnit::kInstruction ? step_instruction(kind)
                                             : step_line(kind);
    remarks.insert(remarks.end(), pause.remarks.begin(), pause.remarks.end());
    const bool early = pause.cause != Pause::Cause::kStep || !pause.breakpoints.empty();
    if (early && i + 1 < count)
      remarks.push_back(fmt::format("after {} of {} steps", i + 1, count));
    if (pause.cause == Pause::Cause::kBreakpoint)
      remarks.emplace_back("paused before the step was finished");
    if (early) break;
  }
  // "Since the last pause" means since the whole command began.
  before_ = std::move(first_before);
  count_since(pause, first_start);
  pause.remarks = std::move(remarks);
  pause_ = pause;
  return pause;
}

Result<Pause> Session::Core::move_to(const std::string& place) {
  const auto addresses = resolve(place);
  if (!addresses) return fail(addresses.error());
  begin_run();
  const Function* from = program_.function_at(machine().pc());
  machine().set_pc((*addresses)[0]);
  const Function* to = program_.function_at(machine().pc());
  if (from != to)
    remarks_.emplace_back(
        "this is another function: the stack and registers are still those of the old one");
  else
    remarks_.emplace_back("nothing between was executed: registers and variables are as they were");
  return finish({Outcome::Kind::kTarget, {}, Pause::Cause::kMoved, {}, {}, {}},
                Pause::Cause::kMoved);
}

Pause Session::Core::reset() {
  begin_run();
  machine().reset();
  if (machine().ticks() > 0) (void)entered({}, "reset = \"external\"\n").has_value();
  counted_.reset();
  return finish({Outcome::Kind::kTarget, {}, Pause::Cause::kReady, {}, {}, {}},
                Pause::Cause::kReady, "reset");
}

}  // namespace lucid
