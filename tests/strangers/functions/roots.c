// SPDX-License-Identifier: MIT
#include <stdint.h>
#include <stdbool.h>
#define N __attribute__((noinline))
union bits { float value; int32_t word; };
N uint16_t root(uint32_t square) {
  uint32_t left = square;
  uint32_t found = 0;
  uint32_t bit = 0x40000000;
  while (bit > left) bit >>= 2;
  while (bit != 0) {
    uint32_t trial = found + bit;
    if (left >= trial) {
      left -= trial;
      found += bit << 1;
    }
    found >>= 1;
    bit >>= 2;
  }
  return (uint16_t)found;
}
N int32_t scaled(float x, int8_t by) {
  union bits u;
  u.value = x;
  int32_t word = u.word;
  int32_t sign = word & (int32_t)0x80000000;
  word ^= sign;
  int16_t exponent = (int16_t)(word >> 23);
  if (exponent == 0) return 0;
  exponent += by;
  word = (word & 0x007fffff) | 0x00800000;
  int16_t shift = 150 - exponent;
  if (shift > 0)
    word >>= shift;
  else
    word <<= -shift;
  if (sign != 0) word = -word;
  return word;
}
N int32_t remainder_of(int32_t a, int32_t b) {
  int32_t rest = a, part = b;
  uint8_t places = 0;
  while (part <= rest - part) {
    part += part;
    places++;
  }
  for (;;) {
    int32_t less = rest - part;
    if (less >= 0) rest = less;
    if (places == 0) break;
    places--;
    part >>= 1;
  }
  return rest;
}
static const int16_t depth[4] = {2, 3, 5, 7};
static int32_t grid[24];
N int32_t spread(uint8_t kind, int16_t from) {
  int32_t row[24];
  int32_t most = depth[kind];
  int32_t first = most;
  int32_t sum = 0;
  for (int32_t i = 0; i < 24; i++) {
    int32_t at = i % (most + 1);
    row[i] = from * at;
    if (i > first) row[i] -= grid[i - first];
    grid[i] = row[i];
  }
  for (int32_t i = first; i >= 0; i--) {
    sum += row[i];
    if (sum > 1000) most = i;
  }
  return sum + most;
}
volatile int32_t sink;
int main(void) {
  static const float xs[4] = {1.5f, -0.25f, 123.75f, 3000.0f};
  for (uint8_t i = 0; i < 4; i++) {
    int32_t n = scaled(xs[i], 4);
    sink = n;
    uint16_t r = root((uint32_t)(n < 0 ? -n : n));
    sink = r;
    int32_t rest = remainder_of(100000, 7 + n % 5);
    sink = rest;
    int32_t s = spread(i, (int16_t)(n % 60));
    sink = s;
  }
  return 0;
}
