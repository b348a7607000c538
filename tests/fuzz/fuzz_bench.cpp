// SPDX-License-Identifier: MIT
// Any text as a bench file; where it is one, a chip with its parts runs a little.
#include <cstdint>
#include <string_view>

#include "lucid/bench.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const std::string_view text(reinterpret_cast<const char*>(data), size);
  const auto bench = lucid::Bench::parse(text, "fuzz", "/nonexistent");
  if (!bench) return 0;
  auto chip = lucid::Chip::make(bench->chip);
  if (!chip) return 0;
  (void)chip->run_for(5000);
  for (const lucid::PartState& part : chip->parts()) {
    (void)chip->act(part.name, "press").has_value();
    (void)chip->act(part.name, "turn", "40%").has_value();
  }
  (void)chip->run_for(5000);
  return 0;
}
