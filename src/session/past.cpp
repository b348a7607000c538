// SPDX-License-Identifier: MIT
// Going back: a copy that was kept before the moment, run again.
//
// What is gone through again is silent, and it counts: each copy has the passes of its moment
// beside it, and a run from there brings them along. A breakpoint counts from where it was armed;
// copies made since then without it are no place to begin from until they have been passed again.
#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "session/quiet.h"

namespace lucid {

/// What a session is at a copy.
struct Session::Core::Beside final : record::Beside {
  struct Count {
    unsigned id = 0, arming = 0;
    std::uint64_t passes = 0, reached = 0;
    friend bool operator==(const Count& a, const Count& b) {
      return a.id == b.id && a.arming == b.arming && a.passes == b.passes && a.reached == b.reached;
    }
  };
  unsigned armings = 0;
  bool standing = false;
  std::shared_ptr<const std::vector<Count>> counts;  ///< by id
  std::vector<std::shared_ptr<const Entry>> others;  ///< breakpoints that are no places
  std::vector<std::shared_ptr<const Entry>> spent;
  std::map<std::uint32_t, std::pair<std::uint32_t, std::uint32_t>> came_from;
  std::optional<std::pair<std::uint32_t, std::uint64_t>> counted;
  std::uint64_t heard = 0;

  [[nodiscard]] std::size_t bytes() const override {
    return sizeof *this + (counts ? counts->size() * sizeof(Count) : 0) +
           others.size() * (sizeof(Entry) + 512) + came_from.size() * 64;
  }
  [[nodiscard]] const Count* of(const Entry& entry) const {
    const auto at = std::lower_bound(counts->begin(), counts->end(), entry.point.id,
                                     [](const Count& c, unsigned id) { return c.id < id; });
    return at != counts->end() && at->id == entry.point.id && at->arming == entry.arming ? &*at
                                                                                         : nullptr;
  }
  [[nodiscard]] bool is_spent(unsigned id) const {
    return std::any_of(spent.begin(), spent.end(),
                       [&](const auto& entry) { return entry->point.id == id; });
  }
};

std::shared_ptr<const Session::Core::Beside> Session::Core::beside() {
  auto out = std::make_shared<Beside>();
  out->armings = armings_;
  out->standing = !running_;
  std::vector<Beside::Count> counts;
  counts.reserve(breakpoints_.size());
  for (const Entry& entry : breakpoints_) {
    counts.push_back({entry.point.id, entry.arming, entry.point.passes, entry.point.reached});
    if (entry.point.spec.kind != BreakpointSpec::Kind::kPlace)
      out->others.push_back(std::make_shared<const Entry>(entry));
  }
  const Timeline::Copy* last = timeline_.before(now());
  const auto* same = last != nullptr ? static_cast<const Beside*>(last->beside.get()) : nullptr;
  out->counts = same != nullptr && *same->counts == counts
                    ? same->counts
                    : std::make_shared<const std::vector<Beside::Count>>(std::move(counts));
  out->spent = spent_;
  out->came_from = came_from_;
  out->counted = counted_;
  out->heard = heard_;
  return out;
}

/// Does it know the passes of all breakpoints?
bool Session::Core::is_valid(const Timeline::Copy& copy) const {
  const auto& beside = static_cast<const Beside&>(*copy.beside);
  if (beside.armings == armings_) return true;
  const auto known = [&](const Entry& entry) {
    return copy.at <= entry.armed_at || beside.of(entry) != nullptr ||
           beside.is_spent(entry.point.id);
  };
  return std::all_of(breakpoints_.begin(), breakpoints_.end(), known) &&
         std::all_of(spent_.begin(), spent_.end(),
                     [&](const auto& entry) { return known(*entry); });
}

const record::Timeline::Copy* Session::Core::valid_before(const record::Moment& moment,
                                                          bool strictly) const {
  const Timeline::Copy* copy =
      strictly ? timeline_.strictly_before(moment) : timeline_.before(moment);
  while (copy != nullptr && !is_valid(*copy)) copy = timeline_.strictly_before(copy->at);
  return copy;
}

/// Counts from nought: at this moment it had not been armed.
void Session::Core::set_back(Entry& entry) {
  entry.point.passes = entry.point.reached = 0;
  for (WatchedObject& object : entry.objects) object.partial.reset();
  if (entry.point.spec.following && entry.object != nullptr) follow(entry);
  if (entry.point.spec.kind == BreakpointSpec::Kind::kWhen && entry.object != nullptr)
    entry.held = entry.object->holds(scope()).value_or(false);
}

bool Session::Core::restore(const Timeline::Copy& copy) {
  if (!machine().assume(*copy.machine)) return false;
  const auto& beside = static_cast<const Beside&>(*copy.beside);
  level_ = 0;
  timeline_.set_done(copy.at.acts);
  wake_dormant();
  arming_.clear();
  const auto by_id = [](const Entry& a, const Entry& b) { return a.point.id < b.point.id; };
  for (const auto& gone : spent_)
    if (!beside.is_spent(gone->point.id)) breakpoints_.push_back(*gone);
  breakpoints_.erase(
      std::remove_if(breakpoints_.begin(), breakpoints_.end(),
                     [&](const Entry& entry) { return beside.is_spent(entry.point.id); }),
      breakpoints_.end());
  std::sort(breakpoints_.begin(), breakpoints_.end(), by_id);
  spent_ = beside.spent;
  std::vector<Entry> all;
  all.swap(breakpoints_);
  for (Entry& entry : all) {
    const Beside::Count* count = beside.of(entry);
    if (count == nullptr) {  // armed later
      arming_.emplace_back(entry.armed_at, entry.point.id);
      set_back(entry);
      const bool waits = entry.point.spec.rule != BreakpointSpec::Rule::kAlways ||
                         entry.frame.has_value() || entry.every_instruction;
      (waits ? dormant_ : breakpoints_).push_back(std::move(entry));
      continue;
    }
    for (const auto& other : beside.others)
      if (other->point.id == entry.point.id) {
        Entry then = *other;
        then.point.enabled = entry.point.enabled;
        entry = std::move(then);
      }
    entry.point.passes = count->passes;
    entry.point.reached = count->reached;
    breakpoints_.push_back(std::move(entry));
  }
  std::sort(arming_.begin(), arming_.end());
  came_from_ = beside.came_from;
  counted_ = beside.counted;
  heard_ = beside.heard;
  stood_at_ = {};
  if (beside.standing) stood_at_ = {machine().pc(), machine().ticks()};
  sync_marks();
  sync_watches();
  return true;
}

/// The machine alone, in a walk.
void Session::Core::restore(const Point& point) {
  (void)machine().assume(*point.machine);
  timeline_.set_done(point.at.acts);
  stood_at_ = {machine().pc(), machine().ticks()};
  came_from_.clear();
}

/// A breakpoint begins to count, here.
void Session::Core::arm(Entry& entry) {
  entry.armed_at = now();
  entry.arming = ++armings_;
  entry.point.passes = entry.point.reached = 0;
  entry.as_armed.reset();
  if (entry.frame || entry.every_instruction) entry.as_armed = std::make_shared<Entry>(entry);
}

/// While the program stands: what has been set since the last copy counts from here.
void Session::Core::keep_here() {
  if (!timeline_.on() || timeline_.first() == nullptr) return;
  const Timeline::Copy* copy = timeline_.at(now());
  if (copy == nullptr || !is_valid(*copy)) timeline_.keep(machine(), beside());
}

/// Those that have not been armed yet are there all the same.
void Session::Core::wake_dormant() {
  for (Entry& entry : dormant_) breakpoints_.push_back(std::move(entry));
  if (!dormant_.empty())
    std::sort(breakpoints_.begin(), breakpoints_.end(),
              [](const Entry& a, const Entry& b) { return a.point.id < b.point.id; });
  dormant_.clear();
}

/// What is to be done at this tick: acts, and breakpoints that are armed here. True: the program
/// stood still for it.
bool Session::Core::happen() {
  bool stood = false;
  for (;;) {
    if (!arming_.empty() && arming_.front().first <= now()) {
      const unsigned id = arming_.front().second;
      arming_.erase(arming_.begin());
      for (auto entry = dormant_.begin(); entry != dormant_.end(); ++entry)
        if (entry->point.id == id) {
          breakpoints_.push_back(std::move(*entry));
          dormant_.erase(entry);
          break;
        }
      std::sort(breakpoints_.begin(), breakpoints_.end(),
                [](const Entry& a, const Entry& b) { return a.point.id < b.point.id; });
      if (Entry* entry = find(id); entry != nullptr) {
        if (entry->as_armed != nullptr) {
          const auto form = entry->as_armed;
          const bool enabled = entry->point.enabled;
          *entry = *form;
          entry->as_armed = form;
          entry->point.enabled = enabled;
        }
        set_back(*entry);
      }
      sync_marks();
      make_marks();
      stood = true;
    } else if (timeline_.next_act() <= machine().ticks() && timeline_.done() < acts_until_) {
      stood = stood || timeline_.acts()[timeline_.done()].standing;
      timeline_.do_next(machine());
    } else {
      break;
    }
  }
  if (stood) stood_at_ = {machine().pc(), machine().ticks()};
  return stood;
}

/// Something that was done while the program stood here comes behind the breakpoint that is here,
/// or behind the coming here that somebody wants.
bool Session::Core::unmet_here() const {
  const std::pair<std::uint32_t, std::uint64_t> here{machine().pc(), machine().ticks()};
  const bool act = timeline_.next_act() <= here.second && timeline_.done() < acts_until_ &&
                   timeline_.acts()[timeline_.done()].standing;
  const bool arming = !arming_.empty() && arming_.front().first <= now();
  const bool sought = also_at_.count(here.first) != 0 ||
                      (target_ != nullptr && target_->is_at(here.first, machine().sp()));
  return (act || arming) && marks_.count(here.first) != 0 && counted_ != here &&
         stood_at_ != here && !machine().interrupt_imminent() &&
         (sought || !ids_at(here.first).empty());
}

std::uint64_t Session::Core::next_stop() {
  std::uint64_t stop = UINT64_MAX;
  if (timeline_.done() < acts_until_) stop = timeline_.next_act();
  if (!arming_.empty()) stop = std::min(stop, arming_.front().first.tick);
  if (walking_) return stop;
  if (in_past() && machine().ticks() < timeline_.end().tick)
    stop = std::min(stop, timeline_.end().tick);
  return std::min(stop, timeline_.next_stop(machine()));
}

void Session::Core::look_at_timeline() {
  if (walking_ || !timeline_.on()) return;
  if (!in_past()) timeline_.reach(now());
  if (Timeline::Copy* copy = timeline_.at(now()))
    meet(*copy);
  else if (timeline_.is_due(machine()))
    timeline_.keep(machine(), beside());
}

/// The past has been gone through again up to a copy.
void Session::Core::meet(Timeline::Copy& copy) {
  if (!difference_said_ && copy.machine->hash() != machine().hash()) {
    difference_said_ = true;
    const std::string text = fmt::format(
        "going through the past again has not led to the same: {}. Does a part of your own keep "
        "something that is not in its numbers?",
        record::difference(*copy.machine, machine()));
    remark(text);
    if (listener_ != nullptr) listener_->on_note(text);
  }
  if (static_cast<const Beside&>(*copy.beside).armings != armings_) copy.beside = beside();
}

void Session::Core::begin_timeline() {
  timeline_.begin();
  start_hash_ = machine().hash();
  spent_.clear();
  dormant_.clear();
  arming_.clear();
  told_times_.clear();
  paused_.clear();
  difference_said_ = false;
  heard_ = 0;
  for (Entry& entry : breakpoints_) {
    entry.armed_at = now();
    entry.arming = ++armings_;
  }
  timeline_.keep(machine(), beside());
}

bool Session::Core::run_again(const record::Moment& to, const Met& met) {
  replaying_ = true;
  acts_until_ = to.acts;
  timeline_.aim_at(to.tick);
  std::pair<std::uint64_t, std::uint32_t> last{UINT64_MAX, 0};
  bool done = true;
  while (machine().ticks() < to.tick) {
    machine::RunRequest request;
    request.until_ticks = to.tick;
    const Outcome outcome = run(request);
    if (outcome.kind == Outcome::Kind::kEnd && outcome.stop.why == machine::Stop::Why::kRequested) {
      done = false;
      break;
    }
    const bool told = outcome.kind != Outcome::Kind::kEnd ||
                      outcome.stop.why == machine::Stop::Why::kFault ||
                      outcome.stop.why == machine::Stop::Why::kBreakInstruction;
    if (!told) continue;
    if (met && met(outcome)) break;
    remarks_ = {};
    // On from there, as a person would have gone on.
    stood_at_ = {machine().pc(), machine().ticks()};
    const std::pair<std::uint64_t, std::uint32_t> here{machine().ticks(), machine().pc()};
    if (outcome.kind == Outcome::Kind::kEnd && here == last) break;  // nothing leads on from here
    last = here;
  }
  if (done && machine().ticks() >= to.tick && timeline_.done() < to.acts) {
    if (unmet_here()) {
      Outcome here;
      (void)hit(here);
    }
    happen();
  }
  acts_until_ = SIZE_MAX;
  timeline_.aim_at(0);
  replaying_ = false;
  return done;
}

/// To a moment of this timeline, from the nearest place before it.
bool Session::Core::travel(const record::Moment& to) {
  const Timeline::Copy* copy = valid_before(to, false);
  if (copy == nullptr || !restore(*copy)) return false;
  const bool done = run_again(to, {});
  remarks_ = {};
  return done;
}

std::optional<Session::Core::Point> Session::Core::point_before(const record::Moment& moment,
                                                                bool strictly) const {
  std::optional<Point> out;
  const Timeline::Copy* copy =
      strictly ? timeline_.strictly_before(moment) : timeline_.before(moment);
  if (copy != nullptr) out = Point{copy->at, copy->machine};
  const auto behind = strictly ? near_.lower_bound(moment) : near_.upper_bound(moment);
  if (behind != near_.begin())
    if (const auto near = std::prev(behind); !out || out->at < near->first)
      out = Point{near->first, near->second};
  return out;
}

void Session::Core::come_near(const record::Moment& moment) {
  constexpr std::uint64_t kNear = 8'192;
  constexpr std::size_t kMost = 2'000;
  const std::optional<Point> from = point_before(moment, true);
  if (!from || moment.tick - from->at.tick <= kNear) return;
  if (near_.size() > kMost) near_.clear();
  restore(*from);
  acts_until_ = moment.acts;
  for (std::uint64_t to_go = (moment.tick - from->at.tick) / 2; to_go >= kNear / 2; to_go /= 2) {
    machine::RunRequest request;
    request.until_ticks = moment.tick - to_go;
    while (machine().ticks() < request.until_ticks && !pause_requested_)
      if (run(request).stop.why != machine::Stop::Why::kTime) return;
    if (pause_requested_ || moment.tick <= machine().ticks()) return;
    near_[now()] = machine().clone();
  }
}

/// The machine alone, at a moment. REQUIRES: a Quiet.
void Session::Core::restore_at(const record::Moment& moment) {
  restore(*point_before(moment, false));
  acts_until_ = moment.acts;
  machine::RunRequest request;
  request.until_ticks = moment.tick;
  while (machine().ticks() < moment.tick && !pause_requested_)
    if (run(request).stop.why != machine::Stop::Why::kTime) break;
  happen();
  stood_at_ = {machine().pc(), machine().ticks()};
}

void Session::Core::begin_run_quietly() {
  replaying_ = true;
  begin_run();
  replaying_ = false;
}

void Session::Core::set_timeline(bool on) {
  if (on == timeline_.on()) return;
  timeline_.set_on(on);
  if (on && !image_path_.empty()) timeline_.keep(machine(), beside());
}

record::Log Session::Core::log() const {
  const ChipInfo& info = machine().info();
  record::Log log;
  log.chip = info.name;
  log.clock_hz = info.clock_hz;
  log.image = image_hash_;
  log.start = start_hash_;
  log.here = now();
  log.end = std::max(timeline_.end(), now());
  log.world = machine().hash();
  log.acts = timeline_.acts();
  return log;
}

/// From the beginning, along what has been done.
Result<Pause> Session::Core::follow_log(const std::string& text) {
  auto log = record::read_log(text);
  if (!log) return fail(log.error());
  const ChipInfo& info = machine().info();
  if (image_path_.empty()) return fail(ErrorCode::kUsage, "no image has been loaded yet");
  if (log->image != image_hash_)
    return fail(ErrorCode::kUsage,
                fmt::format("this timeline is of another image than '{}'", image_path_));
  if (log->chip != info.name || log->clock_hz != info.clock_hz)
    return fail(ErrorCode::kUsage, fmt::format("this timeline is of another chip: {} at {} Hz",
                                               log->chip, log->clock_hz));
  const Timeline::Copy* first = timeline_.first();
  if (first == nullptr) return no_past();
  if (log->start != start_hash_)
    return fail(ErrorCode::kUsage, "this timeline began otherwise than this one",
                "is the same on the bench, and was the image opened only once?");
  std::string left;
  if (first->at < std::max(timeline_.end(), now())) left = keep_end();
  begin_back();
  restore(*first);
  timeline_.adopt({}, 0, first->at);
  forget_future(first->at.tick);
  timeline_.take(std::move(log->acts));
  const bool done = run_again(log->here, {});
  timeline_.reach(log->end);
  if (!done) {
    pause_requested_ = false;
    running_ = false;
    pause_ = at_beginning("following the timeline was given up").value_or(pause_);
    return pause_;
  }
  remarks_ = {};
  if (machine().hash() != log->world)
    remark("this is not the same as it was: is something else on the bench?");
  if (!left.empty()) remark(fmt::format("what was before ends at mark '{}'", left));
  Outcome here;
  here.kind = Outcome::Kind::kTarget;
  Pause pause = finish_back(here, Pause::Cause::kReady, "as saved");
  return pause;
}

std::uint64_t Session::Core::tick_of(Picoseconds time) const {
  const std::uint64_t hz = machine().info().clock_hz;
  const std::uint64_t tick = to_ticks(time, hz);
  return tick > 0 && to_time(tick, hz).count > time.count ? tick - 1 : tick;
}

}  // namespace lucid
