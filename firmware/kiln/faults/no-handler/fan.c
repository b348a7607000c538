#include "fan.h"

#include <avr/io.h>

void fan_init(void) {
  DDRD |= _BV(PD3);
  TCCR2A = _BV(WGM21) | _BV(WGM20); /* fast PWM, 7.8 kHz */
  TCCR2B = _BV(CS21);
}

void fan_set(uint8_t duty) {
  OCR2B = duty;
  TIMSK2 = duty != 0 ? _BV(OCIE2B) : 0; /* counts turns for the tachometer */
  if (duty != 0)
    TCCR2A |= _BV(COM2B1);
  else
    TCCR2A &= ~_BV(COM2B1);
}
