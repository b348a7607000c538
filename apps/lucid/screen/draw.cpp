// SPDX-License-Identifier: MIT
// Puts panes, bars and lists together into a frame.
#include <fmt/format.h>

#include <algorithm>

#include "screen/lists.h"
#include "screen/screen.h"

namespace lucid::app {
namespace {

constexpr int kBarAbove = 1, kBarsBelow = 2;

std::map<std::string, Least> least_of_all(
    const std::map<std::string, std::unique_ptr<Pane>>& panes) {
  std::map<std::string, Least> out;
  for (const auto& [name, pane] : panes) out[name] = pane->least();
  return out;
}

int width_of_line(const Line& line, bool utf8) {
  int out = 0;
  for (const Piece& piece : line.pieces) out += cells_of(piece.text, utf8);
  return out;
}

}  // namespace

void Screen::arrange() {
  const Area area{kBarAbove, 0, std::max(rows_ - kBarAbove - kBarsBelow, 1), columns_};
  if (!alone_.empty()) {
    placement_ = {{{alone_, area}}, {}, {}};
    return;
  }
  placement_ = place(arrangement(), area, least_of_all(panes_));
}

bool Screen::in_sight(const std::string& name) const {
  return std::any_of(placement_.panes.begin(), placement_.panes.end(),
                     [&](const Placed& p) { return p.pane == name; });
}

Frame Screen::frame() {
  stale_ = false;
  arrange();
  log_.serial = !in_sight("serial");
  Frame out(rows_, columns_, utf8_);
  if (too_small()) {
    out.put(0, 0, columns_, "too small: better 80 by 24");
    return out;
  }
  hints_.clear();
  draw_panes(out);
  draw_bars(out);
  if (edit_) draw_edit(out);
  if (list_ != nullptr) draw_list(out);
  return out;
}

void Screen::draw_panes(Frame& frame) {
  for (const Placed& placed : placement_.panes) draw_pane(frame, placed);
  for (const Divider& divider : placement_.dividers)
    if (divider.upright)
      for (int r = divider.area.row; r < divider.area.row + divider.area.rows; ++r)
        frame.put(r, divider.area.column, 1, "│", Look::kDim);
}

void Screen::draw_pane(Frame& frame, const Placed& placed) {
  const Area& area = placed.area;
  Pane& shown = pane(placed.pane);
  const bool used = placed.pane == in_use();
  shown.look(*this, area.rows - 1, area.columns);
  const bool typed = used && typing();
  const Look look = typed ? Look::kTitleTyping : used ? Look::kTitleInUse : Look::kTitle;
  Line title;
  std::string text = shown.title(*this);
  if (edit_ && used) text += ": typing";
  title.add(used ? "▌" : " ", look).add(text + " ", look);
  frame.put(area.row, area.column, area.columns, title);
  const auto& lines = shown.lines();
  const int cursor = used ? shown.cursor_row() : -1;
  for (int r = 0; r < area.rows - 1; ++r) {
    Line line = r < static_cast<int>(lines.size()) ? lines[static_cast<std::size_t>(r)] : Line{};
    if (r == cursor && line.ground == Ground::kNone) line.ground = Ground::kCursor;
    frame.put(area.row + 1 + r, area.column, area.columns, line,
              r == cursor ? shown.cursor_part() : 0);
  }
  if (used && shown.typing() && list_ == nullptr)
    if (const auto caret = shown.caret())
      frame.caret =
          std::pair{area.row + 1 + caret->first,
                    std::min(area.column + caret->second, area.column + area.columns - 1)};
}

void Screen::draw_bars(Frame& frame) {
  // Above: the layouts, and where the chip is.
  const auto& session = *console_.session();
  Line left;
  int at = 0;
  const auto tab = [&](const std::string& text, Look look, Action action) {
    left.add(text, look);
    const int width = cells_of(text, utf8_);
    if (action != Action::kNone) hints_.push_back({{0, at, 1, width}, action, 0});
    at += width;
  };
  for (std::size_t i = 0; i < settings_.layouts.size(); ++i) {
    const auto action = static_cast<Action>(static_cast<std::size_t>(Action::kLayout1) + i);
    tab(fmt::format(" {} {} ", name_of(settings_.keys.at(action)), settings_.layouts[i].name),
        i == settings_.layout ? Look::kTitleInUse : Look::kTitle, action);
  }
  Line right;
  const Picoseconds behind = session.behind();
  const bool runs = running();
  right.add(runs ? "runs " : "paused ", runs ? Look::kFresh : Look::kStrong);
  right.add(to_text(session.chip().time()), Look::kAccent);
  if (behind.count != 0) right.add(", " + to_text(behind) + " back", Look::kWarn);
  right.add(" ");
  if (!placement_.folded.empty() && columns_ >= 120) {
    std::string folded = "  folded:";
    for (const std::string& name : placement_.folded) folded += " " + name;
    left.add(folded, Look::kDim);
  }
  const int width = width_of_line(right, utf8_);
  frame.put(0, 0, columns_, left);
  frame.put(0, columns_ - width, width, right);
  // Below: what has happened or what is under the cursor, and keys.
  Line message;
  message.add(" ");
  if (!message_.empty())
    message.add(message_, message_look_);
  else
    message.add(list_ == nullptr ? pane(in_use()).explanation(*this) : "", Look::kDim);
  frame.put(rows_ - 2, 0, columns_, message);
  Line keys;
  at = 0;
  const auto hint = [&](Key key, const std::string& words, Action action) {
    const std::string name = name_of(key);
    const int both = cells_of(name + " " + words, utf8_) + 2;
    if (at + both > columns_) return;
    keys.add(" ").add(name, Look::kKey).add(" " + words + " ");
    hints_.push_back({{rows_ - 1, at, 1, both}, action, key});
    at += both;
  };
  const auto of = [&](Action action) {
    hint(settings_.keys.at(action), facts_of(action).brief, action);
  };
  if (list_ != nullptr) {
    if (!list_->reading) hint(kEnter, "choose", Action::kNone);
    hint(kEscape, "leave", Action::kNone);
  } else if (typing()) {
    hint(kEnter, "carry it out", Action::kNone);
    hint(kEscape, "leave the text", Action::kNone);
  } else {
    if (runs) of(Action::kPause);
    for (const Action action :
         {Action::kGo,       Action::kInto,       Action::kOver,     Action::kOut,
          Action::kBack,     Action::kBreakpoint, Action::kHere,     Action::kCommand,
          Action::kFind,     Action::kHelp,       Action::kPrompt,   Action::kWatch,
          Action::kNextPane, Action::kAlone,      Action::kBackOver, Action::kTrace,
          Action::kOrigin,   Action::kView,       Action::kFollow,   Action::kReplace,
          Action::kHide})
      if (!runs || static_cast<int>(action) > static_cast<int>(Action::kHere)) of(action);
  }
  frame.put(rows_ - 1, 0, columns_, keys);
}

void Screen::draw_edit(Frame& frame) {
  for (const Placed& placed : placement_.panes) {
    if (placed.pane != in_use()) continue;
    const Pane& edited = pane(in_use());
    const int row = edited.cursor_row();
    const auto& lines = edited.lines();
    if (row < 0 || row >= static_cast<int>(lines.size())) {  // it is no more
      edit_.reset();
      return;
    }
    int column = 0;
    for (const Piece& piece : lines[static_cast<std::size_t>(row)].pieces) {
      if (piece.part != 0 && piece.part == edited.cursor_part()) break;
      column += cells_of(piece.text, utf8_);
    }
    constexpr int kLeast = 12;
    column = std::clamp(column, 0, std::max(placed.area.columns - kLeast, 0));
    const int room = placed.area.columns - column;
    const Field::Part part = edit_->field.visible_part(room - 1);
    frame.put(placed.area.row + 1 + row, placed.area.column + column, room,
              fitted(part.text, room, utf8_), Look::kField);
    frame.caret = std::pair{placed.area.row + 1 + row, placed.area.column + column + part.caret};
  }
}

void Screen::draw_list(Frame& frame) {
  List& list = *list_;
  int widest = cells_of(list.title, utf8_) + 4;
  int names = 0;
  for (const Menu::Choice& c : list.choices) {
    if (!c.detail.empty()) names = std::max(names, std::min(cells_of(c.text, utf8_), 32));
    widest = std::max(widest, cells_of(c.text, utf8_) + 2);
  }
  for (const Menu::Choice& c : list.choices)
    if (!c.detail.empty()) widest = std::max(widest, names + 4 + cells_of(c.detail, utf8_));
  constexpr int kWidest = 76;
  const int width =
      std::min({std::max(widest, list.filtered ? kWidest : 24), kWidest, columns_ - 4});
  const int head = list.filtered ? 2 : 1;
  const int height = std::min(
      static_cast<int>(list.filtered ? std::size_t{18} : list.choices.size()) + head, rows_ - 4);
  Area area{(rows_ - height) / 2, (columns_ - width) / 2, height, width};
  frame.put(area.row, area.column, area.columns,
            std::string(" ") + list.title + (list.reading ? "" : ": Enter chooses, Escape leaves"),
            Look::kTitleInUse);
  if (list.filtered) {
    const Field::Part part = list.filter.visible_part(width - 3);
    frame.put(area.row + 1, area.column, width, fitted(" " + part.text, width, utf8_),
              Look::kField);
    frame.caret = std::pair{area.row + 1, area.column + 1 + part.caret};
  }
  list.area = {area.row + head, area.column, height - head, width};
  const auto rows = static_cast<std::size_t>(std::max(list.area.rows, 1));
  if (!list.reading) {
    if (list.chosen < list.top) list.top = list.chosen;
    if (list.chosen >= list.top + rows) list.top = list.chosen - rows + 1;
  }
  for (std::size_t r = 0; r < rows; ++r) {
    Line line;
    const std::size_t index = list.top + r;
    const int row = list.area.row + static_cast<int>(r);
    if (index < list.shown.size()) {
      const Menu::Choice& c = list.choices[list.shown[index]];
      const bool chosen = !list.reading && index == list.chosen;
      const Look look = chosen ? Look::kChosen : Look::kPlain;
      line.add(" ", look);
      if (c.detail.empty()) {
        line.add(c.text, look);
      } else {
        line.add(fitted(c.text, std::max(names, cells_of(c.text, utf8_)), utf8_) + "  ", look);
        line.add(c.detail, chosen ? Look::kChosen : Look::kDim);
      }
    } else if (r == 0 && list.shown.empty()) {
      line.add(" nothing has such a name", Look::kDim);
    }
    if (line.ground == Ground::kNone) line.ground = Ground::kCursor;
    frame.put(row, list.area.column, list.area.columns, line);
  }
}

}  // namespace lucid::app
