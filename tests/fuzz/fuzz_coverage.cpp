// SPDX-License-Identifier: MIT
// Any bytes as a file of coverage: read, added up, held against itself, written again.
#include <cstdint>
#include <string>

#include "lucid/survey.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace lucid;
  const auto coverage = read_lcov({reinterpret_cast<const char*>(data), size}, "fuzz");
  if (!coverage) return 0;
  if (!only_in(*coverage, *coverage).files.empty()) __builtin_trap();
  // What we have written can be read, and is the same.
  const std::string once = lcov_text(*coverage);
  const auto again = read_lcov(once, "again");
  if (!again || lcov_text(*again) != once) __builtin_trap();
  CoverageView sum = *coverage;
  merge(sum, *again);
  if (!only_in(*coverage, sum).files.empty()) __builtin_trap();
  return 0;
}
