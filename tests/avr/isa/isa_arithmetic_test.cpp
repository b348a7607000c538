// SPDX-License-Identifier: MIT
// Results and flags of every arithmetic, logic and shift instruction, over all operands, against
// the Boolean formulas of the instruction set manual, bit by bit. They are written here in another
// way than in the library: as functions of single bits.
#include <catch2/catch.hpp>
#include <functional>

#include "lucid/chip.h"

using lucid::Chip;
using lucid::Space;

namespace {

enum : unsigned { C = 1, Z = 2, N = 4, V = 8, S = 16, H = 32, T = 64, I = 128 };

bool bit(unsigned value, unsigned n) { return (value >> n & 1U) != 0; }

struct Result {
  unsigned value;
  unsigned flags;
};
unsigned with_s(unsigned f) { return ((f & N) != 0) != ((f & V) != 0) ? f | S : f & ~unsigned{S}; }
unsigned nz(unsigned r, unsigned bits = 8) {
  return (bit(r, bits - 1) ? N : 0U) | ((r & ((1U << bits) - 1)) == 0 ? Z : 0U);
}

/// A chip whose flash is one instruction over and over; the counter wraps at its end.
class Bench {
 public:
  explicit Bench(const char* core) : chip_(*Chip::make({core, 1'000'000})) {}
  void program(unsigned word) {
    for (std::uint32_t a = 0; a < 0x2000; a += 2) {
      chip_.poke({Space::kCode, a}, static_cast<std::uint8_t>(word));
      chip_.poke({Space::kCode, a + 1}, static_cast<std::uint8_t>(word >> 8));
    }
  }
  void set(unsigned reg, unsigned value) {
    chip_.poke({Space::kData, reg}, static_cast<std::uint8_t>(value));
  }
  unsigned get(unsigned reg) { return *chip_.peek({Space::kData, reg}); }
  unsigned run(unsigned flags) {
    set(0x5f, flags);
    chip_.step();
    return get(0x5f);
  }

 private:
  Chip chip_;
};

// The formulas of the manual's pages.
Result add(unsigned d, unsigned r, unsigned c) {
  const unsigned v = (d + r + c) & 0xff;
  const auto carry = [&](unsigned n) {
    return (bit(d, n) && bit(r, n)) || (bit(r, n) && !bit(v, n)) || (!bit(v, n) && bit(d, n));
  };
  const bool overflow =
      (bit(d, 7) && bit(r, 7) && !bit(v, 7)) || (!bit(d, 7) && !bit(r, 7) && bit(v, 7));
  return {v, with_s(nz(v) | (carry(7) ? C : 0U) | (carry(3) ? H : 0U) | (overflow ? V : 0U))};
}
Result subtract(unsigned d, unsigned r, unsigned c) {
  const unsigned v = (d - r - c) & 0xff;
  const auto borrow = [&](unsigned n) {
    return (!bit(d, n) && bit(r, n)) || (bit(r, n) && bit(v, n)) || (bit(v, n) && !bit(d, n));
  };
  const bool overflow =
      (bit(d, 7) && !bit(r, 7) && !bit(v, 7)) || (!bit(d, 7) && bit(r, 7) && bit(v, 7));
  return {v, with_s(nz(v) | (borrow(7) ? C : 0U) | (borrow(3) ? H : 0U) | (overflow ? V : 0U))};
}
Result with_z_kept(Result r, unsigned before) {
  if ((before & Z) == 0) r.flags &= ~unsigned{Z};
  return r;
}
Result logic(unsigned v) { return {v & 0xff, with_s(nz(v & 0xff))}; }

constexpr unsigned kArithmetic = H | S | V | N | Z | C;
constexpr unsigned kLogic = S | V | N | Z;

struct TwoOperands {
  const char* name;
  unsigned word;  // with Rd = r24, Rr = r22, or an immediate of 0
  bool immediate;
  bool writes;
  unsigned flags;
  std::function<Result(unsigned d, unsigned r, unsigned sreg)> formula;
};

unsigned register_word(unsigned opcode) {
  return opcode | 24U << 4 | (22U & 0xf) | (22U & 0x10) << 5;
}

const std::vector<TwoOperands>& two_operands() {
  static const std::vector<TwoOperands> kRows{
      {"add", register_word(0x0c00), false, true, kArithmetic,
       [](unsigned d, unsigned r, unsigned) { return add(d, r, 0); }},
      {"adc", register_word(0x1c00), false, true, kArithmetic,
       [](unsigned d, unsigned r, unsigned s) { return add(d, r, s & C); }},
      {"sub", register_word(0x1800), false, true, kArithmetic,
       [](unsigned d, unsigned r, unsigned) { return subtract(d, r, 0); }},
      {"sbc", register_word(0x0800), false, true, kArithmetic,
       [](unsigned d, unsigned r, unsigned s) { return with_z_kept(subtract(d, r, s & C), s); }},
      {"cp", register_word(0x1400), false, false, kArithmetic,
       [](unsigned d, unsigned r, unsigned) { return subtract(d, r, 0); }},
      {"cpc", register_word(0x0400), false, false, kArithmetic,
       [](unsigned d, unsigned r, unsigned s) { return with_z_kept(subtract(d, r, s & C), s); }},
      {"and", register_word(0x2000), false, true, kLogic,
       [](unsigned d, unsigned r, unsigned) { return logic(d & r); }},
      {"or", register_word(0x2800), false, true, kLogic,
       [](unsigned d, unsigned r, unsigned) { return logic(d | r); }},
      {"eor", register_word(0x2400), false, true, kLogic,
       [](unsigned d, unsigned r, unsigned) { return logic(d ^ r); }},
      {"mov", register_word(0x2c00), false, true, 0,
       [](unsigned, unsigned r, unsigned) {
         return Result{r, 0};
       }},
      {"subi", 0x5080, true, true, kArithmetic,
       [](unsigned d, unsigned r, unsigned) { return subtract(d, r, 0); }},
      {"sbci", 0x4080, true, true, kArithmetic,
       [](unsigned d, unsigned r, unsigned s) { return with_z_kept(subtract(d, r, s & C), s); }},
      {"cpi", 0x3080, true, false, kArithmetic,
       [](unsigned d, unsigned r, unsigned) { return subtract(d, r, 0); }},
      {"andi", 0x7080, true, true, kLogic,
       [](unsigned d, unsigned r, unsigned) { return logic(d & r); }},
      {"ori", 0x6080, true, true, kLogic,
       [](unsigned d, unsigned r, unsigned) { return logic(d | r); }},
      {"ldi", 0xe080, true, true, 0,
       [](unsigned, unsigned r, unsigned) {
         return Result{r, 0};
       }},
  };
  return kRows;
}

}  // namespace

TEST_CASE("two operands: every value, carry and zero") {
  Bench bench("avr4");
  for (const TwoOperands& row : two_operands()) {
    INFO(row.name);
    unsigned wrong = 0;
    for (unsigned r = 0; r < 256; ++r) {
      if (row.immediate)
        bench.program(row.word | (r & 0xf) | (r & 0xf0) << 4);
      else if (r == 0)
        bench.program(row.word);
      bench.set(22, r);
      for (unsigned d = 0; d < 256; ++d) {
        for (const unsigned before : {0U, unsigned{C}, unsigned{Z}, C | Z | T | V}) {
          bench.set(24, d);
          const unsigned after = bench.run(before);
          const Result expected = row.formula(d, r, before);
          const unsigned flags = (before & ~row.flags) | (expected.flags & row.flags);
          const unsigned value = row.writes ? expected.value : d;
          if (after != flags || bench.get(24) != value) ++wrong;
        }
      }
    }
    CHECK(wrong == 0);
  }
}

TEST_CASE("one operand: every value and carry") {
  struct Row {
    const char* name;
    unsigned opcode;
    unsigned flags;
    std::function<Result(unsigned d, unsigned sreg)> formula;
  };
  const auto shifted = [](unsigned v, bool out) {
    const bool n = bit(v, 7);
    return Result{v, with_s(nz(v) | (out ? C : 0U) | (n != out ? V : 0U))};
  };
  const std::vector<Row> rows{
      {"com", 0x9400, kLogic | C,
       [](unsigned d, unsigned) {
         return Result{~d & 0xff, with_s(nz(~d & 0xff)) | C};
       }},
      {"neg", 0x9401, kArithmetic,
       [](unsigned d, unsigned) {
         const unsigned v = (0x100 - d) & 0xff;
         return Result{v, with_s(nz(v) | (v != 0 ? C : 0U) | (v == 0x80 ? V : 0U) |
                                 (bit(v, 3) || bit(d, 3) ? H : 0U))};
       }},
      {"swap", 0x9402, 0,
       [](unsigned d, unsigned) {
         return Result{(d >> 4 | d << 4) & 0xff, 0};
       }},
      {"inc", 0x9403, kLogic,
       [](unsigned d, unsigned) {
         return Result{(d + 1) & 0xff, with_s(nz((d + 1) & 0xff) | (d == 0x7f ? V : 0U))};
       }},
      {"asr", 0x9405, kLogic | C,
       [&](unsigned d, unsigned) { return shifted((d & 0x80) | d >> 1, bit(d, 0)); }},
      {"lsr", 0x9406, kLogic | C, [&](unsigned d, unsigned) { return shifted(d >> 1, bit(d, 0)); }},
      {"ror", 0x9407, kLogic | C,
       [&](unsigned d, unsigned s) { return shifted(d >> 1 | (s & C) << 7, bit(d, 0)); }},
      {"dec", 0x940a, kLogic,
       [](unsigned d, unsigned) {
         return Result{(d + 255) & 0xff, with_s(nz((d + 255) & 0xff) | (d == 0x80 ? V : 0U))};
       }},
  };
  Bench bench("avr4");
  for (const Row& row : rows) {
    INFO(row.name);
    bench.program(row.opcode | 24U << 4);
    unsigned wrong = 0;
    for (unsigned d = 0; d < 256; ++d) {
      for (unsigned before = 0; before < 256; ++before) {
        bench.set(24, d);
        const unsigned after = bench.run(before & ~unsigned{I});
        const Result expected = row.formula(d, before);
        if (after != (((before & ~unsigned{I}) & ~row.flags) | (expected.flags & row.flags)) ||
            bench.get(24) != expected.value)
          ++wrong;
      }
    }
    CHECK(wrong == 0);
  }
}

TEST_CASE("products: every pair") {
  struct Row {
    const char* name;
    unsigned word;
    bool d_signed, r_signed, fraction;
  };
  // Operands r20 and r22, where each encoding reaches them.
  const std::vector<Row> rows{{"mul", 0x9c00 | 20U << 4 | 6U | 0x200U, false, false, false},
                              {"muls", 0x0200 | 4U << 4 | 6U, true, true, false},
                              {"mulsu", 0x0300 | 4U << 4 | 6U, true, false, false},
                              {"fmul", 0x0308 | 4U << 4 | 6U, false, false, true},
                              {"fmuls", 0x0380 | 4U << 4 | 6U, true, true, true},
                              {"fmulsu", 0x0388 | 4U << 4 | 6U, true, false, true}};
  Bench bench("avr4");
  for (const Row& row : rows) {
    INFO(row.name);
    bench.program(row.word);
    unsigned wrong = 0;
    for (int d = 0; d < 256; ++d) {
      for (int r = 0; r < 256; ++r) {
        bench.set(20, static_cast<unsigned>(d));
        bench.set(22, static_cast<unsigned>(r));
        const int a = row.d_signed && d > 127 ? d - 256 : d;
        const int b = row.r_signed && r > 127 ? r - 256 : r;
        const auto product = static_cast<unsigned>(a * b) & 0xffff;
        const unsigned result = row.fraction ? product << 1 & 0xffff : product;
        const unsigned flags = (bit(product, 15) ? C : 0U) | (result == 0 ? Z : 0U);
        const unsigned after = bench.run(H | N);
        if (after != (H | N | flags) || (bench.get(0) | bench.get(1) << 8) != result) ++wrong;
      }
    }
    CHECK(wrong == 0);
  }
}

TEST_CASE("adiw and sbiw: every 16-bit value, several constants") {
  Bench bench("avr4");
  for (const unsigned k : {0U, 1U, 2U, 31U, 63U}) {
    for (const bool adds : {true, false}) {
      bench.program((adds ? 0x9600U : 0x9700U) | (k & 0xf) | (k & 0x30) << 2);
      unsigned wrong = 0;
      for (unsigned d = 0; d < 0x10000; ++d) {
        bench.set(24, d & 0xff);
        bench.set(25, d >> 8);
        const unsigned v = (adds ? d + k : d - k) & 0xffff;
        unsigned flags = nz(v, 16);
        if (adds) {
          if (!bit(d, 15) && bit(v, 15)) flags |= V;
          if (!bit(v, 15) && bit(d, 15)) flags |= C;
        } else {
          if (bit(d, 15) && !bit(v, 15)) flags |= V;
          if (bit(v, 15) && !bit(d, 15)) flags |= C;
        }
        const unsigned after = bench.run(H);
        if (after != (with_s(flags) | H) || (bench.get(24) | bench.get(25) << 8) != v) ++wrong;
      }
      CHECK(wrong == 0);
    }
  }
}

TEST_CASE("bits of registers and of the status register") {
  Bench bench("avr4");
  unsigned wrong = 0;
  for (unsigned b = 0; b < 8; ++b) {
    bench.program(0xfa00 | 24U << 4 | b);  // bst
    for (unsigned d = 0; d < 256; ++d) {
      bench.set(24, d);
      if (bench.run(0x3f) != (0x3fU | (bit(d, b) ? T : 0U))) ++wrong;
    }
    bench.program(0xf800 | 24U << 4 | b);  // bld
    for (unsigned d = 0; d < 256; ++d) {
      for (const unsigned t : {0U, unsigned{T}}) {
        bench.set(24, d);
        if (bench.run(t) != t) ++wrong;
        if (bench.get(24) != ((d & ~(1U << b)) | (t != 0 ? 1U << b : 0U))) ++wrong;
      }
    }
    for (unsigned before = 0; before < 256; ++before) {
      bench.program(0x9408 | b << 4);  // bset
      if (before == 0 && bench.run(0) != 1U << b) ++wrong;
      if (before == 0) {
        bench.program(0x9488 | b << 4);  // bclr
        if (bench.run(0xff) != (0xffU & ~(1U << b))) ++wrong;
      }
    }
  }
  bench.program(0x0100 | (24U / 2) << 4 | 22U / 2);  // movw r24, r22
  bench.set(22, 0x5a);
  bench.set(23, 0xc3);
  bench.run(0);
  if (bench.get(24) != 0x5a || bench.get(25) != 0xc3) ++wrong;
  CHECK(wrong == 0);
}
