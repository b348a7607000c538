// SPDX-License-Identifier: MIT
#include "say.h"

struct point {
  int16_t x, y;
};
static const struct point points[] = {{-50, 0}, {0, 500}, {100, 1200}, {400, 1300}};
APART int16_t curve(int16_t x) {
  if (x <= points[0].x) return points[0].y;
  for (uint8_t i = 1; i < 4; i++) {
    struct point left = points[i - 1], right = points[i];
    if (x > right.x) continue;
    int16_t width = right.x - left.x;
    int32_t rise = (int32_t)(right.y - left.y) * (x - left.x);
    SAY(width);
    SAY(rise);
    int16_t y = left.y + rise / width;
    SAY(y);
    return y;
  }
  return points[3].y;
}
int main(void) {
  for (int16_t x = -90; x < 500; x += 61) {
    int16_t y = curve(x);
    SAY(x);
    SAY(y);
    sink = y;
  }
  stay();
}
