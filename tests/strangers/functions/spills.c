// SPDX-License-Identifier: MIT
#include <stdint.h>
#define N __attribute__((noinline))
// More values at once than there are registers: some are put into the frame, and make room there.
N int32_t mixed(int32_t a, int32_t b, int16_t first, int16_t step) {
  int32_t sum = a + first;
  int32_t cross = b - step;
  int16_t span = first + 3 * step;
  int32_t scale = span / 4;
  int32_t low = sum % 61, high = cross % 89;
  int32_t part = low * scale;
  int32_t other = high * scale;
  int32_t turn = part / (other | 1);
  int32_t rest = part - turn * other;
  int32_t near = rest / 7, far = rest % 7;
  int32_t top = near * sum + far * cross;
  int32_t base = near * cross - far * sum;
  int32_t width = top / (base | 1);
  for (uint8_t i = 0; i < 6; i++) {
    int32_t next = top % (width | 3);
    top += next * low;
    base -= next * high;
    width ^= top / 3 + base / 5;
    sum += width % 11;
  }
  int32_t all = top + base + width + sum;
  return all ^ near ^ far ^ turn;
}
static int32_t row[12];
// What is needed at the beginning only leaves its place in the frame to what comes later.
N int16_t plan(const int16_t *at, int16_t count, int16_t offset, int16_t limit, int16_t kind) {
  int16_t from = (offset - 3) / 8;
  if (from < 0) from = 0;
  int16_t rest = offset - 8 * (from + 1);
  int32_t most = limit * (int32_t)kind;
  int32_t total = 0;
  for (int16_t i = 0; i < count; i++) {
    int32_t value = at[i] * (int32_t)(rest + i);
    row[i] = value;
    total += value % (most + 1);
  }
  int16_t last = count - 1;
  for (int16_t i = 0; i < last; i++) {
    int32_t sum = 0;
    for (int16_t j = 0; j <= i; j++) {
      int32_t product = row[j] * at[i - j];
      sum += product / (from + 2);
    }
    row[i + 1] -= sum;
    if (sum > most) total -= sum;
    if (sum < total) last = last - (int16_t)(sum & 1);
  }
  int32_t scaled = total / (from + 1);
  return (int16_t)(scaled + rest);
}
volatile int32_t sink;
int main(void) {
  static const int16_t steps[5] = {3, -7, 11, 20, 150};
  for (uint8_t i = 0; i < 5; i++) {
    int32_t m = mixed(1000 * i, -77 * i, steps[i], i);
    sink = m;
    int16_t p = plan(steps, 5, 7 + 9 * i, 40, steps[i]);
    sink = p;
  }
  return 0;
}
