// SPDX-License-Identifier: MIT
// The program `lucid`, run as its users run it.
#ifndef LUCID_TESTS_APP_PROGRAM_H
#define LUCID_TESTS_APP_PROGRAM_H

#include "tools.h"

namespace test {

/// With `input` on its standard input.
inline Output lucid(const std::string& arguments, const std::string& input = "") {
  const std::string feed = input.empty() ? " < /dev/null" : " < " + scratch("input");
  if (!input.empty()) write(scratch("input"), input);
  return run(std::string("LC_ALL=C.UTF-8 " LUCID_PROGRAM) + " " + arguments + feed);
}

inline bool has(const Output& output, const std::string& text) {
  return output.text.find(text) != std::string::npos;
}

}  // namespace test

#endif  // LUCID_TESTS_APP_PROGRAM_H
