// SPDX-License-Identifier: MIT
// Any lines as commands of a session: an answer or an error, and the session goes on. Commands that
// write files or open ports are left out.
#include <cstdint>
#include <sstream>
#include <string>

#include "console.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace lucid::app;
  Console::Options options;
  options.limit = {200'000'000};  // 200 us
  std::ostringstream out;
  Console console(options, out);
  if (!console.open(LUCID_KILN "/images/kiln-og.elf")) return 1;
  std::istringstream in(
      std::string(reinterpret_cast<const char*>(data), std::min<std::size_t>(size, 600)));
  std::string line;
  for (unsigned n = 0; n < 12 && !console.finished() && std::getline(in, line); ++n) {
    bool acts = false;
    for (const char* word : {"save", "into", "attach", "play", "open", "reload", "load"})
      acts = acts || line.find(word) != std::string::npos;
    if (!acts) (void)console.execute(line).has_value();
  }
  return console.session()->callers().empty() ? 1 : 0;
}
