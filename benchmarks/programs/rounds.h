// SPDX-License-Identifier: MIT
// How a benchmark program begins and goes round: for ever on the chip, ROUNDS times natively; with
// EVENT_PERIOD, Timer1 interrupts it every so many cycles.
#include <stdint.h>

volatile uint32_t rounds;

#ifdef EVENT_PERIOD
#include <avr/interrupt.h>
ISR(TIMER1_COMPA_vect, ISR_NAKED) { reti(); }
static void begin(void) {
  OCR1A = EVENT_PERIOD - 1;
  TIMSK1 = 1 << OCIE1A;
  TCCR1B = 1 << WGM12 | 1 << CS10;
  sei();
}
#else
static void begin(void) {}
#endif

static uint8_t another_round(void) {
  rounds++;
#ifdef ROUNDS
  return rounds < ROUNDS;
#else
  return 1;
#endif
}
