// SPDX-License-Identifier: MIT
#include "say.h"

struct task {
  uint16_t due, period;
  uint8_t runs;
};
static struct task tasks[3] = {{10, 10, 0}, {15, 25, 0}, {3, 40, 0}};
static inline bool is_due(const struct task *task, uint16_t now) {
  int16_t late = now - task->due;
  SAY(late);
  return late >= 0;
}
APART uint8_t run(uint16_t now) {
  uint8_t ran = 0;
  for (uint8_t i = 0; i < 3; i++) {
    struct task *task = &tasks[i];
    if (!is_due(task, now)) continue;
    task->due += task->period;
    task->runs++;
    ran++;
    SAY(task->due);
    SAY(ran);
  }
  return ran;
}
int main(void) {
  uint16_t now = 0;
  uint8_t all = 0;
  while (now < 100) {
    uint8_t ran = run(now);
    all += ran;
    now += 7;
    SAY(all);
    SAY(now);
  }
  sink = all;
  stay();
}
