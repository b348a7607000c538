#include "board.h"

#include <avr/wdt.h>

static uint8_t beeps_left;
static uint8_t beep_ms;

void board_init(void) {
  MCUSR = 0; /* after a watchdog reset it would go on running */
  wdt_disable();
  DDRB = _BV(HEATER_BIT) | _BV(BUZZER_BIT) | _BV(LAMP_BIT);
  PORTB = 0;
  DDRD &= ~_BV(DOOR_BIT);
  PORTD |= _BV(DOOR_BIT); /* pull-up for the door switch */
  door_init();
  fan_init();
  sensor_init();
}

bool door_is_closed(void) { return (PIND & _BV(DOOR_BIT)) == 0; }

void heater_set(bool on) {
  if (on)
    PORTB |= _BV(HEATER_BIT);
  else
    PORTB &= ~_BV(HEATER_BIT);
}

void lamp_set(bool on) {
  if (on)
    PORTB |= _BV(LAMP_BIT);
  else
    PORTB &= ~_BV(LAMP_BIT);
}

void buzzer_beep(uint8_t count) { beeps_left = count; }

void buzzer_tick(void) {
  if (beeps_left == 0) return;
  if (++beep_ms < 100)
    PINB = _BV(BUZZER_BIT); /* writing a one toggles the pin: 500 Hz */
  else if (beep_ms == 200) {
    beep_ms = 0;
    beeps_left--;
  }
}
