// SPDX-License-Identifier: MIT
// I/O polling: waits for timer flags and pins, toggles others, and does little between.
#include <avr/io.h>

#include "rounds.h"

volatile uint16_t result;

int main(void) {
  DDRB = 0xff;
  OCR1A = 999;
  TCCR1B = 1 << WGM12 | 1 << CS10;
  while (another_round()) {
    while (!(TIFR1 & 1 << OCF1A)) {}
    TIFR1 = 1 << OCF1A;
    PINB = 1;
    for (uint8_t i = 0; i < 20; i++) {
      if (PIND & 4) result++;
      PORTB ^= 2;
      result += TCNT1;
    }
  }
}
