// SPDX-License-Identifier: MIT
#include <stdint.h>
#include <stdbool.h>
#define N __attribute__((noinline))
struct point { int16_t t, v; };
static const struct point curve[] = {{0, 20}, {60, 200}, {120, 600}, {300, 1240}, {600, 1240}, {900, 20}};
static int16_t between(const struct point *a, const struct point *b, int16_t t) {
  int32_t span = b->t - a->t;
  if (span == 0) return a->v;
  int32_t part = (int32_t)(b->v - a->v) * (t - a->t);
  return (int16_t)(a->v + part / span);
}
N int16_t wanted(int16_t t, uint8_t *segment) {
  uint8_t n = 6;
  uint8_t i;
  for (i = 0; i + 1 < n; i++) {
    const struct point *a = &curve[i];
    const struct point *b = a + 1;
    if (t < a->t) break;
    if (t <= b->t) {
      *segment = i;
      return between(a, b, t);
    }
  }
  *segment = 255;
  return curve[n - 1].v;
}
N int8_t compare(const int16_t *a, const int16_t *b, uint8_t n) {
  int8_t result = 0;
  uint8_t same = 0;
  while (n--) {
    int16_t x = *a++;
    int16_t y = *b++;
    if (x == y) {
      same++;
      continue;
    }
    result = x < y ? -1 : 1;
    if (same > 2) result *= 2;
    break;
  }
  return result;
}
N uint16_t settle(int16_t from, int16_t to, uint8_t gain) {
  uint16_t rounds = 0;
  int16_t at = from;
  int16_t before;
  do {
    before = at;
    int16_t error = to - at;
    int16_t move = (int16_t)(error * gain / 16);
    if (move == 0 && error != 0) move = error > 0 ? 1 : -1;
    at += move;
    rounds++;
    if (rounds > 40) return rounds;
  } while (at != before);
  return rounds;
}
static volatile int16_t sink;
int main(void) {
  for (int16_t t = -30; t < 1000; t += 130) {
    uint8_t s;
    int16_t v = wanted(t, &s);
    sink = v;
    sink = s;
  }
  static const int16_t a[5] = {1, 2, 3, 4, 5}, b[5] = {1, 2, 3, 5, 5};
  int8_t c = compare(a, b, 5);
  sink = c;
  c = compare(b, a, 2);
  sink = c;
  uint16_t r = settle(20, 100, 5);
  sink = (int16_t)r;
  r = settle(100, -7, 9);
  sink = (int16_t)r;
  return 0;
}
