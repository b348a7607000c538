// SPDX-License-Identifier: MIT
// Log: what commands have answered, as lines with looks, for the screen.
#ifndef LUCID_APP_SCREEN_LOG_H
#define LUCID_APP_SCREEN_LOG_H

#include <functional>
#include <memory>
#include <sstream>
#include <string>
#include <vector>

#include "screen/frame.h"
#include "writer.h"

namespace lucid::app {

struct Log {
  std::vector<Line> lines;
  unsigned pauses = 0;   ///< that have been shown
  std::string headline;  ///< of the last of them
  bool serial = true;    ///< what serial ports send stands here, too
  /// Called often while the program runs, with how far it has come.
  std::function<void(const std::string& now)> on_progress;
};

/// Writes as at the prompt, but for code and values around a pause: panes show those. `log`
/// outlives it.
std::unique_ptr<Writer> log_writer(Log& log, const TextStyle& style);

}  // namespace lucid::app

#endif  // LUCID_APP_SCREEN_LOG_H
