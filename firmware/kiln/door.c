#include "door.h"

#include <avr/interrupt.h>
#include <avr/io.h>

#include "clock.h"
#include "serial.h"

#define QUIET_MS 50 /* contacts bounce for less */

static volatile uint8_t closings;

void door_init(void) {
  EICRA = _BV(ISC01); /* falling edges */
  EIMSK = _BV(INT0);
}

ISR(INT0_vect) {
  static uint16_t last;
  uint16_t now = clock_ms();
  if ((uint16_t)(now - last) >= QUIET_MS) closings++;
  last = now;
}

void door_report(void) {
  serial_number(closings);
  serial_text(" closings\r\n");
}
