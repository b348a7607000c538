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
  for (const Part& part : parts()) out.emplace_back(part.name);
  return out;
}

}  // namespace

}  // namespace chip

Result<Chip> Chip::make(const Options& options) {
  const chip::Part* part = chip::find_part(options.name);
  if (part == nullptr) {
    std::string hint = base::did_you_mean(options.name, chip::names());
    if (hint.empty()) hint = "see `lucid chips`";
    return fail(ErrorCode::kNotFound, "there is no chip '" + options.name + "' here", hint);
  }
  if (options.clock_hz < 1 || options.clock_hz > 1'000'000'000)
    return fail(ErrorCode::kOutOfRange, "a clock runs at 1 Hz to 1000 MHz");
  return Chip(std::make_unique<chip::AvrMachine>(*part, options.clock_hz));
}

std::vector<Chip::Summary> Chip::catalogue() {
  std::vector<Summary> out;
  for (const chip::Part& part : chip::parts())
    out.push_back({std::string(part.name), std::string(part.core), part.flash,
                   part.ram_end - part.ram_begin, part.eeprom, chip::remark_on(part)});
  return out;
}

}  // namespace lucid
