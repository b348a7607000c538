// SPDX-License-Identifier: MIT
// Going back in time, against worlds that never went back: a chip that is run from the start each
// time, and sessions that only go forwards.
#include <fmt/format.h>

#include <catch2/catch.hpp>
#include <functional>
#include <map>
#include <random>

#include "lucid/bench.h"
#include "lucid/session.h"
#include "tools.h"

using namespace lucid;

namespace {

constexpr std::uint64_t kMillisecond = 16'000;
using Act = std::function<void(Chip&)>;

Chip::Options kiln_options() {
  auto bench = Bench::open(std::string(LUCID_KILN) + "/kiln.bench.toml", "");
  REQUIRE(bench);
  bench->chip.name = "ATmega328P";
  return bench->chip;
}

/// What was done, in order, each at its tick; and the world at any moment, run from the start.
struct Truth {
  Chip::Options options;
  std::string image;
  std::vector<std::pair<std::uint64_t, Act>> acts;

  [[nodiscard]] std::uint64_t hash(std::uint64_t tick, std::size_t count) const {
    Chip chip = *Chip::make(options);
    REQUIRE(chip.load(*Image::open(image)));
    for (std::size_t i = 0; i < count; ++i) {
      if (acts[i].first > chip.cycles()) chip.run_for(acts[i].first - chip.cycles());
      acts[i].second(chip);
    }
    if (tick > chip.cycles()) chip.run_for(tick - chip.cycles());
    CHECK(chip.cycles() == tick);
    return chip.hash();
  }
};

/// One of the things that a person does to the kiln; noted for the truth.
void act(Session& session, Truth& truth, std::mt19937& random) {
  const std::uint64_t now = session.chip().cycles();
  const auto note = [&](Act done) { truth.acts.emplace_back(now, std::move(done)); };
  switch (random() % 5) {
    case 0:
      REQUIRE(session.feed("USART0", "G\n"));
      note([](Chip& chip) { REQUIRE(chip.feed("USART0", "G\n")); });
      break;
    case 1: {
      const bool level = random() % 2 != 0;
      REQUIRE(session.drive("PD4", level));
      note([level](Chip& chip) { REQUIRE(chip.drive("PD4", level)); });
      break;
    }
    case 2: {
      const auto value = static_cast<std::uint8_t>(random());
      REQUIRE(session.let("chip.ram[0x3f0]", std::to_string(value)));
      note([value](Chip& chip) { chip.poke({Space::kData, 0x3f0}, value); });
      break;
    }
    case 3: {
      const std::string setting = random() % 2 != 0 ? "on" : "off";
      REQUIRE(session.act("door", "turn", setting));
      note([setting](Chip& chip) { REQUIRE(chip.act("door", "turn", setting)); });
      break;
    }
    default:
      REQUIRE(session.feed("USART0", "P\n"));
      note([](Chip& chip) { REQUIRE(chip.feed("USART0", "P\n")); });
  }
}

void forward(Session& session, std::mt19937& random) {
  switch (random() % 6) {
    case 0: session.go_for(random() % 2'000'000); break;
    case 1: REQUIRE(session.step(StepKind::kInto, StepUnit::kLine, 1 + random() % 4)); break;
    case 2: REQUIRE(session.step(StepKind::kInto, StepUnit::kInstruction, 1 + random() % 9)); break;
    case 3: REQUIRE(session.step(StepKind::kOver, StepUnit::kLine)); break;
    case 4: session.go_for(random() % 64); break;
    default: session.go_for(Picoseconds{(random() % 900) * 1'000'000'000});
  }
}

/// Does it succeed, or say that this is the beginning?
void backward(Session& session, std::mt19937& random) {
  const auto unit = random() % 2 != 0 ? StepUnit::kLine : StepUnit::kInstruction;
  const auto kind = static_cast<StepKind>(random() % 3);
  const std::uint64_t now = session.chip().cycles();
  Result<Pause> pause;
  switch (random() % 7) {
    case 0: pause = session.back_for(random() % (now + 1)); break;
    case 1: pause = session.back_for(std::min<std::uint64_t>(now, random() % 5'000)); break;
    case 2: pause = session.back(); break;
    case 3: pause = session.back_to("TIMER1_COMPA_vect"); break;
    case 4: pause = session.back_until("ticks % 50 == 7"); break;
    default: pause = session.step_back(kind, unit, 1 + random() % 3);
  }
  if (!pause) {
    INFO(pause.error().text());
    CHECK((pause.error().code == ErrorCode::kOutOfRange ||
           pause.error().code == ErrorCode::kNotFound));
    CHECK(session.chip().cycles() == now);
  } else {
    CHECK(session.chip().cycles() <= now);
  }
}

}  // namespace

TEST_CASE("at any moment, reached by any means, the world is the one that was") {
  const unsigned seed = test::fresh_seed();
  INFO("seed " << seed);
  std::mt19937 random(seed);
  Truth truth{kiln_options(), test::kKilnOg, {}};
  Session session(*Chip::make(truth.options));
  REQUIRE(session.open(truth.image));
  session.set_timeline_bound(400'000);  // so that copies are let go, too
  REQUIRE(session.pause_at({"control_step", BreakpointSpec::Rule::kEvery, 3, ""}));
  BreakpointSpec data{"into_second in TIMER1_COMPA_vect", BreakpointSpec::Rule::kEvery, 700, ""};
  data.kind = BreakpointSpec::Kind::kChange;
  REQUIRE(session.pause_at(data));
  const auto check = [&] {
    // How many acts lie before this moment? At its own tick those that have been done.
    const std::uint64_t now = session.chip().cycles();
    std::size_t done = 0;
    for (const auto& [tick, act] : truth.acts) done += tick < now ? 1 : 0;
    std::vector<std::uint64_t> possible{truth.hash(now, done)};
    while (done < truth.acts.size() && truth.acts[done].first == now)
      possible.push_back(truth.hash(now, ++done));
    CHECK(std::count(possible.begin(), possible.end(), session.chip().hash()) > 0);
  };
  for (unsigned i = 0; i < 40; ++i) {  // a first run
    forward(session, random);
    if (random() % 2 == 0) act(session, truth, random);
    session.go_for(Picoseconds{(random() % 300) * 1'000'000'000});
  }
  check();
  for (unsigned i = 0; i < (test::kSanitized ? 40 : 150); ++i) {
    INFO(i);
    if (random() % 3 == 0)
      forward(session, random);
    else
      backward(session, random);
    if (session.behind().count == 0 && random() % 2 == 0) act(session, truth, random);
    check();
  }
  CHECK(session.timeline().bytes <= 400'000);
}

namespace {

struct Stand {
  std::uint64_t cycles = 0, hash = 0;
  std::size_t levels = 0;
  std::string text;
};
Stand stand(const Session& session) {
  const Location& where = session.pause().where;
  return {session.chip().cycles(), session.chip().hash(), session.callers().size(),
          fmt::format("{}:{} {}+{:#x} at {}", where.file, where.line, where.function, where.offset,
                      session.chip().cycles())};
}

const char* const kSteps = R"(#include <avr/interrupt.h>
#include <avr/io.h>
#include <stdint.h>
volatile uint16_t result, ticks;
static uint8_t table[8];
static inline __attribute__((always_inline)) uint8_t mixed(uint8_t a, uint8_t b) {
  uint8_t x = a ^ b;
  x += table[x & 7];
  return x;
}
__attribute__((noinline)) uint16_t factorial(uint8_t n) {
  if (n <= 1)
    return 1;
  uint16_t below = factorial(n - 1);
  return n * below;
}
__attribute__((noinline)) uint8_t chosen(uint8_t n) {
  switch (n & 7) {
    case 0: return 3;
    case 1: result++; break;
    case 2: return table[1];
    case 3: result += 2; break;
    case 4: return table[n >> 4];
    case 5: result ^= 9; break;
    default: return n;
  }
  return n + 1;
}
ISR(TIMER1_COMPA_vect) {
  ticks++;
  table[ticks & 7]++;
}
int main(void) {
  OCR1A = 190;
  TIMSK1 = _BV(OCIE1A);
  TCCR1B = _BV(WGM12) | _BV(CS10);
  sei();
  for (uint8_t i = 0;; i++) {
    result = factorial(1 + (i & 3));
    table[i & 7] = chosen(i);
    for (uint8_t k = 0; k < 3; k++)
      result += mixed(k, i);
    result /= 3;
    float f = result * 0.25f;
    result = (uint16_t)f;
  }
}
)";

}  // namespace

TEST_CASE("a step back undoes a step: into of into, over of over while the level stays") {
  struct Row {
    std::string image;
    unsigned steps;
  };
  std::vector<Row> rows{{test::kKilnOg, 150}, {test::kKilnOs, 150}};
  for (const std::string level : {"-O0", "-Og", "-O1", "-O2", "-Os"})
    rows.push_back({test::compiled("past" + level, kSteps, level + " -gdwarf-4"), 150});
  for (const Row& row : rows)
    for (const StepUnit unit : {StepUnit::kLine, StepUnit::kInstruction})
      for (const StepKind kind : {StepKind::kInto, StepKind::kOver}) {
        Session session(*Chip::make({"ATmega328P", 16'000'000}));
        REQUIRE(session.open(row.image));
        REQUIRE(session.go_to("main"));
        session.go_for(3'000);
        REQUIRE(session.step(StepKind::kInto, StepUnit::kLine));
        std::vector<Stand> stands{stand(session)};
        for (unsigned i = 0; i < row.steps; ++i) {
          REQUIRE(session.step(kind, unit));
          stands.push_back(stand(session));
        }
        unsigned wrong = 0;
        for (std::size_t i = stands.size() - 1; i > 0; --i) {
          const auto back = session.step_back(kind, unit);
          REQUIRE(back);
          const bool same = stands[i].levels == stands[i - 1].levels;
          // An interrupt came where the call had returned: to before it, then to the call.
          if (kind == StepKind::kOver && unit == StepUnit::kInstruction && same &&
              session.chip().cycles() > stands[i - 1].cycles)
            REQUIRE(session.step_back(kind, unit));
          if (session.chip().hash() != stands[i - 1].hash && (kind == StepKind::kInto || same) &&
              ++wrong <= 3) {
            INFO(row.image << (unit == StepUnit::kLine ? " line " : " instruction ")
                           << (kind == StepKind::kInto ? "into" : "over"));
            CHECK(fmt::format("from {}: {}", stands[i].text, stand(session).text) ==
                  fmt::format("from {}: {}", stands[i].text, stands[i - 1].text));
          }
          REQUIRE(session.go_to_time(to_time(stands[i - 1].cycles, 16'000'000)).has_value());
          REQUIRE(session.chip().cycles() == stands[i - 1].cycles);
        }
        CHECK(wrong == 0);
      }
}
