// SPDX-License-Identifier: MIT
#include "say.h"

typedef int16_t fixed;  // q8.8
static fixed integral, last;
APART fixed control(fixed setpoint, fixed measured) {
  fixed error = setpoint - measured;
  SAY(error);
  fixed slope = error - last;
  last = error;
  SAY(slope);
  if (error > -512 && error < 512) {
    integral += error / 16;
    SAY(integral);
  }
  int32_t sum = (int32_t)error * 3 + integral + slope / 2;
  SAY(sum);
  if (sum < 0) sum = 0;
  if (sum > 0x6400) sum = 0x6400;
  fixed output = sum;
  SAY(output);
  return output;
}
int main(void) {
  fixed heat = 20 << 8;
  for (uint8_t round = 0; round < 9; round++) {
    fixed power = control(24 << 8, heat);
    heat += power >> 3;
    heat -= 40;
    SAY(heat);
    sink = power >> 8;
  }
  stay();
}
