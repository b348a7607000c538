// SPDX-License-Identifier: MIT
#include <stdint.h>
#define N __attribute__((noinline))
static uint8_t page[4][16];
static volatile uint8_t bus;
static uint8_t cursor, row;
static inline void command(uint8_t byte) {
  bus = 0;
  bus = byte;
}
static inline void data(uint8_t byte) {
  bus = 1;
  bus = byte;
}
static void place(uint8_t r, uint8_t c) {
  if (r > 3) r = 3;
  row = r;
  cursor = c;
  command((uint8_t)(0x80 | r));
  command(c);
}
static uint8_t glyph(char c, uint8_t column) {
  uint8_t bits = (uint8_t)(c * 37 + column * 11);
  if (column == 4) bits = 0;
  return bits;
}
N void letter(char c) {
  for (uint8_t i = 0; i < 5; i++) {
    uint8_t bits = glyph(c, i);
    if (cursor >= 16) {
      place((uint8_t)(row + 1), 0);
    }
    page[row][cursor] = bits;
    cursor++;
    data(bits);
  }
}
N void text(const char *t) {
  while (*t) {
    char c = *t++;
    if (c == '\n') {
      place((uint8_t)(row + 1), 0);
      continue;
    }
    letter(c);
  }
}
N uint16_t sum(void) {
  uint16_t all = 0;
  for (uint8_t r = 0; r < 4; r++) {
    for (uint8_t c = 0; c < 16; c++) {
      if (page[r][c] == 0) continue;
      all += page[r][c];
      if (all > 5000) {
        all -= 5000;
        goto next;
      }
    }
  next:
    all ^= r;
  }
  return all;
}
N void bar(uint8_t level) {
  uint8_t full = level / 16, part = level % 16;
  uint8_t c;
  place(0, 0);
  for (c = 0; c < full; c++) data(0xff);
  if (part) {
    uint8_t mask = 0;
    do {
      mask = (uint8_t)(mask << 1 | 1);
      part--;
    } while (part > 8);
    data(mask);
    c++;
  }
  for (; c < 8; c++) data(0);
}
int main(void) {
  place(0, 0);
  text("ab\nc");
  uint16_t s = sum();
  bus = (uint8_t)s;
  for (uint8_t l = 0; l < 100; l += 30) bar(l);
  return 0;
}
