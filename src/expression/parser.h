// SPDX-License-Identifier: MIT
// Expressions read: the grammar in expression_parser.cpp, what a name means in parser_names.cpp.
#ifndef LUCID_EXPRESSION_PARSER_H
#define LUCID_EXPRESSION_PARSER_H

#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "expression/macros.h"
#include "expression/node.h"

namespace lucid::expression {

struct Binary;
using Tree = std::unique_ptr<Node>;

/// Reads one expression. After a failure each part gives null.
class Parser {
 public:
  Parser(const std::string& text, const Scope& scope) : text_(text), scope_(scope) {}
  Result<std::unique_ptr<Node>> parse();

 private:
  static constexpr unsigned kMostDepth = 100;
  static constexpr unsigned kMostNodes = 500;  // a chain of operators is as deep as it is long

  // Errors are sticky: after the first one everything returns null and nothing is consumed.
  Error problem(std::string what, std::string hint = {}, ErrorCode code = ErrorCode::kUsage) const;
  Tree give_up(Error error);

  // Reading
  void skip_blanks();
  bool take(std::string_view token);
  static bool word_char(char c);
  std::string word();
  [[nodiscard]] std::string peek_word();
  Tree make(NodeKind kind, Tree a = nullptr, Tree b = nullptr);

  // Operators
  Tree choice();
  const Binary* peek_binary();
  Tree binary(int least);
  /// `in 2..5`, `in low..high`; not `in kiln.c`.
  bool is_range_next();
  Tree within(Tree value);
  /// `width(pin.PB5, high)`: the arguments as they are.
  Tree measure(const std::string& function);
  Tree unary();
  Tree unary_inside();
  /// `*panel.latest` is followed on the panel, and has its members there.
  template <class Make>
  Tree on_its_chip(Tree operand, bool may, Make make_of);
  Tree led(NodeKind kind, Tree operand);
  Tree finished(Tree node) { return failed_ ? nullptr : std::move(node); }
  /// A cast node if the next words name a type, else null.
  Tree type_name();
  Tree size_of();
  static std::uint32_t size_in(const Operand& operand, const Scope& scope);
  Tree postfix();
  Tree member(Tree of, char how);

  // Numbers, characters, names
  Tree integer(std::int64_t value, std::uint8_t bits, bool is_signed);
  Tree primary();
  Tree character();
  Tree number();
  /// The type that C gives an integer constant.
  Tree c_integer(std::uint64_t value, bool may_be_unsigned, const std::string& suffix);
  /// What a word means; what follows are the possibilities.
  Tree name();
  Tree variable(const std::string& name, const std::string& in, std::size_t begin);
  /// In a function of a class, the names of its members mean those of the object at hand.
  Tree member_of_this(const std::string& name, std::size_t begin);
  static bool ends_with(const std::string& text, const std::string& end);
  /// The scopes around a name, with the `::` behind them.
  static std::string without_last(const std::string& name);
  /// What a macro stands for, as an expression of its own.
  Tree from_macro(const Macro& macro, std::size_t begin);
  /// Errors point at the macro, not into its body.
  static void move_columns(Node& node, std::size_t column);
  /// Of several variables of one name: this function's, else this file's, else the global one.
  void narrow(std::vector<const Variable*>& found) const;

  // The machine
  Tree pin();
  /// The chip's own comes first, `panel.PORTC`, then what its program names, `panel.latest->is`.
  Tree elsewhere(const std::string& name, const machine::Machine& companion);
  Tree on(const std::string& chip, Tree part);
  Tree chip();
  /// What a name that the program does not have could be meant as: the chip's own, or a slip.
  [[nodiscard]] std::string elsewhere_than(const std::string& name) const;
  /// Two of them, as an example.
  [[nodiscard]] std::string some_parts() const;
  [[nodiscard]] std::vector<std::string> chip_names() const;
  Tree stack();
  Tree flag();
  Tree io_register(const IoRegister& io);
  Tree area(const std::string& name);

  const std::string& text_;
  const Scope& scope_;
  std::size_t at_ = 0;
  unsigned depth_ = 0;
  unsigned nodes_ = 0;
  std::vector<std::string> open_;  ///< macros opened on the way here
  bool failed_ = false;
  Error error_;
};

}  // namespace lucid::expression

#endif  // LUCID_EXPRESSION_PARSER_H
