/* From temperature to heater time: proportional-integral control in fixed point. */
#ifndef CONTROL_H
#define CONTROL_H

#include <stdint.h>

#define WINDOW_MS 1000 /* the heater is switched in slices of this window */

void control_reset(void);
/* Once a second: how many milliseconds of the next window the heater is on. */
uint16_t control_step(int16_t setpoint, int16_t measured);

#endif
