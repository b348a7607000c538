/* USART0 at 38400 baud through two ring buffers. */
#ifndef SERIAL_H
#define SERIAL_H

#include <stdbool.h>
#include <stdint.h>

void serial_init(void);
bool serial_get(char *byte); /* false if nothing has arrived */
void serial_put(char byte);  /* waits while the buffer is full */
void serial_text(const char *text);
void serial_number(int16_t value);

#endif
