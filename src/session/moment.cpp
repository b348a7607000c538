// SPDX-License-Identifier: MIT
// All that a session is at a moment, as a value: kept and returned to.
#include <algorithm>

#include "session/kept.h"

namespace lucid {

std::shared_ptr<const Session::Core::Kept> Session::Core::keep() const {
  auto kept = std::make_shared<Kept>();
  kept->owner = this;
  kept->loads = loads_;
  kept->machine = machine().clone();
  kept->before = before_;
  kept->breakpoints = breakpoints_;
  kept->spent = spent_;
  kept->watched = watched_;
  kept->acts = timeline_.acts();
  kept->done = timeline_.done();
  kept->end = std::max(timeline_.end(), now());
  kept->came_from = came_from_;
  kept->counted = counted_;
  kept->stood_at = stood_at_;
  kept->started = started_;
  kept->pause = pause_;
  kept->level = level_;
  kept->heard = heard_;
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
  wake_dormant();
  arming_.clear();
  const auto is_in = [](const std::vector<std::shared_ptr<const Entry>>& list, unsigned id) {
    return std::any_of(list.begin(), list.end(),
                       [&](const auto& entry) { return entry->point.id == id; });
  };
  breakpoints_.erase(std::remove_if(breakpoints_.begin(), breakpoints_.end(),
                                    [&](const Entry& e) { return is_in(kept.spent, e.point.id); }),
                     breakpoints_.end());
  for (const auto& gone : spent_)
    if (!is_in(kept.spent, gone->point.id)) breakpoints_.push_back(*gone);
  std::sort(breakpoints_.begin(), breakpoints_.end(),
            [](const Entry& a, const Entry& b) { return a.point.id < b.point.id; });
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
  spent_ = kept.spent;
  for (WatchView& watch : watched_)
    for (const WatchView& then : kept.watched)
      if (then.id == watch.id) watch = then;
  const auto& acts = timeline_.acts();
  const auto [now, then] = std::mismatch(
      acts.begin(), acts.end(), kept.acts.begin(), kept.acts.end(),
      [](const record::Act& a, const record::Act& b) { return a.tick == b.tick && a.id == b.id; });
  if (now != acts.end()) forget_future(now->tick);
  if (then != kept.acts.end()) forget_future(then->tick);
  timeline_.adopt(kept.acts, kept.done, kept.end);
  came_from_ = kept.came_from;
  counted_ = kept.counted;
  stood_at_ = kept.stood_at;
  started_ = kept.started;
  pause_ = kept.pause;
  level_ = kept.level;
  heard_ = kept.heard;
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
