// SPDX-License-Identifier: MIT
#include "avr/isa/table.h"

#include <array>
#include <vector>

namespace lucid::avr {
namespace {

constexpr std::uint8_t words_of(std::string_view operands) {
  return operands.find("{L}") != std::string_view::npos ||
                 operands.find("{W}") != std::string_view::npos
             ? 2
             : 1;
}

constexpr std::array<Row, kOpCount> kRows{{
#define LUCID_AVR(id, mnemonic, pattern, operands, feature, reads, writes, c16, c22, flow, \
                  transfer, words)                                                         \
  {mnemonic, pattern, operands,   feature,  reads, writes,                                 \
   c16,      c22,     Flow::flow, transfer, words, words_of(operands)},
#include "avr/isa/instructions.def"
}};

/// A row's pattern as bit masks: fixed bits, and where each operand's bits are.
struct Masks {
  std::uint16_t fixed_mask = 0;
  std::uint16_t fixed = 0;
};

Masks masks_of(std::string_view pattern) {
  Masks masks;
  for (unsigned i = 0; i < 16; ++i) {
    const auto bit = static_cast<std::uint16_t>(1U << (15 - i));
    if (pattern[i] != '0' && pattern[i] != '1') continue;
    masks.fixed_mask |= bit;
    if (pattern[i] == '1') masks.fixed |= bit;
  }
  return masks;
}

std::vector<std::uint8_t> build_index() {
  std::vector<std::uint8_t> index(0x10000, kNoOp);
  for (std::uint8_t op = kOpCount; op-- > 0;) {  // earlier rows overwrite later ones
    const Masks masks = masks_of(kRows[op].pattern);
    const auto open = static_cast<std::uint16_t>(~masks.fixed_mask);
    std::uint16_t subset = 0;
    do {  // every subset of the operand bits
      index[masks.fixed | subset] = op;
      subset = static_cast<std::uint16_t>((subset - open) & open);
    } while (subset != 0);
  }
  return index;
}

/// Where the bits of an operand are in a word, by its letter.
struct Field {
  char letter = 0;
  std::uint16_t mask = 0;
};
/// Of a row; those that it has come first.
using Fields = std::array<Field, 4>;

std::array<Fields, kOpCount> build_fields() {
  std::array<Fields, kOpCount> out;
  for (unsigned op = 0; op < kOpCount; ++op)
    for (unsigned i = 0; i < 16; ++i) {
      const char letter = kRows[op].pattern[i];
      if (letter == '0' || letter == '1') continue;
      Field* field = out[op].data();
      while (field->letter != 0 && field->letter != letter) ++field;
      field->letter = letter;
      field->mask = static_cast<std::uint16_t>(field->mask | 1U << (15 - i));
    }
  return out;
}

/// The bits of a mask, moved together.
unsigned gathered(std::uint16_t word, unsigned mask) {
  unsigned value = 0, places = 0;
  while (mask != 0) {
    // Bits that stand beside each other at once.
    const auto from = static_cast<unsigned>(__builtin_ctz(mask));
    const auto bits = static_cast<unsigned>(__builtin_ctz(~(mask >> from)));
    value |= (word >> from & ((1U << bits) - 1)) << places;
    places += bits;
    mask &= ~(((1U << bits) - 1) << from);
  }
  return value;
}

int sign_extended(unsigned value, unsigned bits) {
  return static_cast<int>(value ^ (1U << (bits - 1))) - (1 << (bits - 1));
}

constexpr std::uint16_t kClassic = kBase;
constexpr std::uint16_t kEnhanced = kLpmx | kSpm | kBreak | kMovw;

}  // namespace

const std::array<Core, 9>& cores() {
  static constexpr std::array<Core, 9> kCores{{
      {"avr2", kClassic},
      {"avr25", kEnhanced},
      {"avr3", kMega},
      {"avr31", kMega | kElpm},
      {"avr35", kEnhanced | kMega},
      {"avr4", kEnhanced | kMul},
      {"avr5", kEnhanced | kMul | kMega},
      {"avr51", kEnhanced | kMul | kMega | kElpm | kElpmx},
      {"avr6", kEnhanced | kMul | kMega | kElpm | kElpmx | kEind},
  }};
  return kCores;
}

const Core* find_core(std::string_view name) {
  for (const Core& core : cores())
    if (core.name == name) return &core;
  return nullptr;
}

const Row& row(std::uint8_t op) { return kRows[op]; }

std::uint8_t op_of(std::uint16_t word) {
  static const std::vector<std::uint8_t> kIndex = build_index();
  return kIndex[word];
}

Entry decode(const Core& core, std::uint16_t word, std::uint16_t next, std::uint32_t pc) {
  Entry entry;
  const std::uint8_t op = op_of(word);
  if (op == kNoOp || (kRows[op].feature & ~core.features) != 0) return entry;
  static const std::array<Fields, kOpCount> kFields = build_fields();
  const Row& row = kRows[op];
  entry.op = op;
  entry.length = row.length;
  // The table of letters stands in instructions.def.
  for (const Field& field : kFields[op]) {
    if (field.letter == 0) break;
    const unsigned value = gathered(word, field.mask);
    switch (field.letter) {
      case 'd': entry.a = static_cast<std::uint8_t>(value); break;
      case 'h':
      case 'm': entry.a = static_cast<std::uint8_t>(16 + value); break;
      case 'e': entry.a = static_cast<std::uint8_t>(2 * value); break;
      case 'p': entry.a = static_cast<std::uint8_t>(24 + 2 * value); break;
      case 'g':
      case 'n': entry.b = static_cast<std::uint8_t>(16 + value); break;
      case 'f': entry.b = static_cast<std::uint8_t>(2 * value); break;
      case 'r':
      case 'b':
      case 's': entry.b = static_cast<std::uint8_t>(value); break;
      case 'K':
      case 'A':
      case 'q': entry.k = static_cast<std::int32_t>(value); break;
      case 'L': entry.k = static_cast<std::int32_t>(value << 16 | next); break;
      case 'k': {
        const unsigned bits = row.flow == Flow::kBranch ? 7 : 12;
        entry.k = static_cast<std::int32_t>(pc) + 1 + sign_extended(value, bits);
        break;
      }
      default: break;
    }
  }
  if (op == kLDS || op == kSTS) entry.k = next;
  return entry;
}

std::optional<PointerAccess> pointer_access(const Entry& entry) {
  constexpr std::uint8_t kX = 26, kY = 28, kZ = 30;
  static const std::array<PointerAccess, 256> kAll = [] {
    std::array<PointerAccess, 256> all{};
    const auto add = [&](std::uint8_t pair, std::uint8_t load, std::uint8_t store, std::int32_t by,
                         std::int32_t moves) {
      all[load] = {pair, false, by, moves};
      all[store] = {pair, true, by, moves};
    };
    add(kX, kLD_X, kST_X, 0, 0);
    add(kX, kLD_XI, kST_XI, 0, 1);
    add(kX, kLD_XD, kST_XD, -1, -1);
    add(kY, kLD_Y, kST_Y, 0, 0);
    add(kY, kLD_YI, kST_YI, 0, 1);
    add(kY, kLD_YD, kST_YD, -1, -1);
    add(kY, kLDD_Y, kSTD_Y, 0, 0);
    add(kZ, kLD_Z, kST_Z, 0, 0);
    add(kZ, kLD_ZI, kST_ZI, 0, 1);
    add(kZ, kLD_ZD, kST_ZD, -1, -1);
    add(kZ, kLDD_Z, kSTD_Z, 0, 0);
    return all;
  }();
  PointerAccess access = kAll[entry.op];
  if (access.pair == 0) return std::nullopt;
  if (entry.op == kLDD_Y || entry.op == kLDD_Z || entry.op == kSTD_Y || entry.op == kSTD_Z)
    access.by = entry.k;
  return access;
}

bool result_is_undefined(const Entry& entry) {
  switch (entry.op) {
    case kLD_XI:
    case kLD_XD:
    case kST_XI:
    case kST_XD: return (entry.a & ~1U) == 26;
    case kLD_YI:
    case kLD_YD:
    case kST_YI:
    case kST_YD: return (entry.a & ~1U) == 28;
    case kLD_ZI:
    case kLD_ZD:
    case kST_ZI:
    case kST_ZD:
    case kLPM_I:
    case kELPM_I: return (entry.a & ~1U) == 30;
    default: return false;
  }
}

}  // namespace lucid::avr
