// SPDX-License-Identifier: MIT
#include <stdint.h>
#define N __attribute__((noinline))
N uint8_t reversed(uint8_t x) {
  uint8_t y = (uint8_t)(x >> 4) | (uint8_t)(x << 4);
  y = (uint8_t)((y & 0xcc) >> 2) | (uint8_t)((y & 0x33) << 2);
  y = (uint8_t)((y & 0xaa) >> 1) | (uint8_t)((y & 0x55) << 1);
  return y;
}
N uint8_t ones(uint16_t x) {
  uint8_t n = 0;
  while (x != 0) {
    x &= x - 1;
    n++;
  }
  return n;
}
N uint16_t lfsr(uint16_t state) {
  uint16_t bit = state & 1;
  state >>= 1;
  if (bit) state ^= 0xb400;
  return state;
}
N uint32_t mix(uint32_t h, uint32_t k) {
  k *= 0xcc9e2d51u;
  k = (k << 15) | (k >> 17);
  k *= 0x1b873593u;
  h ^= k;
  h = (h << 13) | (h >> 19);
  h = h * 5 + 0xe6546b64u;
  return h;
}
N uint8_t gray(uint8_t n) {
  uint8_t half = n >> 1;
  uint8_t g = n ^ half;
  return g;
}
N uint8_t ungray(uint8_t g) {
  uint8_t n = g;
  g >>= 1;
  while (g) {
    n ^= g;
    g >>= 1;
  }
  return n;
}
N uint8_t debounce(uint8_t history, uint8_t level) {
  history = (uint8_t)(history << 1);
  if (level) history |= 1;
  uint8_t stable = history & 0x0f;
  if (stable == 0x0f) return 0xff;
  if (stable == 0) return 0;
  return history;
}
volatile uint16_t sink;
int main(void) {
  uint16_t s = 0xace1;
  uint8_t h = 0;
  uint32_t m = 7;
  for (uint8_t i = 0; i < 12; i++) {
    s = lfsr(s);
    uint8_t r = reversed((uint8_t)s);
    uint8_t n = ones(s);
    uint8_t g = gray(r);
    uint8_t u = ungray(g);
    h = debounce(h, n & 1);
    m = mix(m, s);
    sink = u;
    sink = h;
    sink = (uint16_t)m;
  }
  return 0;
}
