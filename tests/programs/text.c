// SPDX-License-Identifier: MIT
#include "say.h"

#include <string.h>
static char line[24];
APART uint8_t decimal(char *to, int16_t value) {
  uint8_t length = 0;
  uint16_t rest = value;
  if (value < 0) {
    *to++ = '-';
    rest = -rest;
    length++;
  }
  uint16_t unit = 10000;
  while (unit > rest && unit > 1) unit /= 10;
  SAY(unit);
  for (; unit != 0; unit /= 10) {
    char digit = '0' + rest / unit;
    rest %= unit;
    *to++ = digit;
    length++;
    SAY(digit);
    SAY(rest);
  }
  *to = 0;
  SAY(length);
  return length;
}
int main(void) {
  int16_t value = 1;
  for (uint8_t i = 0; i < 6; i++) {
    strcpy(line, "t=");
    uint8_t digits = decimal(line + 2, value);
    SAY(digits);
    uint8_t whole = strlen(line);
    SAY(whole);
    value = value * -23 + 4;
    SAY(value);
    sink = whole;
  }
  stay();
}
