/* How often the door has been closed: the hinges want service now and then. */
#ifndef DOOR_H
#define DOOR_H

#include <stdint.h>

void door_init(void);
uint8_t door_closings(void);

#endif
