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

std::string macros(const std::string& mcu) {
  const std::string path = test::scratch("device.c");
  test::write(path, "#include <avr/io.h>\n#include <avr/interrupt.h>\n");
  return test::run("avr-gcc -mmcu=" + mcu + " -E -dD " + path).text;
}

}  // namespace

// The compiler itself says whether a name has the address, bit or number that we give it.
TEST_CASE("words for the values of fields") {
  unsigned told = 0;
  for (const char* name : {"ATmega328P", "ATmega1284P", "ATmega2560"}) {
    const Chip chip = *Chip::make({name, 16'000'000});
    for (const IoRegister& io : chip.info().io)
      for (const IoField& field : io.fields) {
        INFO(name << " " << io.name << "." << field.name);
        if (field.meanings.empty()) continue;
        ++told;
        CHECK(field.meanings.size() == std::min<std::size_t>(9, 1U << field.width));
        const bool asynchronous = io.name == "TCCR2B";
        if (field.name == "CS") CHECK(field.meanings[3] == (asynchronous ? "clk/32" : "clk/64"));
      }
  }
  CHECK(told > 60);
}

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

// The other way round: nothing of the header is missing.
TEST_CASE("registers, bits and vectors of the headers are in the tables") {
  const auto [name_of_chip, mcu, vector_count] =
      GENERATE(table<const char*, const char*, std::size_t>({{"ATmega328P", "atmega328p", 25},
                                                             {"ATmega1284P", "atmega1284p", 34},
                                                             {"ATmega2560", "atmega2560", 56}}));
  INFO(name_of_chip);
  const std::string text = macros(mcu);
  std::map<std::string, std::pair<unsigned, unsigned>> registers;  // name → address, bytes
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
  }
  REQUIRE(registers.size() > 80);
  const ChipInfo info = Chip::make({name_of_chip, 16'000'000})->info();
  std::set<std::string> ours;
  for (const IoRegister& io : info.io) {
    INFO(io.name);
    ours.insert(io.name);
    REQUIRE(registers.count(io.name) == 1);
    CHECK(registers[io.name].first == io.address);
    CHECK(registers[io.name].second == io.bytes);
  }
  for (const auto& [name, place] : registers) {
    if (name == "ADCW") continue;  // the header's second name for ADC
    INFO(name);
    CHECK(ours.count(name) == 1);
  }
  REQUIRE(info.vectors.size() == vector_count + 1);
  for (const InterruptVector& vector : info.vectors) CHECK((vector.number == 0 || vector.modelled));
}
