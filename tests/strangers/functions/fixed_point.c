// SPDX-License-Identifier: MIT
#include <stdint.h>
#define N __attribute__((noinline))
typedef int16_t q8;
N q8 multiply(q8 a, q8 b) {
  int32_t product = (int32_t)a * b;
  product += 128;
  q8 out = (q8)(product >> 8);
  return out;
}
N q8 divide(q8 a, q8 b) {
  int32_t big = (int32_t)a << 8;
  big /= b;
  return (q8)big;
}
N q8 sine(uint8_t angle) {
  static const uint8_t table[5] = {0, 97, 180, 236, 255};
  uint8_t quadrant = angle >> 6;
  uint8_t within = angle & 63;
  if (quadrant & 1) within = 63 - within;
  uint8_t i = within >> 4;
  uint8_t rest = within & 15;
  uint8_t a = table[i];
  uint8_t b = table[i + 1];
  uint16_t value = (uint16_t)(a * (16 - rest) + b * rest) >> 4;
  q8 out = (q8)value;
  if (quadrant & 2) out = -out;
  return out;
}
N int32_t filtered(int32_t *state, int16_t in, uint8_t shift) {
  int32_t old = *state;
  int32_t more = ((int32_t)in << shift) - old;
  more >>= shift;
  old += more;
  *state = old;
  return old >> shift;
}
N uint16_t millivolts(uint16_t raw) {
  uint32_t big = raw;
  big *= 5000;
  big += 512;
  uint16_t mv = (uint16_t)(big >> 10);
  return mv;
}
N int16_t degrees(uint16_t mv) {
  int16_t tenths = (int16_t)(mv - 500);
  if (tenths < -400) tenths = -400;
  int16_t whole = tenths / 10;
  int16_t part = tenths % 10;
  if (part >= 5) whole++;
  return whole;
}
volatile int16_t sink;
int main(void) {
  int32_t state = 0;
  for (uint8_t i = 0; i < 16; i++) {
    q8 s = sine((uint8_t)(i * 16));
    q8 m = multiply(s, 200);
    q8 d = divide(m, 77);
    int32_t f = filtered(&state, d, 3);
    uint16_t mv = millivolts((uint16_t)(i * 60));
    int16_t c = degrees(mv);
    sink = (int16_t)f;
    sink = c;
  }
  return 0;
}
