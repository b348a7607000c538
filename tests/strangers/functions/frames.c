// SPDX-License-Identifier: MIT
#include <stdint.h>
#include <stdbool.h>
#define N __attribute__((noinline))
enum phase { WAIT, LENGTH, BODY, CHECK };
struct link { enum phase phase; uint8_t length, got, sum; uint8_t body[12]; uint16_t errors; };
static struct link link;
N bool feed(struct link *l, uint8_t byte) {
  bool whole = false;
  switch (l->phase) {
    case WAIT:
      if (byte == 0x7e) l->phase = LENGTH;
      break;
    case LENGTH:
      if (byte == 0 || byte > 12) {
        l->errors++;
        l->phase = WAIT;
      } else {
        l->length = byte;
        l->got = 0;
        l->sum = byte;
        l->phase = BODY;
      }
      break;
    case BODY: {
      uint8_t at = l->got++;
      l->body[at] = byte;
      l->sum = (uint8_t)(l->sum + byte);
      if (l->got == l->length) l->phase = CHECK;
      break;
    }
    case CHECK: {
      uint8_t wanted = (uint8_t)~l->sum;
      if (byte == wanted)
        whole = true;
      else
        l->errors++;
      l->phase = WAIT;
      break;
    }
  }
  return whole;
}
N uint16_t word(const uint8_t *p) {
  uint16_t low = p[0];
  uint16_t high = p[1];
  uint16_t out = low | (high << 8);
  return out;
}
N uint8_t command(const uint8_t *body, uint8_t length, uint16_t *value) {
  if (length < 1) return 0;
  uint8_t code = body[0];
  uint8_t flags = code & 0xf0;
  code &= 0x0f;
  if (flags & 0x80) {
    if (length < 3) return 0;
    *value = word(body + 1);
  } else if (flags & 0x40) {
    uint8_t single = body[1];
    *value = single;
  } else {
    *value = 0;
  }
  return code;
}
N uint8_t encode(uint8_t *out, uint8_t code, uint16_t value) {
  uint8_t n = 0;
  out[n++] = 0x7e;
  out[n++] = 3;
  uint8_t sum = 3;
  uint8_t parts[3] = {(uint8_t)(0x80 | code), (uint8_t)value, (uint8_t)(value >> 8)};
  for (uint8_t i = 0; i < 3; i++) {
    uint8_t b = parts[i];
    out[n++] = b;
    sum += b;
  }
  out[n++] = (uint8_t)~sum;
  return n;
}
volatile uint16_t sink;
int main(void) {
  uint8_t wire[8];
  for (uint8_t round = 1; round < 4; round++) {
    uint16_t value = (uint16_t)(round * 1000);
    uint8_t n = encode(wire, round, value);
    if (round == 2) wire[4] ^= 1;
    for (uint8_t i = 0; i < n; i++) {
      bool whole = feed(&link, wire[i]);
      if (whole) {
        uint16_t got = 0;
        uint8_t code = command(link.body, link.length, &got);
        sink = code;
        sink = got;
      }
    }
  }
  sink = link.errors;
  return 0;
}
