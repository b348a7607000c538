// SPDX-License-Identifier: MIT
// A part made outside the library: a relay that needs 8 ms to pull in and wears out a little each
// time. Usage: own_part FOLDER_OF_IMAGES
#include <iostream>

#include "lucid/chip.h"
#include "lucid/part.h"

namespace {

class Relay final : public lucid::Part {
 public:
  Relay(std::string name, std::string pin) : Part(std::move(name)), pin_(std::move(pin)) {}

  std::vector<std::string> pins() const override { return {pin_}; }
  unsigned numbers() const override { return 2; }

  // The coil's level has changed: the contact follows 8 ms later.
  void on_pin(lucid::Wires& wires, unsigned /*pin*/, bool /*level*/) const override {
    wires.wake_at(wires.now() + wires.ticks(8000));
  }
  void on_time(lucid::Wires& wires) const override {
    const bool closed = wires.level(0);
    if (closed && wires.number(kClosed) == 0) ++wires.number(kSwitched);
    wires.number(kClosed) = closed ? 1 : 0;
  }
  std::string describe(lucid::Wires& wires) const override {
    return std::string(wires.number(kClosed) != 0 ? "closed" : "open") + ", switched " +
           std::to_string(wires.number(kSwitched)) + " times";
  }

 private:
  enum : unsigned { kClosed, kSwitched };
  std::string pin_;
};

}  // namespace

int main(int argc, char** argv) {
  if (argc != 2) return 2;
  lucid::Chip::Options options;
  options.parts.push_back(std::make_shared<Relay>("contactor", "PB5"));
  auto chip = lucid::Chip::make(options);
  auto image = lucid::Image::open(std::string(argv[1]) + "/kiln-og.elf");
  if (!chip || !image || !chip->load(*image) || !chip->drive("PD2", false)) return 1;
  chip->run_for(16'000'000);
  if (!chip->feed("USART0", "G\n")) return 1;
  for (int second = 0; second < 30; second += 6) {
    chip->run_for(6 * 16'000'000);
    std::cout << second + 7 << " s: " << chip->parts()[0].state << "\n";
  }
}
