// SPDX-License-Identifier: MIT
// Frame: what the screen shows, as characters with a look. A terminal draws it; tests read it.
#ifndef LUCID_APP_SCREEN_FRAME_H
#define LUCID_APP_SCREEN_FRAME_H

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace lucid::app {

/// What a text is, not which colour it has: each terminal has its own for it.
enum class Look : std::uint8_t {
  kPlain,
  kStrong,
  kDim,     ///< what is less important, or no longer holds
  kAccent,  ///< marks of where one is
  kWarn,
  kBad,
  kFresh,   ///< changed with the last step
  kRecent,  ///< with the one before
  kOlder,   ///< with the one before that
  kTitle,   ///< of a pane
  kTitleInUse,
  kTitleTyping,  ///< letters are text there
  kKey,
  kField,   ///< text that is being typed
  kChosen,  ///< of a list
  kCurve,   ///< a drawing
  kCount,
};
/// What is behind it.
enum class Ground : std::uint8_t {
  kNone,
  kCurrent,  ///< the line about to execute
  kCursor,   ///< the row that keys act on
  kPart,     ///< and what they act on in it
  kCount,
};

/// Text of one look. `part` says what it stands for, to whoever has written it; 0: nothing.
struct Piece {
  std::string text;
  Look look = Look::kPlain;
  int part = 0;
  Ground ground = Ground::kNone;  ///< if not that of the line
};
struct Line {
  std::vector<Piece> pieces;
  Ground ground = Ground::kNone;

  Line& add(std::string text, Look look = Look::kPlain, int part = 0) {
    pieces.push_back({std::move(text), look, part, Ground::kNone});
    return *this;
  }
};

/// A stretch of the screen.
struct Area {
  int row = 0, column = 0, rows = 0, columns = 0;
  [[nodiscard]] bool holds(int r, int c) const {
    return r >= row && r < row + rows && c >= column && c < column + columns;
  }
};

struct Cell {
  char32_t code = U' ';  ///< 0: the second half of a wide character
  Look look = Look::kPlain;
  Ground ground = Ground::kNone;
  friend bool operator==(const Cell& a, const Cell& b) {
    return a.code == b.code && a.look == b.look && a.ground == b.ground;
  }
};

/// How many cells text takes, once it is made visible.
int cells_of(std::string_view text, bool utf8);
/// Its first so many cells, and how many bytes of it those are. REQUIRES: it is visible.
std::size_t bytes_in_cells(std::string_view text, int cells);

class Frame {
 public:
  Frame(int rows, int columns, bool utf8);
  [[nodiscard]] int rows() const { return rows_; }
  [[nodiscard]] int columns() const { return columns_; }
  [[nodiscard]] const Cell& at(int row, int column) const { return cells_[place(row, column)]; }
  /// A line into so many cells of a row, filled up with blanks; a mark stands where it is cut. What
  /// is no printable character is written as \xNN. `part`: that piece stands out.
  void put(int row, int column, int room, const Line& line, int part = 0);
  void put(int row, int column, int room, std::string text, Look look = Look::kPlain);
  /// What a row shows, blanks at its end left out.
  [[nodiscard]] std::string text(int row) const;
  [[nodiscard]] std::string text(const Area& area) const;  ///< lines of it

  std::optional<std::pair<int, int>> caret;  ///< row and column

 private:
  [[nodiscard]] std::size_t place(int row, int column) const {
    return static_cast<std::size_t>(row) * static_cast<std::size_t>(columns_) +
           static_cast<std::size_t>(column);
  }
  Cell& cell(int row, int column) { return cells_[place(row, column)]; }
  int rows_, columns_;
  bool utf8_;
  std::vector<Cell> cells_;
};

}  // namespace lucid::app

#endif  // LUCID_APP_SCREEN_FRAME_H
