// SPDX-License-Identifier: MIT
// Any lines as commands of a session: an answer or an error, and the session goes on. Commands that
// write files or open ports are left out.
#include <cctype>
#include <cstdint>
#include <sstream>
#include <string>
#include <utility>

#include "console.h"

namespace {

/// Words may be cut short: `br s FILE` saves, too.
bool acts(const std::string& line) {
  std::string before, word;
  const auto begins = [](const std::string& whole, const std::string& part) {
    return !part.empty() && whole.compare(0, part.size(), part) == 0;
  };
  for (const char c : line + " ") {
    if (std::isalpha(static_cast<unsigned char>(c)) != 0) {
      word += c;
      continue;
    }
    if (word.empty()) continue;
    const bool saves =
        begins("breakpoints", before) || begins("inputs", before) || begins("timeline", before);
    for (const char* acting : {"save", "load", "attach", "play", "open", "reload"})
      if (begins(acting, word) && (word.size() > 1 || saves)) return true;
    if (word == "into") return true;
    before = std::exchange(word, {});
  }
  return false;
}

}  // namespace

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
    if (!acts(line)) (void)console.execute(line).has_value();
  }
  return console.session()->callers().empty() ? 1 : 0;
}
