#include "door.h"

#include <avr/interrupt.h>
#include <avr/io.h>

static volatile uint8_t closings;

void door_init(void) {
  EICRA = _BV(ISC01); /* falling edges */
  EIMSK = _BV(INT0);
}

ISR(INT0_vect) { closings++; }

uint8_t door_closings(void) { return closings; }
