// SPDX-License-Identifier: MIT
// Terminal: what a screen is drawn on and where keys come from.
#ifndef LUCID_APP_SCREEN_TERMINAL_H
#define LUCID_APP_SCREEN_TERMINAL_H

#include <memory>
#include <utility>

#include "lucid/error.h"
#include "screen/frame.h"
#include "screen/keys.h"
#include "style.h"

namespace lucid::app {

class Terminal {
 public:
  virtual ~Terminal() = default;
  /// The next event, or kNone if there is none within so long.
  virtual Event next(int milliseconds) = 0;
  virtual void draw(const Frame& frame) = 0;
  virtual void redraw() {}                               ///< what was drawn is not trusted any more
  [[nodiscard]] virtual std::pair<int, int> size() = 0;  ///< rows and columns
};

/// The terminal that the program runs in. Error: kIo if it cannot be used so.
Result<std::unique_ptr<Terminal>> open_terminal(Palette palette);

}  // namespace lucid::app

#endif  // LUCID_APP_SCREEN_TERMINAL_H
