// SPDX-License-Identifier: MIT
// What a program does natively, statement by statement. A recording call is written before each
// statement into a copy of its source: Clang's syntax tree names the statements and the variables
// in scope. Nothing of the debugger's is involved, and no debugger.
#ifndef LUCID_TESTS_INSTRUMENTED_H
#define LUCID_TESTS_INSTRUMENTED_H

#include <cstdint>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <vector>

namespace test {

struct Record {
  unsigned line = 0;
  std::map<std::string, std::optional<std::int64_t>> values;  ///< nothing: not set yet
  /// Which of them are static objects and members: when they are stored is the compiler's affair.
  std::set<std::string> in_memory;
};

struct Native {
  std::string file;             ///< the source's name
  std::vector<Record> records;  ///< in order
  bool complete = false;        ///< it ended by itself
  int exit_code = -1;
  /// Lines that hold one whole statement and nothing else, by function.
  std::map<std::string, std::set<unsigned>> lines;
  std::map<std::string, unsigned> entered;  ///< how often each function has been
};

/// Runs a source natively; nullopt if it cannot be built or told.
std::optional<Native> run_natively(const std::string& source);

/// It says of itself that it goes other ways where an int has 16 bits, or has calls that are none
/// at any level.
bool depends_on_width(const std::string& source);

}  // namespace test

#endif  // LUCID_TESTS_INSTRUMENTED_H
