/* What hangs on which pin of the kiln's ATmega328P. */
#ifndef BOARD_H
#define BOARD_H

#include <avr/io.h>
#include <stdbool.h>
#include <stdint.h>

#include "door.h"
#include "fan.h"
#include "sensor.h"

#define HEATER_BIT PB5 /* contactor, on when high */
#define BUZZER_BIT PB1 /* piezo, toggled by the firmware */
#define LAMP_BIT PB0   /* lit while a firing runs */
#define DOOR_BIT PD2   /* switch to ground: low while the door is closed */

void board_init(void);
bool door_is_closed(void);
void heater_set(bool on);
void lamp_set(bool on);
void buzzer_tick(void); /* call each millisecond: sounds while beeps are left */
void buzzer_beep(uint8_t count);

#endif
