// SPDX-License-Identifier: MIT
// The tree behind Expression.
#ifndef LUCID_EXPRESSION_NODE_H
#define LUCID_EXPRESSION_NODE_H

#include <memory>
#include <optional>
#include <string>

#include "expression/expression.h"

namespace lucid::expression {

enum class NodeKind : std::uint8_t {
  kConstant,
  kVariable,  ///< operand.place and operand.type are set
  kLocal,     ///< `name`: looked up in the call level, or the nearest call of `of`, when evaluated
  kRegister,  ///< operand.place
  kPair,      ///< an I/O register, its bit or field: operand.place
  kPin,       ///< operand.place.pin
  kArea,      ///< bytes of a memory: `a` the first, `b` the last, `name` the area
  kCycles,
  kTime,
  kStackFree,
  kStackDeepest,
  kStackUsed,
  kElsewhere,  ///< `a`, on the companion called `name`
  kMeasure,    ///< `name` of the arguments in `of`, each on a line
  kWithin,     ///< `a` from `b` to `c`; what has been measured: all of it
  kUnary,
  kBinary,
  kAnd,
  kOr,
  kChoice,
  kIndex,
  kMember,  ///< `name`; through a pointer if `op` is '>'
  kDereference,
  kAddressOf,
  kCast,  ///< to operand.type, or to operand.value's width if that is 0
};

/// Operators of two characters by one letter.
enum Op : char {
  kShiftLeft = 'L',
  kShiftRight = 'R',
  kLessEqual = 'l',
  kGreaterEqual = 'g',
  kEqual = '=',
  kNotEqual = '!',
};

struct Node {
  NodeKind kind = NodeKind::kConstant;
  char op = 0;
  std::size_t column = 1;
  Operand operand;
  std::string name;
  std::string of;  ///< of a local: the function, if it is not the one of the call level
  std::unique_ptr<Node> a, b, c;

  /// A whole number that integers.h works out without Evaluator.
  struct Quick {
    Place place;                   ///< of a leaf
    std::optional<unsigned> base;  ///< its address counts from what this register holds
    std::int64_t value = 0;        ///< of a constant
    std::uint8_t bits = 16;
    bool is_signed = true;
    std::uint8_t common_bits = 16;  ///< of a binary operator's operands
    bool common_signed = true;
  };
  std::optional<Quick> quick;
};

/// True if the object of a leaf, member or index is at the same place whatever the program does.
bool stands_still(const Node& node);
/// What Evaluator makes of a part of an expression.
Result<Operand> value_of(const Node& node, const Scope& scope);
/// The level of the nearest call of a function, from the scope's outwards.
std::optional<unsigned> level_of(const std::string& function, const Scope& scope);

}  // namespace lucid::expression

#endif  // LUCID_EXPRESSION_NODE_H
