// The kiln's controller on another processor: a timer's interrupt counts, the serial port hears
// commands, a ramp is followed. For tests of what lies above an instruction set.
#include <stdint.h>

#define CSR ".option arch, +zicsr\n"
#define IO(n) (*(volatile uint32_t*)(0x40000000u + 4 * (n)))
#define PIN_DIRECTION IO(0)
#define PIN_OUT IO(1)
#define PIN_IN IO(2)
#define PIN_RISING IO(3)
#define PIN_PENDING IO(4)
#define TIMER_COUNT IO(5)
#define TIMER_COMPARE IO(6)
#define TIMER_CONTROL IO(7)
#define SERIAL_DATA IO(8)
#define SERIAL_STATUS IO(9)
#define SERIAL_DIVIDER IO(10)
#define SERIAL_CONTROL IO(11)

struct ramp {
  int16_t target;
  uint8_t rate, held;
  int64_t energy;
  const char* name;
};

enum state { IDLE, HEATING, HOLDING = 0x100 };

volatile uint32_t ticks;
volatile uint8_t command;
enum state state;
struct ramp ramp = {200, 3, 0, 0, "slow"};
int16_t history[8];
static const int16_t curve[4] = {-5, 0, 40, 300};
double level;

__attribute__((interrupt)) void on_timer(void) {
  TIMER_COMPARE += 2000;
  ticks++;
}
__attribute__((interrupt)) void on_serial(void) { command = SERIAL_DATA; }
__attribute__((interrupt)) void on_pins(void) {
  PIN_PENDING = 1;
  state = IDLE;
}
__attribute__((naked, aligned(128))) void vectors(void) {
  __asm__ volatile(
      ".option push\n.option norelax\n"
      ".rept 7\nj .\n.endr\nj on_timer\n"
      ".rept 8\nj .\n.endr\nj on_pins\nj on_serial\n.option pop");
}

__attribute__((noinline)) void say(const char* text) {
  while (*text != 0) {
    while ((SERIAL_STATUS & 2) != 0) {
    }
    SERIAL_DATA = (uint8_t)*text++;
  }
}

__attribute__((noinline)) int sum_to(int n) {
  if (n <= 0) return 0;
  int rest = sum_to(n - 1);
  return rest + n;
}

__attribute__((noinline)) int16_t control_step(struct ramp* r, int16_t now) {
  int16_t error = r->target - now;
  int16_t step = error > 40 ? 40 : error;
  r->energy += (int64_t)step * 1000000;
  for (unsigned i = 7; i > 0; --i) history[i] = history[i - 1];
  history[0] = now;
  return now + step / (r->rate == 0 ? 1 : r->rate) + curve[now & 3] / 100;
}

__attribute__((noinline)) uint64_t mixed(uint8_t a, uint16_t b, int32_t c, int64_t d) {
  uint64_t out = (uint64_t)a * b;
  out += (uint64_t)(c * 3);
  return out ^ (uint64_t)d;
}

int main(void) {
  int16_t now = 20;
  __asm__ volatile(CSR "csrw mtvec, %0" ::"r"((uint32_t)vectors | 1));
  __asm__ volatile(CSR "csrw mie, %0" ::"r"(1u << 7 | 1u << 16 | 1u << 17));
  SERIAL_DIVIDER = 8;
  SERIAL_CONTROL = 1;
  PIN_DIRECTION = 2;
  PIN_RISING = 1;
  TIMER_COMPARE = TIMER_COUNT + 2000;
  TIMER_CONTROL = 1;
  __asm__ volatile(CSR "csrsi mstatus, 8");
  say("kiln ready\n");
  for (;;) {
    uint32_t seen = ticks;
    now = control_step(&ramp, now);
    level = now * 1.5;
    PIN_OUT = now > 100 ? 0 : 2;
    if (command == 'S') {
      state = HEATING;
      command = 0;
      ramp.held = (uint8_t)sum_to(5);
    }
    ramp.energy += (int64_t)mixed(3, 500, -7, ramp.energy);
    while (ticks == seen) __asm__ volatile("wfi");
  }
}
