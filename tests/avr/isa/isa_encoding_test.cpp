// SPDX-License-Identifier: MIT
// Every first word, against the toolchain's assembler and disassembler.
#include <fmt/format.h>

#include <catch2/catch.hpp>
#include <cctype>
#include <map>
#include <random>
#include <set>

#include "lucid/chip.h"
#include "tools.h"

using lucid::Chip;
using lucid::Instruction;
using lucid::Space;
using lucid::Validity;

namespace {

constexpr std::uint32_t kAt = 0x2000;
constexpr unsigned kSecond = 0x0124;

Instruction decoded(Chip& chip, unsigned word) {
  for (unsigned i = 0; i < 2; ++i) {
    chip.poke({Space::kCode, kAt + i}, static_cast<std::uint8_t>(word >> (8 * i)));
    chip.poke({Space::kCode, kAt + 2 + i}, static_cast<std::uint8_t>(kSecond >> (8 * i)));
  }
  return chip.instruction_at(kAt);
}

/// As the assembler reads it: relative targets count from behind the instruction.
std::string source(const Instruction& i) {
  const bool relative = i.size == 2 && i.target.has_value();
  const std::string operands =
      relative ? fmt::format(".{:+d}", static_cast<int>(*i.target) - static_cast<int>(kAt) - 2)
               : i.operands;
  // `rcall .+0` is no call for a debugger; for the assembler it is one.
  const bool idiom = i.mnemonic == "rcall" && !i.target;
  return i.mnemonic + " " + (idiom ? ".+0" : operands);
}

}  // namespace

TEST_CASE("65536 first words: text, assembler, the same words") {
  Chip chip = *Chip::make({"avr6", 1'000'000});
  std::string text;
  std::vector<unsigned> expected;
  for (unsigned word = 0; word < 0x10000; ++word) {
    const Instruction i = decoded(chip, word);
    text += source(i) + "\n";
    expected.push_back(word);
    if (i.size == 4) expected.push_back(kSecond);
  }
  const std::string base = test::scratch("words");
  test::write(base + ".s", text);
  const auto built = test::run("avr-as -mmcu=avr6 -W " + base + ".s -o " + base +
                               ".o && avr-ld -mavr6 -Ttext 0 -e 0 " + base + ".o -o " + base +
                               ".elf && avr-objcopy -O binary " + base + ".elf " + base + ".bin");
  INFO(built.text.substr(0, 2000));
  REQUIRE(built.code == 0);
  const auto bytes = test::bytes(base + ".bin");
  REQUIRE(bytes.size() == 2 * expected.size());
  unsigned wrong = 0;
  for (std::size_t n = 0; n < expected.size(); ++n) {
    const unsigned word = bytes[2 * n] | bytes[2 * n + 1] << 8;
    if (word != expected[n] && ++wrong < 10)
      WARN(fmt::format("{:#06x} came back as {:#06x}", expected[n], word));
  }
  CHECK(wrong == 0);
}

TEST_CASE("from its text an instruction's words, however it is spelled") {
  const unsigned seed = test::fresh_seed();
  INFO("seed " << seed);
  std::mt19937 random(seed);
  Chip chip = *Chip::make({"avr6", 1'000'000});
  for (unsigned n = 0; n < (test::kSanitized ? 3 : 40); ++n) {
    const Instruction i = decoded(chip, random() % 0x10000);
    if (i.validity == Validity::kReserved) continue;
    std::string text = i.mnemonic + "  " + i.operands;
    INFO(text);
    if (n % 2 != 0)
      for (char& c : text) c = c == 'x' ? c : static_cast<char>(std::toupper(c));
    const auto words = chip.encode(text, kAt);
    // Words that say the same are the same to the assembler.
    Chip other = chip;
    for (std::uint32_t k = 0; k < words.size(); ++k) other.poke({Space::kCode, kAt + k}, words[k]);
    CHECK(words.size() == i.size);
    const Instruction back = other.instruction_at(kAt);
    CHECK(back.mnemonic + back.operands == i.mnemonic + i.operands);
  }
  using Bytes = std::vector<std::uint8_t>;
  CHECK(chip.encode("ldi r24,255", kAt) == Bytes{0x8f, 0xef});
  CHECK(chip.encode("sbc r25, r23", kAt) == Bytes{0x97, 0x0b});
  CHECK(chip.encode("CALL 0x1234", kAt) == Bytes{0x0e, 0x94, 0x1a, 0x09});
  for (const char* none : {"", "ldi", "ldi r24, 256", "ldi r2, 1", "bla", "nop nop", "jmp 0x1235"})
    CHECK(chip.encode(none, kAt).empty());
}

TEST_CASE("reserved and undefined words are those of the toolchain's disassembler") {
  std::string binary;
  for (unsigned word = 0; word < 0x10000; ++word) {
    binary += {static_cast<char>(word), static_cast<char>(word >> 8), 0, 0};
  }
  const std::string path = test::scratch("all.bin");
  test::write(path, binary);
  // Without -z, runs of zeros are left out; they are nops.
  const auto listing = test::run("avr-objdump -z -D -b binary -m avr:6 " + path);
  REQUIRE(listing.code == 0);
  std::set<unsigned> reserved;
  std::set<unsigned> undefined;
  std::istringstream lines(listing.text);
  const std::set<std::string> later{"xch", "las", "lac", "lat", "des"};  // not on classic cores
  for (std::string line; std::getline(lines, line);) {
    unsigned address = 0;
    char rest[64] = "";
    if (std::sscanf(line.c_str(), " %x:", &address) != 1 || address % 4 != 0) continue;
    const unsigned word = address / 4;
    const auto tab = line.find('\t', line.find('\t') + 1);
    if (tab == std::string::npos) continue;
    std::sscanf(line.c_str() + tab + 1, "%63s", rest);
    const std::string mnemonic = rest;
    const bool spm_z = word == 0x95f8;
    if (mnemonic == ".word" || later.count(mnemonic) != 0 || spm_z) reserved.insert(word);
    if (line.find("; undefined") != std::string::npos) undefined.insert(word);
  }
  Chip chip = *Chip::make({"avr6", 1'000'000});
  unsigned wrong = 0;
  for (unsigned word = 0; word < 0x10000; ++word) {
    const Instruction i = decoded(chip, word);
    const bool good = (i.validity == Validity::kReserved) == (reserved.count(word) != 0) &&
                      (i.validity == Validity::kUndefinedResult) == (undefined.count(word) != 0);
    if (!good && ++wrong < 10) WARN(fmt::format("{:#06x} {} {}", word, i.mnemonic, i.operands));
  }
  CHECK(wrong == 0);
  CHECK(reserved.size() > 1000);
  CHECK(undefined.size() > 10);
}

TEST_CASE("which core has which instruction, as the assembler says") {
  // One word of each row of the table: the first that decodes to each mnemonic and operand form.
  Chip all = *Chip::make({"avr6", 1'000'000});
  std::map<std::string, unsigned> samples;
  for (unsigned word = 0; word < 0x10000; ++word) {
    const Instruction i = decoded(all, word);
    if (i.validity == Validity::kReserved) continue;
    std::string form = i.mnemonic + " ";
    for (const char c : i.operands)
      if (std::isdigit(static_cast<unsigned char>(c)) == 0) form += c;
    if (i.operands.empty() || form.find('Z') != std::string::npos)
      form += i.operands.empty() ? "-" : "z";
    samples.emplace(form, word);
  }
  CHECK(samples.size() > 100);
  // A part of each family; its name for the assembler and the compiler.
  const std::pair<const char*, const char*> kFamilies[] = {
      {"avr2", "at90s8515"},  {"avr25", "attiny85"},  {"avr3", "at43usb355"},
      {"avr31", "atmega103"}, {"avr35", "at90usb82"}, {"avr4", "atmega48"},
      {"avr5", "atmega328p"}, {"avr51", "atmega128"}, {"avr6", "atmega2560"}};
  for (const auto& [core, part] : kFamilies) {
    std::string text;
    std::vector<unsigned> words;
    for (const auto& [form, word] : samples) {
      text += source(decoded(all, word)) + "\n";
      words.push_back(word);
    }
    const std::string path = test::scratch(std::string("core-") + core);
    test::write(path + ".s", text);
    const auto assembled =
        test::run(std::string("avr-as -W -mmcu=") + part + " " + path + ".s -o " + path + ".o");
    std::set<std::size_t> refused;
    std::istringstream lines(assembled.text);
    for (std::string line; std::getline(lines, line);) {
      const auto error = line.find(": Error");
      if (error == std::string::npos) continue;
      const auto colon = line.rfind(':', error - 1);
      refused.insert(
          static_cast<std::size_t>(std::stoul(line.substr(colon + 1, error - colon - 1))) - 1);
    }
    // The assembler does not tell LPM with operands from LPM without; the compiler's macros do.
    const std::string macros =
        test::run(std::string("avr-gcc -dM -E -x c /dev/null -mmcu=") + part).text;
    const auto defined = [&](const char* macro) { return macros.find(macro) != std::string::npos; };
    Chip chip = *Chip::make({core, 1'000'000});
    for (std::size_t n = 0; n < words.size(); ++n) {
      chip.poke({Space::kCode, 0}, static_cast<std::uint8_t>(words[n]));
      chip.poke({Space::kCode, 1}, static_cast<std::uint8_t>(words[n] >> 8));
      chip.poke({Space::kCode, 2}, 0);
      const bool has = chip.instruction_at(0).validity != Validity::kReserved;
      const Instruction i = decoded(all, words[n]);
      bool expected = refused.count(n) == 0;
      if (i.mnemonic == "lpm" && !i.operands.empty()) expected = defined("__AVR_HAVE_LPMX__");
      if (i.mnemonic == "elpm" && !i.operands.empty()) expected = defined("__AVR_HAVE_ELPMX__");
      INFO(core << ": " << source(i));
      CHECK(has == expected);
    }
  }
}
