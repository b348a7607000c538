/* A control loop in software floating point; for ever. */
#include "rounds.h"
#include <math.h>
#include <stdint.h>

volatile float heater;

int main(void) {
  float temperature = 20, integral = 0, setpoint = 900;
  begin();
  while (another_round()) {
    float error = setpoint - temperature;
    integral += error * 0.01f;
    float on = 0.8f * error + 0.05f * integral;
    if (on > 100) on = 100;
    if (on < 0) on = 0;
    temperature += (on * 12.5f - (temperature - 20) * 0.9f) * 0.001f;
    heater = sqrtf(on) + temperature / 7;
  }
  return 0;
}
