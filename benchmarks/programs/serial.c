// SPDX-License-Identifier: MIT
// Timer and serial: a tick every millisecond; lines of text go out, polled, at 115200 baud.
#include <avr/interrupt.h>
#include <stdio.h>

#include "rounds.h"

static volatile uint32_t ticks;
ISR(TIMER1_COMPA_vect) { ticks++; }

static void put(char c) {
  while (!(UCSR0A & 1 << UDRE0)) {}
  UDR0 = c;
}

int main(void) {
  char line[40];
  OCR1A = 15999;
  TIMSK1 = 1 << OCIE1A;
  TCCR1B = 1 << WGM12 | 1 << CS10;
  UCSR0A = 1 << U2X0;
  UBRR0 = 16;
  UCSR0B = 1 << TXEN0;
  sei();
  while (another_round()) {
    cli();
    const uint32_t now = ticks;
    sei();
    sprintf(line, "%lu ms, round %lu\r\n", now, rounds);
    for (const char *p = line; *p; p++) put(*p);
  }
}
