// SPDX-License-Identifier: MIT
#include "say.h"

static uint8_t stable, count;
APART bool debounce(uint8_t raw) {
  uint8_t differing = raw ^ stable;
  bool changed = false;
  SAY(differing);
  if (differing == 0) {
    count = 0;
  } else if (++count == 4) {
    stable = raw;
    count = 0;
    changed = true;
  }
  SAY(count);
  SAY(changed);
  return changed;
}
int main(void) {
  uint16_t noise = 0xace1;
  uint8_t edges = 0;
  for (uint8_t i = 0; i < 40; i++) {
    noise = noise >> 1 ^ (-(noise & 1) & 0xb400);
    uint8_t raw = i > 12 && i < 30 ? noise % 5 != 0 : noise % 5 == 0;
    SAY(noise);
    if (debounce(raw)) edges++;
    SAY(edges);
  }
  sink = edges;
  stay();
}
