// SPDX-License-Identifier: MIT
#include "say.h"

static const uint16_t table[16] = {3, 9, 10, 22, 31, 35, 60, 61, 99, 101, 150, 400, 401, 402, 900, 65000};
APART int8_t search(uint16_t wanted) {
  int8_t low = 0, high = 15;
  while (low <= high) {
    int8_t middle = (low + high) / 2;
    uint16_t there = table[middle];
    SAY(middle);
    SAY(there);
    if (there == wanted) return middle;
    if (there < wanted)
      low = middle + 1;
    else
      high = middle - 1;
  }
  SAY(low);
  return -1 - low;
}
int main(void) {
  static volatile uint16_t asked[] = {3, 65000, 60, 100, 0, 402};
  for (uint8_t i = 0; i < 6; i++) {
    uint16_t wanted = asked[i];
    int8_t place = search(wanted);
    SAY(wanted);
    SAY(place);
    sink = place;
  }
  stay();
}
