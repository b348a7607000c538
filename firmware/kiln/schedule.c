#include "schedule.h"

#include <avr/eeprom.h>
#include <stddef.h>

/* A quick firing for a trial: two ramps with holds, then down. */
struct schedule EEMEM stored_schedule = {
    .count = 3,
    .segments = {{2000, 400, 2}, {9000, 900, 3}, {400, 1500, 0}},
    .checksum = 0x67,
};
uint16_t EEMEM firings_done = 0;
char EEMEM serial_number_text[] = "KILN-0042";

bool schedule_is_sound(void) {
  struct schedule copy;
  eeprom_read_block(&copy, &stored_schedule, sizeof copy);
  return copy.count <= MOST_SEGMENTS &&
         checksum((const uint8_t *)&copy, offsetof(struct schedule, checksum)) == copy.checksum;
}

bool schedule_segment(uint8_t index, struct segment *segment) {
  if (index >= eeprom_read_byte(&stored_schedule.count)) return false;
  eeprom_read_block(segment, &stored_schedule.segments[index], sizeof *segment);
  return true;
}

void schedule_count_firing(void) {
  eeprom_update_word(&firings_done, eeprom_read_word(&firings_done) + 1);
}
