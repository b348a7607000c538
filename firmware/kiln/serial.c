#include "serial.h"

#include <avr/interrupt.h>
#include <avr/io.h>

#define BAUD_RATE 38400UL
#define TX_SIZE 32
#define RX_SIZE 16

static volatile char tx_buffer[TX_SIZE];
static volatile uint8_t tx_head; /* next free place */
static volatile uint8_t tx_tail; /* next to leave */
static volatile char rx_buffer[RX_SIZE];
static volatile uint8_t rx_head;
static volatile uint8_t rx_tail;

void serial_init(void) {
  UBRR0 = (F_CPU + 8 * BAUD_RATE) / (16 * BAUD_RATE) - 1;
  UCSR0C = _BV(UCSZ01) | _BV(UCSZ00);
  UCSR0B = _BV(RXEN0) | _BV(TXEN0) | _BV(RXCIE0);
}

ISR(USART_UDRE_vect) {
  if (tx_tail == tx_head) {
    UCSR0B &= ~_BV(UDRIE0);
    return;
  }
  UDR0 = tx_buffer[tx_tail];
  tx_tail = (tx_tail + 1) % TX_SIZE;
}

ISR(USART_RX_vect) {
  char byte = UDR0;
  uint8_t next = (rx_head + 1) % RX_SIZE;
  if (next == rx_tail) return; /* full: the sender has to wait for our answer */
  rx_buffer[rx_head] = byte;
  rx_head = next;
}

bool serial_get(char *byte) {
  if (rx_tail == rx_head) return false;
  *byte = rx_buffer[rx_tail];
  rx_tail = (rx_tail + 1) % RX_SIZE;
  return true;
}

void serial_put(char byte) {
  uint8_t next = (tx_head + 1) % TX_SIZE;
  while (next == tx_tail) {
  }
  tx_buffer[tx_head] = byte;
  tx_head = next;
  UCSR0B |= _BV(UDRIE0);
}

void serial_text(const char *text) {
  while (*text != '\0') serial_put(*text++);
}

void serial_number(int16_t value) {
  char digits[6];
  uint8_t count = 0;
  uint16_t rest = value;
  if (value < 0) {
    serial_put('-');
    rest = -value;
  }
  do {
    digits[count++] = '0' + rest % 10;
    rest /= 10;
  } while (rest != 0);
  while (count != 0) serial_put(digits[--count]);
}
