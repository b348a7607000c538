// SPDX-License-Identifier: MIT
// Firmware tested by a C++ test runner: each expectation is a function whose verdict says what was
// there instead. Here with Catch2; any runner that takes a condition and a text will do.
#include <catch2/catch.hpp>
#include <cstdlib>

#include "lucid/expectation.h"

using lucid::Expectations;
using lucid::Picoseconds;
using lucid::Session;

namespace {

constexpr Picoseconds ms(std::uint64_t n) { return {n * 1'000'000'000}; }

/// The kiln before its first instruction, its door closed. KILN is the folder firmware/kiln.
Session kiln(const std::string& image = "kiln-og") {
  const std::string folder = std::getenv("KILN") != nullptr ? std::getenv("KILN") : "firmware/kiln";
  Session session(*lucid::Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(folder + "/images/" + image + ".elf"));
  REQUIRE(session.drive("PD2", false));
  return session;
}

}  // namespace

/// An expectation has to hold; if it does not, its own words are shown.
#define EXPECT(expectation)             \
  do {                                  \
    const auto verdict = (expectation); \
    REQUIRE(verdict.has_value());       \
    INFO(verdict->text());              \
    CHECK(verdict->held);               \
  } while (false)

TEST_CASE("the kiln says that it is ready, and fires when it is told to") {
  Session session = kiln();
  Expectations expect(session);
  EXPECT(expect.heard("USART0", "kiln ready", ms(2000)));
  EXPECT(expect.that("state == KILN_IDLE"));
  REQUIRE(session.feed("USART0", "G\n"));
  EXPECT(expect.within("state == KILN_RAMP", ms(1500)));
  EXPECT(expect.within("pin.PB5", ms(3000)));  // the heater
}

TEST_CASE("the heater stays off while nobody fires, and the tick keeps its time") {
  Session session = kiln();
  Expectations expect(session);
  session.go_for(ms(5));
  REQUIRE(expect.every("interrupt TIMER1_COMPA", {999'000'000}, {1'001'000'000}));
  REQUIRE(expect.never("pin.PB5"));
  EXPECT(expect.throughout("state == KILN_IDLE", ms(3000)));
  for (const auto& armed : expect.armed()) {
    INFO(armed.text());
    CHECK(armed.held);
  }
}

TEST_CASE("a build with a fault in its control loop heats when it is too hot") {
  Session session = kiln("overshoot");
  Expectations expect(session);
  REQUIRE(session.feed("USART0", "G\nT3000\n"));
  REQUIRE(expect.never("measured > setpoint && heater_ms > 0"));
  session.go_for(ms(10'000));
  const auto broken = expect.broken();
  REQUIRE(broken);
  INFO(broken->text());
  CHECK_FALSE(broken->held);
}
