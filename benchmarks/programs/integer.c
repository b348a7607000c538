/* Integer work: a CRC, a sort, a small matrix product; for ever. */
#include "rounds.h"
#include <stdint.h>

volatile uint32_t result;
static uint8_t bytes[256];
static int16_t a[8][8], b[8][8], c[8][8];

static uint16_t crc(const uint8_t *p, uint16_t n) {
  uint16_t sum = 0xffff;
  while (n--) {
    sum ^= *p++;
    for (uint8_t i = 0; i < 8; i++) sum = sum & 1 ? (sum >> 1) ^ 0xa001 : sum >> 1;
  }
  return sum;
}

static void sort(uint8_t *p, uint8_t n) {
  for (uint8_t i = 1; i < n; i++) {
    uint8_t v = p[i], j = i;
    for (; j > 0 && p[j - 1] > v; j--) p[j] = p[j - 1];
    p[j] = v;
  }
}

int main(void) {
  uint16_t seed = 1;
  begin();
  while (another_round()) {
    for (uint16_t i = 0; i < 256; i++) bytes[i] = seed = seed * 25173 + 13849;
    result += crc(bytes, 256);
    sort(bytes, 100);
    for (uint8_t i = 0; i < 8; i++)
      for (uint8_t j = 0; j < 8; j++) {
        int32_t sum = 0;
        for (uint8_t k = 0; k < 8; k++) sum += (int32_t)a[i][k] * b[k][j];
        c[i][j] = sum >> 8;
        a[i][j] = bytes[8 * i + j];
        b[j][i] = c[i][j] + 3;
      }
    result += c[3][5];
  }
  return 0;
}
