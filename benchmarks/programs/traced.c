/* Work without end, beside it what 16 signals show: together a change every thousand cycles or so. */
#include <avr/interrupt.h>
#include <avr/io.h>
#include <stdint.h>

volatile uint16_t position, speed;
volatile uint8_t phase, flags;
volatile int32_t energy;
static uint16_t noise = 1;

ISR(TIMER1_COMPA_vect) {
  PORTB ^= 1;
  position += speed;
  if ((++phase & 3) == 0) PORTB ^= 2;
}

int main(void) {
  DDRB = 0xff;
  DDRD = 0xff;
  OCR1A = 19999;
  TIMSK1 = 1 << OCIE1A;
  TCCR1B = 1 << WGM12 | 1 << CS10;
  OCR0A = 60; /* 61 Hz at a divider of 1024 */
  TCCR0A = 1 << COM0A1 | 1 << WGM01 | 1 << WGM00;
  TCCR0B = 1 << CS02 | 1 << CS00;
  sei();
  for (;;) {
    uint32_t sum = 0;
    for (uint8_t i = 0; i < 200; ++i) {
      noise = (uint16_t)(noise << 1) ^ (noise & 0x8000 ? 0x1021 : 0);
      sum += noise ^ i;
    }
    energy += (int32_t)(sum & 0xff);
    speed = (uint16_t)sum & 15;
    if ((sum & 7) == 0) flags ^= 1;
  }
}
