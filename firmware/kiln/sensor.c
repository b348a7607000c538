#include "sensor.h"

#include <avr/interrupt.h>
#include <avr/io.h>

#define SAMPLES 64
#define LEAST_SUM (4 * SAMPLES) /* below 7 degrees: there is no amplifier */

static volatile uint16_t sum; /* of the last SAMPLES conversions, 0: none yet */

void sensor_init(void) {
  ADMUX = _BV(REFS0);                                         /* against AVCC, channel 0 */
  ADCSRA = _BV(ADEN) | _BV(ADIE) | _BV(ADPS2) | _BV(ADPS1) | _BV(ADPS0); /* 125 kHz */
  DIDR0 = _BV(ADC0D);
}

void sensor_start(void) { ADCSRA |= _BV(ADSC); }

ISR(ADC_vect) {
  static uint16_t running;
  static uint8_t taken;
  running += ADC;
  if (++taken < SAMPLES) return;
  sum = running;
  running = 0;
  taken = 0;
}

void sensor_read(int16_t *tenths) {
  cli();
  uint16_t whole = sum;
  sum = 0;
  sei();
  /* 5 V / 1024 / 64 samples / 3 mV, in tenths of a degree: 0.2543 */
  if (whole >= LEAST_SUM) *tenths = (uint32_t)whole * 16667 >> 16;
}
