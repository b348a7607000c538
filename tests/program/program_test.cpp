// SPDX-License-Identifier: MIT
// What debug information says, against the toolchain's own readers.
#include <fmt/format.h>

#include <catch2/catch.hpp>
#include <map>
#include <set>

#include "lucid/program.h"
#include "tools.h"

using namespace lucid;

namespace {

Program program_of(const std::string& elf) { return Program::read(*Image::open(elf)); }

}  // namespace

TEST_CASE("functions and variables lie where the linker's symbol table has them") {
  for (const std::string& elf : {test::kKilnOg, test::kKilnOs}) {
    const Program program = program_of(elf);
    std::istringstream lines(test::run("avr-nm -S " + elf).text);
    std::map<std::string, std::pair<unsigned, unsigned>> symbols;
    for (std::string line; std::getline(lines, line);) {
      unsigned address = 0;
      unsigned size = 0;
      char kind = 0;
      char name[128];
      if (std::sscanf(line.c_str(), "%x %x %c %127s", &address, &size, &kind, name) == 4)
        symbols[name] = {address, size};
    }
    unsigned checked = 0;
    for (const Function& f : program.functions()) {
      const auto symbol = symbols.find(f.name);
      if (symbol == symbols.end()) continue;
      INFO(f.name);
      CHECK(f.begin == symbol->second.first);
      // Assembly may go on behind its symbol's size, up to the next one.
      if (f.has_lines)
        CHECK(f.end - f.begin == symbol->second.second);
      else
        CHECK(f.end - f.begin >= symbol->second.second);
      ++checked;
    }
    CHECK(checked > 25);
    checked = 0;
    for (const Variable& v : program.variables()) {
      const auto symbol = symbols.find(v.name);
      if (symbol == symbols.end()) continue;
      INFO(v.name);
      const unsigned bias = v.address.space == Space::kEeprom ? 0x810000 : 0x800000;
      CHECK(v.address.offset + bias == symbol->second.first);
      CHECK(program.types()[v.type].bytes == symbol->second.second);
      ++checked;
    }
    CHECK(checked > 20);
  }
}

TEST_CASE("lines are those of the toolchain's line lister") {
  for (const std::string& elf : {test::kKilnOg, test::kKilnOs}) {
    const Program program = program_of(elf);
    std::string addresses;
    std::vector<std::uint32_t> asked;
    for (const Function& f : program.functions())
      if (f.has_lines)
        for (std::uint32_t a = f.begin; a < f.end; a += 2) {
          addresses += fmt::format("{:x}\n", a);
          asked.push_back(a);
        }
    const std::string path = test::scratch("addresses");
    test::write(path, addresses);
    std::istringstream lines(test::run("avr-addr2line -e " + elf + " < " + path).text);
    unsigned wrong = 0;
    std::size_t n = 0;
    for (std::string line; std::getline(lines, line); ++n) {
      const auto where = program.line_at(asked.at(n));
      const std::string ours =
          where ? fmt::format("{}:{}", program.files()[where->file].name, where->line) : "?";
      line = line.substr(0, line.find(" (disc"));
      const std::string theirs = line.substr(line.rfind('/') + 1);
      if (ours != theirs && ++wrong < 5)
        WARN(fmt::format("{:#x}: {} and {}", asked[n], ours, theirs));
    }
    CHECK(n == asked.size());
    CHECK(wrong == 0);
    CHECK(n > 1000);
  }
}

TEST_CASE("a dropped function leaves no lines behind, an inlined one no function") {
  const Program program =
      program_of(test::compiled("dropped",
                                "static inline int twice(int x) { return 2 * x; }\n"
                                "int never(int x) {\n  return x + 1;\n}\n"
                                "volatile int out;\n"
                                "int main(void) {\n  out = twice(out);\n  for (;;);\n}\n",
                                "-Os -gdwarf-4 -ffunction-sections -Wl,--gc-sections"));
  CHECK(program.find_functions("never").empty());
  CHECK(program.find_functions("twice").empty());
  const auto files = program.find_files("dropped.c");
  REQUIRE(files.size() == 1);
  CHECK(program.stretches_of(files[0], 3).empty());
  CHECK_FALSE(program.stretches_of(files[0], 7).empty());
  CHECK_FALSE(program.line_at(0).has_value());
}

TEST_CASE("types: what C declares, sizes as the compiler's own sizeof") {
  const std::string source = R"(
#include <stdint.h>
struct bits { uint8_t low : 3; int8_t middle : 4; uint16_t high : 9; };
union both { uint32_t word; uint8_t bytes[4]; float real; };
enum colour { RED, GREEN = 5, BLUE };
typedef struct node { struct node *next; int16_t value; char name[6]; } node_t;
volatile struct bits bits = {5, -3, 300};
volatile union both both = {0x40490fdb};
volatile enum colour colour = GREEN;
volatile node_t first = {0, -7, "first"};
volatile node_t second = {(node_t *)&first, 8, "two"};
volatile int16_t table[2][3] = {{1, 2, 3}, {4, 5, 6}};
volatile _Bool flag = 1;
int main(void) { bits.low = 5; both.word++; both.word--; colour = GREEN; first.value = -7; second.value = 8; table[0][0] = 1; flag = 1; for (;;); }
)";
  const Program program = program_of(test::compiled("types", source, "-O0 -gdwarf-4"));
  const auto type = [&](const char* name) -> const Type& {
    for (const Variable& v : program.variables())
      if (v.name == name) return program.types()[v.type];
    FAIL(name);
    return program.types()[0];
  };
  CHECK(type("bits").kind == Type::Kind::kStruct);
  REQUIRE(type("bits").members.size() == 3);
  CHECK(type("bits").members[1].bit_offset == 3);
  CHECK(type("bits").members[1].bit_size == 4);
  CHECK(type("both").bytes == 4);
  CHECK(type("colour").enumerators.size() == 3);
  CHECK(type("first").name == "node_t");
  CHECK(type("first").bytes == 10);
  CHECK(type("table").name == "int16_t[2][3]");
  CHECK(type("table").bytes == 12);
  CHECK(type("flag").kind == Type::Kind::kBool);
}

TEST_CASE("an image that is cut off anywhere is refused; cut debug information leaves the rest") {
  const std::vector<std::uint8_t> whole = test::bytes(test::kKilnOg);
  for (std::size_t length = 0; length < whole.size(); ++length)
    if (Image::parse({whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(length)}, "cut"))
      FAIL("accepted with " << length << " bytes");

  const auto word = [&](std::size_t at, std::size_t bytes) {
    std::size_t out = 0;
    for (std::size_t i = bytes; i-- > 0;) out = out << 8 | whole[at + i];
    return out;
  };
  const std::size_t headers = word(32, 4);  // e_shoff
  const std::size_t count = word(48, 2);    // e_shnum
  const std::size_t names = word(headers + 40 * word(50, 2) + 16, 4);
  unsigned cuts = 0;
  unsigned warned = 0;
  for (std::size_t n = 0; n < count; ++n) {
    const std::size_t header = headers + 40 * n;
    const std::string name(reinterpret_cast<const char*>(&whole[names + word(header, 4)]));
    if (name.rfind(".debug_", 0) != 0) continue;
    const std::size_t size = word(header + 20, 4);
    const std::size_t stride = std::max<std::size_t>(1, size / (test::kSanitized ? 20 : 200));
    for (std::size_t length = 0; length < size; length += stride) {
      auto bytes = whole;
      for (unsigned i = 0; i < 4; ++i)
        bytes[header + 20 + i] = static_cast<std::uint8_t>(length >> (8 * i));
      INFO(name << " cut to " << length << " bytes");
      const auto image = Image::parse(std::move(bytes), "cut");
      REQUIRE(image);
      const Program program = Program::read(*image);
      CHECK_FALSE(program.find_functions("main").empty());  // the symbols are whole
      for (const Function& f : program.functions()) static_cast<void>(program.frame_at(f.begin));
      ++cuts;
      warned += program.warnings().empty() ? 0 : 1;
    }
  }
  CHECK(cuts > (test::kSanitized ? 100U : 1000U));
  WARN(cuts << " cuts, " << warned << " with a warning");
}
