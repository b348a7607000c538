// SPDX-License-Identifier: MIT
// The runs of a race search: to the function, through it, and with interrupts in the middle.
#include "session/race.h"

#include <fmt/format.h>

#include <algorithm>

#include "session/kept.h"
#include "session/quiet.h"

namespace lucid {

using machine::Machine;
using machine::Stop;
using Finding = RaceView::Finding;

Result<RaceView> Session::Core::Race::search() {
  if (auto found = find_names(); !found) return fail(found.error());
  if (auto reached = reach(); !reached) return fail(reached.error());
  if (auto ready = prepare(); !ready) return fail(ready.error());
  try_all();
  core_.races_.clear();
  core_.races_from_ = core_.keep();
  for (Found& found : found_) {
    view_.findings.push_back(std::move(found.finding));
    core_.races_.push_back(std::move(found.raced));
  }
  return std::move(view_);
}

Result<RaceView> Session::Core::Race::search(const Stretch& stretch, const Machine& at_begin) {
  stretch_ = &stretch;
  if (auto found = find_names(); !found) return fail(found.error());
  base_ = at_begin.clone();
  if (auto ready = prepare(); !ready) return fail(ready.error());
  try_all();
  return std::move(view_);
}

void Session::Core::Race::try_all() {
  (void)walk();
  for (const Variant& variant : asked_ ? std::vector<Variant>() : variants()) {
    variant_ = variant;
    if (walk()) view_.also_with.push_back(variant.text);
    if (asked_) break;
  }
  view_.interrupted = asked_;
  std::stable_sort(found_.begin(), found_.end(),
                   [](const Found& a, const Found& b) { return a.finding.kind < b.finding.kind; });
}

tl::unexpected<Error> Session::Core::Race::interrupted() const {
  return fail(ErrorCode::kUsage, "interrupted: nothing has been searched yet");
}

Result<void> Session::Core::Race::find_names() {
  for (const Function* f : core_.program_.find_functions(spec_.function))
    if (f->begin < f->end) functions_.push_back(f);
  if (functions_.empty() && stretch_ == nullptr) {
    const auto& bodies = core_.program_.inlined_calls();
    if (std::any_of(bodies.begin(), bodies.end(),
                    [&](const InlinedCall& call) { return call.name == spec_.function; }))
      return fail(ErrorCode::kUnsupported,
                  spec_.function + " is inlined: its body stands in those that call it",
                  "name the function that it is in");
    return fail(ErrorCode::kNotFound, fmt::format("there is no function '{}'", spec_.function),
                core_.functions_like(spec_.function));
  }
  std::vector<std::string> names = spec_.interrupts;
  const bool all = names.empty();
  if (all)
    for (const auto& [number, begin] : core_.handler_begins())
      if (number != 0 && core_.program_.function_at(begin) != nullptr && begin != core_.no_handler_)
        names.push_back(core_.machine().info().vectors[number].name);
  for (const std::string& name : names) {
    const auto number = core_.vector_named(name);
    if (!number) return fail(number.error());
    Vector vector;
    vector.number = *number;
    vector.view.name = name;
    vectors_.push_back(std::move(vector));
  }
  if (vectors_.empty())
    return fail(ErrorCode::kNotFound, "the program has no handler of any interrupt");
  if (spec_.pair && (vectors_.size() != 2 || vectors_[0].number == vectors_[1].number))
    return fail(ErrorCode::kUsage, "a pair is of two interrupts", "name them");
  return {};
}

Picoseconds Session::Core::Race::at_most(Picoseconds span) const {
  const Picoseconds limit = core_.limit_;
  return limit.count != 0 && limit.count < span.count ? limit : span;
}

Result<void> Session::Core::Race::reach() {
  Core& c = core_;
  std::vector<std::uint32_t> entries;
  for (const Function* f : functions_) entries.push_back(f->begin);
  std::vector<std::uint32_t> from;
  if (!spec_.from.empty()) {
    const auto places = c.resolve(spec_.from);
    if (!places) return fail(places.error());
    from = *places;
  }
  const auto stands_at = [&](const std::vector<std::uint32_t>& places) {
    return std::find(places.begin(), places.end(), c.machine().pc()) != places.end() &&
           !c.machine().interrupt_imminent();
  };
  if (from.empty() && stands_at(entries)) {
    base_ = c.machine().clone();
  } else {
    const std::uint64_t until =
        c.later(to_ticks(at_most(spec_.within), c.machine().info().clock_hz));
    bool arrived = true, asked = false;
    const auto gone = away(c, [&](const Faults& faults) {
      if (!from.empty()) arrived = come_to(c, from, until);
      // A function's own entry may be the place.
      arrived = arrived && ((!from.empty() && stands_at(entries)) || come_to(c, entries, until));
      base_ = c.machine().clone();
      for (const machine::Fault fault : faults) base_->set_fault(fault, true);
      asked = c.pause_requested_.exchange(false);
    });
    if (!gone) return gone;
    if (asked) return interrupted();
    if (!arrived)
      return fail(
          ErrorCode::kNotFound,
          fmt::format("{} is not called within {}", spec_.function, to_text(at_most(spec_.within))),
          "go nearer to where it is, or say which one with `from PLACE`");
  }
  return {};
}

Result<void> Session::Core::Race::away(Core& core,
                                       const std::function<void(const Faults&)>& action) {
  const auto kept = core.keep();
  Faults faults;
  for (unsigned kind = 1; kind <= static_cast<unsigned>(machine::Fault::kOutside); ++kind)
    if (core.machine().fault_is_on(static_cast<machine::Fault>(kind)))
      faults.push_back(static_cast<machine::Fault>(kind));
  core.begin_run_quietly();
  core.limit_end_ = core.next_pace_ = UINT64_MAX;
  {
    const Quiet quiet(core);
    action(faults);
  }
  core.running_ = false;
  if (auto back = core.return_to(*kept); !back) return fail(back.error());
  return {};
}

bool Session::Core::Race::come_to(Core& core, const std::vector<std::uint32_t>& places,
                                  std::uint64_t until) {
  Target target;
  for (const std::uint32_t place : places) target.places.push_back({place, {}});
  core.stood_at_ = {core.machine().pc(), core.machine().ticks()};
  machine::RunRequest request;
  request.until_ticks = until;
  return core.run(request, &target).kind == Outcome::Kind::kTarget;
}

Result<void> Session::Core::Race::prepare() {
  for (const std::uint32_t address : core_.marks_) (void)base_->set_breakpoint(address, false);
  for (const auto& [address, kinds] : core_.watches_) (void)base_->watch(address, 0);
  const std::uint64_t hz = base_->info().clock_hz;
  function_ = core_.program_.function_at(base_->pc());
  if (stretch_ != nullptr) {
    returns_to_ = stretch_->behind;
    sp_behind_ = base_->sp();
  } else {
    const auto frames = frames::unwind(core_.program_, *base_, core_.flows_);
    if (frames.empty() || !frames.front().known || frames.front().return_slot == 0)
      return fail(ErrorCode::kUnsupported,
                  "where " + spec_.function + " returns to cannot be told");
    returns_to_ = frames.front().returns_to;
    sp_behind_ = frames.front().cfa;
  }
  const std::uint64_t longest = to_ticks(at_most(spec_.longest), hz);
  entered_ = base_->ticks();
  entered_cycle_ = base_->cycles();
  until_ = longest > UINT64_MAX - entered_ ? UINT64_MAX : entered_ + longest;
  view_.function = function_->name;
  view_.expectation = spec_.expectation;
  view_.where = core_.location(base_->pc());
  view_.entered = to_time(entered_, hz);
  choose_spans();
  if (!spec_.expectation.empty()) {
    auto parsed = expression::Expression::parse(spec_.expectation, scope(*base_));
    if (!parsed) return fail(parsed.error());
    if (parsed->uses_locals())
      return fail(ErrorCode::kUsage,
                  "the expectation is worked out when " + spec_.function +
                      " has returned: it has no locals any more",
                  "say it of variables, or of the register that its value is returned in");
    expectation_ = std::make_unique<expression::Expression>(std::move(*parsed));
    if (const auto value = expectation_->holds(scope(*base_)); !value) return fail(value.error());
  }
  fork_ = base_->clone();
  if (auto marked = fork_->set_breakpoint(returns_to_, true); !marked) return marked;
  if (!run_to_end(*fork_)->returned)
    return asked_ ? interrupted()
                  : fail(ErrorCode::kUsage,
                         fmt::format("{} does not return within {}", spec_.function,
                                     to_text(at_most(spec_.longest))),
                         "name a function that it calls");
  return {};
}

auto Session::Core::Race::run_to_end(Machine& machine) -> std::unique_ptr<Ending> {
  auto out = std::make_unique<Ending>();
  machine::RunRequest request;
  request.until_ticks = until_;
  request.pause_requested = &core_.pause_requested_;
  for (;;) {
    const Stop stop = machine.run(request);
    request.pass_first_breakpoint = true;
    if (stop.why == Stop::Why::kBreakpoint) {
      if (machine.sp() != sp_behind_) continue;
      out->returned = true;
      break;
    }
    if (stop.why == Stop::Why::kRequested) asked_ = true;
    out->kind = Finding::Kind::kStuck;
    if (stop.why == Stop::Why::kFault) {
      out->kind = Finding::Kind::kFault;
      out->detail = machine::fault_text(stop);
    }
    break;
  }
  return out->returned ? ended(machine) : std::move(out);
}

auto Session::Core::Race::ended(const Machine& machine) const -> std::unique_ptr<Ending> {
  auto out = std::make_unique<Ending>();
  out->returned = true;
  out->bytes = bytes_of(machine);
  if (expectation_ != nullptr) {
    const auto quick = expectation_->quick_truth(machine);
    out->holds = quick ? *quick : expectation_->holds(scope(machine)).value_or(false);
  }
  return out;
}

bool Session::Core::Race::walk() {
  if (spec_.pair) return walk_pairs();
  const auto here = base_->clone();
  for (const machine::Edit& edit : variant_.edits) (void)machine::make(*here, edit);
  (void)fork_->assume(*here);
  before_.clear();
  behind_.clear();
  // The two orders first.
  const auto end = run_to_end(*fork_);
  if (!end->returned) return false;
  const auto at_end = first_return(*here);
  for (std::size_t v = 0; v < vectors_.size(); ++v) {
    before_.push_back(order(*here, v));
    behind_.push_back(order(*at_end, v));
    if (asked_) return false;
    view_.broken_before = view_.broken_before || is_broken(before_[v]);
    view_.broken_behind = view_.broken_behind || is_broken(behind_[v]);
  }
  for (std::size_t v = 0; v < vectors_.size(); ++v)
    if (before_[v] == nullptr || behind_[v] == nullptr) vectors_[v].view.compared = false;
  std::uint64_t boundaries = 0;
  passed_ = 0;
  machine::RunRequest one;
  one.instructions = 1;
  one.pass_first_breakpoint = true;
  for (;; ++boundaries) {
    if (here->pc() == returns_to_ && here->sp() == sp_behind_) break;
    if (boundaries != 0) {  // at the entry itself it is one of the orders
      for (std::size_t v = 0; v < vectors_.size(); ++v) place(*here, v);
      if (asked_) break;
    }
    if (stretch_ != nullptr && passed_ < stretch_->open.parts.size() &&
        here->pc() == stretch_->open.parts[passed_].pc)
      ++passed_;
    if (here->run(one).why == Stop::Why::kFault || here->ticks() >= until_) break;
  }
  note_walk(boundaries);
  return true;
}

std::unique_ptr<Machine> Session::Core::Race::first_return(const Machine& from) const {
  auto out = from.clone();
  machine::RunRequest one;
  one.instructions = 1;
  one.pass_first_breakpoint = true;
  while ((out->pc() != returns_to_ || out->sp() != sp_behind_) && out->ticks() < until_)
    (void)out->run(one);
  return out;
}

auto Session::Core::Race::order(const Machine& here, std::size_t v) -> std::unique_ptr<Ending> {
  (void)fork_->assume(here);
  if (!enter(*fork_, v)) return nullptr;
  auto out = run_to_end(*fork_);
  out->machine = fork_->clone();
  return out->returned ? std::move(out) : nullptr;
}

bool Session::Core::Race::enter(Machine& machine, std::size_t v) const {
  if (machine.raise(vectors_[v].number, spec_.byte) == Machine::Raised::kNot ||
      !machine.interrupt_imminent())
    return false;
  machine::RunRequest request;
  request.stop_at_interrupt = true;
  return machine.run(request).why == Stop::Why::kInterruptEntered;
}

auto Session::Core::Race::order(const Machine& at_entry, const Machine& at_end,
                                const std::array<std::size_t, 2>& which, unsigned before)
    -> std::unique_ptr<Ending> {
  (void)fork_->assume(before != 0 ? at_entry : at_end);
  for (unsigned i = 0; i < 2; ++i) {
    if (i == before && before != 0 && !run_to_end(*fork_)->returned) return nullptr;
    const std::uint32_t pc = fork_->pc(), sp = fork_->sp();
    // As if some other instruction had been executed since the handler before this one.
    fork_->set_pc(pc);
    if (!enter(*fork_, which[i])) return nullptr;
    // Back to where it came; the entry is no place at which the fork stops by itself.
    machine::RunRequest one;
    one.instructions = 1;
    one.pass_first_breakpoint = true;
    while ((fork_->pc() != pc || fork_->sp() != sp) && fork_->ticks() < until_)
      (void)fork_->run(one);
  }
  auto out = before == 2 ? run_to_end(*fork_) : ended(*fork_);
  out->machine = fork_->clone();
  return out->returned ? std::move(out) : nullptr;
}

bool Session::Core::Race::walk_pairs() {
  const auto here = base_->clone();
  for (const machine::Edit& edit : variant_.edits) (void)machine::make(*here, edit);
  const auto at_end = first_return(*here);
  std::vector<std::unique_ptr<Ending>> all;
  Orders orders;
  for (const unsigned before : {2U, 1U, 0U})
    for (const std::size_t first : {0U, 1U}) {
      all.push_back(order(*here, *at_end, {first, 1 - first}, before));
      if (all.back() != nullptr) orders.push_back(all.back().get());
    }
  for (Vector& vector : vectors_) vector.view.compared = orders.size() == all.size();
  const bool is_first = variant_.text.empty();
  const auto later = base_->clone();
  machine::RunRequest one;
  one.instructions = 1;
  one.pass_first_breakpoint = true;
  const auto returned = [&](const Machine& machine) {
    return machine.pc() == returns_to_ && machine.sp() == sp_behind_;
  };
  std::uint64_t boundaries = 0;
  for (; !returned(*here) && here->ticks() < until_ && !asked_; ++boundaries) {
    for (const std::size_t first : {0U, 1U}) {
      if (here->interrupts_off()) {
        vectors_[first].view.masked += is_first ? 1 : 0;
        continue;
      }
      (void)later->assume(*here);
      if (!enter(*later, first)) continue;
      for (; !returned(*later) && later->ticks() < until_; (void)later->run(one)) {
        if (later->interrupts_off()) continue;
        if (placements_ >= spec_.most) {
          view_.left_out += is_first ? 1 : 0;
          continue;
        }
        (void)fork_->assume(*later);
        const Machine::Raised raised = fork_->raise(vectors_[1 - first].number, spec_.byte);
        if (raised == Machine::Raised::kNot || !fork_->interrupt_imminent()) continue;
        count_placement(vectors_[1 - first], *later);
        const auto end = run_to_end(*fork_);
        if (asked_) break;
        Finding finding;
        finding.interrupt = vectors_[1 - first].view.name;
        finding.first = vectors_[first].view.name;
        finding.first_where = core_.location(here->pc());
        finding.forced = raised == Machine::Raised::kForced;
        judge(*end, orders, orders.size() == all.size(), *later, std::move(finding),
              {raise_at(*here, vectors_[first].number),
               raise_at(*later, vectors_[1 - first].number)});
      }
    }
    if (here->run(one).why == Stop::Why::kFault) break;
  }
  note_walk(boundaries);
  return true;
}

void Session::Core::Race::note_walk(std::uint64_t boundaries) {
  if (variant_.text.empty()) view_.boundaries = boundaries;
  view_.interrupts.clear();
  for (const Vector& vector : vectors_) view_.interrupts.push_back(vector.view);
}

bool Session::Core::Race::is_broken(const std::unique_ptr<Ending>& order) {
  return order != nullptr && !order->holds;
}

void Session::Core::Race::count_placement(Vector& vector, const Machine& here) {
  constexpr std::uint64_t kOften = 256;
  ++vector.view.placements;
  if (++placements_ % kOften == 0 && core_.listener_ != nullptr)
    core_.listener_->on_progress(to_time(here.ticks(), here.info().clock_hz));
}

void Session::Core::Race::place(const Machine& here, std::size_t v) {
  Vector& vector = vectors_[v];
  const bool first = variant_.text.empty();
  if (here.interrupts_off()) {
    if (first) ++vector.view.masked;
    return;
  }
  if (placements_ >= spec_.most) {
    if (first) ++view_.left_out;
    return;
  }
  (void)fork_->assume(here);
  const Machine::Raised raised = fork_->raise(vector.number, spec_.byte);
  if (raised == Machine::Raised::kNot) {
    if (first) ++vector.view.not_enabled;
    return;
  }
  if (!fork_->interrupt_imminent()) {  // the instruction behind the one that turned them on
    if (first) ++vector.view.masked;
    return;
  }
  count_placement(vector, here);
  const auto end = run_to_end(*fork_);
  if (asked_) return;
  Orders orders;
  for (const Ending* order : {before_[v].get(), behind_[v].get()})
    if (order != nullptr) orders.push_back(order);
  Finding finding;
  finding.interrupt = vector.view.name;
  finding.forced = raised == Machine::Raised::kForced;
  judge(*end, orders, orders.size() == 2, here, std::move(finding),
        {raise_at(here, vector.number)});
}

Result<RaceView> Session::Core::race_search(const RaceSpec& spec) {
  if (image_path_.empty()) return fail(ErrorCode::kUsage, "no image has been loaded yet");
  auto out = Race(*this, spec).search();
  pause_requested_ = false;
  return out;
}

Result<RaceView> Session::race_search(const RaceSpec& spec) { return core_->race_search(spec); }

}  // namespace lucid
