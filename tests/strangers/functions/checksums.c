// SPDX-License-Identifier: MIT
#include <stdint.h>
#define N __attribute__((noinline))
N uint8_t crc8(const uint8_t *data, uint8_t length) {
  uint8_t crc = 0xff;
  for (uint8_t i = 0; i < length; i++) {
    crc ^= data[i];
    for (uint8_t bit = 0; bit < 8; bit++) {
      if (crc & 0x80)
        crc = (uint8_t)(crc << 1) ^ 0x31;
      else
        crc <<= 1;
    }
  }
  return crc;
}
N uint16_t crc16(uint16_t crc, uint8_t byte) {
  uint8_t x = (uint8_t)(crc >> 8) ^ byte;
  x ^= x >> 4;
  crc = (uint16_t)(crc << 8);
  uint16_t a = (uint16_t)x << 12;
  uint16_t b = (uint16_t)x << 5;
  crc ^= a;
  crc ^= b;
  crc ^= x;
  return crc;
}
N uint16_t fletcher(const uint8_t *data, uint8_t n) {
  uint16_t low = 0, high = 0;
  while (n-- > 0) {
    low = (low + *data++) % 255;
    high = (high + low) % 255;
  }
  uint16_t sum = (uint16_t)(high << 8) | low;
  return sum;
}
static const uint8_t text[9] = {1, 2, 3, 200, 5, 66, 7, 128, 9};
volatile uint16_t sink;
int main(void) {
  uint8_t c = crc8(text, 9);
  sink = c;
  uint16_t w = 0xffff;
  for (uint8_t i = 0; i < 9; ++i) {
    uint8_t byte = text[i];
    w = crc16(w, byte);
    sink = w;
  }
  uint16_t f = fletcher(text, 9);
  sink = f;
  return 0;
}
