// SPDX-License-Identifier: MIT
#include "say.h"

static int8_t a[3][4] = {{1, 2, 3, 4}, {-1, 0, 5, 9}, {7, 7, -7, 2}};
static int16_t product[3][3];
APART int16_t cell(uint8_t row, uint8_t column) {
  int16_t sum = 0;
  for (uint8_t k = 0; k < 4; k++) {
    int8_t x = a[row][k], y = a[column][k];
    sum += x * y;
    SAY(x);
    SAY(sum);
  }
  return sum;
}
int main(void) {
  for (uint8_t i = 0; i < 3; i++)
    for (uint8_t j = 0; j < 3; j++) {
      int16_t value = cell(i, j);
      product[i][j] = value;
      SAY(i);
      SAY(j);
      SAY(value);
      sink = value;
    }
  stay();
}
