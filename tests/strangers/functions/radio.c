// SPDX-License-Identifier: MIT
#include <stdint.h>
#include <stdbool.h>
#define N __attribute__((noinline))
static volatile uint8_t line, clock;
static uint8_t log_[32];
static uint8_t logged;
static uint16_t seed = 7;
static inline uint8_t parity(uint8_t byte) {
  byte ^= byte >> 4;
  byte ^= byte >> 2;
  byte ^= byte >> 1;
  return byte & 1;
}
static inline void half(bool level) {
  line = level;
  clock = !clock;
}
static inline void bit_out(bool bit) {
  half(bit);
  half(!bit);
}
static void byte_out(uint8_t byte) {
  for (uint8_t i = 0; i < 8; i++) {
    bit_out(byte & 1);
    byte >>= 1;
  }
  bit_out(parity(byte));
}
static inline uint16_t next(void) {
  seed = (uint16_t)(seed * 25173u + 13849u);
  return seed;
}
static inline void note(uint8_t what) {
  if (logged < 32) log_[logged++] = what;
}
static inline uint8_t level_of(uint16_t raw) {
  uint8_t level = 0;
  while (raw > 3) {
    raw >>= 1;
    level++;
  }
  return level;
}
N void frame(const uint8_t *data, uint8_t n) {
  for (uint8_t i = 0; i < 4; i++) bit_out(true);
  uint8_t sum = 0;
  for (uint8_t i = 0; i < n; i++) {
    byte_out(data[i]);
    sum += data[i];
  }
  byte_out(sum);
  bit_out(false);
}
N bool listen(uint8_t least) {
  for (uint8_t tries = 0; tries < 6; tries++) {
    uint8_t level = level_of(next());
    note(level);
    if (level >= least) return true;
    if (level == 0) {
      note(0xff);
      break;
    }
  }
  return false;
}
N uint8_t backoff(uint8_t turn) {
  uint8_t slots = 1;
  do {
    slots = (uint8_t)(slots << 1);
    turn--;
  } while (turn != 0 && slots < 16);
  return (uint8_t)(next() % slots);
}
int main(void) {
  uint8_t data[3];
  for (uint8_t k = 0; k < 5; k++) {
    data[0] = k;
    data[1] = (uint8_t)next();
    data[2] = backoff((uint8_t)(k + 1));
    if (!listen((uint8_t)(k + 8))) {
      note(k);
      continue;
    }
    frame(data, (uint8_t)(k % 3 + 1));
  }
  line = logged;
  return 0;
}
