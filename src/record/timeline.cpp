// SPDX-License-Identifier: MIT
#include "record/timeline.h"

#include <fmt/format.h>

#include <algorithm>
#include <iterator>

#include "base/text.h"

namespace lucid::record {
namespace {

/// Ticks of work between two copies, where they lie densest: a copy costs a few microseconds, this
/// much running some hundred.
constexpr std::uint64_t kSpacing = 1'048'576;
/// On the way back to a moment: so many for each halving of the distance, and that dense.
constexpr std::uint64_t kToMoment = 32;
constexpr std::uint64_t kSpacingNear = kSpacing / 32;
/// A tick asleep is that much less work than one awake.
constexpr std::uint64_t kSleepsLighter = 64;
/// A stretch asleep is come by at least this often, in ticks for each tick of work.
constexpr std::uint64_t kMostRatio = 64;
constexpr std::size_t kNode = 160;  ///< bytes of a copy that are not its machine

std::uint64_t work_of(const machine::Machine& machine) {
  const std::uint64_t slept = machine.slept_ticks();
  return machine.ticks() - slept + slept / kSleepsLighter;
}

}  // namespace

void carry_out(machine::Machine& machine, const Act& act) {
  for (const machine::Edit& edit : act.edits) (void)machine::make(machine, edit);
  const Input& input = act.input;
  if (input.reset) machine.reset();
  if (!input.part.empty()) (void)machine.act(input.part, input.action, input.value).has_value();
  if (!input.pin.empty() && input.microvolts)
    (void)machine.apply(input.pin, *input.microvolts).has_value();
  else if (!input.pin.empty())
    (void)machine.drive(input.pin, input.level).has_value();
  if (!input.serial.empty() && input.frame)
    (void)machine.feed_frame(input.serial, *input.frame).has_value();
  else if (!input.serial.empty())
    (void)machine.feed(input.serial, input.bytes).has_value();
  if (input.transfer) (void)machine.transfer(*input.transfer).has_value();
}

void Timeline::begin() {
  acts_.clear();
  copies_.clear();
  bytes_ = 0;
  spread_ = 0;
  ratio_ = 1;
  done_ = 0;
  end_ = {};
}

void Timeline::set_on(bool on) {
  on_ = on;
  if (on) return;
  copies_.clear();
  bytes_ = 0;
  spread_ = 0;
}

void Timeline::set_bound(std::size_t bytes) {
  bound_ = bytes;
  if (bytes_ > bound_) thin(end_);
}

void Timeline::did(Act act) {
  act.id = ++last_id_;
  acts_.insert(acts_.begin() + static_cast<std::ptrdiff_t>(done_), std::move(act));
  ++done_;
}

void Timeline::plan(Act act) {
  act.id = ++last_id_;
  const auto behind =
      std::upper_bound(acts_.begin() + static_cast<std::ptrdiff_t>(done_), acts_.end(), act.tick,
                       [](std::uint64_t tick, const Act& other) { return tick < other.tick; });
  acts_.insert(behind, std::move(act));
}

void Timeline::take(std::vector<Act> acts) {
  acts_ = std::move(acts);
  for (Act& act : acts_) act.id = ++last_id_;
}

void Timeline::forget_plans(const std::string& pin) {
  acts_.erase(std::remove_if(acts_.begin() + static_cast<std::ptrdiff_t>(done_), acts_.end(),
                             [&](const Act& act) {
                               return act.lets_go && base::equal_ignoring_case(act.input.pin, pin);
                             }),
              acts_.end());
}

std::uint64_t Timeline::next_act() const {
  return done_ < acts_.size() ? acts_[done_].tick : UINT64_MAX;
}

void Timeline::do_next(machine::Machine& machine) {
  Act& act = acts_[done_];
  act.tick = machine.ticks();  // the first boundary at or behind it
  carry_out(machine, act);
  ++done_;
}

void Timeline::reach(const Moment& now) {
  if (end_ < now) end_ = now;
}

void Timeline::fork(const Moment& now) {
  acts_.erase(std::remove_if(acts_.begin() + static_cast<std::ptrdiff_t>(done_), acts_.end(),
                             [](const Act& act) { return act.is_edit(); }),
              acts_.end());
  for (auto behind = copies_.upper_bound(now); behind != copies_.end();
       behind = copies_.erase(behind))
    bytes_ -= behind->second.bytes;
  end_ = now;
}

void Timeline::adopt(std::vector<Act> acts, std::size_t done, const Moment& end) {
  const auto same = [](const Act& a, const Act& b) { return a.id == b.id && a.tick == b.tick; };
  std::size_t common = 0;
  while (common < acts.size() && common < acts_.size() && same(acts[common], acts_[common]))
    ++common;
  std::uint64_t until = UINT64_MAX;  // copies are the same up to there
  if (common < acts.size()) until = std::min(until, acts[common].tick);
  if (common < acts_.size()) until = std::min(until, acts_[common].tick);
  for (auto copy = copies_.begin(); copy != copies_.end();) {
    if (copy->first.acts <= common && copy->first.tick <= until) {
      ++copy;
      continue;
    }
    bytes_ -= copy->second.bytes;
    copy = copies_.erase(copy);
  }
  acts_ = std::move(acts);
  done_ = done;
  end_ = end;
}

void Timeline::keep(const machine::Machine& machine, std::shared_ptr<const Beside> beside) {
  if (!on_) return;
  Copy copy;
  copy.at = {machine.ticks(), done_};
  copy.work = work_of(machine);
  copy.bytes = kNode + machine.copy_bytes() + (beside != nullptr ? beside->bytes() : 0);
  copy.machine = machine.clone();
  copy.beside = std::move(beside);
  if (const Copy* last = strictly_before(copy.at);
      last != nullptr && copy.work > last->work && last->at.tick <= copy.at.tick)
    ratio_ = std::clamp<std::uint64_t>((copy.at.tick - last->at.tick) / (copy.work - last->work), 1,
                                       kMostRatio);
  Copy& place = copies_[copy.at];
  bytes_ += copy.bytes - place.bytes;
  const Moment at = copy.at;
  place = std::move(copy);
  if (bytes_ > bound_) thin(at);
}

Timeline::Copy* Timeline::at(const Moment& moment) {
  const auto found = copies_.find(moment);
  return found == copies_.end() ? nullptr : &found->second;
}

const Timeline::Copy* Timeline::before(const Moment& moment) const {
  const auto behind = copies_.upper_bound(moment);
  return behind == copies_.begin() ? nullptr : &std::prev(behind)->second;
}

const Timeline::Copy* Timeline::strictly_before(const Moment& moment) const {
  const auto behind = copies_.lower_bound(moment);
  return behind == copies_.begin() ? nullptr : &std::prev(behind)->second;
}

std::uint64_t Timeline::spacing_at(std::uint64_t tick) const {
  if (aim_ == 0) return kSpacing;
  const std::uint64_t to_go = aim_ > tick ? (aim_ - tick) / ratio_ : 0;
  return std::max(kSpacingNear, to_go / kToMoment);
}

std::uint64_t Timeline::next_stop(const machine::Machine& machine) {
  if (!on_) return UINT64_MAX;
  const Moment now{machine.ticks(), done_};
  const auto next = copies_.upper_bound(now);
  const std::uint64_t spacing = spacing_at(now.tick);
  std::uint64_t work = 0;
  if (next != copies_.begin())
    work = std::min(spacing - 1, work_of(machine) - std::prev(next)->second.work);
  std::uint64_t stop = now.tick + (spacing - work) * ratio_;
  if (next != copies_.end() && next->first.tick > now.tick) stop = std::min(stop, next->first.tick);
  return stop;
}

bool Timeline::is_due(const machine::Machine& machine) const {
  if (!on_) return false;
  const Copy* last = before({machine.ticks(), done_});
  return last == nullptr || work_of(machine) - last->work >= spacing_at(machine.ticks());
}

/// Lets copies go until a quarter of the bound is free: the gaps between those that stay grow with
/// the distance from the end, and from here.
void Timeline::thin(const Moment& here) {
  const Copy* at = before(here);
  const std::uint64_t stand = at != nullptr ? at->work : 0;
  const std::uint64_t end = copies_.rbegin()->second.work;
  constexpr double kLeast = 1.0 / 4096;
  for (double spread = std::max(kLeast, spread_ / 8); bytes_ > bound_ / 4 * 3 && copies_.size() > 2;
       spread *= 1.25) {
    spread_ = spread;
    std::uint64_t last = copies_.begin()->second.work;
    for (auto copy = std::next(copies_.begin()); std::next(copy) != copies_.end();) {
      const std::uint64_t work = copy->second.work;
      const std::uint64_t from_here = work > stand ? work - stand : stand - work;
      const std::uint64_t distance = std::min(from_here, end - std::min(end, work));
      if (static_cast<double>(work - last) >= spread_ * static_cast<double>(distance)) {
        last = work;
        ++copy;
        continue;
      }
      bytes_ -= copy->second.bytes;
      copy = copies_.erase(copy);
    }
  }
}

std::string difference(const machine::Machine& then, const machine::Machine& now) {
  std::string out;
  unsigned more = 0;
  const auto say = [&](const std::string& what) {
    constexpr std::size_t kMost = 300;
    if (out.size() > kMost)
      ++more;
    else
      out += (out.empty() ? "" : ", ") + what;
  };
  const auto parts_then = then.parts();
  const auto parts_now = now.parts();
  for (std::size_t i = 0; i < parts_then.size() && i < parts_now.size(); ++i)
    if (parts_then[i].state != parts_now[i].state)
      say(fmt::format("part {} ({} → {})", parts_then[i].name, parts_then[i].state,
                      parts_now[i].state));
  const auto& registers = now.target().registers();
  for (unsigned i = 0; i < registers.size(); ++i)
    if (then.register_value(i) != now.register_value(i))
      say(fmt::format("{} ({:#x} → {:#x})", registers[i].name, then.register_value(i),
                      now.register_value(i)));
  for (const MemoryArea& area : now.info().memories) {
    if (area.name == "registers") continue;
    for (std::uint32_t a = area.begin; a < area.end; ++a) {
      const auto before = then.peek({area.space, a});
      const auto after = now.peek({area.space, a});
      if (before != after)
        say(fmt::format("{} {:#06x} ({:#04x} → {:#04x})", area.name, a, before.value_or(0),
                        after.value_or(0)));
    }
  }
  const auto pins_then = then.pins();
  const auto pins_now = now.pins();
  for (std::size_t i = 0; i < pins_then.size() && i < pins_now.size(); ++i)
    if (pins_then[i].level != pins_now[i].level) say("pin " + pins_now[i].name);
  if (out.empty() && then.hash() != now.hash()) out = "something inside a peripheral";
  if (more != 0) out += fmt::format(", and {} more", more);
  return out;
}

}  // namespace lucid::record
