// SPDX-License-Identifier: MIT
#include "say.h"

typedef struct {
  int16_t x, y, z;
} vector;
APART vector cross(vector a, vector b) {
  vector c;
  c.x = a.y * b.z - a.z * b.y;
  c.y = a.z * b.x - a.x * b.z;
  c.z = a.x * b.y - a.y * b.x;
  SAY(c.x);
  SAY(c.y);
  SAY(c.z);
  return c;
}
APART int32_t length(const vector *of) {
  int32_t sum = (int32_t)of->x * of->x;
  sum += (int32_t)of->y * of->y;
  SAY(sum);
  sum += (int32_t)of->z * of->z;
  return sum;
}
int main(void) {
  vector a = {1, -2, 3}, b = {4, 0, -1};
  for (uint8_t i = 0; i < 4; i++) {
    vector c = cross(a, b);
    int32_t size = length(&c);
    SAY(size);
    a.x += 3;
    b.z -= i;
    SAY(a.x);
    SAY(b.z);
    sink = size;
  }
  stay();
}
