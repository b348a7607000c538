// SPDX-License-Identifier: MIT
#ifndef LUCID_APP_SCREEN_RUN_SCREEN_H
#define LUCID_APP_SCREEN_RUN_SCREEN_H

#include "console.h"
#include "history.h"

namespace lucid::app {

/// The screen in the program's terminal, until somebody leaves it. True: to the prompt; false: the
/// program ends. Errors: kIo for a terminal that cannot show it; kUsage without an image.
Result<bool> run_screen(Console& console, History& history);

}  // namespace lucid::app

#endif  // LUCID_APP_SCREEN_RUN_SCREEN_H
