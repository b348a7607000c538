// SPDX-License-Identifier: MIT
// Every chip that can be made, by name.
#include <fmt/format.h>

#include "base/text.h"
#include "chip/avr_machine.h"
#include "chip/device.h"
#include "lucid/chip.h"

namespace lucid {
namespace chip {
namespace {

// Registers that a core itself needs, at their usual places.
constexpr RegisterRow kCoreRegisters[] = {
    {0x53, "SMCR", 1, "CPU", "SM:1+3 SE:0"},
    {0x5b, "RAMPZ", 1, "CPU", ""},
    {0x5c, "EIND", 1, "CPU", ""},
    {0x5d, "SPL", 1, "CPU", ""},
    {0x5d, "SP", 2, "CPU", ""},
    {0x5e, "SPH", 1, "CPU", ""},
    {0x5f, "SREG", 1, "CPU", "I:7 T:6 H:5 S:4 V:3 N:2 Z:1 C:0"},
};
constexpr VectorRow kCoreVectors[] = {{0, "RESET"}};
constexpr std::uint16_t kCorePlain[] = {0x5b, 0x5c};

/// A core with memories and no peripherals, named after its family: for programs that only compute.
DeviceRow bare_core(std::string_view core, std::uint32_t flash) {
  DeviceRow row{};
  row.name = core;
  row.core = core;
  row.flash = flash;
  row.ram_begin = 0x100;
  row.ram_end = 0x2100;
  row.flash_page = 256;
  row.fuses = {0xff, 0xff, 0xff};
  row.vector_words = flash > 0x2000 ? 2 : 1;
  row.registers = kCoreRegisters;
  row.vectors = kCoreVectors;
  row.plain = kCorePlain;
  row.remark = "bare core, no peripherals";
  return row;
}

std::vector<std::string> names() {
  std::vector<std::string> out;
  for (const DeviceRow& row : devices()) out.emplace_back(row.name);
  return out;
}

}  // namespace

const std::vector<DeviceRow>& devices() {
  static const std::vector<DeviceRow> kDevices{
      atmega328p(),
      bare_core("avr2", 0x2000),
      bare_core("avr25", 0x2000),
      bare_core("avr3", 0x10000),
      bare_core("avr31", 0x20000),
      bare_core("avr35", 0x10000),
      bare_core("avr4", 0x2000),
      bare_core("avr5", 0x10000),
      bare_core("avr51", 0x20000),
      bare_core("avr6", 0x40000),
  };
  return kDevices;
}

const DeviceRow* find_device(std::string_view name) {
  for (const DeviceRow& row : devices())
    if (base::equal_ignoring_case(row.name, name)) return &row;
  return nullptr;
}

}  // namespace chip

Result<Chip> Chip::make(const Options& options) {
  const chip::DeviceRow* row = chip::find_device(options.name);
  if (row == nullptr) {
    std::string hint = base::did_you_mean(options.name, chip::names());
    if (hint.empty()) hint = "see `lucid chips`";
    return fail(ErrorCode::kNotFound, "there is no chip '" + options.name + "' here", hint);
  }
  if (options.clock_hz < 1 || options.clock_hz > 1'000'000'000)
    return fail(ErrorCode::kOutOfRange, "a clock runs at 1 Hz to 1000 MHz");
  return Chip(std::make_unique<chip::AvrMachine>(*row, options.clock_hz));
}

std::vector<Chip::Summary> Chip::catalogue() {
  std::vector<Summary> out;
  for (const chip::DeviceRow& row : chip::devices())
    out.push_back({std::string(row.name), std::string(row.core), row.flash,
                   row.ram_end - row.ram_begin, row.eeprom, std::string(row.remark)});
  return out;
}

}  // namespace lucid
