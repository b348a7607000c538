// SPDX-License-Identifier: MIT
// Pauses on each 5th pass of a line and prints what the controller decides, as a test would.
#include <cstdio>
#include <string>

#include "lucid/session.h"

int main(int argc, char** argv) {
  if (argc != 2) return 2;
  lucid::Session session(*lucid::Chip::make({"ATmega328P", 16'000'000}));
  if (auto opened = session.open(std::string(argv[1]) + "/kiln-og.elf"); !opened) {
    std::printf("%s\n", opened.error().text().c_str());
    return 1;
  }
  // The door is closed, and somebody starts the firing.
  if (!session.drive("PD2", false) || !session.feed("USART0", "G\n")) return 1;

  lucid::BreakpointSpec spec;
  spec.place = "kiln.c:145";  // the report, behind the control step
  spec.rule = lucid::BreakpointSpec::Rule::kEvery;
  spec.count = 5;
  if (!session.pause_at(spec)) return 1;
  for (int i = 0; i < 3; ++i) {
    const lucid::Pause pause = session.go();
    std::printf("pass %llu in %s: setpoint %s, heater %s ms\n",
                static_cast<unsigned long long>(pause.passes), pause.where.function.c_str(),
                session.evaluate("setpoint")->text.c_str(),
                session.evaluate("heater_ms")->text.c_str());
  }
  return 0;
}
