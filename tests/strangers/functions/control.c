// SPDX-License-Identifier: MIT
#include <stdint.h>
#define N __attribute__((noinline))
struct pid { int16_t kp, ki, kd; int32_t sum; int16_t last; };
static struct pid heater = {40, 8, 3, 0, 0};
N int16_t clamp(int32_t value, int16_t low, int16_t high) {
  if (value < low) return low;
  if (value > high) return high;
  return (int16_t)value;
}
N int16_t pid_step(struct pid *p, int16_t wanted, int16_t is) {
  int16_t error = wanted - is;
  int32_t sum = p->sum + error;
  if (sum > 3000) sum = 3000;
  if (sum < -3000) sum = -3000;
  p->sum = sum;
  int16_t slope = error - p->last;
  p->last = error;
  int32_t out = (int32_t)p->kp * error;
  out += p->ki * sum;
  out += (int32_t)p->kd * slope;
  out >>= 4;
  return clamp(out, 0, 1000);
}
N uint16_t average(const uint16_t *values, uint8_t n) {
  uint32_t sum = 0;
  uint16_t least = 0xffff, most = 0;
  for (uint8_t i = 0; i < n; ++i) {
    uint16_t v = values[i];
    sum += v;
    if (v < least) least = v;
    if (v > most) most = v;
  }
  sum -= least;
  sum -= most;
  uint16_t mean = (uint16_t)(sum / (uint16_t)(n - 2));
  return mean;
}
volatile int16_t sink;
int main(void) {
  int16_t temperature = 200;
  for (int16_t t = 0; t < 20; t++) {
    int16_t duty = pid_step(&heater, 600, temperature);
    temperature += duty / 32;
    temperature -= 3;
    sink = temperature;
  }
  static const uint16_t raw[6] = {500, 510, 490, 900, 505, 100};
  uint16_t m = average(raw, 6);
  sink = (int16_t)m;
  return 0;
}
