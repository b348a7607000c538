// SPDX-License-Identifier: MIT
#include "say.h"

APART uint16_t root(uint32_t of) {
  uint16_t result = 0;
  for (uint16_t bit = 0x8000; bit != 0; bit >>= 1) {
    uint16_t tried = result | bit;
    uint32_t square = (uint32_t)tried * tried;
    SAY(tried);
    if (square <= of) result = tried;
    SAY(result);
  }
  return result;
}
APART uint16_t divisor(uint16_t a, uint16_t b) {
  while (b != 0) {
    uint16_t rest = a % b;
    SAY(rest);
    a = b;
    b = rest;
  }
  return a;
}
int main(void) {
  for (uint32_t n = 1; n < 4000000000UL / 13; n = n * 13 + 5) {
    uint16_t r = root(n);
    SAY(n);
    SAY(r);
    uint16_t d = divisor(r, 360);
    SAY(d);
    sink = d;
  }
  stay();
}
