#include "clock.h"

#include <avr/interrupt.h>
#include <avr/io.h>
#include <util/atomic.h>

#define TICKS_PER_SECOND 1000

static volatile uint16_t ticks;
static volatile uint8_t seconds_due;

void clock_init(void) {
  OCR1A = F_CPU / TICKS_PER_SECOND - 1;
  TCCR1A = 0;
  TCCR1B = _BV(WGM12) | _BV(CS10); /* CTC, clk/1 */
  TIMSK1 = _BV(OCIE1A);
}

ISR(TIMER1_COMPA_vect) {
  static uint16_t into_second;
  ticks++;
  if (++into_second == TICKS_PER_SECOND) {
    into_second = 0;
    seconds_due++;
  }
}

uint16_t clock_ms(void) {
  return ticks;
}

bool clock_second_passed(void) {
  if (seconds_due == 0) return false;
  ATOMIC_BLOCK(ATOMIC_RESTORESTATE) { seconds_due--; }
  return true;
}

void clock_wait_ms(uint16_t span) {
  uint16_t start = clock_ms();
  while ((uint16_t)(clock_ms() - start) < span) {
  }
}
