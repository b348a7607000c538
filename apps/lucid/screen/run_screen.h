// SPDX-License-Identifier: MIT
#ifndef LUCID_APP_SCREEN_RUN_SCREEN_H
#define LUCID_APP_SCREEN_RUN_SCREEN_H

#include "console.h"
#include "history.h"
#include "screen/log.h"

namespace lucid::app {

/// The screen in the program's terminal, until somebody leaves it. `log` goes on from one time to
/// the next. True: to the prompt, where the program's place is shown; false: the program ends.
/// Errors: kIo for a terminal that cannot show it; kUsage without an image.
Result<bool> run_screen(Console& console, History& history, Log& log);

}  // namespace lucid::app

#endif  // LUCID_APP_SCREEN_RUN_SCREEN_H
