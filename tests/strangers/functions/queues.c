// SPDX-License-Identifier: MIT
#include <stdint.h>
#include <stdbool.h>
#define N __attribute__((noinline))
struct job { uint16_t at; uint8_t kind; int16_t arg; };
static struct job jobs[6];
static uint8_t count;
static volatile int16_t sink;
static bool earlier(const struct job *a, const struct job *b) {
  if (a->at != b->at) return a->at < b->at;
  return a->kind < b->kind;
}
static void swap(struct job *a, struct job *b) {
  struct job t = *a;
  *a = *b;
  *b = t;
}
N bool add(uint16_t at, uint8_t kind, int16_t arg) {
  if (count == 6) return false;
  struct job *last = &jobs[count];
  last->at = at;
  last->kind = kind;
  last->arg = arg;
  uint8_t child = count;
  count++;
  while (child > 0) {
    uint8_t parent = (uint8_t)((child - 1) / 2);
    if (!earlier(&jobs[child], &jobs[parent])) break;
    swap(&jobs[child], &jobs[parent]);
    child = parent;
  }
  return true;
}
N struct job next(void) {
  struct job first = jobs[0];
  count--;
  jobs[0] = jobs[count];
  uint8_t at = 0;
  for (;;) {
    uint8_t child = (uint8_t)(2 * at + 1);
    if (child >= count) break;
    if (child + 1 < count && earlier(&jobs[child + 1], &jobs[child])) child++;
    if (!earlier(&jobs[child], &jobs[at])) break;
    swap(&jobs[child], &jobs[at]);
    at = child;
  }
  return first;
}
static void run(const struct job *j) {
  switch (j->kind) {
    case 0:
      sink = j->arg;
      break;
    case 1:
      sink = (int16_t)-j->arg;
      if (j->arg > 2) sink = 0;
      break;
    case 2:
    case 3:
      for (uint8_t i = 0; i < 3; i++) {
        sink += i;
      }
      break;
    default:
      sink = 99;
      break;
  }
}
int main(void) {
  uint16_t time = 40;
  for (uint8_t i = 0; i < 8; i++) {
    time = (uint16_t)(time * 7 % 53);
    bool fits = add(time, i % 5, i);
    if (!fits) {
      struct job j = next();
      run(&j);
    }
  }
  while (count > 0) {
    struct job j = next();
    run(&j);
  }
  return 0;
}
