// SPDX-License-Identifier: MIT
// Expectations: each verdict against the moment that arithmetic, or going there by hand, gives.
#include <catch2/catch.hpp>

#include "lucid/bench.h"
#include "lucid/expectation.h"
#include "tools.h"

using namespace lucid;

namespace {

constexpr Picoseconds ms(std::uint64_t n) { return {n * 1'000'000'000}; }

Session kiln() {
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(test::kKilnOg));
  return session;
}

/// Where a session stands after going somewhere by other means.
std::uint64_t cycles_at(const std::string& place, unsigned pass) {
  Session session = kiln();
  BreakpointSpec spec{place};
  spec.rule = BreakpointSpec::Rule::kOn;
  spec.count = pass;
  REQUIRE(session.pause_at(spec));
  return session.go().cycles;
}

}  // namespace

TEST_CASE("an expectation ends where it is decided, and says what was there") {
  struct Case {
    const char* name;
    Result<Expectation> (*expect)(Expectations&);
    bool held;
    const char* instead;   ///< a part of it
    std::uint64_t cycles;  ///< where it ends, give or take a handler
  };
  const std::uint64_t second = cycles_at("every_second", 1);
  const Case cases[] = {
      {"now", [](Expectations& e) { return e.that("seconds == 0"); }, true, "", 0},
      {"now, not", [](Expectations& e) { return e.that("seconds > 0"); }, false, "it is 0 > 0", 0},
      {"holds already", [](Expectations& e) { return e.within("seconds == 0", ms(5)); }, true, "",
       0},
      {"holds in time", [](Expectations& e) { return e.within("seconds == 1", ms(2000)); }, true,
       "", second},
      {"too late", [](Expectations& e) { return e.within("seconds == 1", ms(900)); }, false,
       "after 900.000 ms it is 0 == 1", 14'400'000},
      {"long enough", [](Expectations& e) { return e.throughout("seconds == 0", ms(900)); }, true,
       "", 14'400'000},
      {"not long enough", [](Expectations& e) { return e.throughout("seconds == 0", ms(2000)); },
       false, "it is 1 == 0", second},
      {"never was", [](Expectations& e) { return e.throughout("seconds == 1", ms(1)); }, false,
       "it is 0 == 1", 0},
      {"reached", [](Expectations& e) { return e.reaches("every_second", ms(2000)); }, true, "",
       second},
      {"not reached", [](Expectations& e) { return e.reaches("every_second", ms(10)); }, false,
       "it was not reached", 160'000},
      {"not sent", [](Expectations& e) { return e.heard("USART0", "kiln", ms(900)); }, false,
       "it was not sent", 14'400'000},
      {"no fault", [](Expectations& e) { return e.fault(ms(1)); }, false, "there was none", 16'000},
  };
  for (const Case& c : cases)
    for (const bool breakpoints : {false, true}) {
      INFO(c.name);
      Session session = kiln();
      if (breakpoints) {  // on the way: they count, and do not pause
        BreakpointSpec tick{"TIMER1_COMPA"};
        tick.kind = BreakpointSpec::Kind::kInterrupt;
        REQUIRE(session.pause_at(tick));
        REQUIRE(session.pause_at({"every_second"}));
      }
      Expectations expect(session);
      const auto got = c.expect(expect);
      REQUIRE(got);
      CHECK(got->held == c.held);
      CHECK(got->instead.find(c.instead) != std::string::npos);
      CHECK(got->time.count == session.chip().time().count);
      CHECK(session.chip().cycles() >= c.cycles);
      CHECK(session.chip().cycles() - c.cycles < 100);
      if (breakpoints && c.cycles > 14'000'000) CHECK(session.breakpoints()[0].passes > 850);
    }
}

TEST_CASE("a text is heard behind its last byte, whatever pauses between") {
  // 38400 baud of 16 MHz, 8N1: a bit takes 16 * (25 + 1) cycles, a byte ten of them.
  constexpr std::uint64_t kByte = 10 * 16 * 26;
  Session plain = kiln();
  Expectations expect(plain);
  REQUIRE(expect.heard("USART0", "kiln ready", ms(2000)).value());
  const std::uint64_t whole = plain.chip().cycles();
  Session paused = kiln();
  BreakpointSpec bytes{"USART0"};
  bytes.kind = BreakpointSpec::Kind::kByteOut;
  REQUIRE(paused.pause_at(bytes));
  Expectations too(paused);
  REQUIRE(too.heard("USART0", "kiln", ms(2000)).value());
  CHECK(whole - paused.chip().cycles() >= 6 * kByte - 100);
  CHECK(whole - paused.chip().cycles() < 6 * kByte + 100);
  REQUIRE(too.heard("USART0", " ready", ms(2000)).value());
  CHECK(paused.chip().cycles() == whole);
  CHECK_FALSE(too.heard("USART0", "kiln", ms(100)).value());  // that was before
}

TEST_CASE("what must be so from here on breaks at its moment, once") {
  Session session = kiln();
  Expectations expect(session);
  REQUIRE(expect.never("seconds == 2").value() == 1);
  REQUIRE(expect.never("seconds == 0").value() == 0);
  auto broken = expect.broken();
  REQUIRE(broken);
  CHECK(broken->expected == "never seconds == 0");
  session.go_for(ms(1500));
  CHECK_FALSE(expect.broken());
  CHECK(expect.armed().at(0).held);
  session.go();
  broken = expect.broken();
  REQUIRE(broken);
  CHECK(broken->expected == "never seconds == 2");
  CHECK(session.evaluate("seconds")->integer == 2);
  CHECK_FALSE(expect.broken());
  CHECK(expect.armed().empty());

  // The tick comes every millisecond.
  struct Case {
    const char* signal;
    std::uint64_t least, most;  ///< us
    std::uint64_t at;           ///< us where it breaks, counted from the start; 0: it does not
  };
  const Case cases[] = {{"interrupt TIMER1_COMPA", 990, 1010, 0},
                        {"interrupt TIMER1_COMPA", 500, 990, 5990},
                        {"interrupt TIMER1_COMPA", 1010, 1100, 6000},
                        {"chip.TIFR1.OCF1A", 990, 1010, 0},
                        {"pin.PD0", 1, 20'000, 25'000}};
  for (const Case& c : cases) {
    INFO(c.signal << " " << c.least << ".." << c.most);
    Session machine = kiln();
    machine.go_for(ms(5));  // the tick runs
    Expectations from_start(machine);
    REQUIRE(from_start.every(c.signal, {c.least * 1'000'000}, {c.most * 1'000'000}));
    machine.go_for(ms(c.at == 0 ? 100 : 400));
    const auto broke = from_start.broken();
    REQUIRE(broke.has_value() == (c.at != 0));
    if (!broke) continue;
    // The timer begins some cycles behind the start.
    CHECK(broke->time.count / 1'000'000 >= c.at);
    CHECK(broke->time.count / 1'000'000 < c.at + 200);
    CHECK(machine.chip().time().count <= broke->time.count);
    CHECK(broke->time.count - machine.chip().time().count < 1'000'000);
  }
  // What is not looked for has not held.
  for (const auto& off : {+[](Session& s) { s.all_breakpoints(false); },
                          +[](Session& s) { REQUIRE(s.enable(1, false)); },
                          +[](Session& s) { REQUIRE(s.remove(1)); }}) {
    Session machine = kiln();
    Expectations blind(machine);
    REQUIRE(blind.never("seconds == 9"));
    machine.go_for(ms(1));
    CHECK_FALSE(blind.broken());
    off(machine);
    machine.go_for(ms(1));
    const auto broke = blind.broken();
    REQUIRE(broke);
    CHECK(broke->instead.find("cannot be told") != std::string::npos);
  }
  // A trace that is cleared has been judged.
  Session cleared = kiln();
  cleared.go_for(ms(5));
  Expectations tick(cleared);
  REQUIRE(tick.every("interrupt TIMER1_COMPA", {990'000'000}, {1'010'000'000}));
  cleared.go_for(ms(20));
  CHECK_FALSE(tick.broken());
  cleared.clear_traces();
  cleared.go_for(ms(20));
  CHECK_FALSE(tick.broken());
  CHECK_FALSE(expect.every("pin.PB5", ms(2), ms(1)));
  CHECK_FALSE(expect.every("no such thing", ms(1), ms(2)));
  CHECK_FALSE(expect.never("1 +"));
}

TEST_CASE("what breaks from here on ends what is waited for") {
  Session session = kiln();
  Expectations expect(session);
  REQUIRE(expect.never("seconds == 1"));
  const auto waited = expect.within("seconds == 3", ms(5000));
  REQUIRE(waited);
  CHECK_FALSE(waited->held);
  CHECK(waited->expected == "never seconds == 1");
  session.set_limit(ms(10));
  CHECK(expect.within("seconds == 3", ms(5000)).error().code == ErrorCode::kOutOfRange);
  session.set_limit({});
  session.request_pause();
  CHECK(expect.within("seconds == 3", ms(5000)).error().code == ErrorCode::kUsage);
}
