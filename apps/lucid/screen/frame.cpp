// SPDX-License-Identifier: MIT
#include "screen/frame.h"

#include <algorithm>
#include <cwchar>

#include "output.h"

namespace lucid::app {
namespace {

/// The character at the front of well-formed UTF-8, which it takes away.
char32_t take_character(std::string_view& text) {
  const auto byte = [&](std::size_t i) { return static_cast<unsigned char>(text[i]); };
  const unsigned first = byte(0);
  const std::size_t length = first < 0x80 ? 1 : first < 0xe0 ? 2 : first < 0xf0 ? 3 : 4;
  char32_t code = length == 1 ? first : first & (0x7fU >> length);
  for (std::size_t i = 1; i < length && i < text.size(); ++i) code = code << 6 | (byte(i) & 0x3fU);
  text.remove_prefix(std::min(length, text.size()));
  return code;
}

/// Cells of a character; nothing that joins the one before it, or that the locale cannot show, is
/// let through: put() writes another mark for it.
int width_of(char32_t code) {
  if (code < 0x80) return 1;
  const int width = wcwidth(static_cast<wchar_t>(code));
  return width == 2 ? 2 : 1;
}

std::string printable(std::string_view text, bool utf8) {
  std::string out = visible(text, false, utf8);
  for (std::size_t i = 0; i < out.size(); ++i)
    if (out[i] == '\n' || out[i] == '\t') out.replace(i, 1, out[i] == '\n' ? "\\x0a" : "    ");
  return out;
}

void append_utf8(std::string& out, char32_t code) {
  if (code < 0x80) {
    out += static_cast<char>(code);
  } else if (code < 0x800) {
    out += static_cast<char>(0xc0 | code >> 6);
    out += static_cast<char>(0x80 | (code & 0x3f));
  } else if (code < 0x10000) {
    out += static_cast<char>(0xe0 | code >> 12);
    out += static_cast<char>(0x80 | (code >> 6 & 0x3f));
    out += static_cast<char>(0x80 | (code & 0x3f));
  } else {
    out += static_cast<char>(0xf0 | code >> 18);
    out += static_cast<char>(0x80 | (code >> 12 & 0x3f));
    out += static_cast<char>(0x80 | (code >> 6 & 0x3f));
    out += static_cast<char>(0x80 | (code & 0x3f));
  }
}

}  // namespace

int cells_of(std::string_view text, bool utf8) {
  const std::string shown = printable(text, utf8);
  std::string_view rest = shown;
  int out = 0;
  while (!rest.empty()) out += width_of(take_character(rest));
  return out;
}

std::size_t bytes_in_cells(std::string_view text, int cells) {
  std::string_view rest = text;
  while (!rest.empty()) {
    std::string_view behind = rest;
    cells -= width_of(take_character(behind));
    if (cells < 0) break;
    rest = behind;
  }
  return text.size() - rest.size();
}

Frame::Frame(int rows, int columns, bool utf8)
    : rows_(rows),
      columns_(columns),
      utf8_(utf8),
      cells_(static_cast<std::size_t>(rows * columns)) {}

void Frame::put(int row, int column, int room, const Line& line, int part) {
  if (row < 0 || row >= rows_ || column < 0) return;
  room = std::min(room, columns_ - column);
  if (room <= 0) return;
  const int end = column + room;
  int at = column;
  bool cut = false;
  for (const Piece& piece : line.pieces) {
    const std::string shown = printable(piece.text, utf8_);
    std::string_view rest = shown;
    const Ground ground = part != 0 && piece.part == part ? Ground::kPart
                          : piece.ground != Ground::kNone ? piece.ground
                                                          : line.ground;
    while (!rest.empty() && !cut) {
      char32_t code = take_character(rest);
      const int width = width_of(code);
      // What has no width of its own would change the character before it.
      if (code >= 0x80 && wcwidth(static_cast<wchar_t>(code)) < 1) code = utf8_ ? 0xfffd : U'?';
      if (at + width > end) {
        cut = true;
        break;
      }
      cell(row, at) = {code, piece.look, ground};
      if (width == 2) cell(row, at + 1) = {0, piece.look, ground};
      at += width;
    }
  }
  if (cut) {
    cell(row, end - 1) = {utf8_ ? char32_t{0x2026} : U'>', Look::kDim, line.ground};
    if (end - 2 >= column && at == end - 1 && width_of(cell(row, end - 2).code) == 2)
      cell(row, end - 2) = {U' ', Look::kPlain, line.ground};
    // A wide character that the mark has halved.
    if (end - 2 >= column && cell(row, end - 2).code > 0x7f &&
        width_of(cell(row, end - 2).code) == 2)
      cell(row, end - 2).code = U' ';
    return;
  }
  const Look last = line.pieces.empty() ? Look::kPlain : line.pieces.back().look;
  const bool bar = last == Look::kTitle || last == Look::kTitleInUse ||
                   last == Look::kTitleTyping || last == Look::kField || last == Look::kChosen;
  for (; at < end; ++at) cell(row, at) = {U' ', bar ? last : Look::kPlain, line.ground};
}

void Frame::put(int row, int column, int room, std::string text, Look look) {
  Line line;
  line.add(std::move(text), look);
  put(row, column, room, line);
}

std::string Frame::text(int row) const {
  std::string out;
  for (int c = 0; c < columns_; ++c)
    if (at(row, c).code != 0) append_utf8(out, at(row, c).code);
  out.erase(out.find_last_not_of(' ') + 1);
  return out;
}

std::string Frame::text(const Area& area) const {
  std::string out;
  for (int r = area.row; r < area.row + area.rows; ++r) {
    std::string line;
    for (int c = area.column; c < area.column + area.columns; ++c)
      if (at(r, c).code != 0) append_utf8(line, at(r, c).code);
    line.erase(line.find_last_not_of(' ') + 1);
    out += line + "\n";
  }
  return out;
}

}  // namespace lucid::app
