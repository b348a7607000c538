// SPDX-License-Identifier: MIT
#include "say.h"

APART int32_t parse(const char *text, bool *good) {
  int32_t value = 0;
  bool negative = false;
  *good = false;
  if (*text == '-') {
    negative = true;
    text++;
  }
  while (*text >= '0' && *text <= '9') {
    uint8_t digit = *text++ - '0';
    SAY(digit);
    value = value * 10 + digit;
    SAY(value);
    *good = true;
  }
  SAY(negative);
  return negative ? -value : value;
}
int main(void) {
  static const char *const texts[] = {"12", "-70001", "x", "-", "0099"};
  for (uint8_t i = 0; i < 5; i++) {
    bool good = false;
    int32_t number = parse(texts[i], &good);
    SAY(number);
    SAY(good);
    sink = number + good;
  }
  stay();
}
