// SPDX-License-Identifier: MIT
// What the tests of traces share.
#ifndef LUCID_TESTS_SESSION_TRACES_H
#define LUCID_TESTS_SESSION_TRACES_H

#include <catch2/catch.hpp>
#include <set>
#include <sstream>
#include <string>
#include <vector>

#include "lucid/bench.h"
#include "lucid/session.h"
#include "lucid/waveform.h"
#include "tools.h"

namespace test {

using namespace lucid;

inline Session kiln(const std::string& image = test::kKilnOg) {
  auto bench = Bench::open(std::string(LUCID_KILN) + "/kiln.bench.toml", "");
  REQUIRE(bench);
  bench->chip.name = "ATmega328P";
  Session session(*Chip::make(bench->chip));
  REQUIRE(session.open(image));
  return session;
}

inline void trace(Session& session, const std::vector<std::string>& signals,
                  bool from_start = false) {
  for (const std::string& signal : signals) {
    INFO(signal);
    const auto done = session.trace({signal, {}, {}, from_start});
    if (!done) FAIL(done.error().text());
  }
}

inline const std::vector<std::string> kManySignals{"pin.PB5",        "pin.PB0",
                                                   "pin.PD1",        "pin.PD",
                                                   "heater_ms",      "state",
                                                   "ramp.target",    "setpoint - measured",
                                                   "seconds",        "interrupt",
                                                   "interrupt ADC",  "byte out",
                                                   "byte in USART0", "part chamber",
                                                   "voltage PC0",    "sleep",
                                                   "chip.ADCSRA",    "chip.TIFR1.OCF1A",
                                                   "chip.UCSR0A",    "chip.OCR1A",
                                                   "eeprom write",   "conversion",
                                                   "watchdog",       "byte out SPI",
                                                   "reset",          "chip.eeprom[0]",
                                                   "match OC1A",     "overflow TIMER2",
                                                   "pin.PD2",        "error in control_step",
                                                   "value in clamp"};

/// All that has been recorded, up to a time.
inline std::string recorded(const Session& session, Picoseconds to = {UINT64_MAX}) {
  std::ostringstream out;
  REQUIRE(write_waveforms(out, WaveformKind::kCsv, session.signals(), {}, to));
  return out.str();
}

/// Equal, or what differs first.
inline void check_same(const std::string& a, const std::string& b) {
  std::istringstream one(a), other(b);
  std::string x, y, before;
  for (unsigned line = 1;; ++line) {
    const bool more = static_cast<bool>(std::getline(one, x));
    const bool as_well = static_cast<bool>(std::getline(other, y));
    if (!more && !as_well) return;
    INFO("line " << line << " behind " << before);
    REQUIRE((more ? x : "its end") == (as_well ? y : "its end"));
    before = x;
  }
}

inline std::uint64_t ticks_of(const Session& session) { return session.chip().cycles(); }

/// Some of each function, as they are traced: `error in control_step`.
inline std::vector<std::string> locals_of(const Program& program) {
  std::vector<std::string> out;
  for (const Function& function : program.functions()) {
    if (!function.has_lines) continue;
    std::set<std::string> names;
    for (const LineRange& line : program.lines_in(function.begin, function.end))
      if (program.inlined_at(line.begin).empty())
        for (const Local* local : program.locals_at(line.begin))
          if (local->inlined < 0 && names.size() < 3) names.insert(local->name);
    for (const std::string& name : names) out.push_back(name + " in " + function.name);
  }
  return out;
}

}  // namespace test

#endif  // LUCID_TESTS_SESSION_TRACES_H
