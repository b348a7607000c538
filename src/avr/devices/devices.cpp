// SPDX-License-Identifier: MIT
// Every part, from the tables that tools/device-tables writes, and the bare cores.
#include <algorithm>
#include <charconv>

#include "avr/devices/device.h"
#include "base/text.h"

namespace lucid::avr {
namespace {

#define LUCID_SET(name, registers, vectors) {#name, registers, vectors},
#define LUCID_DEVICE(...)
constexpr RegisterSet kSets[] = {
#include "avr/devices/devices_mega.def"
#include "avr/devices/devices_special.def"
#include "avr/devices/devices_tiny.def"
    // What a core itself needs, at the usual places.
    {"bare",
     "53 SMCR 1 CPU SM:1+3 SE:0\n5b RAMPZ 1 CPU\n5c EIND 1 CPU\n5d SPL 1 CPU\n5d SP 2 CPU\n"
     "5e SPH 1 CPU\n5f SREG 1 CPU I:7 T:6 H:5 S:4 V:3 N:2 Z:1 C:0\n",
     ""}};
#undef LUCID_SET
#undef LUCID_DEVICE

/// A core with memories and no peripherals, named after its family: for programs that only compute.
Device bare_core(std::string_view core, std::uint32_t flash) {
  Device device{};
  device.name = device.core = core;
  device.set = "bare";
  device.flash = flash;
  device.ram_begin = 0x100;
  device.ram_end = 0x2100;
  device.flash_page = 256;
  device.fuses = {0xff, 0xff, 0xff};
  device.vector_words = flash > 0x2000 ? 2 : 1;
  return device;
}

const RegisterSet& set_of(const Device& device) {
  return *std::find_if(std::begin(kSets), std::end(kSets),
                       [&](const RegisterSet& set) { return set.name == device.set; });
}

unsigned number(std::string_view text, int base) {
  unsigned value = 0;
  std::from_chars(text.data(), text.data() + text.size(), value, base);
  return value;
}

/// `NAME:lowest[+width]`
IoField field_of(std::string_view text) {
  const std::size_t colon = text.find(':');
  const std::size_t plus = text.find('+');
  IoField field;
  field.name = text.substr(0, colon);
  field.lowest = static_cast<std::uint8_t>(number(text.substr(colon + 1), 10));
  if (plus != std::string_view::npos)
    field.width = static_cast<std::uint8_t>(number(text.substr(plus + 1), 10));
  return field;
}

/// Up to the next `end`, which is taken off as well.
std::string_view next(std::string_view& text, char end) {
  const std::size_t length = std::min(text.find(end), text.size());
  const std::string_view out = text.substr(0, length);
  text.remove_prefix(std::min(length + 1, text.size()));
  return out;
}

}  // namespace

std::vector<std::string_view> words_of(std::string_view list) {
  std::vector<std::string_view> out;
  while (!list.empty()) out.push_back(next(list, ' '));
  return out;
}

const std::vector<Device>& devices() {
#define LUCID_SET(...)
#define LUCID_DEVICE(name, core, set, flash, begin, end, eeprom, page, words, f0, f1, f2, s0, s1, \
                     s2)                                                                          \
  Device{name, #core, #set, flash, begin, end, eeprom, page, words, {f0, f1, f2}, {s0, s1, s2}},
  static const std::vector<Device> kDevices = [] {
    std::vector<Device> out{
#include "avr/devices/devices_mega.def"
#include "avr/devices/devices_special.def"
#include "avr/devices/devices_tiny.def"
    };
    const auto& cores = {
        bare_core("avr2", 0x2000),   bare_core("avr25", 0x2000),  bare_core("avr3", 0x10000),
        bare_core("avr31", 0x20000), bare_core("avr35", 0x10000), bare_core("avr4", 0x2000),
        bare_core("avr5", 0x10000),  bare_core("avr51", 0x20000), bare_core("avr6", 0x40000)};
    std::stable_partition(out.begin(), out.end(),
                          [](const Device& device) { return wiring_of(device) != nullptr; });
    out.insert(out.end(), cores.begin(), cores.end());
    return out;
  }();
#undef LUCID_SET
#undef LUCID_DEVICE
  return kDevices;
}

const Device* find_device(std::string_view name) {
  for (const Device& device : devices())
    if (base::equal_ignoring_case(device.name, name)) return &device;
  return nullptr;
}

std::vector<IoRegister> registers_of(const Device& device) {
  std::vector<IoRegister> out;
  std::string_view text = set_of(device).registers;
  while (!text.empty()) {
    std::string_view line = next(text, '\n');
    IoRegister io;
    io.address = number(next(line, ' '), 16);
    io.name = next(line, ' ');
    io.bytes = static_cast<std::uint8_t>(number(next(line, ' '), 10));
    io.peripheral = next(line, ' ');
    for (const std::string_view field : words_of(line)) io.fields.push_back(field_of(field));
    out.push_back(io);
  }
  return out;
}

std::vector<InterruptVector> vectors_of(const Device& device) {
  std::vector<InterruptVector> out{{0, "RESET", true}};
  for (std::string_view word : words_of(set_of(device).vectors)) {
    const auto n = static_cast<std::uint8_t>(number(next(word, ':'), 10));
    while (out.size() < n)  // numbers that the header leaves out
      out.push_back({static_cast<std::uint8_t>(out.size()), "reserved", false});
    out.push_back({n, std::string(word), false});
  }
  for (InterruptVector& vector : out) vector.address = 2U * device.vector_words * vector.number;
  return out;
}

}  // namespace lucid::avr
