/* The panel beside the kiln: a microcontroller of its own, on the kiln's serial line.
 *
 * It shows the chamber's temperature as a bar of six lamps, one for every 200 degrees, whether it
 * rises, and the alarm; its button starts the firing.
 */
#include <avr/interrupt.h>
#include <avr/io.h>
#include <avr/sleep.h>
#include <stdbool.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>

#define BAUD_RATE 38400UL
#define LINE_SIZE 48
#define ALARM_BIT PB0
#define RISING_BIT PB1
#define BUTTON_BIT PD2  /* to ground */
#define LAMP_STEP 2000 /* 0.1 degrees */

static volatile char line[LINE_SIZE];
static volatile uint8_t length;
static volatile bool complete;
static volatile bool pressed;
static int16_t shown; /* 0.1 degrees */
static uint16_t reports;

/* The last four readings, the latest first. */
struct reading {
  int16_t is; /* 0.1 degrees */
  struct reading *before;
};
static struct reading readings[4] = {{0, &readings[1]}, {0, &readings[2]}, {0, &readings[3]}, {0, NULL}};
static struct reading *latest = readings;

ISR(USART_RX_vect) {
  char byte = UDR0;
  if (complete) return; /* the last line has not been read yet */
  if (byte == '\n') {
    line[length] = '\0';
    complete = true;
  } else if (length < LINE_SIZE - 1) {
    line[length++] = byte;
  }
}

ISR(INT0_vect) { pressed = true; }

static void send(char byte) {
  while (!(UCSR0A & _BV(UDRE0))) {
  }
  UDR0 = byte;
}

static void show(int16_t temperature) {
  uint8_t lamps = temperature / LAMP_STEP;
  if (temperature == shown) return;
  shown = temperature;
  PORTC = (1 << lamps) - 1;
}

/* The oldest reading makes room for this one. */
static void remember(int16_t is) {
  struct reading *last = latest;
  while (last->before->before != NULL) last = last->before;
  struct reading *first = last->before;
  last->before = NULL;
  first->is = is;
  first->before = latest;
  latest = first;
  if (is > first->before->is)
    PORTB |= _BV(RISING_BIT);
  else
    PORTB &= ~_BV(RISING_BIT);
}

/* A report such as "ramp 12 s, set 340, is 318, heat 412". */
static void read_line(const char *text) {
  const char *is = strstr(text, "is ");
  if (strncmp(text, "FAULT", 5) == 0)
    PORTB |= _BV(ALARM_BIT);
  else
    PORTB &= ~_BV(ALARM_BIT);
  if (is == NULL) return;
  reports++;
  int16_t temperature = atoi(is + 3);
  remember(temperature);
  show(temperature);
}

int main(void) {
  DDRC = 0x3f;
  DDRB = _BV(ALARM_BIT) | _BV(RISING_BIT);
  PORTD = _BV(BUTTON_BIT);
  UBRR0 = (F_CPU + 8 * BAUD_RATE) / (16 * BAUD_RATE) - 1;
  UCSR0B = _BV(RXEN0) | _BV(TXEN0) | _BV(RXCIE0);
  EICRA = _BV(ISC01); /* falling edge */
  EIMSK = _BV(INT0);
  set_sleep_mode(SLEEP_MODE_IDLE);
  sei();
  for (;;) {
    if (complete) {
      read_line((const char *)line);
      length = 0;
      complete = false;
    }
    if (pressed) {
      pressed = false;
      send('G');
      send('\n');
    }
    sleep_mode();
  }
}
