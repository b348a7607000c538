// SPDX-License-Identifier: MIT
// The interactive prompt: history, completion, Ctrl-C.
#ifndef LUCID_APP_PROMPT_H
#define LUCID_APP_PROMPT_H

#include "console.h"

namespace lucid::app {

/// Reads commands until the end of input or `quit`. Ctrl-C pauses the chip, not the program.
/// `screen`: begins with the screen.
int run_prompt(Console& console, bool screen = false);
/// Ctrl-C asks the console's session to pause from now on.
void catch_interrupts(Console& console);

}  // namespace lucid::app

#endif  // LUCID_APP_PROMPT_H
