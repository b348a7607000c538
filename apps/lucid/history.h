// SPDX-License-Identifier: MIT
// History: the commands that were typed, in this and earlier sessions.
#ifndef LUCID_APP_HISTORY_H
#define LUCID_APP_HISTORY_H

#include <string>
#include <vector>

namespace lucid::app {

/// Kept in $XDG_STATE_HOME/lucid/commands, a line each. Sessions append to it side by side. A file
/// of another form is left alone.
class History {
 public:
  History();
  /// The latest last.
  [[nodiscard]] const std::vector<std::string>& lines() const { return lines_; }
  void add(const std::string& line);

 private:
  void read(const std::string& path);
  std::string path_;
  std::vector<std::string> lines_;
};

}  // namespace lucid::app

#endif  // LUCID_APP_HISTORY_H
