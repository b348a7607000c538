// SPDX-License-Identifier: MIT
// On the Arduino core: a lamp, its brightness and a line of text, again and again.
#include <Arduino.h>

volatile uint32_t rounds;

void setup() {
  pinMode(LED_BUILTIN, OUTPUT);
  Serial.begin(115200);
}

void loop() {
  digitalWrite(LED_BUILTIN, rounds & 1 ? HIGH : LOW);
  analogWrite(9, rounds & 0xff);
  Serial.print(F("round "));
  Serial.print(rounds);
  Serial.print(F(" at "));
  Serial.println(millis() / 1000.0);
  delay(2);
  ++rounds;
}
