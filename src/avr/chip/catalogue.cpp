// SPDX-License-Identifier: MIT
// Every chip that can be made, by name.
#include "avr/chip/avr_machine.h"
#include "avr/devices/device.h"
#include "lucid/chip.h"

namespace lucid {
Result<Chip> Chip::make(const Options& options) {
  auto fabric = avr::Fabric::make(options);
  if (!fabric) return fail(fabric.error());
  if (auto added = (*fabric)->add_companions(options); !added) return fail(added.error());
  return Chip(std::make_unique<avr::AvrMachine>(std::move(*fabric), options));
}

std::vector<Chip::Summary> Chip::catalogue() {
  std::vector<Summary> out;
  for (const avr::Device& device : avr::devices())
    out.push_back({std::string(device.name), std::string(device.core), device.flash,
                   device.ram_end - device.ram_begin, device.eeprom, remark_on(device)});
  return out;
}

}  // namespace lucid
