/* How often the door has been closed: the hinges want service now and then. */
#ifndef DOOR_H
#define DOOR_H

void door_init(void);
void door_report(void); /* on the serial port */

#endif
