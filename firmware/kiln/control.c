#include "control.h"

#define GAIN_Q4 40   /* 2.5 ms of heat per 0.1 degree, in 1/16 */
#define INTEGRAL_Q8 8 /* 1/32 a second */

static int32_t integral;

void control_reset(void) { integral = 0; }

static int16_t clamp(int32_t value, int16_t least, int16_t most) {
  if (value < least) return least;
  if (value > most) return most;
  return value;
}

uint16_t control_step(int16_t setpoint, int16_t measured) {
  int16_t error = setpoint - measured;
  integral = clamp(integral + error, -8000, 8000);
  int32_t on_ms = ((int32_t)error * GAIN_Q4 >> 4) + (integral * INTEGRAL_Q8 >> 8);
  return clamp(on_ms, 0, WINDOW_MS);
}
