// SPDX-License-Identifier: MIT
// Expressions in C, parsed once to a tree whose names are already resolved, then evaluated as often
// as wanted.
//
//   choice     = or [ "?" choice ":" choice ]
//   or … unary = C's operators with C's precedence, casts and sizeof
//   postfix    = primary { "[" choice [ ".." choice | "for" choice ] "]" | "." name | "->" name }
//   name       = word, in C++ with its scopes: `Analog<1>::count`
//   primary    = number [unit] | 'c' | name [ "in" place ] | "chip" … | "pin" "." name | "(" choice
//   ")"
#ifndef LUCID_EXPRESSION_EXPRESSION_H
#define LUCID_EXPRESSION_EXPRESSION_H

#include <memory>
#include <string>
#include <vector>

#include "frames/place.h"
#include "lucid/program.h"
#include "lucid/value.h"
#include "machine/edit.h"
#include "machine/machine.h"

namespace lucid::expression {

using frames::FlowGraph;
using frames::Flows;
using frames::Piece;
using frames::Place;
using frames::Scope;

/// A byte a debugger watches, and which of its bits matter.
struct WatchedByte {
  Address address;
  unsigned mask = 0xff;
};

/// A value with its place and, for parts of a program, its type.
struct Operand {
  Value value;
  Place place;
  unsigned type = 0;    ///< in Program::types(); 0 for machine objects and numbers
  unsigned target = 0;  ///< of a pointer: the type it points at; 0 if it is none
  /// Of another chip: here it is a value without place or type, there it has both.
  struct Elsewhere;
  std::shared_ptr<const Elsewhere> elsewhere = nullptr;
};
struct Operand::Elsewhere {
  std::string chip;
  Operand operand;
};

struct Node;

class Expression {
 public:
  /// Errors: kUsage or kNotFound, with `column N` in `where`.
  static Result<Expression> parse(const std::string& text, const Scope& scope);
  Expression(Expression&&) noexcept;
  Expression& operator=(Expression&&) noexcept;
  ~Expression();

  /// Errors: kUsage (division by zero, an aggregate where a number is needed), kOutOfRange.
  [[nodiscard]] Result<Operand> evaluate(const Scope& scope) const;
  [[nodiscard]] Result<bool> holds(const Scope& scope) const;
  /// The same for whole numbers of objects that stand still, in well under a microsecond. nullopt:
  /// something else is in it, or it cannot be worked out.
  [[nodiscard]] std::optional<bool> quick_truth(const machine::Machine& machine) const;
  /// The same as a machine may work it out by itself, if it can.
  [[nodiscard]] std::optional<machine::Predicate> predicate(const machine::Machine& machine) const;
  /// The objects its value depends on, as they are found now. False: also on others, or on some
  /// that move.
  bool parts(const Scope& scope, std::vector<Operand>& out) const;
  /// Locals of the scope's call level, that is; not those of a function that it names.
  [[nodiscard]] bool uses_locals() const;
  /// Does it mean the same wherever its file and function are the current ones? Not if it names
  /// locals, other chips or what is measured.
  [[nodiscard]] bool keeps_its_meaning() const;
  /// The call level that the first of its locals belongs to; nullopt without any, or if their
  /// function is not being called.
  [[nodiscard]] std::optional<unsigned> local_level(const Scope& scope) const;
  /// The type of the object that it names, even where its value cannot be told; nullopt if it is no
  /// object of the program.
  [[nodiscard]] std::optional<unsigned> type(const Scope& scope) const;
  /// False for constants, enumerators and machine objects.
  [[nodiscard]] bool names_variable() const;
  /// The pointers that lead to its object, as they are found now. Error: what evaluating one gives.
  [[nodiscard]] Result<std::vector<Operand>> pointers(const Scope& scope) const;

 private:
  explicit Expression(std::unique_ptr<Node> root);
  std::unique_ptr<Node> root_;
  unsigned int_bits_ = 16;
};

/// What names mean on another chip that a scope's has beside it. REQUIRES: `companion` outlives it.
Scope scope_on(const std::string& chip, const machine::Machine& companion, const Scope& scope);
/// The value as text in a format. Aggregates are opened to a small depth.
std::string written(const Operand& operand, Format format, const Scope& scope);
/// Towards zero; 0 for what 64 bits do not hold, which C leaves undefined.
std::int64_t whole_number(double real);
/// Stores an integer (or the bits of a real) at a place: as a value that it comes to hold, or as
/// the firmware would write it. Result: what that was, byte by byte.
Result<std::vector<machine::Edit>> store(machine::Machine& machine, const Place& place,
                                         std::uint64_t value, bool with_effects = false);
/// A local's value in the scope's call level; of a structure or array perhaps only a part. Errors:
/// kNotFound where it is not in scope or has been optimised away, kUnsupported for a location that
/// is not understood.
Result<Operand> local_value(const Local& local, const Scope& scope);
/// The objects that a line of C names: `error`, `ramp.target`, `p->next`, `buf[i]`; not calls.
std::vector<std::string> names_in(const std::string& line);
/// All names an expression may begin with.
std::vector<std::string> known_names(const Scope& scope);

}  // namespace lucid::expression

#endif  // LUCID_EXPRESSION_EXPRESSION_H
