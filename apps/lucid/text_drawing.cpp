// SPDX-License-Identifier: MIT
// Signals as lanes of characters: one column of them for each of the terminal.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <tuple>

#include "lucid/drawing.h"
#include "text_signals.h"

namespace lucid::app {
namespace {

using Columns = std::vector<Signal::Column>;

/// What lanes are drawn with, in Unicode or plain ASCII.
struct Strokes {
  const char *high, *low, *dense, *floating, *unknown, *edge, *moment, *moments, *axis, *tick;
  const char* levels[9];
};
constexpr Strokes kUnicode{"▀",
                           "▁",
                           "▒",
                           "·",
                           "?",
                           "│",
                           "╵",
                           "┃",
                           "─",
                           "┬",
                           {" ", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"}};
constexpr Strokes kAscii{"\"",
                         "_",
                         "%",
                         ".",
                         "?",
                         "|",
                         "'",
                         "|",
                         "-",
                         "+",
                         {" ", ".", ".", ":", ":", "+", "+", "#", "#"}};

std::string level_lane(const Columns& columns, const Strokes& s) {
  std::string out;
  for (const Signal::Column& c : columns) {
    if (!c.known)
      out += c.first.state == Sample::State::kFloating ? s.floating : s.unknown;
    else if (c.changes > 1)
      out += s.dense;
    else
      out += (c.last.known() ? c.last : c.first).value != 0 ? s.high : s.low;
  }
  return out;
}

/// A text where each value begins, as far as there is room.
std::string box_lane(const Signal& signal, const Columns& columns, const Strokes& s) {
  std::string out;
  for (std::size_t i = 0; i < columns.size();) {
    std::size_t end = i + 1;
    while (end < columns.size() && columns[end].changes == 0) ++end;
    std::string what = columns[i].last.known() ? signal.text(columns[i].last) : s.unknown;
    if (what == "-") what.clear();
    const bool edge = i != 0 || columns[i].changes != 0;
    const bool short_one = columns[i].changes > 1 && what.empty();
    const std::size_t room = end - i - (edge ? 1 : 0);
    if (edge) out += what.empty() && !short_one ? " " : s.edge;
    if (what.size() > room) what = room >= 4 ? what.substr(0, room - 1) + "~" : "";
    out += what + std::string(room - what.size(), ' ');
    i = end;
  }
  return out;
}

std::string moment_lane(const Signal& signal, const Columns& columns, const Strokes& s) {
  std::string out;
  for (std::size_t i = 0; i < columns.size();) {
    if (columns[i].changes == 0) {
      out += ' ';
      ++i;
      continue;
    }
    std::size_t end = i + 1;
    while (end < columns.size() && columns[end].changes == 0) ++end;
    out += columns[i].changes == 1 ? s.moment : s.moments;
    const std::string what = columns[i].changes == 1 ? signal.text(columns[i].last) : "";
    if (!what.empty() && what.size() + 1 < end - i) {
      out += what;
      i += what.size();
    }
    ++i;
  }
  return out;
}

/// Rows of a curve, the highest first.
std::vector<std::string> curve_lanes(const Signal& signal, const Columns& columns, const Strokes& s,
                                     double& least, double& most) {
  constexpr int kRows = 3, kSteps = 8;
  std::tie(least, most) = extremes(columns).value_or(std::pair(0.0, 0.0));
  std::vector<std::string> rows(kRows);
  for (const Signal::Column& c : columns) {
    const double value = c.last.known() ? signal.number(c.last) : c.most;
    const double share = most > least ? (value - least) / (most - least) : 0.5;
    const int height = 1 + static_cast<int>(std::lround(share * (kRows * kSteps - 1)));
    for (int row = 0; row < kRows; ++row) {
      const int above = (kRows - 1 - row) * kSteps;
      rows[static_cast<std::size_t>(row)] += c.known
                                                 ? s.levels[std::clamp(height - above, 0, kSteps)]
                                             : row + 1 == kRows ? s.unknown
                                                                : " ";
    }
  }
  return rows;
}

}  // namespace

std::size_t drawn_names(const std::vector<Signal>& signals, const Style& style) {
  std::size_t names = 0;
  constexpr std::size_t kWidest = 24;
  for (const Signal& signal : signals) names = std::max(names, style.columns(signal.name()));
  return std::clamp<std::size_t>(names, 9, kWidest);
}

std::string SignalViews::operator()(const Drawing& d) const {
  Strokes s = style_.utf8() ? kUnicode : kAscii;
  const char* const unknown = s.unknown;
  const std::size_t names = drawn_names(d.signals, style_);
  const auto width = static_cast<unsigned>(style_.width() - names - 4);
  std::string out;
  const auto lane = [&](const std::string& name, const std::string& drawn) {
    out += "  " + style_.padded(style_.clipped(name, names), names) + "  " + style_.accent(drawn) +
           "\n";
  };
  for (const Signal& signal : d.signals) {
    s.unknown =
        signal.facts().fleeting ? " " : unknown;  // what is there now and then is not missing
    const std::uint64_t from = to_ticks(d.from, signal.hz());
    const std::uint64_t to = std::max(to_ticks(d.to, signal.hz()), from + 1);
    const Columns columns = signal.columns(from, to, width);
    if (lane_kind(signal) == LaneKind::kCurve) {
      double least = 0, most = 0;
      const auto rows = curve_lanes(signal, columns, s, least, most);
      const std::string unit = signal.facts().unit.empty() ? "" : " " + signal.facts().unit;
      lane(fmt::format("{:.5g}{}", most, unit), rows[0]);
      lane(signal.name(), rows[1]);
      lane(fmt::format("{:.5g}{}", least, unit), rows[2]);
      continue;
    }
    switch (signal.facts().kind) {
      case Signal::Kind::kLevel: lane(signal.name(), level_lane(columns, s)); break;
      case Signal::Kind::kMoment: lane(signal.name(), moment_lane(signal, columns, s)); break;
      default: lane(signal.name(), box_lane(signal, columns, s)); break;
    }
  }
  // The axis: a mark and a time for each round moment that has room.
  std::string marks, times;
  const double span = static_cast<double>(d.to.count - d.from.count);
  std::vector<std::size_t> at;
  for (const TimeTick& tick : time_ticks(d.from, d.to, std::max(2U, width / 16))) {
    const auto column =
        static_cast<std::size_t>(static_cast<double>(tick.at.count - d.from.count) / span * width);
    if (column >= width) continue;
    at.push_back(column);
    const std::size_t half = tick.text.size() / 2;
    const std::size_t begin = column > half ? column - half : 0;
    if (begin < times.size() + (times.empty() ? 0 : 1) || begin + tick.text.size() > width)
      continue;
    times += std::string(begin - times.size(), ' ') + tick.text;
  }
  for (std::size_t i = 0; i < width; ++i)
    marks += std::find(at.begin(), at.end(), i) != at.end() ? s.tick : s.axis;
  const std::string indent(names + 4, ' ');
  return out + indent + style_.dim(marks) + "\n" + indent + style_.dim(times) + "\n";
}

}  // namespace lucid::app
