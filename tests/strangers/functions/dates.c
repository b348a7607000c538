// SPDX-License-Identifier: MIT
#include <stdint.h>
#include <stdbool.h>
#define N __attribute__((noinline))
struct date { uint16_t year; uint8_t month, day, hour, minute, second; };
N bool leap(uint16_t year) {
  if (year % 4 != 0) return false;
  if (year % 100 != 0) return true;
  return year % 400 == 0;
}
N uint8_t days_in(uint8_t month, uint16_t year) {
  static const uint8_t days[12] = {31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31};
  uint8_t n = days[month - 1];
  if (month == 2 && leap(year)) n++;
  return n;
}
N struct date date_of(uint32_t seconds) {
  struct date d;
  d.second = (uint8_t)(seconds % 60);
  seconds /= 60;
  d.minute = (uint8_t)(seconds % 60);
  seconds /= 60;
  d.hour = (uint8_t)(seconds % 24);
  uint16_t days = (uint16_t)(seconds / 24);
  d.year = 1970;
  for (;;) {
    uint16_t length = leap(d.year) ? 366 : 365;
    if (days < length) break;
    days -= length;
    d.year++;
  }
  d.month = 1;
  while (days >= days_in(d.month, d.year)) {
    days -= days_in(d.month, d.year);
    d.month++;
  }
  d.day = (uint8_t)(days + 1);
  return d;
}
N uint8_t bcd(uint8_t n) {
  uint8_t tens = n / 10;
  uint8_t units = n % 10;
  return (uint8_t)(tens << 4) | units;
}
enum state { IDLE, HEAT, HOLD, COOL };
N enum state step(enum state s, int16_t t, uint8_t *left) {
  enum state next = s;
  switch (s) {
    case IDLE:
      if (*left != 0) next = HEAT;
      break;
    case HEAT:
      if (t > 100) next = HOLD;
      break;
    case HOLD:
      --*left;
      if (*left == 0) next = COOL;
      break;
    case COOL:
      if (t < 40) next = IDLE;
      break;
  }
  return next;
}
volatile uint16_t sink;
int main(void) {
  struct date d = date_of(1700000000u);
  sink = d.year;
  sink = d.day;
  uint8_t b = bcd(d.minute);
  sink = b;
  enum state s = IDLE;
  uint8_t left = 4;
  int16_t t = 20;
  for (uint8_t i = 0; i < 25; ++i) {
    s = step(s, t, &left);
    if (s == HEAT) t += 17;
    if (s == COOL) t -= 21;
    sink = (uint16_t)t;
  }
  return 0;
}
