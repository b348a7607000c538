// SPDX-License-Identifier: MIT
// All that a session is at a moment, as a value: kept and returned to.
#include <algorithm>

#include "session/core.h"

namespace lucid {

struct Session::Core::Kept {
  const Core* owner = nullptr;
  unsigned loads = 0;  ///< which image
  std::shared_ptr<const machine::Machine> machine, before;
  std::vector<Entry> breakpoints;
  std::set<unsigned> spent;
  std::vector<WatchView> watched;
  std::multimap<std::uint64_t, std::string> driven_until;
  std::vector<Input> inputs;
  std::map<std::uint32_t, std::pair<std::uint32_t, std::uint32_t>> came_from;
  std::optional<std::pair<std::uint32_t, std::uint64_t>> counted;
  std::pair<std::uint32_t, std::uint64_t> stood_at;
  Instant started;
  Pause pause;
  unsigned level = 0;
};

std::shared_ptr<const Session::Core::Kept> Session::Core::keep() const {
  auto kept = std::make_shared<Kept>();
  kept->owner = this;
  kept->loads = loads_;
  kept->machine = machine().clone();
  kept->before = before_;
  kept->breakpoints = breakpoints_;
  kept->spent = spent_;
  kept->watched = watched_;
  kept->driven_until = driven_until_;
  kept->inputs = inputs_;
  kept->came_from = came_from_;
  kept->counted = counted_;
  kept->stood_at = stood_at_;
  kept->started = started_;
  kept->pause = pause_;
  kept->level = level_;
  return kept;
}

/// What the debugger has set stays; what has come of it goes back.
Result<Pause> Session::Core::return_to(const Kept& kept) {
  if (kept.owner != this || kept.loads != loads_)
    return fail(ErrorCode::kUsage, "that moment is of another session or image",
                "moments end when an image is loaded");
  if (!machine().assume(*kept.machine))
    return fail(ErrorCode::kUnsupported, machine().info().name + " cannot go back in time");
  before_ = kept.before;
  breakpoints_.erase(
      std::remove_if(breakpoints_.begin(), breakpoints_.end(),
                     [&](const Entry& e) { return kept.spent.count(e.point.id) != 0; }),
      breakpoints_.end());
  for (Entry& entry : breakpoints_) {
    const auto then = std::find_if(kept.breakpoints.begin(), kept.breakpoints.end(),
                                   [&](const Entry& e) { return e.point.id == entry.point.id; });
    if (then == kept.breakpoints.end()) {  // set later: it has not passed yet
      entry.point.passes = entry.point.reached = 0;
      (void)bind(entry).has_value();
      continue;
    }
    Entry back = *then;
    back.point.enabled = entry.point.enabled;
    entry = std::move(back);
  }
  for (const Entry& entry : kept.breakpoints)
    if (spent_.count(entry.point.id) != 0 && kept.spent.count(entry.point.id) == 0)
      breakpoints_.insert(std::find_if(breakpoints_.begin(), breakpoints_.end(),
                                       [&](const Entry& e) { return e.point.id > entry.point.id; }),
                          entry);
  spent_ = kept.spent;
  for (WatchView& watch : watched_)
    for (const WatchView& then : kept.watched)
      if (then.id == watch.id) watch = then;
  driven_until_ = kept.driven_until;
  inputs_ = kept.inputs;
  came_from_ = kept.came_from;
  counted_ = kept.counted;
  stood_at_ = kept.stood_at;
  started_ = kept.started;
  pause_ = kept.pause;
  level_ = kept.level;
  remarks_ = {};
  returned_.clear();
  sync_marks();
  sync_watches();
  return pause_;
}

Session::Moment Session::moment() const {
  Moment moment;
  moment.time_ = core_->chip_.time();
  moment.cycles_ = core_->chip_.cycles();
  moment.kept_ = core_->keep();
  return moment;
}

Result<Pause> Session::return_to(const Moment& moment) {
  if (moment.kept_ == nullptr) return fail(ErrorCode::kUsage, "that is no moment of a session");
  return core_->return_to(*std::static_pointer_cast<const Core::Kept>(moment.kept_));
}

}  // namespace lucid
