// SPDX-License-Identifier: MIT
#ifndef LUCID_SESSION_BYTES_OF_H
#define LUCID_SESSION_BYTES_OF_H

#include <vector>

#include "expression/expression.h"

namespace lucid::session {

/// The bytes a value lies in; empty if it has none that can be watched.
std::vector<expression::WatchedByte> bytes_of(const expression::Operand& operand,
                                              const Program& program,
                                              const machine::Machine& machine);

}  // namespace lucid::session

#endif  // LUCID_SESSION_BYTES_OF_H
