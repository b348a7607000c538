// SPDX-License-Identifier: MIT
#include <stdint.h>
#include <stdbool.h>
#define N __attribute__((noinline))
typedef int32_t pos;
struct axis { pos at, target; int16_t speed, top; uint8_t accel; int8_t dir; uint32_t steps; };
static struct axis x = {0, 500, 0, 60, 7, 1, 0}, y = {10, -300, 0, 45, 5, -1, 0};
N int16_t stopping(int16_t speed, uint8_t accel) {
  int32_t square = (int32_t)speed * speed;
  int16_t distance = (int16_t)(square / (2 * accel));
  return distance;
}
N void plan(struct axis *a) {
  pos left = a->target - a->at;
  int8_t dir = left < 0 ? -1 : 1;
  if (dir < 0) left = -left;
  int16_t need = stopping(a->speed, a->accel);
  if (left <= need) {
    a->speed -= a->accel;
    if (a->speed < 1) a->speed = 1;
  } else if (a->speed < a->top) {
    a->speed += a->accel;
    if (a->speed > a->top) a->speed = a->top;
  }
  if (left < a->speed) a->speed = (int16_t)left;
  a->dir = dir;
}
N bool move(struct axis *a) {
  plan(a);
  int16_t by = a->speed;
  if (a->dir < 0) by = -by;
  a->at += by;
  a->steps += (uint16_t)a->speed;
  return a->at != a->target;
}
N uint32_t root(uint32_t n) {
  uint32_t r = 0, bit = 1UL << 30;
  while (bit > n) bit >>= 2;
  while (bit != 0) {
    if (n >= r + bit) {
      n -= r + bit;
      r = (r >> 1) + bit;
    } else {
      r >>= 1;
    }
    bit >>= 2;
  }
  return r;
}
N uint16_t apart(const struct axis *a, const struct axis *b) {
  pos d = a->at - b->at;
  uint32_t square = (uint32_t)(d * d);
  uint32_t far = root(square);
  return (uint16_t)far;
}
volatile int16_t sink;
int main(void) {
  bool more = true;
  uint8_t rounds = 0;
  while (more && rounds < 40) {
    bool a = move(&x);
    bool b = move(&y);
    more = a || b;
    uint16_t d = apart(&x, &y);
    sink = (int16_t)d;
    rounds++;
  }
  sink = rounds;
  return 0;
}
