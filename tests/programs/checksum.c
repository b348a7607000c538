// SPDX-License-Identifier: MIT
#include "say.h"

APART uint16_t crc(const uint8_t *bytes, uint8_t count) {
  uint16_t sum = 0xffff;
  while (count-- > 0) {
    uint8_t byte = *bytes++;
    sum ^= byte;
    for (uint8_t bit = 0; bit < 8; bit++) {
      bool low = sum & 1;
      sum >>= 1;
      if (low) sum ^= 0xa001;
      SAY(bit);
    }
    SAY(byte);
    SAY(sum);
  }
  return sum;
}
int main(void) {
  static const uint8_t message[] = {0x12, 0xfe, 0x80, 7};
  for (uint8_t length = 1; length <= sizeof message; length++) {
    uint16_t check = crc(message, length);
    SAY(length);
    SAY(check);
    sink = check;
  }
  stay();
}
