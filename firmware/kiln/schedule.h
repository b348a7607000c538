/* The firing schedule in EEPROM. Temperatures are tenths of a degree Celsius. */
#ifndef SCHEDULE_H
#define SCHEDULE_H

#include <stdbool.h>
#include <stdint.h>

#define MOST_SEGMENTS 6

struct segment {
  int16_t target;  /* 0.1 degrees */
  uint16_t rate;   /* 0.1 degrees a second */
  uint16_t hold_s; /* seconds at the target */
};

struct schedule {
  uint8_t count;
  struct segment segments[MOST_SEGMENTS];
  uint8_t checksum; /* over all bytes before it */
};

bool schedule_is_sound(void);
bool schedule_segment(uint8_t index, struct segment *segment); /* false behind the last one */
void schedule_count_firing(void);

/* checksum.S: CRC-8 (polynomial 0x8c, reflected) of `length` bytes. */
uint8_t checksum(const uint8_t *bytes, uint8_t length);

#endif
