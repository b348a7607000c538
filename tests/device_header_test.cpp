// SPDX-License-Identifier: MIT
// The device table against the toolchain's device header: every register, bit and vector, both
// ways.
#include <fmt/format.h>

#include <catch2/catch.hpp>
#include <map>
#include <set>

#include "lucid/chip.h"
#include "tools.h"

using namespace lucid;

namespace {

std::string macros() {
  const std::string path = test::scratch("device.c");
  test::write(path, "#include <avr/io.h>\n#include <avr/interrupt.h>\n");
  return test::run("avr-gcc -mmcu=atmega328p -E -dD " + path).text;
}

}  // namespace

// The compiler itself says whether a name has the address, bit or number that we give it.
TEST_CASE("every part: names, addresses, bits, vectors, memories and signature are the header's") {
  unsigned parts = 0;
  std::uint64_t facts = 0;
  for (const Chip::Summary& summary : Chip::catalogue()) {
    if (summary.remark == "bare core") continue;
    const ChipInfo info = Chip::make({summary.name, 16'000'000})->info();
    std::string source =
        "#include <avr/io.h>\n#include <avr/interrupt.h>\n#define TEXT_OF(x) #x\n"
        "#define TEXT(x) TEXT_OF(x)\n";
    const auto same = [&](const std::string& what, std::uint32_t value) {
      source += fmt::format("_Static_assert(({}) == {:#x}, \"\");\n", what, value);
      ++facts;
    };
    for (const IoRegister& io : info.io) {
      same("_SFR_MEM_ADDR(" + io.name + ")", io.address);
      same("sizeof " + io.name, io.bytes);
      // The bits of SREG are named after the letters alone here, those of ports after the port.
      if (io.name == "SREG" || io.peripheral.rfind("PORT", 0) == 0) continue;
      for (const IoField& field : io.fields)
        if (field.width == 1) same(field.name, field.lowest);
    }
    for (const InterruptVector& vector : info.vectors) {
      if (vector.number == 0 || vector.name == "reserved") continue;
      source += fmt::format(
          "_Static_assert(__builtin_strcmp(TEXT({}_vect), \"__vector_{}\") == 0, \"\");\n",
          vector.name, vector.number);
      ++facts;
    }
    for (const MemoryArea& area : info.memories) {
      if (area.name == "flash") same("FLASHEND & 0xffffffUL", area.end - 1);
      if (area.name == "eeprom") same("E2END", area.end - 1);
      if (area.name == "ram") same("RAMEND", area.end - 1);
    }
    Chip chip = *Chip::make({summary.name, 16'000'000});
    for (unsigned i = 0; i < 3; ++i) {
      source += "#ifdef SIGNATURE_0\n";
      same(fmt::format("SIGNATURE_{}", i), *chip.peek({Space::kSignature, i}));
      source += "#endif\n";
    }
    const std::string path = test::scratch("part.c");
    test::write(path, source);
    std::string mcu = summary.name;
    for (char& c : mcu) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
    const auto built = test::run("avr-gcc -std=gnu11 -fsyntax-only -mmcu=" + mcu + " " + path);
    INFO(summary.name << "\n" << built.text);
    CHECK(built.code == 0);
    ++parts;
  }
  WARN(parts << " parts, " << facts << " facts");
  CHECK(parts == 191);
}

TEST_CASE("registers, bits and vectors of the ATmega328P are those of the device header") {
  const std::string text = macros();
  std::map<std::string, std::pair<unsigned, unsigned>> registers;  // name → address, bytes
  std::map<std::string, unsigned> bits;
  std::map<std::string, unsigned> vectors;
  std::istringstream lines(text);
  for (std::string line; std::getline(lines, line);) {
    char name[64];
    char kind[8];
    unsigned width = 0;
    unsigned value = 0;
    if (std::sscanf(line.c_str(), "#define %63s _SFR_%3[A-Z]%u (%x)", name, kind, &width, &value) ==
            4 ||
        std::sscanf(line.c_str(), "#define %63s _SFR_%3[A-Z]%u(%x)", name, kind, &width, &value) ==
            4)
      registers[name] = {value + (std::string(kind) == "IO" ? 0x20 : 0), width / 8};
    else if (std::sscanf(line.c_str(), "#define %63s _SFR_IO%u (%x)", name, &width, &value) == 3 ||
             std::sscanf(line.c_str(), "#define %63s _SFR_IO%u(%x)", name, &width, &value) == 3)
      registers[name] = {value + 0x20, width / 8};
    else if ((std::sscanf(line.c_str(), "#define %63s %u", name, &value) == 2 ||
              std::sscanf(line.c_str(), "#define %63s (%u)", name, &value) == 2) &&
             value < 32)
      bits[name] = value;
    const std::string n = name;
    if (n.size() > 9 && n.rfind("_vect_num") == n.size() - 9)
      vectors[n.substr(0, n.size() - 9)] = value;
  }
  REQUIRE(registers.size() > 80);
  REQUIRE(vectors.size() == 25);

  const ChipInfo info = Chip::make({"ATmega328P", 16'000'000})->info();
  std::set<std::string> ours;
  for (const IoRegister& io : info.io) {
    INFO(io.name);
    ours.insert(io.name);
    REQUIRE(registers.count(io.name) == 1);
    CHECK(registers[io.name].first == io.address);
    CHECK(registers[io.name].second == io.bytes);
    for (const IoField& field : io.fields) {
      // SREG's bits are named after the letters alone here; fields of several bits are ours.
      const std::string name = io.name == "SREG" ? "SREG_" + field.name : field.name;
      if (field.width > 1) {
        for (unsigned i = 0; i < field.width; ++i) {
          // WGM13:WGM12 lie in TCCR1B and so on: the lowest may carry a number above 0.
          bool known = false;
          for (const auto& [bit, position] : bits)
            known = known || (position == field.lowest + i && bit.rfind(field.name, 0) == 0);
          INFO(field.name << " bit " << i);
          CHECK(known);
        }
        continue;
      }
      INFO(name);
      REQUIRE(bits.count(name) == 1);
      CHECK(bits[name] == field.lowest);
    }
  }
  for (const auto& [name, place] : registers) {
    if (name == "ADCW") continue;  // the header's second name for ADC
    INFO(name);
    CHECK(ours.count(name) == 1);
  }
  REQUIRE(info.vectors.size() == 26);
  for (const InterruptVector& vector : info.vectors) {
    if (vector.number == 0) continue;
    INFO(vector.name);
    REQUIRE(vectors.count(vector.name) == 1);
    CHECK(vectors[vector.name] == vector.number);
  }
  const auto value_of = [&](const std::string& name) {
    const auto at = text.find("#define " + name + " ");
    unsigned value = 0;
    std::sscanf(text.c_str() + at + 8 + name.size(), " (%x", &value);
    if (value == 0) std::sscanf(text.c_str() + at + 8 + name.size(), " %x", &value);
    return value;
  };
  for (const MemoryArea& area : info.memories) {
    if (area.name == "flash") CHECK(value_of("FLASHEND") == area.end - 1);
    if (area.name == "eeprom") CHECK(value_of("E2END") == area.end - 1);
    if (area.name == "ram") {
      CHECK(value_of("RAMSTART") == area.begin);
      CHECK(value_of("RAMEND") == area.end - 1);
    }
  }
  Chip chip = *Chip::make({"ATmega328P", 16'000'000});
  for (unsigned i = 0; i < 3; ++i)
    CHECK(*chip.peek({Space::kSignature, i}) == value_of(fmt::format("SIGNATURE_{}", i)));
}
