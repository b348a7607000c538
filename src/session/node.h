// SPDX-License-Identifier: MIT
// The tree behind Expression.
#ifndef LUCID_SESSION_NODE_H
#define LUCID_SESSION_NODE_H

#include <memory>
#include <string>

#include "session/expression.h"

namespace lucid::session {

enum class NodeKind : std::uint8_t {
  kConstant,
  kVariable,  ///< operand.place and operand.type are set
  kLocal,     ///< `name`: looked up in the call level when it is evaluated
  kRegister,  ///< operand.place
  kPair,      ///< an I/O register, its bit or field: operand.place
  kPin,       ///< operand.place.pin
  kArea,      ///< bytes of a memory: `a` the first, `b` the last, `name` the area
  kCycles,
  kTime,
  kStackFree,
  kStackDeepest,
  kStackUsed,
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
  std::unique_ptr<Node> a, b, c;
};

}  // namespace lucid::session

#endif  // LUCID_SESSION_NODE_H
