// SPDX-License-Identifier: MIT
#include <catch2/catch.hpp>

#include "strangers.h"

TEST_CASE("callers are those of a shadow stack, or said to be unknown") {
  test::judge_callers(test::sample(12), test::builds());
}

TEST_CASE("so are those of programs in C++") {
  test::judge_callers(test::sample(30, test::Language::kCpp), test::cpp_builds());
}
