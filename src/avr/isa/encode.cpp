// SPDX-License-Identifier: MIT
// The bytes of an instruction from its text, out of the same table that gives the text: each first
// word that there is is asked what it says.
#include <cctype>
#include <cstdlib>

#include "avr/isa/target.h"

namespace lucid::avr {
namespace {

/// Words, signs and numbers of an instruction's text, whatever its blanks, cases and bases.
struct Spelled {
  std::vector<std::string> all;
  std::vector<unsigned long> numbers;
};

Spelled spelled(const std::string& text) {
  Spelled out;
  const auto at_is = [&](std::size_t at, int (*kind)(int)) {
    return at < text.size() && kind(static_cast<unsigned char>(text[at])) != 0;
  };
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t begin = at;
    if (at_is(at, std::isdigit)) {
      const bool hex = text.compare(at, 2, "0x") == 0 || text.compare(at, 2, "0X") == 0;
      char* end = nullptr;
      out.numbers.push_back(std::strtoul(text.c_str() + at, &end, hex ? 16 : 10));
      out.all.push_back("#" + std::to_string(out.numbers.back()));
      at = static_cast<std::size_t>(end - text.c_str());
      continue;
    }
    while (at_is(at, std::isalnum)) ++at;
    if (at == begin) ++at;
    if (at_is(begin, std::isspace)) continue;
    std::string word = text.substr(begin, at - begin);
    for (char& c : word) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
    out.all.push_back(std::move(word));
  }
  return out;
}

std::vector<std::uint8_t> bytes_of(unsigned long first, unsigned long second) {
  return {static_cast<std::uint8_t>(first), static_cast<std::uint8_t>(first >> 8),
          static_cast<std::uint8_t>(second), static_cast<std::uint8_t>(second >> 8)};
}

}  // namespace

std::vector<std::uint8_t> AvrTarget::encode(const std::string& text, std::uint32_t address) const {
  const Spelled wanted = spelled(text);
  if (wanted.all.empty()) return {};
  const auto says = [&](Instruction& instruction) {
    write_text(instruction);
    return spelled(instruction.mnemonic + " " + instruction.operands).all == wanted.all;
  };
  for (unsigned long first = 0; first <= UINT16_MAX; ++first) {
    Instruction instruction = decode(bytes_of(first, 0), address);
    if (instruction.validity == Validity::kReserved) continue;
    constexpr unsigned kWord = 2;
    if (instruction.size == kWord) {
      if (says(instruction)) return instruction.bytes;
      continue;
    }
    // A second word is an address of data, or one of code in words.
    for (const unsigned long number : wanted.numbers)
      for (const unsigned long second : {number, number / 2}) {
        instruction = decode(bytes_of(first, second), address);
        if (says(instruction)) return instruction.bytes;
      }
  }
  return {};
}

}  // namespace lucid::avr
