// SPDX-License-Identifier: MIT
// Steps backwards: the past just before a moment is walked through by steps forwards, and the last
// one that ends before it is the answer. Windows before the moment are tried, the shortest first,
// so that what has been walked through is about as long as the step itself.
#include <fmt/format.h>

#include <algorithm>

#include "session/quiet.h"

namespace lucid {
namespace {

/// A call, told apart from others by where its frame is, and a body inlined in it.
struct Level {
  const Function* function = nullptr;
  std::uint32_t cfa = 0;
  bool interrupt = false, known = false;
  std::vector<const InlinedCall*> inlined;  ///< outermost first
};

bool same_call(const frames::Frame& frame, const Level& level) {
  return frame.known && frame.function == level.function && frame.cfa == level.cfa;
}

std::vector<const InlinedCall*> bodies_at(const Program& program, std::uint32_t pc) {
  auto out = program.inlined_at(pc);
  std::reverse(out.begin(), out.end());
  return out;
}

bool begins_with(const std::vector<const InlinedCall*>& all,
                 const std::vector<const InlinedCall*>& start) {
  return all.size() >= start.size() && std::equal(start.begin(), start.end(), all.begin());
}

}  // namespace

/// A walk through the past up to a moment. REQUIRES: a Quiet.
class Session::Core::Walk {
 public:
  Walk(Core& core, const record::Moment& end) : core_(core), end_(end) {
    const auto chain = frames::unwind(core.program_, core.machine(), core.flows_);
    for (std::size_t i = 0; i < chain.size(); ++i) {
      const std::uint32_t pc = i == 0 ? chain[i].pc : frames::look_address(chain[i]);
      levels_.push_back({chain[i].function, chain[i].cfa, chain[i].interrupt, chain[i].known,
                         bodies_at(core.program_, pc)});
    }
  }
  ~Walk() {
    core_.limit_end_ = UINT64_MAX;
    core_.run_all_through_ = false;
  }
  Walk(const Walk&) = delete;
  Walk& operator=(const Walk&) = delete;

  /// When a step into, by line, ended last.
  Result<std::optional<record::Moment>> into() {
    return windows([&]() -> std::optional<record::Moment> {
      std::optional<record::Moment> found;
      while (step())
        if (is_of_this_interrupt()) found = core_.now();
      return found;
    });
  }

  /// The same among the lines of this level; at its first, among those of the calling one.
  Result<std::optional<record::Moment>> over() {
    core_.run_all_through_ = true;
    for (level_ = 0; level_ < levels_.size(); ++level_) {
      const Level& level = levels_[level_];
      if (!level.known || level.function == nullptr || !level.function->has_lines) continue;
      inlined_ = levels_[level_].inlined;
      begins_here_ = false;
      auto found = windows([&] { return own_lines(); });
      if (!found || *found) return found;
    }
    return std::optional<record::Moment>();
  }

  /// The line in which the body that stands here, inlined, is called.
  Result<std::optional<record::Moment>> out_of_body() {
    core_.run_all_through_ = true;
    inlined_ = levels_[0].inlined;
    inlined_.pop_back();
    begins_here_ = false;
    return windows([&] { return own_lines(); });
  }

 private:
  [[nodiscard]] machine::Machine& machine() const { return core_.machine(); }

  /// Tries `look` from places before the end, the nearest first.
  template <class Look>
  Result<std::optional<record::Moment>> windows(Look look) {
    const Core::Look from_windows =
        [&](const record::Moment& until) -> std::optional<record::Moment> {
      // On the way there: twice as far from the end each.
      constexpr std::uint64_t kShortest = 256;
      std::vector<Point> starts;
      std::uint64_t window = kShortest;
      while (until.tick - core_.now().tick > window) window *= 2;
      core_.acts_until_ = end_.acts;
      for (;; window /= 2) {
        if (until.tick - std::min(window, until.tick) > machine().ticks()) {
          machine::RunRequest request;
          request.until_ticks = until.tick - window;
          while (machine().ticks() < request.until_ticks && !core_.pause_requested_)
            if (core_.run(request).stop.why != machine::Stop::Why::kTime) break;
        }
        starts.push_back({core_.now(), std::shared_ptr<const machine::Machine>(machine().clone())});
        if (window == kShortest) break;
      }
      // What a start has led to need not be walked through from those before it.
      std::optional<record::Moment> found;
      for (; !starts.empty() && !found && !begins_here_ && !core_.pause_requested_;
           starts.pop_back()) {
        core_.restore(starts.back());
        core_.limit_end_ = bound_;
        walked_ = false;
        found = look();
        core_.limit_end_ = UINT64_MAX;
        if (walked_) bound_ = std::min(bound_, starts.back().at.tick);
      }
      return found;
    };
    bound_ = end_.tick;
    return core_.latest(end_, from_windows, &begins_here_);
  }

  /// Over what is called; but into bodies that lead to the one that stands at the end.
  [[nodiscard]] StepKind kind() const {
    if (!core_.run_all_through_) return StepKind::kInto;
    const auto here = bodies_at(core_.program_, machine().pc());
    return here.size() < inlined_.size() && begins_with(inlined_, here) ? StepKind::kInto
                                                                        : StepKind::kOver;
  }

  /// One step forwards. False: the end has been reached.
  bool step() {
    if (machine().ticks() >= bound_ || core_.pause_requested_) return false;
    const std::uint64_t before = machine().ticks();
    const Outcome outcome =
        core_.stands_in_start_up() ? core_.run_to_main() : core_.line_step(kind());
    core_.stood_at_ = {machine().pc(), machine().ticks()};
    if (machine().ticks() >= bound_) return false;
    walked_ = true;
    return outcome.kind == Outcome::Kind::kTarget ||
           (outcome.stop.why != machine::Stop::Why::kTime && machine().ticks() > before);
  }

  /// A step by line runs handlers through: it ends in one only if it began there.
  [[nodiscard]] bool is_of_this_interrupt() {
    const auto chain = frames::unwind(core_.program_, machine(), core_.flows_);
    for (std::size_t i = 0; i < chain.size(); ++i) {
      if (!chain[i].interrupt) continue;
      if (std::none_of(levels_.begin(), levels_.end(), [&](const Level& level) {
            return level.interrupt && same_call(chain[i], level);
          }))
        return false;
      if (i + 1 >= chain.size()) break;
      // Has this very one returned before the end?
      const Point here{core_.now(), std::shared_ptr<const machine::Machine>(machine().clone())};
      core_.limit_end_ = end_.tick;
      Target back;
      back.places.push_back({chain[i + 1].pc, chain[i].cfa});
      const bool returned =
          core_.run({}, &back).kind == Outcome::Kind::kTarget && machine().ticks() < end_.tick;
      core_.restore(here);
      core_.limit_end_ = bound_;
      if (returned) return false;
      break;
    }
    return true;
  }

  std::optional<record::Moment> own_lines() {
    const Level& level = levels_[level_];
    std::optional<record::Moment> found;
    while (machine().ticks() < bound_ && !core_.pause_requested_) {
      auto chain = frames::unwind(core_.program_, machine(), core_.flows_);
      const auto frame = std::find_if(chain.begin(), chain.end(),
                                      [&](const frames::Frame& f) { return same_call(f, level); });
      if (frame == chain.end()) {  // this call has not been made yet
        found.reset();
        begins_here_ = false;
        if (!run_to_body(level)) break;
        begins_here_ = true;
        if (is_own()) found = core_.now();
      } else if (frame != chain.begin()) {  // in something that it has called
        if (core_.out_step().kind != Outcome::Kind::kTarget) break;
        core_.stood_at_ = {machine().pc(), machine().ticks()};
        continue;
      }
      if (!step()) break;
      chain = frames::unwind(core_.program_, machine(), core_.flows_);
      if (same_call(chain[0], level) && is_own()) found = core_.now();
    }
    return found;
  }

  [[nodiscard]] bool is_own() const {
    return begins_with(inlined_, bodies_at(core_.program_, machine().pc()));
  }

  /// To the first line of a call that is to come. False: the end comes first.
  bool run_to_body(const Level& level) {
    if (level.function == nullptr) return false;
    const auto convention = machine().target().convention();
    const std::uint32_t entry_sp = level.cfa - convention.return_bytes;
    const std::uint32_t body = core_.body_of(*level.function);
    const frames::FlowGraph& graph = core_.flows_.of(core_.program_, machine(), *level.function);
    Target target;
    target.places.push_back({body, {}});
    const auto node = graph.node_at(body);
    const machine::FrameState* state = node ? graph.state_at(*node) : nullptr;
    const auto anchor = state != nullptr ? machine().target().anchor(*state) : std::nullopt;
    if (anchor && anchor->dwarf_register == convention.sp_dwarf)
      target.places[0].sp = entry_sp + static_cast<std::uint32_t>(anchor->offset);
    const Outcome outcome = core_.run({}, &target);
    core_.stood_at_ = {machine().pc(), machine().ticks()};
    return outcome.kind == Outcome::Kind::kTarget && machine().ticks() < bound_;
  }

  Core& core_;
  const record::Moment end_;
  std::vector<Level> levels_;  ///< at the end, innermost first
  std::size_t level_ = 0;      ///< the one whose lines count
  std::vector<const InlinedCall*> inlined_;
  std::uint64_t bound_ = 0;   ///< what lies behind this tick has been walked through
  bool walked_ = false;       ///< a step has ended
  bool begins_here_ = false;  ///< this call was made within the window
};

/// Code without source that nobody has called.
bool Session::Core::stands_in_start_up() {
  return !has_lines_here() && frames::unwind(program_, machine(), flows_).size() < 2;
}

Session::Core::Outcome Session::Core::run_to_main() {
  Target target;
  for (const Function* function : program_.find_functions("main"))
    target.places.push_back({body_of(*function), {}});
  return run({}, &target);
}

Result<std::optional<record::Moment>> Session::Core::call_of_this_level(const record::Moment& end) {
  const auto chain = frames::unwind(program_, machine(), flows_);
  if (chain.size() < 2 || !chain[0].known || chain[0].function == nullptr)
    return std::optional<record::Moment>();
  const Quiet quiet(*this);
  Target entry;
  entry.places.push_back(
      {chain[0].function->begin, chain[0].cfa - machine().target().convention().return_bytes});
  auto found = latest_at(entry, end);
  if (!found || !*found) return found;
  // Before the call; of a handler before its entry, in front of its vector.
  const std::uint64_t most = chain[0].interrupt ? 2 : 1;
  for (std::uint64_t i = 0; i < most && found && *found; ++i) found = boundary_before(**found);
  return found;
}

/// The moment before an interrupt was entered last that returns to a place. REQUIRES: a Quiet.
Result<std::optional<record::Moment>> Session::Core::latest_interrupt(
    std::uint32_t pc, std::uint32_t sp, const record::Moment& before) {
  events_too_ = machine::bit(machine::EventKind::kInterrupt);
  auto entered = latest(before, [&](const record::Moment& until) {
    std::optional<record::Moment> found;
    acts_until_ = until.acts;
    machine::RunRequest request;
    request.until_ticks = until.tick;
    while (machine().ticks() < until.tick && !pause_requested_) {
      const Outcome outcome = run(request);
      if (outcome.stop.interrupt < 0 || !(now() < before)) continue;
      const auto chain = frames::unwind(program_, machine(), flows_);
      if (chain.size() > 1 && chain[1].pc == pc && chain[0].cfa == sp) found = now();
    }
    return found;
  });
  events_too_ = 0;
  return entered && *entered ? boundary_before(**entered) : entered;
}

Result<std::optional<record::Moment>> Session::Core::step_before(StepKind kind, StepUnit unit) {
  const record::Moment end = now();
  const std::uint32_t pc = machine().pc();
  if (kind == StepKind::kOut && program_.inlined_at(pc).empty()) return call_of_this_level(end);
  if (unit == StepUnit::kLine && has_lines_here()) {
    const Quiet quiet(*this);
    Walk walk(*this, end);
    return kind == StepKind::kInto   ? walk.into()
           : kind == StepKind::kOver ? walk.over()
                                     : walk.out_of_body();
  }
  const std::uint32_t sp = machine().sp();
  const Quiet quiet(*this);
  auto found = boundary_before(end);
  if (!found || !*found || kind == StepKind::kInto) return found;
  // Behind a return: where the call was made, or the interrupt came.
  restore_at(**found);
  const Instruction last = machine().instruction_at(machine().pc(), false);
  if (last.flow == Flow::kInterruptReturn) {
    auto entered = latest_interrupt(pc, sp, **found);
    return !entered || *entered ? entered : found;
  }
  if (last.flow != Flow::kReturn) return found;
  Target calls;
  for (std::uint32_t bytes = 1; bytes <= machine().target().longest(); ++bytes) {
    if (bytes > pc) break;
    const Instruction call = machine().instruction_at(pc - bytes, false);
    const bool is_call = call.flow == Flow::kCall || call.flow == Flow::kIndirectCall;
    if (is_call && call.size == bytes) calls.places.push_back({pc - bytes, sp});
  }
  auto made = latest_at(calls, **found);
  return !made || *made ? made : found;
}

Result<Pause> Session::Core::stepped_back(StepKind kind, StepUnit unit, std::uint64_t count) {
  if (count == 0) return fail(ErrorCode::kUsage, "a step is made at least once");
  if (timeline_.strictly_before(now()) == nullptr) return no_past();
  begin_back();
  const auto kept = keep();
  for (std::uint64_t i = 0; i < count; ++i) {
    const auto found = step_before(kind, unit);
    if (!found) return give_up(*kept);
    if (!*found) {
      const std::string after = i == 0 ? "" : fmt::format(", after {} of {} steps", i, count);
      if (kind == StepKind::kOut)
        return finish_back({}, Pause::Cause::kStep, "there is no caller to go back to" + after);
      return at_beginning("the beginning" + after);
    }
    if (!travel(**found)) return give_up(*kept);
    wake_dormant();
  }
  Outcome here;
  here.kind = Outcome::Kind::kTarget;
  return finish_back(here, Pause::Cause::kStep);
}

}  // namespace lucid
