// SPDX-License-Identifier: MIT
// Images: what is read, and what every kind of bad file is told.
#include <fmt/format.h>

#include <catch2/catch.hpp>

#include "lucid/chip.h"
#include "lucid/image.h"
#include "lucid/program.h"
#include "tools.h"

using namespace lucid;

namespace {

std::vector<std::uint8_t> bytes_of(const std::string& text) { return {text.begin(), text.end()}; }

std::string record(unsigned address, unsigned type, const std::vector<std::uint8_t>& data) {
  std::string out = fmt::format(":{:02X}{:04X}{:02X}", data.size(), address, type);
  unsigned sum = static_cast<unsigned>(data.size()) + (address >> 8) + (address & 0xff) + type;
  for (const std::uint8_t byte : data) {
    out += fmt::format("{:02X}", byte);
    sum += byte;
  }
  return out + fmt::format("{:02X}\n", (0x100 - (sum & 0xff)) & 0xff);
}
const std::string kEnd = ":00000001FF\n";

}  // namespace

TEST_CASE("the kiln's ELF and HEX hold the same flash") {
  const auto elf = Image::open(test::kKilnOs);
  const auto hex = Image::open(std::string(LUCID_KILN) + "/images/kiln-os.hex");
  REQUIRE(elf);
  REQUIRE(hex);
  CHECK(elf->chip() == "atmega328p");
  CHECK(elf->debug_form() == DebugForm::kDwarf);
  CHECK(hex->debug_form() == DebugForm::kNone);
  Chip a = *Chip::make({"ATmega328P", 16'000'000});
  Chip b = a;
  REQUIRE(a.load(*elf));
  REQUIRE(b.load(*hex));
  unsigned different = 0;
  for (std::uint32_t i = 0; i < 0x8000; ++i)
    if (a.peek({Space::kCode, i}) != b.peek({Space::kCode, i})) ++different;
  CHECK(different == 0);
  CHECK(*a.peek({Space::kEeprom, 0x0c}) == 3);     // .eeprom
  CHECK(*b.peek({Space::kEeprom, 0x0c}) == 0xff);  // the HEX file has none
}

TEST_CASE("fuses come from the image") {
  const auto image =
      Image::open(test::compiled("fuses",
                                 "#include <avr/io.h>\nFUSES = {.low = 0xff, .high = 0xd8, "
                                 ".extended = 0xfd};\nint main(void) { for (;;); }\n",
                                 "-Os -gdwarf-4"));
  REQUIRE(image);
  Chip chip = *Chip::make({"ATmega328P", 16'000'000});
  REQUIRE(chip.load(*image));
  CHECK(*chip.peek({Space::kFuse, 0}) == 0xff);
  CHECK(*chip.peek({Space::kFuse, 1}) == 0xd8);
  CHECK(chip.pc() == 0x7000);  // BOOTRST is programmed: reset goes to the boot section
}

TEST_CASE("Intel HEX: records of all kinds, and every damage told with its line") {
  const std::string good =
      record(0, 0, {1, 2, 3, 4}) + record(0, 4, {0, 1}) + record(0, 0, {9}) + kEnd;
  const auto image = Image::parse(bytes_of(good), "good.hex");
  REQUIRE(image);
  REQUIRE(image->segments().size() == 2);
  CHECK(image->segments()[1].address == Address{Space::kCode, 0x10000});
  const auto segment =
      Image::parse(bytes_of(record(0, 2, {0x10, 0x00}) + record(4, 0, {7}) + kEnd), "s.hex");
  REQUIRE(segment);
  CHECK(segment->segments()[0].address.offset == 0x10004);

  struct Row {
    std::string text;
    const char* says;
  };
  const Row rows[] = {
      {record(0, 0, {1}), "end-of-file record is missing"},
      {":0100000001FF\n" + kEnd, "line 1: checksum"},
      {record(0, 0, {1, 2}) + record(1, 0, {5}) + kEnd,
       "line 2: address 0x0001 is given a second time"},
      {":01000000ZZ00\n" + kEnd, "column 10: not a hexadecimal digit"},
      {":0200000001FD\n" + kEnd, "says 2 data bytes and has 1"},
      {":00\n" + kEnd, "too short"},
      {":000000\n1", "too short"},
      {record(0, 9, {}) + kEnd, "record type 09"},
      {record(0, 4, {1}) + kEnd, "two data bytes"},
      {":0\n", "digit is missing"},
  };
  for (const Row& row : rows) {
    INFO(row.text);
    const auto bad = Image::parse(bytes_of(row.text), "bad.hex");
    REQUIRE_FALSE(bad);
    INFO(bad.error().text());
    CHECK(bad.error().text().find(row.says) != std::string::npos);
    CHECK(bad.error().code == ErrorCode::kBadImage);
  }
}

TEST_CASE("every other unusable file is recognised, with what to do") {
  struct Row {
    std::string path;
    const char* says;
    const char* hint;
  };
  test::write(test::scratch("noise.bin"), "hello, I am not an image");
  test::write(test::scratch("empty.elf"), "");
  const std::string object = test::scratch("object");
  test::write(object + ".c", "int main(void) { return 0; }");
  REQUIRE(test::run("avr-gcc -mmcu=atmega328p -c -o " + object + ".o " + object + ".c").code == 0);
  const Row rows[] = {{test::scratch("noise.bin"), "neither an ELF file nor Intel HEX", "main.elf"},
                      {test::scratch("empty.elf"), "empty", ""},
                      {object + ".o", "not yet linked", "avr-gcc -o"},
                      {"/bin/sh", "64-bit", "avr-gcc"},
                      {test::scratch("missing.elf"), "cannot read", "path"},
                      {LUCID_KILN, "not a regular file", ""}};
  for (const Row& row : rows) {
    INFO(row.path);
    const auto bad = Image::open(row.path);
    REQUIRE_FALSE(bad);
    INFO(bad.error().text());
    CHECK(bad.error().text().find(row.says) != std::string::npos);
    CHECK(bad.error().hint.find(row.hint) != std::string::npos);
  }
}

TEST_CASE("an image that does not fit leaves the chip as it was") {
  Chip chip = *Chip::make({"ATmega328P", 16'000'000});
  REQUIRE(chip.load(*Image::open(test::kKilnOg)));
  const std::uint64_t before = chip.hash();
  const auto big =
      Image::parse(bytes_of(record(0, 4, {0, 1}) + record(0, 0, {1}) + kEnd), "big.hex");
  REQUIRE(big);
  const auto loaded = chip.load(*big);
  REQUIRE_FALSE(loaded);
  CHECK(loaded.error().text().find("it needs 65537 bytes of flash, ATmega328P has 32768") !=
        std::string::npos);
  CHECK(chip.hash() == before);

  auto bytes = test::bytes(test::kKilnOg);
  bytes[18] = 243;  // e_machine: another architecture
  const auto other = Image::parse(bytes, "other.elf");
  REQUIRE(other);
  const auto refused = chip.load(*other);
  REQUIRE_FALSE(refused);
  CHECK(refused.error().text().find("machine 243") != std::string::npos);
  CHECK(chip.hash() == before);
}

TEST_CASE("without DWARF the image says which flag to use") {
  const std::string source =
      "volatile int x;\nstatic void set(int n) {\n  x = n;\n  x += 2;\n}\n"
      "int main(void) {\n  for (;;) {\n    set(x * 3);\n    x--;\n  }\n}\n";
  const auto stabs = Image::open(test::compiled("stabs", source, "-Os -gstabs"));
  REQUIRE(stabs);
  CHECK(stabs->debug_form() == DebugForm::kStabs);
  const Program with_stabs = Program::read(*stabs);
  REQUIRE(with_stabs.warnings().size() == 1);
  CHECK(with_stabs.warnings()[0].find("-gdwarf-4 instead of -g") != std::string::npos);
  REQUIRE(with_stabs.find_functions("main").size() == 1);
  // Its lines are those that the toolchain's own reader finds.
  const auto lines = test::run("avr-objdump -dl " + test::scratch("stabs") + ".elf");
  unsigned compared = 0;
  std::istringstream text(lines.text);
  unsigned line = 0;
  for (std::string row; std::getline(text, row);) {
    const std::size_t name = row.find("stabs.c:");
    if (name != row.npos) line = static_cast<unsigned>(std::stoul(row.substr(name + 8)));
    if (line == 0 || row.size() < 10 || row[0] != ' ' || row.find(":\t") == row.npos) continue;
    const auto address = static_cast<std::uint32_t>(std::stoul(row, nullptr, 16));
    const auto found = with_stabs.line_at(address);
    if (!found) break;  // behind the last function
    INFO(row);
    CHECK(found->line == line);
    ++compared;
  }
  CHECK(compared > 3);

  const std::string elf = test::compiled("stripped", source, "-Os -gdwarf-4 -s");
  const auto stripped = Image::open(elf);
  REQUIRE(stripped);
  const Program nothing = Program::read(*stripped);
  REQUIRE(nothing.warnings().size() == 1);
  CHECK(nothing.warnings()[0].find("do not strip") != std::string::npos);
  CHECK(nothing.functions().empty());
}

TEST_CASE("cut off at every byte: an answer or an error, never a crash") {
  const auto whole = test::bytes(test::kKilnOg);
  unsigned refused = 0;
  for (std::size_t size = 0; size < whole.size(); size += size < 256 ? 1 : 97) {
    const auto image =
        Image::parse({whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(size)}, "cut");
    if (!image) {
      ++refused;
      CHECK_FALSE(image.error().what.empty());
      continue;
    }
    (void)Program::read(*image);
  }
  CHECK(refused > 300);  // the section headers are at the end: nothing shorter is whole
}

TEST_CASE("every byte of the debug sections may be wrong") {
  const auto whole = test::bytes(test::kKilnOg);
  unsigned read = 0;
  for (std::size_t at = 64; at < whole.size(); at += 13) {
    auto damaged = whole;
    damaged[at] ^= static_cast<std::uint8_t>(0x55 + at);
    const auto image = Image::parse(std::move(damaged), "damaged");
    if (!image) continue;
    const Program program = Program::read(*image);
    for (const Function& f : program.functions()) (void)program.frame_at(f.begin);
    ++read;
  }
  CHECK(read > 1000);
}
