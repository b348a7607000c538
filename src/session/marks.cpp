// SPDX-License-Identifier: MIT
// Marks: moments that people have named, and the ends of futures that are not the present one.
#include <fmt/format.h>

#include <algorithm>

#include "session/kept.h"

namespace lucid {

Session::Core::Mark* Session::Core::find_mark(const std::string& name) {
  for (Mark& mark : marks_named_)
    if (mark.name == name) return &mark;
  return nullptr;
}

Result<Session::MarkView> Session::Core::mark(const std::string& name) {
  if (name.empty()) return fail(ErrorCode::kUsage, "a mark needs a name");
  Mark mark{name, now(), keep(), false};
  if (Mark* old = find_mark(name))
    *old = std::move(mark);
  else
    marks_named_.push_back(std::move(mark));
  return view(*find_mark(name));
}

Session::MarkView Session::Core::view(const Mark& mark) const {
  MarkView out;
  out.name = mark.name;
  out.time = to_time(mark.at.tick, machine().info().clock_hz);
  out.where = mark.kept->pause.where;
  out.image_gone = mark.kept->loads != loads_;
  out.other_future = !out.image_gone && !is_on_this_timeline(mark);
  return out;
}

/// Does the present timeline lead through it?
bool Session::Core::is_on_this_timeline(const Mark& mark) const {
  const auto& acts = timeline_.acts();
  const Kept& kept = *mark.kept;
  if (kept.done < acts.size() && acts[kept.done].tick < mark.at.tick) return false;
  return kept.done <= acts.size() && mark.at <= std::max(timeline_.end(), now()) &&
         std::equal(kept.acts.begin(), kept.acts.begin() + static_cast<std::ptrdiff_t>(kept.done),
                    acts.begin(), [](const record::Act& a, const record::Act& b) {
                      return a.id == b.id && a.tick == b.tick;
                    });
}

/// The end of the present timeline gets a name before it is left for another.
std::string Session::Core::keep_end() {
  if (!in_past()) present_ = keep();
  if (present_ == nullptr || present_->loads != loads_) return {};
  const record::Moment at{present_->end.tick, present_->done};
  for (const Mark& mark : marks_named_)
    if (mark.own && mark.at == at && is_on_this_timeline(mark)) return mark.name;
  unsigned number = 1;
  while (find_mark(fmt::format("end{}", number)) != nullptr) ++number;
  marks_named_.push_back({fmt::format("end{}", number), at, present_, true});
  return marks_named_.back().name;
}

Result<const Session::Core::Mark*> Session::Core::usable_mark(const std::string& name) {
  const Mark* mark = find_mark(name);
  if (mark == nullptr) {
    std::vector<std::string> names;
    for (const Mark& m : marks_named_) names.push_back(m.name);
    return fail(ErrorCode::kNotFound, fmt::format("there is no mark '{}'", name),
                names.empty() ? "`mark NAME` makes one" : did_you_mean(name, names));
  }
  if (mark->kept->loads != loads_)
    return fail(ErrorCode::kUsage, fmt::format("the image of mark '{}' is gone", name),
                "moments end when an image is loaded");
  return mark;
}

Result<Pause> Session::Core::revert_to(const std::string& name) {
  const auto found = usable_mark(name);
  if (!found) return fail(found.error());
  const Mark* mark = *found;
  Kept kept = *mark->kept;
  std::string left;
  if (is_on_this_timeline(*mark)) {
    if (!in_past()) present_ = keep();
    timeline_.reach(now());
    kept.acts = timeline_.acts();
    kept.end = timeline_.end();
  } else {
    left = keep_end();
  }
  auto pause = return_to(kept);
  if (!pause) return pause;
  pause_.remarks.clear();
  if (!left.empty())
    pause_.remarks.push_back(fmt::format("the future that was left ends at mark '{}'", left));
  told(pause_);
  return pause_;
}

}  // namespace lucid
