// SPDX-License-Identifier: MIT
#include "say.h"

APART uint32_t power(uint16_t base, uint8_t exponent) {
  if (exponent == 0) return 1;
  uint32_t half = power(base, exponent / 2);
  SAY(half);
  uint32_t square = half * half;
  SAY(square);
  if (exponent & 1) square *= base;
  SAY(exponent);
  return square;
}
APART uint16_t moves(uint8_t discs, uint8_t from, uint8_t to) {
  if (discs == 0) return 0;
  uint8_t spare = 6 - from - to;
  uint16_t count = moves(discs - 1, from, spare) + 1;
  SAY(count);
  count += moves(discs - 1, spare, to);
  SAY(spare);
  return count;
}
int main(void) {
  uint32_t p = power(3, 13);
  SAY(p);
  uint16_t m = moves(3, 1, 3);
  SAY(m);
  sink = p + m;
  stay();
}
