// SPDX-License-Identifier: MIT
// A line of source with its macros opened, as the preprocessor does it.
#ifndef LUCID_EXPRESSION_MACROS_H
#define LUCID_EXPRESSION_MACROS_H

#include <string>
#include <vector>

#include "lucid/program.h"

namespace lucid::expression {

/// The line as it is, then with one level of macros opened after the other, until none is left.
std::vector<std::string> opened(const Program& program, const std::string& line);

}  // namespace lucid::expression

#endif  // LUCID_EXPRESSION_MACROS_H
