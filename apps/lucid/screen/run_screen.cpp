// SPDX-License-Identifier: MIT
#include "screen/run_screen.h"

#include "screen/screen.h"

namespace lucid::app {

Result<bool> run_screen(Console& console, History& history, Log& log) {
  if (console.session() == nullptr)
    return fail(ErrorCode::kUsage, "no image is open", "begin with: open main.elf");
  constexpr const char* kSettings = "lucid.screen.toml";  // in the current folder: per project
  auto terminal = open_terminal(console.options().style.palette);
  if (!terminal) return fail(terminal.error());
  auto left = Screen::Left::kQuit;
  {
    Screen screen(console, **terminal, history, log, kSettings);
    left = screen.run();
  }
  terminal->reset();  // the prompt's lines follow those before the screen
  if (left != Screen::Left::kPrompt) return false;
  Standing standing;
  standing.pause = console.session()->pause();
  standing.behind = console.session()->behind();
  if (auto source = console.session()->source("here", 2)) standing.source = *source;
  standing.watches = console.session()->watches();
  console.show(standing);
  return true;
}

}  // namespace lucid::app
