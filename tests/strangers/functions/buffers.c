// SPDX-License-Identifier: MIT
#include <stdint.h>
#include <stdbool.h>
#define N __attribute__((noinline))
#define SIZE 8
static uint8_t buffer[SIZE];
static volatile uint8_t head, tail;
N bool put(uint8_t byte) {
  uint8_t next = (uint8_t)(head + 1) % SIZE;
  if (next == tail) return false;
  buffer[head] = byte;
  head = next;
  return true;
}
N int16_t get(void) {
  uint8_t t = tail;
  if (t == head) return -1;
  uint8_t byte = buffer[t];
  t++;
  if (t == SIZE) t = 0;
  tail = t;
  return byte;
}
N uint8_t pack(const uint8_t *in, uint8_t n, uint8_t *out) {
  uint8_t used = 0;
  for (uint8_t i = 0; i < n;) {
    uint8_t value = in[i];
    uint8_t run = 1;
    while (i + run < n && in[i + run] == value) run++;
    out[used++] = run;
    out[used++] = value;
    i += run;
  }
  return used;
}
N uint8_t cobs(const uint8_t *in, uint8_t n, uint8_t *out) {
  uint8_t code = 1, at = 1, mark = 0;
  for (uint8_t i = 0; i < n; i++) {
    uint8_t byte = in[i];
    if (byte == 0) {
      out[mark] = code;
      mark = at++;
      code = 1;
    } else {
      out[at++] = byte;
      code++;
    }
  }
  out[mark] = code;
  return at;
}
volatile int16_t sink;
int main(void) {
  for (uint8_t i = 0; i < 20; i++) {
    bool fits = put((uint8_t)(i * 5));
    if (!fits) {
      int16_t lost = get();
      sink = lost;
    }
  }
  static const uint8_t in[12] = {1, 1, 1, 0, 0, 7, 9, 9, 0, 3, 3, 3};
  uint8_t out[24];
  uint8_t n = pack(in, 12, out);
  sink = n;
  sink = out[3];
  n = cobs(in, 12, out);
  sink = n;
  return 0;
}
