// SPDX-License-Identifier: MIT
#include "say.h"

enum state { IDLE, ARMED, RUNNING, DONE, FAILED };
static enum state state = IDLE;
static uint8_t patience;
APART enum state turn(uint8_t event) {
  enum state before = state;
  switch (state) {
    case IDLE:
      if (event == 'a') state = ARMED;
      break;
    case ARMED:
      patience = 3;
      if (event == 'g') state = RUNNING;
      break;
    case RUNNING:
      patience--;
      SAY(patience);
      if (event == 'x' || patience == 0) state = event == 'x' ? FAILED : DONE;
      break;
    default: state = IDLE; break;
  }
  SAY(before);
  SAY(state);
  return before;
}
int main(void) {
  const char *events = "zagzzzzagxa";
  uint8_t changes = 0;
  while (*events) {
    uint8_t event = *events++;
    enum state was = turn(event);
    if (was != state) changes++;
    SAY(event);
    SAY(changes);
    sink = was;
  }
  stay();
}
