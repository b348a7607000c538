// SPDX-License-Identifier: MIT
#include <stdint.h>
#include <stdbool.h>
#define N __attribute__((noinline))
struct item { const char *name; int16_t value, least, most; uint8_t step; };
static struct item items[3] = {{"set", 200, 0, 999, 5}, {"hold", 30, 1, 90, 1}, {"gain", -4, -10, 10, 2}};
struct menu { uint8_t at; bool editing; int8_t pending; uint16_t idle; };
static struct menu menu;
N int16_t change(struct item *item, int8_t by) {
  int16_t next = item->value + by * item->step;
  if (next > item->most) next = item->most;
  if (next < item->least) next = item->least;
  int16_t moved = next - item->value;
  item->value = next;
  return moved;
}
N uint8_t width(const char *text) {
  const char *p = text;
  while (*p) ++p;
  uint8_t n = (uint8_t)(p - text);
  return n;
}
N bool key(struct menu *m, char c) {
  bool drawn = false;
  uint8_t count = 3;
  switch (c) {
    case 'u':
      if (m->editing) {
        int16_t moved = change(&items[m->at], 1);
        drawn = moved != 0;
      } else {
        m->at = (uint8_t)((m->at + 1) % count);
        drawn = true;
      }
      break;
    case 'd':
      if (m->editing) {
        int16_t moved = change(&items[m->at], -1);
        drawn = moved != 0;
      } else {
        uint8_t before = m->at == 0 ? (uint8_t)(count - 1) : (uint8_t)(m->at - 1);
        m->at = before;
        drawn = true;
      }
      break;
    case 'e': m->editing = !m->editing; break;
    default: m->idle++; break;
  }
  return drawn;
}
N uint8_t format(char *out, int16_t value) {
  uint8_t n = 0;
  uint16_t rest = value < 0 ? (uint16_t)-value : (uint16_t)value;
  char digits[6];
  uint8_t d = 0;
  do {
    digits[d++] = (char)('0' + rest % 10);
    rest /= 10;
  } while (rest != 0);
  if (value < 0) out[n++] = '-';
  while (d > 0) out[n++] = digits[--d];
  out[n] = 0;
  return n;
}
volatile int16_t sink;
int main(void) {
  static const char keys[] = "ueuuxdduedeu";
  uint8_t redraws = 0;
  for (const char *k = keys; *k; ++k) {
    char c = *k;
    bool drawn = key(&menu, c);
    if (drawn) redraws++;
    sink = redraws;
  }
  char text[8];
  for (uint8_t i = 0; i < 3; ++i) {
    struct item *it = &items[i];
    uint8_t w = width(it->name);
    uint8_t n = format(text, it->value);
    sink = (int16_t)(w * 16 + n);
  }
  return 0;
}
