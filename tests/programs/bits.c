// SPDX-License-Identifier: MIT
#include "say.h"

struct report {
  unsigned kind : 3;
  unsigned level : 7;
  unsigned urgent : 1;
  int trend : 5;
};
APART struct report packed(uint8_t kind, uint8_t level, int8_t trend) {
  struct report made = {0};
  made.kind = kind;
  made.level = level;
  made.urgent = level > 90;
  made.trend = trend;
  SAY(made.kind);
  SAY(made.level);
  SAY(made.urgent);
  SAY(made.trend);
  return made;
}
APART uint8_t ones(uint16_t word) {
  uint8_t count = 0;
  for (; word != 0; word &= word - 1) count++;
  SAY(count);
  return count;
}
int main(void) {
  for (int8_t i = -3; i < 4; i++) {
    struct report r = packed(i + 3, i * 9 + 70, i);
    uint16_t word = r.kind | r.level << 3;
    SAY(word);
    uint8_t set = ones(word);
    sink = set + r.trend;
  }
  stay();
}
