// SPDX-License-Identifier: MIT
#include "say.h"

APART uint64_t mixed(uint64_t seed) {
  uint64_t value = seed;
  value ^= value << 13;
  value ^= value >> 7;
  value ^= value << 17;
  uint32_t high = value >> 32;
  uint32_t low = value;
  SAY(high);
  SAY(low);
  return value;
}
APART uint32_t scaled(uint32_t value, uint8_t percent) {
  uint32_t hundredth = value / 100;
  uint32_t rest = value % 100;
  SAY(hundredth);
  SAY(rest);
  return hundredth * percent + rest * percent / 100;
}
int main(void) {
  uint64_t seed = 88172645463325252ULL;
  for (uint8_t i = 0; i < 4; i++) {
    seed = mixed(seed);
    uint32_t part = scaled(seed, 17 * i);
    SAY(i);
    SAY(part);
    sink = part;
  }
  stay();
}
