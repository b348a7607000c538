/* Strings and calls: numbers to text and back, comparison, recursion; for ever. */
#include "rounds.h"
#include <stdint.h>
#include <stdlib.h>
#include <string.h>

volatile int16_t result;
static char line[64], copy[64];

static __attribute__((noinline)) char *put(char *p, int16_t v) {
  if (v >= 10) p = put(p, v / 10);
  *p++ = '0' + v % 10;
  return p;
}

int main(void) {
  begin();
  for (int16_t n = 0; another_round(); n = (n + 37) & 0x3fff) {
    char *p = line;
    p = put(p, n);
    *p++ = ',';
    p = put(p, n ^ 0x155);
    *p = '\0';
    strcpy(copy, line);
    if (strcmp(copy, line) == 0) result += atoi(strchr(copy, ',') + 1);
    result += strlen(line);
  }
  return 0;
}
