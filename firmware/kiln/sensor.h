/* Chamber temperature: a thermocouple amplifier on ADC0, 3 mV a degree. */
#ifndef SENSOR_H
#define SENSOR_H

#include <stdint.h>

void sensor_init(void);
void sensor_start(void); /* call each millisecond: one conversion */
/* Stores tenths of a degree when a new average is there. Without an amplifier the pin reads as
 * nought; then nothing is stored. */
void sensor_read(int16_t *tenths);

#endif
