// SPDX-License-Identifier: MIT
#include "say.h"

union word {
  uint16_t whole;
  struct {
    uint8_t low, high;
  } half;
};
APART uint16_t swapped(uint16_t value) {
  union word from = {value}, to;
  to.half.low = from.half.high;
  to.half.high = from.half.low;
  SAY(to.half.low);
  SAY(to.whole);
  return to.whole;
}
static inline uint8_t high_nibble(uint8_t byte) {
  uint8_t nibble = byte >> 4;
  SAY(nibble);
  return nibble;
}
APART uint8_t folded(uint16_t value) {
  uint8_t top = high_nibble(value >> 8);
  uint8_t bottom = high_nibble(value);
  SAY(top);
  SAY(bottom);
  return top ^ bottom;
}
int main(void) {
  for (uint16_t v = 0x1234; v < 0xe000; v += 0x2f1d) {
    uint16_t s = swapped(v);
    uint8_t f = folded(s);
    SAY(v);
    SAY(s);
    SAY(f);
    sink = f;
  }
  stay();
}
