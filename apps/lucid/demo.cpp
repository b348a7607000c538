// SPDX-License-Identifier: MIT
#include "demo.h"

#include <filesystem>

namespace lucid::app {

const std::vector<Demo>& demos() {
  static const std::vector<Demo> kDemos{
      {"tour", "the main views, on the way to a heater that stays on when it is too hot"},
      {"overshoot", "an unsigned difference wraps when the temperature overshoots"},
      {"lost-character", "a ring buffer loses a character at one index only"},
      {"past-the-end", "a schedule is read one entry past its end in EEPROM"},
      {"torn-tick", "a 16-bit tick is read in two halves around its interrupt"},
      {"short-blink", "the same fault, found by measuring pins and variables"},
      {"deep-plan", "a call depth runs the stack into data"},
      {"wrong-bit", "a skip-on-bit tests the wrong bit, in assembly"},
      {"no-handler", "a timer's interrupt is enabled and has no handler: the kiln starts again"},
      {"bouncing-door", "each bounce of the door switch is counted as a closing"},
  };
  return kDemos;
}

Result<std::string> demo_folder() {
  namespace fs = std::filesystem;
  std::error_code error;
  fs::path folder = fs::read_symlink("/proc/self/exe", error).parent_path();
  // Installed: bin/lucid and share/lucid-loop/kiln. In a checkout: build/apps/lucid/lucid.
  for (unsigned up = 0; up < 5 && !folder.empty(); ++up, folder = folder.parent_path())
    for (const char* place : {"share/lucid-loop/kiln", "firmware/kiln"})
      if (fs::exists(folder / place / "images", error)) {
        const fs::path near = fs::proximate(folder / place, error);
        const bool shorter = !error && near.string().rfind("..", 0) != 0;
        return (shorter ? near : folder / place).string();
      }
  return fail(ErrorCode::kNotFound, "the demonstration files are not here",
              "run it from an installation or from a checkout");
}

}  // namespace lucid::app
