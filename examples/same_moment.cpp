// SPDX-License-Identifier: MIT
// A Chip is a value: keep a copy, try something, and go back.
#include <cstdio>
#include <string>

#include "lucid/chip.h"

int main(int argc, char** argv) {
  if (argc != 2) return 2;
  auto chip = lucid::Chip::make({"ATmega328P", 16'000'000});
  auto image = lucid::Image::open(std::string(argv[1]) + "/kiln-og.elf");
  if (!chip || !image || !chip->load(*image)) return 1;
  chip->run_for(20'000'000);
  (void)chip->take_serial_output();

  const lucid::Chip moment = *chip;
  for (const bool door_closed : {false, true}) {
    *chip = moment;
    if (!chip->drive("PD2", !door_closed) || !chip->feed("USART0", "G\n")) return 1;
    chip->run_for(13'000'000);
    std::printf("door %s: %s", door_closed ? "closed" : "open", chip->take_serial_output().c_str());
  }
  *chip = moment;
  std::printf("back at the same moment: %s\n", *chip == moment ? "yes" : "no");
  return 0;
}
