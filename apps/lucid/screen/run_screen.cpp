// SPDX-License-Identifier: MIT
#include "screen/run_screen.h"

#include "screen/screen.h"

namespace lucid::app {

Result<bool> run_screen(Console& console, History& history) {
  if (console.session() == nullptr)
    return fail(ErrorCode::kUsage, "no image is open", "begin with: open main.elf");
  constexpr const char* kSettings = "lucid.screen.toml";  // in the current folder: per project
  auto terminal = open_terminal(console.options().style.palette);
  if (!terminal) return fail(terminal.error());
  Screen screen(console, **terminal, history, kSettings);
  return screen.run() == Screen::Left::kPrompt;
}

}  // namespace lucid::app
