// SPDX-License-Identifier: MIT
#include <stdint.h>
#include <stdbool.h>
#define N __attribute__((noinline))
N bool digit(char c, uint8_t *value) {
  if (c < '0' || c > '9') return false;
  *value = (uint8_t)(c - '0');
  return true;
}
N int16_t number(const char **at) {
  const char *p = *at;
  bool negative = false;
  if (*p == '-') {
    negative = true;
    p++;
  }
  int16_t out = 0;
  uint8_t d;
  while (digit(*p, &d)) {
    out = (int16_t)(out * 10 + d);
    p++;
  }
  *at = p;
  if (negative) out = (int16_t)-out;
  return out;
}
enum token { END, NUMBER, PLUS, MINUS, OTHER };
N enum token next(const char **at, int16_t *value) {
  char c = **at;
  switch (c) {
    case 0: return END;
    case '+': ++*at; return PLUS;
    case '-': ++*at; return MINUS;
    default: break;
  }
  if (c >= '0' && c <= '9') {
    *value = number(at);
    return NUMBER;
  }
  ++*at;
  return OTHER;
}
N uint8_t hex(char *out, uint16_t value) {
  uint8_t n = 0;
  for (int8_t shift = 12; shift >= 0; shift -= 4) {
    uint8_t nibble = (value >> shift) & 15;
    char c = (char)(nibble < 10 ? '0' + nibble : 'a' + nibble - 10);
    out[n] = c;
    n++;
  }
  out[n] = 0;
  return n;
}
volatile int16_t sink;
int main(void) {
  const char *text = "12+34-5x7";
  int16_t total = 0, v = 0;
  int8_t sign = 1;
  for (;;) {
    enum token t = next(&text, &v);
    if (t == END) break;
    if (t == NUMBER) {
      total += (int16_t)(sign * v);
      sign = 1;
    }
    if (t == MINUS) sign = -1;
    sink = total;
  }
  char buffer[6];
  uint8_t length = hex(buffer, 0xbeef);
  sink = length;
  sink = buffer[1];
  return 0;
}
