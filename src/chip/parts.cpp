// SPDX-License-Identifier: MIT
// Every part, from the tables that tools/device-tables writes, and the bare cores.
#include <algorithm>
#include <charconv>

#include "base/text.h"
#include "chip/device.h"

namespace lucid::chip {
namespace {

#define LUCID_SET(name, registers, vectors) {#name, registers, vectors},
#define LUCID_PART(...)
constexpr RegisterSet kSets[] = {
#include "chip/parts_mega.def"
#include "chip/parts_special.def"
#include "chip/parts_tiny.def"
    // What a core itself needs, at the usual places.
    {"bare",
     "53 SMCR 1 CPU SM:1+3 SE:0\n5b RAMPZ 1 CPU\n5c EIND 1 CPU\n5d SPL 1 CPU\n5d SP 2 CPU\n"
     "5e SPH 1 CPU\n5f SREG 1 CPU I:7 T:6 H:5 S:4 V:3 N:2 Z:1 C:0\n",
     ""}};
#undef LUCID_SET
#undef LUCID_PART

/// A core with memories and no peripherals, named after its family: for programs that only compute.
Part bare_core(std::string_view core, std::uint32_t flash) {
  Part part{};
  part.name = part.core = core;
  part.set = "bare";
  part.flash = flash;
  part.ram_begin = 0x100;
  part.ram_end = 0x2100;
  part.flash_page = 256;
  part.fuses = {0xff, 0xff, 0xff};
  part.vector_words = flash > 0x2000 ? 2 : 1;
  return part;
}

const RegisterSet& set_of(const Part& part) {
  return *std::find_if(std::begin(kSets), std::end(kSets),
                       [&](const RegisterSet& set) { return set.name == part.set; });
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

const std::vector<Part>& parts() {
#define LUCID_SET(...)
#define LUCID_PART(name, core, set, flash, begin, end, eeprom, page, words, f0, f1, f2, s0, s1, \
                   s2)                                                                          \
  Part{name, #core, #set, flash, begin, end, eeprom, page, words, {f0, f1, f2}, {s0, s1, s2}},
  static const std::vector<Part> kParts = [] {
    std::vector<Part> out{
#include "chip/parts_mega.def"
#include "chip/parts_special.def"
#include "chip/parts_tiny.def"
    };
    const auto& cores = {
        bare_core("avr2", 0x2000),   bare_core("avr25", 0x2000),  bare_core("avr3", 0x10000),
        bare_core("avr31", 0x20000), bare_core("avr35", 0x10000), bare_core("avr4", 0x2000),
        bare_core("avr5", 0x10000),  bare_core("avr51", 0x20000), bare_core("avr6", 0x40000)};
    std::stable_sort(out.begin(), out.end(), [](const Part& a, const Part& b) {
      return wiring_of(a) != nullptr && wiring_of(b) == nullptr;
    });
    out.insert(out.end(), cores.begin(), cores.end());
    return out;
  }();
#undef LUCID_SET
#undef LUCID_PART
  return kParts;
}

const Part* find_part(std::string_view name) {
  for (const Part& part : parts())
    if (base::equal_ignoring_case(part.name, name)) return &part;
  return nullptr;
}

std::vector<IoRegister> registers_of(const Part& part) {
  std::vector<IoRegister> out;
  std::string_view text = set_of(part).registers;
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

std::vector<InterruptVector> vectors_of(const Part& part) {
  std::vector<InterruptVector> out{{0, "RESET", true}};
  for (std::string_view word : words_of(set_of(part).vectors)) {
    const auto n = static_cast<std::uint8_t>(number(next(word, ':'), 10));
    while (out.size() < n)  // numbers that the header leaves out
      out.push_back({static_cast<std::uint8_t>(out.size()), "reserved", false});
    out.push_back({n, std::string(word), false});
  }
  return out;
}

}  // namespace lucid::chip
