// SPDX-License-Identifier: MIT
// Names in expressions that are more than a word: types, and what C++ puts into scopes.
#ifndef LUCID_EXPRESSION_TYPE_NAME_H
#define LUCID_EXPRESSION_TYPE_NAME_H

#include "expression/expression.h"

namespace lucid::expression {

/// Reads a name at `at`: words joined by `::`, with the arguments of templates where `::` follows
/// them; with `types`, wherever they stand. Empty, and `at` unmoved, if no word is there.
std::string read_name(const std::string& text, std::size_t& at, bool types);

/// Reads the name of a type, of the program or of C, with stars behind it. The operand has the
/// type, or if C knows it and the program does not, width and kind of its values. nullopt, and `at`
/// unmoved, if there is none.
std::optional<Operand> read_type(const std::string& text, std::size_t& at, const Program& program,
                                 const machine::CallConvention& convention);

}  // namespace lucid::expression

#endif  // LUCID_EXPRESSION_TYPE_NAME_H
