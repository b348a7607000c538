// SPDX-License-Identifier: MIT
// Any text as the screen's settings: what can be read is written, and is the same again.
#include <cstdint>
#include <string>

#include "screen/layout.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace lucid::app;
  const std::string text(reinterpret_cast<const char*>(data), size);
  const auto settings = read_settings(text, "fuzz");
  if (!settings) return 0;
  const std::string written = settings_text(*settings);
  const auto again = read_settings(written, "again");
  if (!again || settings_text(*again) != written) __builtin_trap();
  for (const Layout& layout : settings->layouts)
    for (const int columns : {40, 80, 200})
      for (const Placed& placed : place(layout.wide, {1, 0, 30, columns}, {}).panes)
        if (placed.area.rows < 1 || placed.area.columns < 1) __builtin_trap();
  return 0;
}
