/* Tests of the control loop, on the chip: `lucid play firmware/kiln/tests/control.loop`. */
#include "control.h"
#include "lucid/test.h"

LUCID_TEST(cold_kiln_is_heated_all_the_time) {
  control_reset();
  LUCID_CHECK_EQUAL(control_step(9000, 200), WINDOW_MS);
}

LUCID_TEST(hot_kiln_is_not_heated) {
  control_reset();
  LUCID_CHECK_EQUAL(control_step(200, 9000), 0);
}

LUCID_TEST(a_degree_below_takes_25_ms_of_heat) {
  control_reset();
  LUCID_CHECK_EQUAL(control_step(1000, 990), 10 * 40 / 16);
}

LUCID_TEST(what_lasts_is_heated_more) {
  control_reset();
  uint16_t first = control_step(1000, 990);
  for (uint8_t i = 0; i < 100; ++i) control_step(1000, 990);
  LUCID_CHECK(control_step(1000, 990) > first);
}

LUCID_TEST(a_reset_forgets) {
  for (uint8_t i = 0; i < 100; ++i) control_step(1000, 990);
  control_reset();
  LUCID_CHECK_EQUAL(control_step(1000, 1000), 0);
}

int main(void) {
  LUCID_RUN(cold_kiln_is_heated_all_the_time);
  LUCID_RUN(hot_kiln_is_not_heated);
  LUCID_RUN(a_degree_below_takes_25_ms_of_heat);
  LUCID_RUN(what_lasts_is_heated_more);
  LUCID_RUN(a_reset_forgets);
  lucid_tests_done();
}
