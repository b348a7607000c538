/* The cooling fan: PWM on OC2B. */
#ifndef FAN_H
#define FAN_H

#include <stdint.h>

void fan_init(void);
void fan_set(uint8_t duty); /* 0: off */

#endif
