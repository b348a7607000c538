// SPDX-License-Identifier: MIT
// What the programs here share: SAY(name) prints "LINE NAME VALUE" on the serial port, if PRINTED;
// otherwise nothing, so that nothing keeps a variable alive.
#ifndef SAY_H
#define SAY_H
#include <avr/io.h>
#include <avr/sleep.h>
#include <stdbool.h>
#include <stdint.h>

#define APART __attribute__((noinline))
volatile uint8_t sink;

#ifdef PRINTED
static APART void say_char(char c) {
  while (!(UCSR0A & _BV(UDRE0))) {
  }
  UDR0 = c;
}
static APART void say(uint16_t line, const char* name, int32_t value) {
  uint32_t rest = value;
  if (!(UCSR0B & _BV(TXEN0))) UCSR0B = _BV(TXEN0);
  for (uint16_t unit = 1000; unit != 0; unit /= 10) say_char('0' + line / unit % 10);
  say_char(' ');
  while (*name != 0) say_char(*name++);
  say_char(' ');
  for (uint8_t i = 0; i < 8; i++, rest <<= 4) say_char("0123456789abcdef"[rest >> 28]);
  UCSR0A |= _BV(TXC0);
  say_char('\n');
  while (!(UCSR0A & _BV(TXC0))) {  // until it is out
  }
}
#define SAY(name) say(__LINE__, #name, (int32_t)(name))
#else
#define SAY(name) ((void)0)
#endif

// The end of a program: asleep for ever.
static inline void stay(void) {
  set_sleep_mode(SLEEP_MODE_PWR_DOWN);
  sleep_enable();
  for (;;) sleep_cpu();
}
#endif
