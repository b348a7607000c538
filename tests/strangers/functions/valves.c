// SPDX-License-Identifier: MIT
#include <stdint.h>
#include <stdbool.h>
#define N __attribute__((noinline))
#define VALVES 6
enum phase { SHUT, OPENING, OPEN, CLOSING };
struct valve { uint8_t phase, position, wanted; uint16_t moved; };
static struct valve valves[VALVES];
static volatile uint8_t port, latch;
static uint16_t faults;
static inline void strobe(void) {
  latch = 1;
  latch = 0;
}
static inline void put_out(uint8_t valve, bool on) {
  port = (uint8_t)(valve << 1 | on);
  strobe();
}
static inline bool is_busy(const struct valve *v) {
  return v->phase == OPENING || v->phase == CLOSING;
}
static inline uint8_t limited(uint8_t value, uint8_t most) {
  if (value > most) return most;
  return value;
}
static inline void fault(uint8_t code) {
  faults += code;
  strobe();
}
static void aim(struct valve *v, uint8_t position) {
  v->wanted = limited(position, 100);
  if (v->wanted > v->position)
    v->phase = OPENING;
  else if (v->wanted < v->position)
    v->phase = CLOSING;
}
static void move(struct valve *v, uint8_t number) {
  switch (v->phase) {
    case OPENING:
      v->position += 7;
      if (v->position >= v->wanted) v->phase = OPEN;
      put_out(number, true);
      break;
    case CLOSING:
      if (v->position < 9) {
        v->position = 0;
        v->phase = SHUT;
        put_out(number, false);
        return;
      }
      v->position -= 9;
      if (v->position <= v->wanted) v->phase = OPEN;
      put_out(number, false);
      break;
    default:
      fault(number);
      return;
  }
  v->moved++;
}
N uint8_t tick(void) {
  uint8_t busy = 0;
  for (uint8_t i = 0; i < VALVES; i++) {
    struct valve *v = &valves[i];
    if (!is_busy(v)) continue;
    busy++;
    move(v, i);
  }
  return busy;
}
N void all_to(uint8_t position) {
  for (uint8_t i = 0; i < VALVES; i++) aim(&valves[i], (uint8_t)(position + i * 5));
}
N void flush(void) {
  strobe();
  for (uint8_t i = 0; i < 3; i++) {
    strobe();
    if (i == 1) put_out(i, true);
  }
  strobe();
}
int main(void) {
  all_to(30);
  while (tick() != 0) continue;
  flush();
  all_to(96);
  for (uint8_t n = 0; n < 5; n++) {
    uint8_t busy = tick();
    if (busy == 0) break;
  }
  all_to(0);
  uint8_t rounds = 0;
  while (tick() != 0) rounds++;
  port = rounds;
  flush();
  move(&valves[2], 2);
  return 0;
}
