// SPDX-License-Identifier: MIT
// Whole numbers by C's rules, and expressions of nothing else worked out without a detour: what a
// condition in a hot loop mostly is.
#ifndef LUCID_EXPRESSION_INTEGERS_H
#define LUCID_EXPRESSION_INTEGERS_H

#include <cstdint>
#include <optional>

#include "expression/node.h"

namespace lucid::expression {

/// `value` holds what `bits` and `is_signed` allow.
struct Number {
  std::int64_t value = 0;
  std::uint8_t bits = 16;
  bool is_signed = true;
};

/// The low bits of `raw` as a number.
inline std::int64_t fit(std::uint64_t raw, unsigned bits, bool is_signed) {
  if (bits >= 64) return static_cast<std::int64_t>(raw);
  if (bits == 0) return 0;
  const unsigned unused = 64 - bits;
  return is_signed ? static_cast<std::int64_t>(raw << unused) >> unused
                   : static_cast<std::int64_t>(raw << unused >> unused);
}
inline bool is_comparison(char op) {
  return op == kEqual || op == kNotEqual || op == '<' || op == '>' || op == kLessEqual ||
         op == kGreaterEqual;
}
template <class T>
bool compared(char op, T a, T b) {
  switch (op) {
    case kEqual: return a == b;
    case kNotEqual: return a != b;
    case '<': return a < b;
    case '>': return a > b;
    case kLessEqual: return a <= b;
    default: return a >= b;
  }
}
/// C's integer promotion.
Number promoted(Number n, unsigned int_bits);
/// The usual arithmetic conversions; both are promoted already.
void convert(Number& a, Number& b);
/// Of promoted and, but for shifts, converted operands; nullopt for a division by zero and a shift
/// by as many bits as there are or more.
std::optional<Number> worked_out(char op, Number a, Number b, unsigned int_bits);

/// Marks the parts of a tree that quick_value() can work out.
void prepare_quick(Node& node, const Scope& scope);
/// The value of a marked tree. nullopt: ask Evaluator, which knows how to say what is wrong.
std::optional<std::int64_t> quick_value(const Node& node, const machine::Machine& machine,
                                        unsigned int_bits);

/// The same as operations that a machine may work out by itself. nullopt: they would not do.
std::optional<machine::Predicate> predicate_of(const Node& node, const machine::Machine& machine);

}  // namespace lucid::expression

#endif  // LUCID_EXPRESSION_INTEGERS_H