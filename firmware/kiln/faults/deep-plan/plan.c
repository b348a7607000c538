#include "plan.h"

#include <stdio.h>

#include "schedule.h"
#include "serial.h"

/* One line for each segment, the rest of the plan below it. */
static void print_from(uint8_t index) {
  struct segment segment;
  char line[440];
  if (!schedule_segment(index, &segment)) return;
  sprintf(line, "%d: to %d C, hold %u s\r\n", index + 1, segment.target / 10, segment.hold_s);
  serial_text(line);
  print_from(index + 1);
}

void plan_print(void) { print_from(0); }
