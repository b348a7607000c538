// SPDX-License-Identifier: MIT
// Any bytes as an image: an answer or an error, in bounded time and memory.
#include <cstdint>

#include "lucid/chip.h"
#include "lucid/program.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const auto image = lucid::Image::parse({data, data + size}, "fuzz");
  if (!image) return 0;
  const lucid::Program program = lucid::Program::read(*image);
  for (const lucid::Function& f : program.functions()) {
    (void)program.frame_at(f.begin);
    (void)program.line_at(f.begin);
  }
  static const lucid::Chip kFresh = *lucid::Chip::make({"ATmega328P", 16'000'000});
  lucid::Chip chip = kFresh;
  if (chip.load(*image)) (void)chip.run_for(2000);
  return 0;
}
