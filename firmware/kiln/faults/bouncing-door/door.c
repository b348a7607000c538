#include "door.h"

#include <avr/interrupt.h>
#include <avr/io.h>

#include "serial.h"

static volatile uint8_t closings;

void door_init(void) {
  EICRA = _BV(ISC01); /* falling edges */
  EIMSK = _BV(INT0);
}

ISR(INT0_vect) { closings++; }

void door_report(void) {
  serial_number(closings);
  serial_text(" closings\r\n");
}
