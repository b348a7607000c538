// SPDX-License-Identifier: MIT
// Waits by counting, as blinking lamps and chips on a bus do, while a timer interrupts.
#include <avr/interrupt.h>
#include <avr/io.h>
#include <util/delay.h>

#include "rounds.h"

volatile uint16_t ticks;

ISR(TIMER1_COMPA_vect) { ticks++; }

int main(void) {
  DDRB = 0xff;
  OCR1A = 15999;
  TCCR1B = 1 << WGM12 | 1 << CS10;
  TIMSK1 = 1 << OCIE1A;
  sei();
  while (another_round()) {
    PINB = 1;
    _delay_ms(7);
    PINB = 2;
    _delay_us(50);
  }
}
