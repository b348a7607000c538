// SPDX-License-Identifier: MIT
#include "say.h"

struct ring {
  uint8_t bytes[8];
  uint8_t head, tail;
};
static struct ring ring;
APART bool put(struct ring *to, uint8_t byte) {
  uint8_t next = (to->head + 1) & 7;
  SAY(next);
  if (next == to->tail) return false;
  to->bytes[to->head] = byte;
  to->head = next;
  SAY(to->head);
  return true;
}
APART int16_t get(struct ring *from) {
  if (from->head == from->tail) return -1;
  uint8_t byte = from->bytes[from->tail];
  SAY(byte);
  from->tail = (from->tail + 1) & 7;
  return byte;
}
int main(void) {
  uint8_t lost = 0;
  for (uint8_t n = 0; n < 30; n++) {
    if (!put(&ring, n * 7)) lost++;
    SAY(lost);
    if (n % 3 == 0) {
      int16_t out = get(&ring);
      SAY(out);
      sink = out;
    }
  }
  stay();
}
