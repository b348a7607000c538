// SPDX-License-Identifier: MIT
#include <stdint.h>
#define N __attribute__((noinline))
N void insertion(int16_t *a, uint8_t n) {
  for (uint8_t i = 1; i < n; ++i) {
    int16_t key = a[i];
    int8_t j = (int8_t)(i - 1);
    while (j >= 0 && a[j] > key) {
      a[j + 1] = a[j];
      --j;
    }
    a[j + 1] = key;
  }
}
N int8_t find(const int16_t *a, uint8_t n, int16_t wanted) {
  uint8_t low = 0, high = n;
  while (low < high) {
    uint8_t middle = (uint8_t)((low + high) / 2);
    int16_t here = a[middle];
    if (here == wanted) return (int8_t)middle;
    if (here < wanted)
      low = middle + 1;
    else
      high = middle;
  }
  return -1;
}
N int16_t interpolate(const int16_t *xs, const int16_t *ys, uint8_t n, int16_t x) {
  uint8_t i = 0;
  while (i + 2 < n && xs[i + 1] < x) i++;
  int16_t dx = xs[i + 1] - xs[i];
  int16_t dy = ys[i + 1] - ys[i];
  int32_t part = (int32_t)dy * (x - xs[i]);
  part /= dx;
  int16_t y = ys[i] + (int16_t)part;
  return y;
}
N uint16_t gcd(uint16_t a, uint16_t b) {
  while (b != 0) {
    uint16_t rest = a % b;
    a = b;
    b = rest;
  }
  return a;
}
N uint8_t root(uint16_t x) {
  uint8_t out = 0;
  uint8_t bit = 0x80;
  while (bit) {
    uint8_t with = out | bit;
    if ((uint16_t)with * with <= x) out = with;
    bit >>= 1;
  }
  return out;
}
static int16_t values[8] = {5, -3, 99, 12, 0, 7, -40, 8};
static const int16_t xs[4] = {0, 100, 300, 1000}, ys[4] = {10, 30, 20, 90};
volatile int16_t sink;
int main(void) {
  insertion(values, 8);
  int8_t at = find(values, 8, 12);
  sink = at;
  at = find(values, 8, 13);
  sink = at;
  for (int16_t x = 0; x < 900; x += 170) {
    int16_t y = interpolate(xs, ys, 4, x);
    sink = y;
  }
  uint16_t g = gcd(1071, 462);
  sink = (int16_t)g;
  uint8_t r = root(50000);
  sink = r;
  return 0;
}
