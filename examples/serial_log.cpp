// SPDX-License-Identifier: MIT
// Runs firmware without a debugger: a Chip alone, its serial port and a pin.
#include <cstdio>
#include <string>

#include "lucid/chip.h"

int main(int argc, char** argv) {
  if (argc != 2) return 2;
  auto chip = lucid::Chip::make({"ATmega328P", 16'000'000});
  auto image = lucid::Image::open(std::string(argv[1]) + "/kiln-os.elf");
  if (!chip || !image || !chip->load(*image)) return 1;

  chip->run_for(18'000'000);  // 1.125 s
  if (!chip->feed("USART0", "P\n")) return 1;
  chip->run_for(2'000'000);
  std::printf("%s", chip->take_serial_output().c_str());
  for (const lucid::PinState& pin : chip->pins())
    if (pin.output) std::printf("%s is %s\n", pin.name.c_str(), pin.level ? "high" : "low");
  return 0;
}
