// SPDX-License-Identifier: MIT
#include "screen/field.h"

#include <algorithm>
#include <utility>

#include "screen/frame.h"

namespace lucid::app {
namespace {

std::string utf8_of(Key key) {
  std::string out;
  if (key < 0x80) return std::string(1, static_cast<char>(key));
  const int more = key < 0x800 ? 1 : key < 0x10000 ? 2 : 3;
  constexpr unsigned kFirst[] = {0, 0xc0, 0xe0, 0xf0};
  out += static_cast<char>(kFirst[more] | key >> (6 * more));
  for (int i = more - 1; i >= 0; --i) out += static_cast<char>(0x80 | (key >> (6 * i) & 0x3f));
  return out;
}

}  // namespace

void Field::set(std::string text) {
  text_ = std::move(text);
  caret_ = text_.size();
}

std::size_t Field::before(std::size_t at) const {
  if (at == 0) return 0;
  do --at;
  while (at != 0 && (text_[at] & 0xc0) == 0x80);
  return at;
}

std::size_t Field::behind(std::size_t at) const {
  if (at >= text_.size()) return text_.size();
  do ++at;
  while (at < text_.size() && (text_[at] & 0xc0) == 0x80);
  return at;
}

bool Field::key(Key key) {
  constexpr std::size_t kLongest = 4000;
  const auto cut = [&](std::size_t from, std::size_t to) {
    text_.erase(from, to - from);
    caret_ = from;
  };
  switch (key) {
    case kLeft: caret_ = before(caret_); return true;
    case kRight: caret_ = behind(caret_); return true;
    case kHome:
    case control('A'): caret_ = 0; return true;
    case kEnd:
    case control('E'): caret_ = text_.size(); return true;
    case kBackspace: cut(before(caret_), caret_); return true;
    case kDelete: cut(caret_, behind(caret_)); return true;
    case control('U'): cut(0, caret_); return true;
    case control('K'): cut(caret_, text_.size()); return true;
    case control('W'): {
      std::size_t from = caret_;
      while (from != 0 && text_[from - 1] == ' ') --from;
      while (from != 0 && text_[from - 1] != ' ') --from;
      cut(from, caret_);
      return true;
    }
    default: break;
  }
  const bool surrogate = key >= 0xd800 && key < 0xe000;
  if (key < 0x20 || (key >= 0x7f && key < 0xa0) || key >= 0x110000 || surrogate) return false;
  if (text_.size() < kLongest) {
    const std::string typed = utf8_of(key);
    text_.insert(caret_, typed);
    caret_ += typed.size();
  }
  return true;
}

Field::Part Field::visible_part(int cells) const {
  // The caret is always in sight, with its place behind the last character.
  std::size_t from = 0;
  while (from < caret_ &&
         cells_of(std::string_view(text_).substr(from, caret_ - from), true) >= cells)
    from = behind(from);
  const std::string_view rest = std::string_view(text_).substr(from);
  return {std::string(rest.substr(0, bytes_in_cells(rest, std::max(cells, 0)))),
          cells_of(rest.substr(0, caret_ - from), true)};
}

}  // namespace lucid::app
