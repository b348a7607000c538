// SPDX-License-Identifier: MIT
#include <stdint.h>
#include <string.h>
#include <stdbool.h>
#define N __attribute__((noinline))
enum kind { PING, READ, WRITE, BAD };
struct frame { uint8_t kind; uint8_t length; uint8_t data[6]; uint16_t crc; };
static uint8_t memory[16];
static volatile uint8_t line_out;
static uint16_t crc_step(uint16_t crc, uint8_t byte) {
  crc ^= (uint16_t)(byte << 8);
  for (uint8_t i = 0; i < 8; i++) {
    if (crc & 0x8000)
      crc = (uint16_t)(crc << 1) ^ 0x1021;
    else
      crc <<= 1;
  }
  return crc;
}
N uint16_t crc_of(const struct frame *f) {
  uint16_t crc = 0xffff;
  crc = crc_step(crc, (uint8_t)f->kind);
  crc = crc_step(crc, f->length);
  for (uint8_t i = 0; i < f->length; i++) crc = crc_step(crc, f->data[i]);
  return crc;
}
N enum kind handle(struct frame *f, struct frame *answer) {
  memset(answer, 0, 10);
  uint16_t crc = crc_of(f);
  if (crc != f->crc) {
    answer->kind = BAD;
    return BAD;
  }
  answer->kind = f->kind;
  switch (f->kind) {
    case PING:
      break;
    case READ: {
      uint8_t from = f->data[0], n = f->data[1];
      if (n > 6) n = 6;
      if (from + n > 16) {
        answer->kind = BAD;
        break;
      }
      memcpy(answer->data, memory + from, n);
      answer->length = n;
      break;
    }
    case WRITE: {
      uint8_t to = f->data[0];
      for (uint8_t i = 1; i < f->length; i++) {
        if (to >= 16) return BAD;
        memory[to] = f->data[i];
        to++;
      }
      answer->length = 1;
      answer->data[0] = to;
      break;
    }
    default:
      answer->kind = BAD;
      break;
  }
  answer->crc = crc_of(answer);
  return answer->kind;
}
static struct frame make(enum kind kind, uint8_t a, uint8_t b, uint8_t c) {
  struct frame f;
  memset(&f, 0, 10);
  f.kind = kind;
  f.length = 3;
  f.data[0] = a;
  f.data[1] = b;
  f.data[2] = c;
  f.crc = crc_of(&f);
  return f;
}
int main(void) {
  struct frame answer;
  for (uint8_t i = 0; i < 6; i++) {
    struct frame f = make((enum kind)(i % 4), (uint8_t)(3 * i), i, (uint8_t)(i + 1));
    if (i == 4) f.crc ^= 1;
    enum kind k = handle(&f, &answer);
    line_out = (uint8_t)k;
    for (uint8_t j = 0; j < answer.length; j++) {
      uint8_t byte = answer.data[j];
      line_out = byte;
    }
  }
  return 0;
}
