// SPDX-License-Identifier: MIT
#include "screen/pane.h"

#include <algorithm>
#include <utility>

#include "output.h"

namespace lucid::app {

Look look_of_age(unsigned pauses_ago, Look otherwise) {
  constexpr Look kLooks[] = {Look::kFresh, Look::kRecent, Look::kOlder};
  return pauses_ago < 3 ? kLooks[pauses_ago] : otherwise;
}

Look Ages::look(const std::string& key, const std::string& value, unsigned pause, Look otherwise) {
  constexpr unsigned kNever = 1000;  // pauses before the first
  const auto [at, is_new] = seen_.emplace(key, Seen{value, 0});
  Seen& seen = at->second;
  if (!is_new && seen.value != value) {
    seen.value = value;
    seen.changed = pause + kNever;
  }
  return look_of_age(seen.changed == 0 ? kNever : pause + kNever - seen.changed, otherwise);
}

void Pane::next_view(Desk& desk) { desk.say("this pane has one way of showing", Look::kDim); }

std::string fitted(const std::string& text, int cells, bool utf8) {
  std::string shown = visible(text, false, utf8);
  const int now = cells_of(shown, utf8);
  if (now <= cells) return shown + std::string(static_cast<std::size_t>(cells - now), ' ');
  if (cells <= 0) return {};
  std::string out = shown.substr(0, bytes_in_cells(shown, cells - 1));
  out += utf8 ? "…" : ">";
  const int width = cells_of(out, utf8);
  return out + std::string(static_cast<std::size_t>(std::max(cells - width, 0)), ' ');
}

// A list ------------------------------------------------------------------------------------------

std::vector<int> ListPane::parts(const Line& line) const {
  std::vector<int> out;
  for (const Piece& piece : line.pieces)
    if (piece.part != 0 && can_choose(piece.part) && (out.empty() || out.back() != piece.part))
      out.push_back(piece.part);
  return out;
}

int ListPane::cursor_row() const {
  const long row = static_cast<long>(cursor_) - top_;
  return count_ != 0 && row >= 0 && row < height_ ? static_cast<int>(row) : -1;
}

void ListPane::set_cursor(std::size_t index, int part) {
  cursor_ = index;
  part_ = part;
  cursor_key_ = index < count_ ? key_of_row(index) : std::string();
}

void ListPane::choose(std::size_t index, int part) {
  moved_ = true;
  see_ = See::kCursor;
  set_cursor(index, part);
}

void ListPane::centre() {
  see_ = See::kCursorInMiddle;
  moved_ = true;
}

/// What is in sight follows from what is wanted, the cursor and the size: the same after any way of
/// resizing.
void ListPane::find_top() {
  top_ = wanted_;
  const long cursor = static_cast<long>(cursor_);
  const long row = cursor - top_;
  const long third = height_ >= 3 ? height_ / 3 : 0;
  if (see_ == See::kCursorInMiddle && (row < third || row >= height_ - third))
    top_ = cursor - height_ / 2;
  if (see_ == See::kCursor && row < 0) top_ = cursor;
  if (see_ == See::kCursor && row >= height_) top_ = cursor - height_ + 1;
  if (!blank_above_) top_ = std::clamp(top_, 0L, std::max(static_cast<long>(count_) - height_, 0L));
  if (std::exchange(moved_, false)) wanted_ = top_;
}

void ListPane::look(Desk& desk, int rows, int columns) {
  height_ = std::max(rows, 1);
  utf8_ = desk.utf8();
  lines_.clear();
  std::string problem;
  count_ = gather(desk, columns, problem);
  if (count_ == 0) {
    cursor_ = 0;
    cursor_key_.clear();
    // In as many lines as it takes.
    std::string text = problem.empty() ? "nothing here" : problem;
    while (!text.empty() && static_cast<int>(lines_.size()) < height_) {
      std::size_t end = bytes_in_cells(text, std::max(columns - 2, 1));
      if (end < text.size())
        if (const std::size_t blank = text.rfind(' ', end); blank != std::string::npos && blank > 0)
          end = blank;
      lines_.emplace_back().add(" " + text.substr(0, std::max<std::size_t>(end, 1)), Look::kDim);
      text.erase(0, std::max<std::size_t>(end, 1));
      text.erase(0, text.find_first_not_of(' '));
    }
    return;
  }
  // Where others have come or gone, the cursor stays with its row.
  if (!cursor_key_.empty() && (cursor_ >= count_ || key_of_row(cursor_) != cursor_key_))
    for (std::size_t i = 0; i < count_; ++i)
      if (key_of_row(i) == cursor_key_) {
        cursor_ = i;
        break;
      }
  if (cursor_ >= count_) cursor_ = count_ - 1;
  cursor_key_ = key_of_row(cursor_);
  find_top();
  for (long i = top_; i < top_ + height_; ++i) {
    if (i < 0 || i >= static_cast<long>(count_))
      lines_.emplace_back();
    else
      lines_.push_back(row(desk, static_cast<std::size_t>(i), columns));
  }
  while (!lines_.empty() && lines_.back().pieces.empty()) lines_.pop_back();
  if (const int at = cursor_row(); at >= 0 && at < static_cast<int>(lines_.size())) {
    const auto all = parts(lines_[static_cast<std::size_t>(at)]);
    if (std::find(all.begin(), all.end(), part_) == all.end()) part_ = first_part(all);
  }
}

bool ListPane::key(Desk& desk, Key key) {
  const auto to = [&](long index) {
    if (count_ == 0) return true;
    choose(static_cast<std::size_t>(std::clamp(index, 0L, static_cast<long>(count_) - 1)), part_);
    return true;
  };
  const long at = static_cast<long>(cursor_);
  const auto sideways = [&](int by) {
    if (cursor_row() < 0 || cursor_row() >= static_cast<int>(lines_.size())) return true;
    const auto all = parts(lines_[static_cast<std::size_t>(cursor_row())]);
    const auto now = std::find(all.begin(), all.end(), part_);
    if (now == all.end()) {
      if (!all.empty()) part_ = by > 0 ? all.front() : all.back();
      return true;
    }
    if (by < 0 && now != all.begin()) part_ = *(now - 1);
    if (by > 0 && now + 1 != all.end()) part_ = *(now + 1);
    return true;
  };
  switch (key) {
    case kUp: return to(at - 1);
    case kDown: return to(at + 1);
    case kPageUp: return to(at - std::max(height_ - 1, 1));
    case kPageDown: return to(at + std::max(height_ - 1, 1));
    case kHome: return to(0);
    case kEnd: return to(static_cast<long>(count_) - 1);
    case kLeft: return sideways(-1);
    case kRight: return sideways(1);
    case kEnter:
      if (count_ != 0) enter(desk, cursor_, part_);
      return true;
    case kDelete:
      if (count_ != 0) remove(desk, cursor_);
      return true;
    default: return false;
  }
}

namespace {

int part_at(const Line& line, int column, bool utf8) {
  int at = 0;
  for (const Piece& piece : line.pieces) {
    const int width = cells_of(piece.text, utf8);
    if (column < at + width) return piece.part;
    at += width;
  }
  return 0;
}

}  // namespace

void ListPane::press(Desk& desk, int row, int column) {
  const long index = top_ + row;
  if (index < 0 || index >= static_cast<long>(count_)) return;
  stay();
  const int part = part_at(lines_[static_cast<std::size_t>(row)], column, utf8_);
  if (part != 0 && touch(desk, static_cast<std::size_t>(index), part)) return;
  const bool again = static_cast<long>(cursor_) == index && part != 0 && part == part_;
  set_cursor(static_cast<std::size_t>(index), part != 0 ? part : part_);
  if (again) enter(desk, cursor_, part);
}

void ListPane::menu(Desk& desk, int row, int column) {
  const long index = top_ + row;
  if (index < 0 || index >= static_cast<long>(count_)) return;
  stay();
  const int part = part_at(lines_[static_cast<std::size_t>(row)], column, utf8_);
  set_cursor(static_cast<std::size_t>(index), part != 0 ? part : part_);
  offer(desk, cursor_, part_);
}

/// What can be clicked is in sight: nothing scrolls for that.
void ListPane::stay() {
  see_ = See::kCursor;
  wanted_ = top_;
}

void ListPane::wheel(Desk& /*desk*/, int lines) {
  const long last = std::max(static_cast<long>(count_) - height_, 0L);
  see_ = See::kNothing;
  wanted_ = std::clamp(top_ + lines, blank_above_ ? std::min(top_, 0L) : 0L, std::max(last, top_));
}

std::vector<std::unique_ptr<Pane>> make_panes() {
  std::vector<std::unique_ptr<Pane>> out;
  out.push_back(make_code_pane("code", false));
  out.push_back(make_code_pane("instructions", true));
  for (auto* make : {make_variables_pane, make_watches_pane, make_callers_pane, make_registers_pane,
                     make_io_pane, make_memory_pane, make_stack_pane, make_pins_pane,
                     make_parts_pane, make_traces_pane, make_serial_pane, make_breakpoints_pane,
                     make_timeline_pane, make_findings_pane, make_prompt_pane})
    out.push_back(make());
  return out;
}

}  // namespace lucid::app
