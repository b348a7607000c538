// SPDX-License-Identifier: MIT
// Any text as an expression, a place and an object to assign to.
#include <cstdint>
#include <string>

#include "lucid/session.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static lucid::Session session = [] {
    lucid::Session s(*lucid::Chip::make({"ATmega328P", 16'000'000}));
    if (!s.open(std::string(LUCID_KILN) + "/images/kiln-og.elf")) __builtin_trap();
    return s;
  }();
  const std::string text(reinterpret_cast<const char*>(data), size);
  (void)session.evaluate(text).has_value();
  (void)session.locate(text).has_value();
  (void)session.let(text, "1").has_value();
  (void)lucid::parse_time(text).has_value();
  (void)lucid::parse_format(text).has_value();
  return 0;
}
