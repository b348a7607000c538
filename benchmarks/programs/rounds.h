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
#elif defined(EVERYTHING_ON)
#include <avr/io.h>
/* Two PWM timers with their pins, a third one counting, the ADC free running, a byte on its way. */
static void begin(void) {
  DDRB = DDRD = 0xff;
  OCR0A = 64, OCR0B = 200;
  TCCR0A = 1 << COM0A1 | 1 << COM0B1 | 1 << WGM01 | 1 << WGM00;
  TCCR0B = 1 << CS01 | 1 << CS00;
  OCR1A = 100;
  TCCR1A = 1 << COM1A1 | 1 << WGM10;
  TCCR1B = 1 << CS11 | 1 << CS10;
  TCCR2B = 1 << CS22 | 1 << CS21 | 1 << CS20;
  ADMUX = 1 << REFS0;
  ADCSRA = 1 << ADEN | 1 << ADSC | 1 << ADATE | 7;
  UCSR0B = 1 << TXEN0;
  UDR0 = 'x';
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
