/* Milliseconds and seconds from Timer1. */
#ifndef CLOCK_H
#define CLOCK_H

#include <stdbool.h>
#include <stdint.h>

void clock_init(void);
uint16_t clock_ms(void);          /* wraps every 65.5 s */
bool clock_second_passed(void);   /* true once a second */
void clock_wait_ms(uint16_t span);

#endif
