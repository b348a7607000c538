/* SPDX-License-Identifier: MIT
 *
 * Tests that run on the chip, in C99: what a check finds is seen by the simulator at the functions
 * below. On silicon they do nothing. A check that holds costs its comparison and no memory.
 *
 *   #include "lucid/test.h"
 *
 *   LUCID_TEST(cold_kiln_is_heated) { LUCID_CHECK(control_step(900, 200) > 0); }
 *
 *   int main(void) {
 *     LUCID_RUN(cold_kiln_is_heated);
 *     lucid_tests_done();
 *   }
 *
 * Compile with -gdwarf-4, and in a script: expect tests within 1s
 */
#ifndef LUCID_TEST_H
#define LUCID_TEST_H

#include <stdint.h>

/* Marks: one definition for all files that include this. */
#define LUCID_MARK __attribute__((weak, noinline, used))

LUCID_MARK void lucid_check_failed(void) { __asm__ volatile(""); }
LUCID_MARK void lucid_check_unequal(int32_t left, int32_t right) {
  (void)left, (void)right;
  __asm__ volatile("" : : : "memory");
}
LUCID_MARK void lucid_tests_done(void) {
  for (;;) __asm__ volatile("");
}

/* A test is a function that can be told by its name. */
#define LUCID_TEST(name) __attribute__((noinline, used)) static void lucid_test_##name(void)
#define LUCID_RUN(name) lucid_test_##name()

#define LUCID_CHECK(condition) \
  do {                         \
    if (!(condition)) {        \
      lucid_check_failed();    \
    }                          \
  } while (0)

/* Says both of them. Whole numbers of up to 32 bits with a sign. */
#define LUCID_CHECK_EQUAL(left, right)             \
  do {                                             \
    const int32_t lucid_left = (left);             \
    const int32_t lucid_right = (right);           \
    if (lucid_left != lucid_right) {               \
      lucid_check_unequal(lucid_left, lucid_right); \
    }                                              \
  } while (0)

#endif
