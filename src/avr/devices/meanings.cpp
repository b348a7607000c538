// SPDX-License-Identifier: MIT
// What the values of register fields mean, in a few words: the tables of each peripheral's
// "Register Description". Registers and fields by name; `#` is any digit.
#include <array>
#include <string_view>

#include "avr/devices/device.h"

namespace lucid::avr {
namespace {

using Words = std::array<std::string_view, 9>;

struct Row {
  std::string_view reg, field;
  Words words;
};

constexpr Words kSynchronous{"stopped", "clk/1",    "clk/8",       "clk/64",
                             "clk/256", "clk/1024", "pin falling", "pin rising"};
constexpr Words kOutput{"pin free", "toggle", "clear", "set"};
constexpr Words kSense{"low level", "any edge", "falling edge", "rising edge"};

constexpr Row kRows[] = {
    {"TCCR2B",
     "CS",
     {"stopped", "clk/1", "clk/8", "clk/32", "clk/64", "clk/128", "clk/256", "clk/1024"}},
    {"TCCR#B", "CS", kSynchronous},
    {"TCCR#A", "COM##", kOutput},
    {"TCCR#A", "COM#A", kOutput},
    {"TCCR#A", "COM#B", kOutput},
    {"TCCR#A", "COM#C", kOutput},
    {"EICRA", "ISC#", kSense},
    {"EICRB", "ISC#", kSense},
    {"ADCSRA",
     "ADPS",
     {"clk/2", "clk/2", "clk/4", "clk/8", "clk/16", "clk/32", "clk/64", "clk/128"}},
    {"ADCSRB",
     "ADTS",
     {"free running", "comparator", "INT0", "timer 0 compare A", "timer 0 overflow",
      "timer 1 compare B", "timer 1 overflow", "timer 1 capture"}},
    {"ADMUX", "REFS", {"AREF", "AVCC"}},
    {"ACSR", "ACIS", {"toggle", "", "falling", "rising"}},
    {"UCSR#C", "UCSZ", {"5 bits", "6 bits", "7 bits", "8 bits"}},
    {"UCSR#C", "UPM", {"no parity", "", "even parity", "odd parity"}},
    {"UCSR#C", "UMSEL", {"asynchronous", "synchronous", "", "SPI master"}},
    {"UCSR#C", "USBS#", {"1 stop bit", "2 stop bits"}},
    {"SPCR", "SPR", {"clk/4", "clk/16", "clk/64", "clk/128"}},
    {"SMCR",
     "SM",
     {"idle", "ADC noise reduction", "power-down", "power-save", "", "", "standby",
      "extended standby"}},
    {"CLKPR",
     "CLKPS",
     {"clk/1", "clk/2", "clk/4", "clk/8", "clk/16", "clk/32", "clk/64", "clk/128", "clk/256"}},
    {"TWSR", "TWPS", {"1", "4", "16", "64"}},
    {"EECR", "EEPM", {"erase and write", "erase", "write"}},
};

bool fits(std::string_view pattern, std::string_view name) {
  if (pattern.size() != name.size()) return false;
  for (std::size_t i = 0; i < name.size(); ++i)
    if (pattern[i] != name[i] && (pattern[i] != '#' || name[i] < '0' || name[i] > '9'))
      return false;
  return true;
}

}  // namespace

void add_meanings(std::vector<IoRegister>& registers) {
  for (IoRegister& io : registers)
    for (IoField& field : io.fields)
      for (const Row& row : kRows) {
        if (!field.meanings.empty() || !fits(row.reg, io.name) || !fits(row.field, field.name))
          continue;
        const std::size_t count = std::min<std::size_t>(row.words.size(), 1U << field.width);
        field.meanings.assign(row.words.begin(), row.words.begin() + count);
      }
}

}  // namespace lucid::avr
