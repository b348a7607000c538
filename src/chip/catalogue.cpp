// SPDX-License-Identifier: MIT
// Every chip that can be made, by name.
#include "base/text.h"
#include "chip/avr_machine.h"
#include "chip/device.h"
#include "lucid/chip.h"

namespace lucid {
namespace chip {
namespace {

std::vector<std::string> names() {
  std::vector<std::string> out;
  for (const Device& device : devices()) out.emplace_back(device.name);
  return out;
}

}  // namespace

}  // namespace chip

Result<Chip> Chip::make(const Options& options) {
  const chip::Device* device = chip::find_device(options.name);
  if (device == nullptr) {
    std::string hint = base::did_you_mean(options.name, chip::names());
    if (hint.empty()) hint = "see `lucid chips`";
    return fail(ErrorCode::kNotFound, "there is no chip '" + options.name + "' here", hint);
  }
  if (options.clock_hz < 1 || options.clock_hz > 1'000'000'000)
    return fail(ErrorCode::kOutOfRange, "a clock runs at 1 Hz to 1000 MHz");
  if (options.supply < 1'800'000 || options.supply > 5'500'000)
    return fail(ErrorCode::kOutOfRange, "these chips work from 1.8 V to 5.5 V");
  auto fabric = std::make_unique<chip::Fabric>(*device, options.clock_hz);
  if (auto added = fabric->add_external_ram(options.external_ram); !added)
    return fail(added.error());
  for (const auto& part : options.parts)
    if (auto attached = fabric->attach(part); !attached) return fail(attached.error());
  return Chip(std::make_unique<chip::AvrMachine>(std::move(fabric), options));
}

std::vector<Chip::Summary> Chip::catalogue() {
  std::vector<Summary> out;
  for (const chip::Device& device : chip::devices())
    out.push_back({std::string(device.name), std::string(device.core), device.flash,
                   device.ram_end - device.ram_begin, device.eeprom, chip::remark_on(device)});
  return out;
}

}  // namespace lucid
