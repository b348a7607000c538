#include "plan.h"

#include "schedule.h"
#include "serial.h"

void plan_print(void) {
  struct segment segment;
  for (uint8_t i = 0; schedule_segment(i, &segment); i++) {
    serial_number(i + 1);
    serial_text(": to ");
    serial_number(segment.target / 10);
    serial_text(" C, hold ");
    serial_number(segment.hold_s);
    serial_text(" s\r\n");
  }
}
