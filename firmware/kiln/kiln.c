/* Kiln controller: a firing follows a schedule from EEPROM.
 *
 * Commands on the serial port, each ended by a line feed:
 *   T<n>  the chamber has n tenths of a degree (without a sensor)
 *   G     go: start the firing        S  stop
 *   P     print the plan              ?  report at once     D  door closings so far
 */
#include <avr/interrupt.h>
#include <avr/sleep.h>
#include <avr/wdt.h>
#include <stdlib.h>

#include "board.h"
#include "clock.h"
#include "control.h"
#include "plan.h"
#include "schedule.h"
#include "serial.h"

#define HOT_LIMIT 13000 /* 0.1 degrees */
#define COMMAND_SIZE 12
#define LAMP_TEST_MS 125
#define FAN_DUTY 160 /* of 255 */

enum kiln_state { KILN_IDLE, KILN_RAMP, KILN_HOLD, KILN_COOL, KILN_FAULT };

struct ramp {
  int16_t target;
  uint16_t rate;
  uint16_t hold_left;
  uint8_t segment;
};

static enum kiln_state state;
static struct ramp ramp;
static int16_t setpoint;
static int16_t measured = 200;
static uint16_t seconds;
static uint16_t heater_ms;    /* on-time in this window */
static uint16_t window_start; /* ms */
static const char *fault_reason = "";

static const char *const state_names[] = {"idle", "ramp", "hold", "cool", "FAULT"};

static void fail(const char *reason) {
  state = KILN_FAULT;
  fault_reason = reason;
  heater_ms = 0;
  lamp_set(false);
  buzzer_beep(5);
}

static bool load_segment(uint8_t index) {
  struct segment next;
  if (!schedule_segment(index, &next)) return false;
  ramp.segment = index;
  ramp.target = next.target;
  ramp.rate = next.rate;
  ramp.hold_left = next.hold_s;
  state = next.target < setpoint ? KILN_COOL : KILN_RAMP;
  return true;
}

static void start(void) {
  if (state == KILN_FAULT) return;
  if (!door_is_closed()) {
    serial_text("close the door\r\n");
    return;
  }
  setpoint = measured;
  control_reset();
  if (load_segment(0)) lamp_set(true);
}

static void stop(void) {
  state = KILN_IDLE;
  heater_ms = 0;
  lamp_set(false);
}

static void finish(void) {
  stop();
  schedule_count_firing();
  buzzer_beep(3);
}

/* Moves the setpoint towards the target; true when it is there. */
static bool approach(void) {
  int16_t distance = ramp.target - setpoint;
  if (distance > (int16_t)ramp.rate)
    setpoint += ramp.rate;
  else if (distance < -(int16_t)ramp.rate)
    setpoint -= ramp.rate;
  else
    setpoint = ramp.target;
  return setpoint == ramp.target;
}

static void advance(void) {
  switch (state) {
    case KILN_RAMP:
    case KILN_COOL:
      if (approach()) state = KILN_HOLD;
      break;
    case KILN_HOLD:
      if (ramp.hold_left > 0)
        ramp.hold_left--;
      else if (!load_segment(ramp.segment + 1))
        finish();
      break;
    case KILN_IDLE:
    case KILN_FAULT:
      break;
  }
}

static void supervise(void) {
  if (state == KILN_IDLE || state == KILN_FAULT) return;
  if (measured > HOT_LIMIT) fail("too hot");
  if (!door_is_closed()) fail("door open");
}

static void report(void) {
  serial_text(state_names[state]);
  serial_put(' ');
  serial_number(seconds);
  serial_text(" s, set ");
  serial_number(setpoint);
  serial_text(", is ");
  serial_number(measured);
  serial_text(", heat ");
  serial_number(heater_ms);
  if (state == KILN_FAULT) {
    serial_text(", ");
    serial_text(fault_reason);
  }
  serial_text("\r\n");
}

static void every_second(void) {
  seconds++;
  supervise();
  advance();
  if (state != KILN_IDLE && state != KILN_FAULT) heater_ms = control_step(setpoint, measured);
  report();
  fan_set(state == KILN_COOL ? FAN_DUTY : 0);
}

static void every_millisecond(uint16_t now) {
  if ((uint16_t)(now - window_start) >= WINDOW_MS) window_start += WINDOW_MS;
  heater_set((uint16_t)(now - window_start) < heater_ms);
  buzzer_tick();
  sensor_start();
  sensor_read(&measured);
}

static void obey(const char *command) {
  switch (command[0]) {
    case 'T': measured = atoi(command + 1); break;
    case 'G': start(); break;
    case 'S': stop(); break;
    case 'P': plan_print(); break;
    case '?': report(); break;
    case 'D': door_report(); break;
    default: serial_text("what?\r\n"); break;
  }
}

static void poll_commands(void) {
  static char command[COMMAND_SIZE];
  static uint8_t length;
  char byte;
  while (serial_get(&byte)) {
    if (byte == '\n') {
      command[length] = '\0';
      length = 0;
      obey(command);
    } else if (length < COMMAND_SIZE - 1) {
      command[length++] = byte;
    }
  }
}

int main(void) {
  uint16_t last = 0;
  board_init();
  clock_init();
  serial_init();
  set_sleep_mode(SLEEP_MODE_IDLE);
  if (!schedule_is_sound()) fail("schedule damaged");
  sei();
  for (uint8_t blink = 0; blink < 4; blink++) { /* lamp test */
    lamp_set(true);
    clock_wait_ms(LAMP_TEST_MS);
    lamp_set(false);
    clock_wait_ms(LAMP_TEST_MS);
  }
  wdt_enable(WDTO_1S);
  serial_text("kiln ready\r\n");
  for (;;) {
    uint16_t now = clock_ms();
    if (now != last) {
      last = now;
      every_millisecond(now);
    }
    if (clock_second_passed()) every_second();
    poll_commands();
    wdt_reset();
    sleep_mode();
  }
}
