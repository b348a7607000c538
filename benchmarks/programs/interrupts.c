// SPDX-License-Identifier: MIT
// Interrupt-heavy: a timer every 400 cycles that counts, filters and fills a buffer which main empties.
#include <avr/interrupt.h>

#include "rounds.h"

static volatile uint8_t head, tail, lost;
static volatile int16_t samples[16];
volatile int32_t result;

ISR(TIMER1_COMPA_vect) {
  static int16_t value, slope = 3;
  value += slope;
  if (value > 500 || value < -500) slope = -slope;
  const uint8_t next = (head + 1) & 15;
  if (next == tail) {
    lost++;
  } else {
    samples[head] = value;
    head = next;
  }
}

int main(void) {
  OCR1A = 399;
  TIMSK1 = 1 << OCIE1A;
  TCCR1B = 1 << WGM12 | 1 << CS10;
  sei();
  while (another_round()) {
    while (head == tail) {}
    cli();
    result += samples[tail];
    tail = (tail + 1) & 15;
    sei();
  }
}
