// SPDX-License-Identifier: MIT
#include "say.h"

static uint16_t history[4];
static uint8_t at;
APART uint16_t average(uint16_t next) {
  uint32_t sum = 0;
  history[at] = next;
  at = (at + 1) % 4;
  SAY(at);
  for (uint8_t i = 0; i < 4; i++) {
    uint16_t part = history[i];
    sum += part;
    SAY(part);
    SAY(sum);
  }
  uint16_t result = sum / 4;
  SAY(result);
  return result;
}
int main(void) {
  for (uint16_t n = 900; n < 1300; n += 77) {
    uint16_t smooth = average(n);
    SAY(smooth);
    sink = smooth >> 4;
  }
  stay();
}
