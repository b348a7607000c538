// SPDX-License-Identifier: MIT
// What lies along time: traces, breakpoints with their passes, the timeline with its marks.
#include <fmt/format.h>

#include <algorithm>

#include "breakpoint_text.h"
#include "lucid/drawing.h"
#include "screen/pane.h"
#include "text.h"
#include "text_back.h"
#include "text_signals.h"

namespace lucid::app {
namespace {

class TracesPane final : public Pane {
 public:
  TracesPane() : Pane("traces") {}
  [[nodiscard]] Least least() const override { return {4, 40}; }
  std::string title(Desk& /*desk*/) override {
    std::string out = "traces";
    if (!signals_.empty())
      out += fmt::format(": {} to {}", to_text(from_), to_text(to_)) + (held_ ? " (held)" : "");
    return out;
  }
  [[nodiscard]] const char* help() const override {
    return "What is traced, over time. {trace} on a pin, variable, register or part adds a "
           "signal.\n"
           "( and ) show more and less of time; [ and ] move it, and so do the wheel and "
           "dragging. {follow}: to the present, and stay with it.\n"
           "Left and Right move the cursor, its time and values stand below. Enter leaves an "
           "anchor there: the distance to it is told, too. Up and Down choose a signal, Delete "
           "ends its trace.";
  }

  void look(Desk& desk, int rows, int columns) override {
    lines_.clear();
    signals_ = desk.session().signals();
    if (signals_.empty()) {
      const std::string key = name_of(desk.settings().keys.at(Action::kTrace));
      lines_.emplace_back().add(" nothing is traced: press " + key + " on a pin, a variable,",
                                Look::kDim);
      lines_.emplace_back().add(" a register or a part, or give a command: trace pin.PB5",
                                Look::kDim);
      return;
    }
    chosen_ = std::min(chosen_, signals_.size() - 1);
    const Style style(Palette::kNone, desk.utf8(), static_cast<std::size_t>(columns));
    names_ = static_cast<int>(drawn_names(signals_, style));
    width_ = std::max(columns - names_ - 4, 8);
    const Picoseconds now = desk.session().chip().time();
    if (!held_) {
      to_.count = std::max<std::uint64_t>(now.count, 1);
      from_.count = to_.count > span_ ? to_.count - span_ : 0;
    }
    if (to_.count <= from_.count) to_.count = from_.count + 1;
    at_ = std::clamp(column_, 0, width_ - 1);
    const std::string text = to_text(Drawing{signals_, from_, to_}, style);
    std::vector<std::string> all;
    for (std::size_t at = 0; at < text.size();) {
      const std::size_t end = std::min(text.find('\n', at), text.size());
      all.push_back(text.substr(at, end - at));
      at = end + 1;
    }
    // The axis is always in sight; of the lanes as many as there is room for.
    const std::size_t axis = std::min<std::size_t>(all.size(), rows > 4 ? 2 : 1);
    const std::size_t lanes = all.size() - std::min<std::size_t>(all.size(), 2);
    const auto room = static_cast<std::size_t>(std::max(rows - static_cast<int>(axis), 1));
    std::vector<std::size_t> shown;
    lane_rows();
    std::size_t top = 0;  // so that the chosen one is in sight
    for (std::size_t i = 0; i < lanes_.size(); ++i)
      if (lanes_[i] == chosen_ && i >= room) top = i + 1 - room;
    for (std::size_t i = top; i < std::min(lanes, top + room); ++i) shown.push_back(i);
    for (std::size_t i = 0; i < axis; ++i) shown.push_back(axis == 1 ? lanes + 1 : lanes + i);
    for (const std::size_t i : shown) {
      if (i >= all.size()) continue;
      Line line;
      const std::string& whole = all[i];
      const bool lane = i < lanes;
      const std::size_t names = bytes_in_cells(whole, names_ + 4);
      const std::size_t cursor = bytes_in_cells(whole, names_ + 4 + at_);
      const std::size_t behind = bytes_in_cells(whole, names_ + 5 + at_);
      const bool chosen = lane && lane_of(i) == chosen_;
      line.add(whole.substr(0, names), chosen ? Look::kStrong : Look::kDim);
      const bool curve = lane && lane_kind(signals_[lane_of(i)]) == LaneKind::kCurve;
      const Look look = curve ? Look::kCurve : lane ? Look::kAccent : Look::kDim;
      if (cursor < whole.size() && desk.in_use() == name()) {
        line.add(whole.substr(names, cursor - names), look);
        line.pieces.push_back({whole.substr(cursor, behind - cursor), look, 0, Ground::kPart});
        line.add(whole.substr(behind), look);
      } else {
        line.add(whole.substr(std::min(names, whole.size())), look);
      }
      lines_.push_back(std::move(line));
    }
  }
  [[nodiscard]] const std::vector<Line>& lines() const override { return lines_; }

  bool key(Desk& desk, Key key) override {
    const std::uint64_t span = to_.count - from_.count;
    switch (key) {
      case '(': zoom(2.0); return true;
      case ')': zoom(0.5); return true;
      case '[': pan(-static_cast<std::int64_t>(span / 4)); return true;
      case ']': pan(static_cast<std::int64_t>(span / 4)); return true;
      case kLeft:
        column_ = at_ - 1;
        if (column_ < 0) pan(-static_cast<std::int64_t>(span / 4)), column_ += width_ / 4;
        return true;
      case kRight:
        column_ = at_ + 1;
        if (column_ >= width_) pan(static_cast<std::int64_t>(span / 4)), column_ -= width_ / 4;
        return true;
      case kUp:
        if (chosen_ > 0) --chosen_;
        return true;
      case kDown:
        if (chosen_ + 1 < signals_.size()) ++chosen_;
        return true;
      case kHome: column_ = 0; return true;
      case kEnd: column_ = width_ - 1; return true;
      case kEnter: anchor_ = cursor_time(); return true;
      case kDelete:
        if (chosen_ < signals_.size()) desk.command("untrace " + signals_[chosen_].name());
        return true;
      default: return false;
    }
  }
  void press(Desk& /*desk*/, int /*row*/, int column) override {
    if (column >= names_ + 4) column_ = std::min(column - names_ - 4, width_ - 1);
  }
  void wheel(Desk& /*desk*/, int lines) override {
    pan(static_cast<std::int64_t>((to_.count - from_.count) / 24) * lines);
  }
  void drag(Desk& /*desk*/, int /*rows*/, int columns) override {
    pan(-static_cast<std::int64_t>(to_.count - from_.count) / std::max(width_, 1) * columns);
  }
  void follow(Desk& /*desk*/) override { held_ = !held_; }
  std::string signal(Desk& /*desk*/) override { return {}; }
  std::string explanation(Desk& /*desk*/) override {
    if (signals_.empty()) return {};
    const Picoseconds at = cursor_time();
    std::string out = "at " + to_text(at);
    if (anchor_)
      out += fmt::format(", {} {} the anchor",
                         short_time({at.count > anchor_->count ? at.count - anchor_->count
                                                               : anchor_->count - at.count}),
                         at.count >= anchor_->count ? "behind" : "before");
    for (const Signal& s : signals_)
      out += fmt::format("; {} {}", s.name(), s.text(s.at(to_ticks(at, s.hz()))));
    return out;
  }

 private:
  void lane_rows() {
    lanes_.clear();
    for (std::size_t i = 0; i < signals_.size(); ++i) {
      const int rows = lane_kind(signals_[i]) == LaneKind::kCurve ? 3 : 1;
      for (int n = 0; n < rows; ++n) lanes_.push_back(i);
    }
  }
  [[nodiscard]] std::size_t lane_of(std::size_t row) const {
    return row < lanes_.size() ? lanes_[row] : 0;
  }
  [[nodiscard]] Picoseconds cursor_time() const {
    const double share = (at_ + 0.5) / std::max(width_, 1);
    return {from_.count +
            static_cast<std::uint64_t>(share * static_cast<double>(to_.count - from_.count))};
  }
  void zoom(double by) {
    constexpr double kLeast = 1e4, kMost = 1e17;  // 10 ns to a day
    const auto span =
        static_cast<std::uint64_t>(std::clamp(static_cast<double>(span_) * by, kLeast, kMost));
    const Picoseconds at = cursor_time();
    span_ = span;
    if (!held_) return;
    const auto before =
        static_cast<std::uint64_t>(static_cast<double>(span) * (at_ + 0.5) / std::max(width_, 1));
    from_.count = at.count > before ? at.count - before : 0;
    to_.count = from_.count + span;
  }
  void pan(std::int64_t by) {
    held_ = true;
    const std::uint64_t span = to_.count - from_.count;
    if (by < 0)
      from_.count -= std::min<std::uint64_t>(from_.count, static_cast<std::uint64_t>(-by));
    else
      from_.count += static_cast<std::uint64_t>(by);
    to_.count = from_.count + span;
  }

  std::vector<Line> lines_;
  std::vector<Signal> signals_;
  std::vector<std::size_t> lanes_;
  Picoseconds from_, to_;
  std::uint64_t span_ = 1'000'000'000'000;  // a second
  std::optional<Picoseconds> anchor_;
  bool held_ = false;
  int column_ = 1 << 20;  ///< the cursor's, as wanted
  int at_ = 0, width_ = 8, names_ = 9;
  std::size_t chosen_ = 0;
};

class BreakpointsPane final : public ListPane {
 public:
  BreakpointsPane() : ListPane("breakpoints") {}
  [[nodiscard]] Least least() const override { return {3, 26}; }
  std::string title(Desk& desk) override {
    return desk.session().all_breakpoints_on() ? "breakpoints" : "breakpoints: all are off";
  }
  [[nodiscard]] const char* help() const override {
    return "All breakpoints, with how often they were passed (and reached, where a condition did "
           "not hold).\n"
           "Enter shows the place, Delete removes one; on or off: Enter on its state. A right "
           "click offers all there is. `pause at PLACE on pass 9 if EXPR` makes one with "
           "conditions.";
  }
  std::string place(Desk& /*desk*/) override {
    if (count() == 0 || list_[cursor()].addresses.empty()) return {};
    return fmt::format("{:#x}", list_[cursor()].addresses.front());
  }

 protected:
  std::size_t gather(Desk& desk, int /*columns*/, std::string& problem) override {
    list_ = desk.session().breakpoints();
    problem = "no breakpoints: press " + name_of(desk.settings().keys.at(Action::kBreakpoint)) +
              " on a line, or click its margin";
    return list_.size();
  }
  std::string key_of_row(std::size_t index) const override {
    return index < list_.size() ? std::to_string(list_[index].id) : std::string();
  }
  Line row(Desk& desk, std::size_t index, int /*columns*/) override {
    const Breakpoint& p = list_[index];
    Line out;
    out.add(fmt::format("{:>5} ", fmt::format("({})", p.id)), Look::kAccent, 1);
    const bool at = p.spec.kind == BreakpointSpec::Kind::kPlace;
    out.add((at ? p.spec.place : subject_text(p.spec)) + clauses_text(p.spec),
            p.enabled ? Look::kPlain : Look::kDim, 1);
    out.add("  ");
    if (!p.waits_because.empty()) return out.add("waits: " + p.waits_because, Look::kWarn);
    out.add(fmt::format("{} pass{}", p.passes, p.passes == 1 ? "" : "es"),
            ages_.look(std::to_string(p.id), std::to_string(p.passes), desk.pauses()));
    if (p.reached != p.passes) out.add(fmt::format(", reached {}", p.reached), Look::kDim);
    return out.add(p.enabled ? "  [on]" : "  [off]", Look::kKey, 2);
  }
  void enter(Desk& desk, std::size_t index, int part) override {
    const Breakpoint& p = list_[index];
    if (part == 2)
      desk.command(fmt::format("{} {}", p.enabled ? "disable" : "enable", p.id));
    else if (!p.addresses.empty())
      desk.show_code(fmt::format("{:#x}", p.addresses.front()));
    else
      desk.say("it has no place in the code", Look::kDim);
  }
  bool touch(Desk& desk, std::size_t index, int part) override {
    if (part != 2) return false;
    set_cursor(index, part);
    enter(desk, index, part);
    return true;
  }
  void offer(Desk& desk, std::size_t index, int /*part*/) override {
    const unsigned id = list_[index].id;
    Menu menu{fmt::format("breakpoint {}", id), {}};
    for (const auto& [what, words] :
         {std::pair{"enable", ""}, std::pair{"disable", ""},
          std::pair{"rearm", "count its passes from nought"}, std::pair{"remove", ""}})
      menu.choices.push_back(
          {what, words, [&desk, line = fmt::format("{} {}", what, id)] { desk.command(line); }});
    desk.choose(std::move(menu));
  }
  void remove(Desk& desk, std::size_t index) override {
    desk.command(fmt::format("remove {}", list_[index].id));
  }

 private:
  std::vector<Breakpoint> list_;
  Ages ages_;
};

class TimelinePane final : public ListPane {
 public:
  TimelinePane() : ListPane("timeline") {}
  [[nodiscard]] Least least() const override { return {3, 26}; }
  [[nodiscard]] const char* help() const override {
    return "From the start to the latest moment that was reached: where one stands, and the "
           "moments that have names.\n"
           "Enter on a mark goes there; `mark NAME` in the prompt gives this moment a name. A "
           "click "
           "on the line goes to that time.";
  }

 protected:
  std::size_t gather(Desk& desk, int columns, std::string& problem) override {
    view_ = desk.session().timeline();
    now_ = desk.session().chip().time();
    marks_ = desk.session().marks();
    width_ = std::max(columns - 2, 8);
    if (!view_.on) {
      problem = "the timeline is off: `timeline on` keeps what was from then on";
      return 0;
    }
    return 2 + marks_.size();
  }
  Line row(Desk& desk, std::size_t index, int /*columns*/) override {
    Line out;
    const std::uint64_t end = std::max<std::uint64_t>({view_.end.count, now_.count, 1});
    if (index == 0) {
      const auto column = [&](Picoseconds t) {
        return static_cast<int>(static_cast<double>(t.count) / static_cast<double>(end) *
                                (width_ - 1));
      };
      out.add(" ");
      for (int i = 0; i < width_; ++i) {
        std::string c = desk.utf8() ? "─" : "-";
        Look look = i < column(view_.first) ? Look::kDim : Look::kPlain;
        for (const Session::MarkView& m : marks_)
          if (!m.other_future && !m.image_gone && column(m.time) == i)
            c = desk.utf8() ? "┬" : "+", look = Look::kAccent;
        if (column(now_) == i) c = desk.utf8() ? "▼" : "V", look = Look::kStrong;
        out.add(c, look, i + 1);
      }
      return out;
    }
    if (index == 1) {
      out.add(" now " + to_text(now_));
      const std::uint64_t behind = end - std::min(end, now_.count);
      if (behind != 0) out.add(fmt::format(", {} back from the end", to_text(Picoseconds{behind})));
      return out.add(fmt::format("; {} copies, {} KiB", view_.copies, view_.bytes / 1024),
                     Look::kDim);
    }
    const Session::MarkView& m = marks_[index - 2];
    out.add("  ").add(m.name, m.image_gone ? Look::kDim : Look::kAccent, 1);
    out.add("  " + to_text(m.time) + "  " + app::place(m.where));
    if (m.other_future) out.add("  another future", Look::kDim);
    if (m.image_gone) out.add("  of an image that is gone", Look::kDim);
    return out;
  }
  void enter(Desk& desk, std::size_t index, int part) override {
    if (index >= 2) return desk.command("revert to " + marks_[index - 2].name);
    if (index == 0 && part > 0) to(desk, part);
  }
  bool touch(Desk& desk, std::size_t index, int part) override {
    if (index != 0) return false;
    set_cursor(index, part);
    to(desk, part);
    return true;
  }

 private:
  void to(Desk& desk, int part) const {
    const std::uint64_t end = std::max<std::uint64_t>({view_.end.count, now_.count, 1});
    const double share = static_cast<double>(part - 1) / std::max(width_ - 1, 1);
    const auto us =
        static_cast<std::uint64_t>(share * static_cast<double>(end) / 1e6);  // of a microsecond
    if (us == 0) return desk.command("back to start");
    desk.command(fmt::format("go to {}us", us));
  }
  Session::TimelineView view_;
  Picoseconds now_;
  std::vector<Session::MarkView> marks_;
  int width_ = 8;
};

}  // namespace

std::unique_ptr<Pane> make_traces_pane() { return std::make_unique<TracesPane>(); }
std::unique_ptr<Pane> make_breakpoints_pane() { return std::make_unique<BreakpointsPane>(); }
std::unique_ptr<Pane> make_timeline_pane() { return std::make_unique<TimelinePane>(); }

}  // namespace lucid::app
