// SPDX-License-Identifier: MIT
// Layouts: which panes stand where, how large, and which keys do what. They are kept in a file that
// people read and change; see docs/screen.md for its form.
#ifndef LUCID_APP_SCREEN_LAYOUT_H
#define LUCID_APP_SCREEN_LAYOUT_H

#include <map>
#include <memory>
#include <string>
#include <vector>

#include "lucid/error.h"
#include "screen/frame.h"
#include "screen/keys.h"

namespace lucid::app {

/// Panes side by side and above each other: `(code 3 | (variables 2 / watches) 2) 3 / prompt`. A
/// number is the share of the room that all of a group divide.
struct Arrangement {
  std::string pane;  ///< empty: it is a group
  unsigned share = 1;
  bool beside = false;  ///< its parts are side by side, else above each other
  std::vector<Arrangement> parts;

  /// Error: kUsage with the column. `known`: the names that panes have.
  static Result<Arrangement> parse(const std::string& text, const std::vector<std::string>& known);
  [[nodiscard]] std::string text() const;
  [[nodiscard]] std::vector<std::string> panes() const;
  Arrangement* find(const std::string& pane);
  /// The group that a pane, or a group, is directly in; null for the outermost.
  Arrangement* group_of(const Arrangement* part);
  /// Takes a pane out; groups of one are dissolved. False if it is not there, or the last one.
  bool remove(const std::string& pane);
};

struct Placed {
  std::string pane;
  Area area;  ///< its first row is the title
};
/// A line between two neighbours that can be moved.
struct Divider {
  bool upright = false;  ///< between columns
  Area area;
  std::string before, behind;  ///< a pane on each side
};
struct Placement {
  std::vector<Placed> panes;
  std::vector<Divider> dividers;
  std::vector<std::string> folded;  ///< for which there is no room
};
struct Least {
  int rows = 3, columns = 20;
};
/// Where each pane comes to stand. Where there is not room for all, the last of a group are folded.
Placement place(const Arrangement& arrangement, Area area,
                const std::map<std::string, Least>& least);
/// Gives a pane more or less of its group's room, by cells: of the nearest group that lies in this
/// direction. False if nothing can change.
bool resize(Arrangement& arrangement, const std::string& pane, bool wide, int cells,
            const Placement& now);

struct Layout {
  std::string name;
  std::string words;  ///< what for
  Arrangement wide, narrow;
};

struct Settings {
  std::vector<Layout> layouts;  ///< five
  unsigned layout = 0;          ///< the one that is used
  std::map<Action, Key> keys;
  std::string line_end = "\\n";  ///< behind a line that is typed to a serial port
};
/// As they are at first.
Settings first_settings();
/// From a text; what it does not say is as at first. `name` stands for the file in errors. Error:
/// kUsage with file and line: the whole text is refused.
Result<Settings> read_settings(const std::string& text, const std::string& name);
std::string settings_text(const Settings& settings);
/// All names that panes have.
const std::vector<std::string>& pane_names();

}  // namespace lucid::app

#endif  // LUCID_APP_SCREEN_LAYOUT_H
