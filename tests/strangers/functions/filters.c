// SPDX-License-Identifier: MIT
#include <stdint.h>
#define N __attribute__((noinline))
#define TAPS 5
struct fir { int16_t past[TAPS]; uint8_t at; };
static const int8_t taps[TAPS] = {3, -9, 40, -9, 3};
static struct fir fir;
N int16_t fir_step(struct fir *f, int16_t in) {
  f->past[f->at] = in;
  int32_t sum = 0;
  uint8_t k = f->at;
  for (uint8_t i = 0; i < TAPS; i++) {
    int16_t x = f->past[k];
    int8_t t = taps[i];
    sum += (int32_t)x * t;
    k = k == 0 ? TAPS - 1 : k - 1;
  }
  f->at = f->at + 1 < TAPS ? (uint8_t)(f->at + 1) : 0;
  int16_t out = (int16_t)(sum >> 5);
  return out;
}
N int16_t median(int16_t a, int16_t b, int16_t c) {
  int16_t t;
  if (a > b) {
    t = a;
    a = b;
    b = t;
  }
  if (b > c) {
    t = b;
    b = c;
    c = t;
  }
  if (a > b) b = a;
  return b;
}
N uint32_t variance(const int16_t *v, uint8_t n) {
  int32_t sum = 0;
  for (uint8_t i = 0; i < n; i++) sum += v[i];
  int16_t mean = (int16_t)(sum / n);
  uint32_t total = 0;
  for (uint8_t i = 0; i < n; i++) {
    int16_t d = v[i] - mean;
    uint32_t square = (uint32_t)((int32_t)d * d);
    total += square;
  }
  return total / n;
}
N uint8_t peaks(const int16_t *v, uint8_t n, int16_t threshold) {
  uint8_t count = 0, rising = 1;
  int16_t last = v[0];
  uint8_t i = 1;
next:
  if (i >= n) goto done;
  if (rising && v[i] < last - threshold) {
    count++;
    rising = 0;
  } else if (!rising && v[i] > last + threshold) {
    rising = 1;
  }
  last = v[i];
  i++;
  goto next;
done:
  return count;
}
volatile int16_t sink;
int main(void) {
  int16_t wave[12];
  int16_t x = 100, dx = 37;
  for (uint8_t i = 0; i < 12; i++) {
    wave[i] = x;
    x += dx;
    if (x > 180 || x < -20) dx = -dx;
    int16_t y = fir_step(&fir, wave[i]);
    sink = y;
  }
  for (uint8_t i = 1; i + 1 < 12; i++) {
    int16_t m = median(wave[i - 1], wave[i], wave[i + 1]);
    sink = m;
  }
  uint32_t var = variance(wave, 12);
  sink = (int16_t)var;
  uint8_t p = peaks(wave, 12, 5);
  sink = p;
  return 0;
}
