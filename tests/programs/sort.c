// SPDX-License-Identifier: MIT
#include "say.h"

APART void sort(int16_t *values, uint8_t count) {
  for (uint8_t i = 1; i < count; i++) {
    int16_t held = values[i];
    uint8_t hole = i;
    SAY(held);
    while (hole > 0 && values[hole - 1] > held) {
      values[hole] = values[hole - 1];
      hole--;
      SAY(hole);
    }
    values[hole] = held;
  }
}
int main(void) {
  int16_t values[] = {40, -3, 17, 900, -900, 0, 17};
  const uint8_t count = sizeof values / sizeof *values;
  sort(values, count);
  for (uint8_t i = 0; i < count; i++) {
    int16_t value = values[i];
    SAY(value);
    sink = value;
  }
  stay();
}
