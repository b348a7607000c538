// SPDX-License-Identifier: MIT
// Bytes, conversions, resets and places that are traced, against what programs note themselves.
#include <catch2/catch.hpp>
#include <map>
#include <random>

#include "lucid/measurement.h"
#include "traces.h"

using namespace lucid;
using namespace test;

TEST_CASE("when places have executed is read off the past", "[tracing]") {
  // As often, and at the same times, as breakpoints there are met.
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(test::kKilnOg));
  const std::vector<std::string> places{"clock_wait_ms", "lamp_set", "clock.c:24", "ADC_vect"};
  std::vector<std::vector<std::uint64_t>> met(places.size());
  std::vector<unsigned> ids;
  for (const std::string& place : places) {
    const auto point = session.pause_at({place});
    REQUIRE(point);
    ids.push_back(point->id);
  }
  const std::uint64_t end = 1'200'000'000'000;
  while (session.chip().time().count < end) {
    const Pause pause = session.go_for(Picoseconds{end - session.chip().time().count});
    for (const unsigned id : pause.breakpoints)
      for (std::size_t i = 0; i < ids.size(); ++i)
        if (ids[i] == id) met[i].push_back(pause.time.count);
  }
  session.all_breakpoints(false);
  const auto hash = session.chip().hash();
  const auto executed = session.executed(places);
  REQUIRE(executed);
  CHECK(session.chip().hash() == hash);
  for (std::size_t i = 0; i < places.size(); ++i) {
    INFO(places[i]);
    const Signal& signal = (*executed)[i];
    std::vector<std::uint64_t> times;
    auto samples = signal.samples();
    while (const auto sample = samples.next()) times.push_back(signal.time(sample->tick).count);
    CHECK(times == met[i]);
    CHECK(!times.empty());
  }
  // A blink of the lamp is called every 125 ms.
  const auto spans = measure_delays((*executed)[1], Edge::kAny, (*executed)[1], Edge::kAny, {},
                                    Picoseconds{UINT64_MAX});
  REQUIRE(spans);
  CHECK(spans->count == met[1].size() - 1);
  std::uint64_t times = 0;
  for (const Spans::Length& one : spans->lengths) times += one.times;
  CHECK(times == spans->count);
  CHECK(spans->lengths.front().length.count == spans->least.count);
  CHECK(spans->lengths.back().length.count == spans->most.count);
  // In the past it is the past up to there.
  REQUIRE(session.go_to_time(Picoseconds{end / 2}));
  const auto half = session.executed({"lamp_set"});
  REQUIRE(half);
  CHECK((*half)[0].changes() < met[1].size());
  CHECK(!session.executed({"nowhere"}));
  session.set_timeline(false);
  CHECK(!session.executed({"main"}));
}

namespace {

std::vector<Sample> moments_of(const Session& session, const std::string& name) {
  const auto signal = session.signal(name);
  REQUIRE(signal);
  std::vector<Sample> out;
  auto all = signal->samples();
  while (const auto sample = all.next()) out.push_back(*sample);
  return out;
}

std::uint64_t number(Session& session, const std::string& expression) {
  const auto value = session.evaluate(expression);
  REQUIRE(value);
  return static_cast<std::uint64_t>(value->integer);
}

/// Sends and converts, and keeps what it has sent and read.
const char* const kBuses = R"(
#include <avr/io.h>
#include <avr/wdt.h>
uint8_t sent[16], received[16], addresses[4];
uint16_t results[8];
volatile uint8_t done;
int main(void) {
  DDRB = 0x2c;
  SPCR = _BV(SPE) | _BV(MSTR);
  for (uint8_t i = 0; i < 16; i++) {
    sent[i] = i * 37 + 5;
    if (i & 1) PORTB |= _BV(4); else PORTB &= ~_BV(4);  // the pull-up of MISO
    SPDR = sent[i];
    while (!(SPSR & _BV(SPIF))) {}
    received[i] = SPDR;
  }
  TWBR = 32;
  for (uint8_t i = 0; i < 4; i++) {
    TWCR = _BV(TWINT) | _BV(TWSTA) | _BV(TWEN);
    while (!(TWCR & _BV(TWINT))) {}
    TWDR = addresses[i] = i * 50 + 2;
    TWCR = _BV(TWINT) | _BV(TWEN);
    while (!(TWCR & _BV(TWINT))) {}
    TWCR = _BV(TWINT) | _BV(TWSTO) | _BV(TWEN);
    while (TWCR & _BV(TWSTO)) {}
  }
  ADMUX = _BV(REFS0) | 14;
  ADCSRA = _BV(ADEN) | _BV(ADSC) | _BV(ADATE) | _BV(ADPS1) | _BV(ADPS0);
  for (uint8_t i = 0; i < 8; i++) {
    while (!(ADCSRA & _BV(ADIF))) {}
    results[i] = ADC;
    ADCSRA |= _BV(ADIF);
  }
  wdt_enable(WDTO_1S);
  for (uint8_t i = 0; i < 8; i++) {
    for (volatile uint16_t n = 0; n < 400 * (i + 1); n++) {}  // conversions go on
    wdt_reset();
  }
  ADCSRA = 0;
  done = 1;
  for (;;) wdt_reset();
}
)";

}  // namespace

TEST_CASE("bytes over buses, conversions and the watchdog's resets are what the program has",
          "[tracing]") {
  std::mt19937 random(test::fresh_seed());
  const std::string image = test::compiled("tracing-buses", kBuses, "-Os -gdwarf-4 -mrelax");
  const std::vector<std::string> all{"byte out SPI", "byte in SPI", "byte out TWI",
                                     "byte in TWI",  "conversion",  "watchdog"};
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(image));
  trace(session, all);
  trace(session, {"pin.PB3", "pin.PB5"});
  Session plain(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(plain.open(image));
  while (number(session, "done") != 1) session.go_for(std::uint64_t{10'000});
  plain.go_for(session.chip().cycles());
  CHECK(plain.chip().hash() == session.chip().hash());

  const auto out = moments_of(session, "byte out SPI"), in = moments_of(session, "byte in SPI");
  REQUIRE(out.size() == 16);
  REQUIRE(in.size() == 16);
  for (unsigned i = 0; i < 16; ++i) {
    CHECK(out[i].value == number(session, "sent[" + std::to_string(i) + "]"));
    CHECK(in[i].value == number(session, "received[" + std::to_string(i) + "]"));
    CHECK(in[i].tick - out[i].tick == 15 * 2);  // from the first edge of the clock to the last one
  }
  CHECK(in[0].value != in[1].value);
  Session::DecodeSpec wires{Session::DecodeSpec::Kind::kSpi, {"pin.PB5", "pin.PB3"}};
  const auto decoded = session.decode(wires);
  REQUIRE(decoded);
  REQUIRE(decoded->data.size() == 16);
  for (unsigned i = 0; i < 16; ++i) CHECK(decoded->data[i].value == out[i].value);
  const auto addresses = moments_of(session, "byte out TWI");
  REQUIRE(addresses.size() == 4);
  for (unsigned i = 0; i < 4; ++i)
    CHECK(addresses[i].value == number(session, "addresses[" + std::to_string(i) + "]"));
  CHECK(moments_of(session, "byte in TWI").empty());

  // "ADC Conversion Time": 13 cycles of its clock each, the first 25.
  const auto conversions = moments_of(session, "conversion");
  REQUIRE(conversions.size() > 100);
  for (unsigned i = 0; i < conversions.size(); ++i) {
    if (i != 0) CHECK(conversions[i].tick - conversions[i - 1].tick == 13 * 8);
    CHECK(conversions[i].value == 1100 * 1024 / 5000);
    if (i < 8) CHECK(conversions[i].value == number(session, "results[" + std::to_string(i) + "]"));
  }
  const auto fed = moments_of(session, "watchdog");
  REQUIRE(fed.size() >= 9);  // enabling resets it, too
  for (unsigned i = 2; i < 9; ++i) {
    const double share = static_cast<double>(fed[i].tick - fed[i - 1].tick) / 16e6 / 1.0;
    CHECK(session.signal("watchdog")->number(fed[i]) == Approx(100 * share).margin(3.0));
  }

  SECTION("with pauses anywhere, and afterwards") {
    Session other(*Chip::make({"ATmega328P", 16'000'000}));
    REQUIRE(other.open(image));
    trace(other, all);
    while (other.chip().cycles() < session.chip().cycles())
      other.go_for(std::min(session.chip().cycles() - other.chip().cycles(),
                            std::uint64_t{1} + random() % 900));
    trace(plain, all, true);
    for (const std::string& name : all) {
      INFO(name);
      const auto truth = moments_of(session, name);
      for (const Session* with : {&other, &plain}) {
        const auto found = moments_of(*with, name);
        REQUIRE(found.size() == truth.size());
        for (std::size_t i = 0; i < found.size(); ++i) {
          CHECK(found[i].tick == truth[i].tick);
          CHECK(found[i].value == truth[i].value);
        }
      }
    }
  }
}

TEST_CASE("a trace with places tells which instruction made each change", "[tracing]") {
  Session session = kiln();
  for (const char* signal : {"pin.PB0", "seconds", "heater_ms"})
    REQUIRE(session.trace({signal, {}, {}, false, true}));
  REQUIRE(session.trace({"state"}));
  std::map<std::string, std::vector<std::pair<std::uint64_t, std::uint32_t>>> stores;
  // The same by data breakpoints: the instruction before the pause has stored.
  Session other = kiln();
  std::map<unsigned, std::string> of;
  for (const char* variable : {"seconds", "heater_ms"}) {
    BreakpointSpec spec;
    spec.place = variable;
    spec.kind = BreakpointSpec::Kind::kChange;
    const auto point = other.pause_at(spec);
    REQUIRE(point);
    of[point->id] = variable;
  }
  const Picoseconds end{4'000'000'000'000};
  while (other.chip().time().count < end.count) {
    const Pause pause = other.go_for(Picoseconds{end.count - other.chip().time().count});
    if (pause.cause != Pause::Cause::kData) break;
    REQUIRE(pause.data);
    for (const unsigned id : pause.breakpoints)
      stores[of[id]].emplace_back(other.chip().cycles(), pause.data->by.address);
  }
  session.go_for(end);
  CHECK(session.signal("state")->places() == nullptr);
  for (const auto& [name, list] : stores) {
    INFO(name);
    const auto signal = session.signal(name);
    REQUIRE(signal);
    REQUIRE(signal->places() != nullptr);
    CHECK_FALSE(list.empty());
    for (const auto& [tick, pc] : list) {
      const Sample place = signal->places()->at(tick);
      REQUIRE(place.known());
      CHECK(place.value == pc);
      const auto& line = session.program().line_at(pc);
      REQUIRE(line);
      CHECK(signal->places()->text(place).find(":" + std::to_string(line->line)) !=
            std::string::npos);
    }
  }
}
