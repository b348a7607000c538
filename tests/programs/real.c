// SPDX-License-Identifier: MIT
#include "say.h"

static float mean, spread;
static uint8_t seen;
APART float sample(float next) {
  seen++;
  float delta = next - mean;
  mean += delta / seen;
  spread += delta * (next - mean);
  int16_t whole = (int16_t)mean;
  SAY(whole);
  SAY(seen);
  return delta;
}
int main(void) {
  for (uint8_t i = 1; i < 7; i++) {
    float next = i * 3.25f - 4;
    float delta = sample(next);
    int16_t tenths = (int16_t)(delta * 10);
    SAY(i);
    SAY(tenths);
    sink = tenths;
  }
  sink = (int16_t)spread;
  stay();
}
