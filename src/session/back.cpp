// SPDX-License-Identifier: MIT
// Ways back: to the breakpoint before, to a place, a time, a condition, the start.
#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "expression/object.h"
#include "session/quiet.h"

namespace lucid {

void Session::Core::begin_back() {
  if (!in_past()) {
    timeline_.reach(now());
    present_ = keep();
  }
  keep_here();
  begin_run_quietly();
  limit_end_ = next_pace_ = UINT64_MAX;
}

Pause Session::Core::finish_back(const Outcome& outcome, Pause::Cause cause, std::string detail) {
  replaying_ = true;
  wake_dormant();
  arming_.clear();
  sync_marks();
  make_marks();
  const Instant from = started_;
  started_ = {machine().cycles(), machine().ticks()};
  Pause pause = finish(outcome, cause, std::move(detail));
  replaying_ = false;
  started_ = from;
  pause.backwards = machine().ticks() <= from.ticks;
  count_since(pause, from);
  pause.then.clear();
  pause_ = pause;
  return pause;
}

/// Somebody has asked for a pause: nothing has happened.
Result<Pause> Session::Core::give_up(const Kept& present) {
  pause_requested_ = false;
  running_ = false;
  replaying_ = walking_ = false;
  dormant_.clear();
  arming_.clear();
  auto back = return_to(present);
  if (!back) return back;
  pause_.cause = Pause::Cause::kRequested;
  pause_.remarks = {"going back was given up: this is where it began"};
  return pause_;
}

Result<Pause> Session::Core::arrive(const record::Moment& moment, Pause::Cause cause,
                                    std::string detail) {
  const auto present = keep();
  if (!travel(moment)) return give_up(*present);
  Outcome here;
  here.kind = Outcome::Kind::kTarget;
  return finish_back(here, cause, std::move(detail));
}

tl::unexpected<Error> Session::Core::no_past() const {
  return timeline_.on()
             ? fail(ErrorCode::kOutOfRange, "this is the beginning: nothing comes before it")
             : fail(ErrorCode::kUsage, "the timeline is off: nothing of the past is kept",
                    "`timeline on` keeps it from then on");
}

Result<Pause> Session::Core::at_beginning(std::string why) {
  const Timeline::Copy* first = timeline_.first();
  if (first == nullptr) return no_past();
  return arrive(first->at, Pause::Cause::kReady, std::move(why));
}

Result<Pause> Session::Core::back(bool from_start) {
  const record::Moment present = now();
  if (timeline_.strictly_before(present) == nullptr) return no_past();
  begin_back();
  const auto kept = keep();
  if (from_start)
    for (Entry& entry : breakpoints_) {
      entry.armed_at = {};
      entry.arming = ++armings_;
    }
  std::vector<unsigned> passed_over;
  record::Moment until = present;
  for (;;) {
    const Timeline::Copy* copy = valid_before(until, true);
    if (copy == nullptr) break;
    const record::Moment from = copy->at;
    if (!restore(*copy)) return no_past();
    std::optional<record::Moment> found;
    const bool done = run_again(until, [&](const Outcome&) {
      if (now() < present) found = now();
      return false;
    });
    if (!done) return give_up(*kept);
    // What was met as the program stood at the next copy is not met from there.
    if (until != present && marks_.count(machine().pc()) != 0 && !machine().interrupt_imminent() &&
        counted_ != std::pair<std::uint32_t, std::uint64_t>(machine().pc(), machine().ticks())) {
      replaying_ = true;
      Outcome here;
      if (hit(here)) found = now();
      replaying_ = false;
    }
    for (const Entry& entry : dormant_)
      if (std::find(passed_over.begin(), passed_over.end(), entry.point.id) == passed_over.end())
        passed_over.push_back(entry.point.id);
    if (found) {
      // Once more up to there: with what it was.
      copy = valid_before(*found, true);
      if (copy == nullptr) copy = valid_before(*found, false);
      restore(*copy);
      Outcome last;
      const record::Moment end{found->tick + 1, found->acts};
      const bool again = run_again(end, [&](const Outcome& outcome) {
        if (now() < *found) return false;
        last = outcome;
        return true;
      });
      if (!again) return give_up(*kept);
      wake_dormant();
      for (const unsigned id : passed_over) {
        const Entry* entry = find(id);
        if (entry != nullptr && *found < entry->armed_at)
          remark(
              fmt::format("breakpoint {} counts from {} on: passed over before that; `back from "
                          "start` counts from the beginning",
                          id, to_text(to_time(entry->armed_at.tick, machine().info().clock_hz))));
      }
      return finish_back(last, Pause::Cause::kStep);
    }
    until = from;
  }
  return at_beginning("no breakpoint or fault paused before");
}

/// Runs stretches of the past again, from copies, the latest first.
Result<std::optional<record::Moment>> Session::Core::latest(const record::Moment& before,
                                                            const Look& look, const bool* enough) {
  record::Moment until = before;
  while (const auto point = point_before(until, true)) {
    const record::Moment from = point->at;
    restore(*point);
    const auto found = look(until);
    if (pause_requested_) return fail(ErrorCode::kUsage, "interrupted");
    if (found || (enough != nullptr && *enough)) return found;
    until = from;
  }
  return std::optional<record::Moment>();
}

/// When one of some places was executed last.
Result<std::optional<record::Moment>> Session::Core::latest_at(const Target& target,
                                                               const record::Moment& before) {
  return latest(before, [&](const record::Moment& until) {
    std::optional<record::Moment> found;
    machine::RunRequest request;
    request.until_ticks = until.tick;
    acts_until_ = until.acts;
    if (target.is_at(machine().pc(), machine().sp()) && !machine().interrupt_imminent())
      found = now();
    while (machine().ticks() < until.tick && !pause_requested_) {
      const Outcome outcome = run(request, &target);
      if (outcome.kind != Outcome::Kind::kTarget) {
        if (outcome.stop.why != machine::Stop::Why::kTime) break;
        continue;
      }
      if (now() < until) found = now();
      stood_at_ = {machine().pc(), machine().ticks()};
    }
    return found;
  });
}

Result<Pause> Session::Core::back_to_place(const std::string& place) {
  const auto addresses = resolve(place);
  if (!addresses) return fail(addresses.error());
  const record::Moment present = now();
  if (timeline_.strictly_before(present) == nullptr) return no_past();
  begin_back();
  const auto kept = keep();
  Target target;
  for (const std::uint32_t address : *addresses) target.places.push_back({address, {}});
  Result<std::optional<record::Moment>> found;
  {
    const Quiet quiet(*this);
    found = latest_at(target, present);
  }
  if (!found) return give_up(*kept);
  if (!*found) {
    running_ = false;
    (void)return_to(*kept);
    return fail(ErrorCode::kNotFound, fmt::format("{} was not executed before this moment", place),
                "`back to start` goes to the beginning");
  }
  return arrive(**found, Pause::Cause::kArrived, place);
}

/// The last moment at which an instruction was complete, before this one.
Result<std::optional<record::Moment>> Session::Core::boundary_before(const record::Moment& moment) {
  // From near enough: most of the way in one go.
  const auto steps = [&](const record::Moment& until) {
    std::optional<record::Moment> found;
    constexpr std::uint64_t kWindow = 64;
    for (std::uint64_t window = kWindow;; window *= kWindow) {
      const record::Moment from = now();
      const Point point{from, std::shared_ptr<const machine::Machine>(machine().clone())};
      acts_until_ = until.acts;
      const bool all = until.tick - from.tick <= window;
      machine::RunRequest request;
      if (!all) {
        request.until_ticks = until.tick - window;
        while (machine().ticks() < request.until_ticks && !pause_requested_)
          if (run(request).stop.why != machine::Stop::Why::kTime) break;
      }
      if (all && !machine().asleep()) found = now();
      request = {};
      request.instructions = 1;
      request.until_ticks = until.tick;
      while (machine().ticks() < until.tick && !pause_requested_) {
        const Outcome outcome = run(request);
        if (outcome.stop.why == machine::Stop::Why::kInstructions && now() < moment) found = now();
        if (outcome.stop.why == machine::Stop::Why::kFault) break;
        stood_at_ = {machine().pc(), machine().ticks()};
      }
      if (found || all || pause_requested_) return found;
      restore(point);
    }
  };
  return latest(moment, steps);
}

Result<Pause> Session::Core::to_tick(std::uint64_t tick, Pause::Cause cause) {
  const Timeline::Copy* first = timeline_.first();
  if (first == nullptr) return no_past();
  if (tick < first->at.tick)
    return fail(ErrorCode::kOutOfRange, "that is before the beginning",
                "`back to start` goes there");
  begin_back();
  const auto kept = keep();
  record::Moment to{tick, 0};
  for (const record::Act& act : timeline_.acts())
    if (act.tick < tick && to.acts < timeline_.acts().size()) ++to.acts;
  if (!travel(to)) return give_up(*kept);
  if (machine().ticks() > tick) {  // that is the next boundary: the one before
    Result<std::optional<record::Moment>> found;
    {
      const Quiet quiet(*this);
      found = boundary_before(now());
    }
    if (!found) return give_up(*kept);
    if (!*found) return at_beginning("that is before the beginning");
    return arrive(**found, cause);
  }
  Outcome here;
  here.kind = Outcome::Kind::kTarget;
  return finish_back(here, cause);
}

/// Where an expression last held; if it does, where that began.
Result<Pause> Session::Core::back_until(const std::string& text) {
  auto expression = expression::Expression::parse(text, scope());
  if (!expression) return fail(expression.error());
  const auto holds = expression->holds(scope());
  if (!holds) return fail(holds.error());
  const record::Moment present = now();
  if (timeline_.strictly_before(present) == nullptr) return no_past();
  Entry entry;
  entry.point.id = UINT32_MAX;
  entry.point.spec.kind = BreakpointSpec::Kind::kWhen;
  entry.point.spec.place = *holds ? text : "!(" + text + ")";
  if (auto bound = bind(entry); !bound) return fail(bound.error());
  begin_back();
  const auto kept = keep();
  Result<std::optional<record::Moment>> found;
  {
    const Quiet quiet(*this);
    breakpoints_.push_back(std::move(entry));
    found = latest(present, [&](const record::Moment& until) {
      std::optional<record::Moment> last;
      acts_until_ = until.acts;
      set_back(breakpoints_.back());
      sync_marks();
      machine::RunRequest request;
      request.until_ticks = until.tick;
      while (machine().ticks() < until.tick && !pause_requested_) {
        const Outcome outcome = run(request);
        if (outcome.cause == Pause::Cause::kHolds && now() < present) last = now();
        stood_at_ = {machine().pc(), machine().ticks()};
      }
      return last;
    });
    breakpoints_.pop_back();
    sync_marks();
    if (found && *found && !*holds) found = boundary_before(**found);
  }
  if (!found) return give_up(*kept);
  if (*found) return arrive(**found, Pause::Cause::kHolds, text);
  if (*holds) return at_beginning(text + " has held from the beginning");
  running_ = false;
  (void)return_to(*kept);
  return fail(ErrorCode::kNotFound, fmt::format("{} did not hold before this moment", text));
}

Result<Pause> Session::Core::back_to_start() {
  if (timeline_.strictly_before(now()) == nullptr) return no_past();
  begin_back();
  return at_beginning("start");
}

Result<Pause> Session::Core::back_by(std::uint64_t ticks) {
  const std::uint64_t now = machine().ticks();
  const Timeline::Copy* first = timeline_.first();
  if (first == nullptr) return no_past();
  if (ticks > now - first->at.tick)
    return fail(ErrorCode::kOutOfRange,
                fmt::format("the timeline begins {} ago",
                            to_text(to_time(now - first->at.tick, machine().info().clock_hz))),
                "`back to start` goes there");
  return to_tick(now - ticks, Pause::Cause::kTimeUp);
}

}  // namespace lucid
