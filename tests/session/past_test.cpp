// SPDX-License-Identifier: MIT
// Going back in time, against worlds that never went back: a chip that is run from the start each
// time, and sessions that only go forwards.
#include <fmt/format.h>

#include <catch2/catch.hpp>
#include <functional>
#include <map>
#include <random>

#include "lucid/bench.h"
#include "lucid/part.h"
#include "lucid/session.h"
#include "tools.h"

using namespace lucid;

namespace {

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
void act(Session& session, Truth& truth, std::mt19937& random, unsigned kinds) {
  const std::uint64_t now = session.chip().cycles();
  const auto note = [&](Act done) { truth.acts.emplace_back(now, std::move(done)); };
  switch (random() % kinds) {
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

void forward(Session& session, std::mt19937& random, std::uint64_t milliseconds) {
  switch (random() % 6) {
    case 0: session.go_for(random() % 2'000'000); break;
    case 1: REQUIRE(session.step(StepKind::kInto, StepUnit::kLine, 1 + random() % 4)); break;
    case 2: REQUIRE(session.step(StepKind::kInto, StepUnit::kInstruction, 1 + random() % 9)); break;
    case 3: REQUIRE(session.step(StepKind::kOver, StepUnit::kLine)); break;
    case 4: session.go_for(random() % 64); break;
    default: session.go_for(Picoseconds{(random() % milliseconds) * 1'000'000'000});
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

namespace {

struct World {
  std::string name;
  Chip::Options options;
  std::string image;
  unsigned kinds;                        ///< of acts, from the list above
  std::vector<const char*> breakpoints;  ///< places, each third pass
  std::uint64_t longest;                 ///< milliseconds of a run
};

/// It writes its EEPROM and its own flash, and the watchdog ends it: again and again.
World restless() {
  const std::string image = test::compiled("restless", R"(
#include <avr/boot.h>
#include <avr/eeprom.h>
#include <avr/fuse.h>
#include <avr/io.h>
#include <avr/wdt.h>
#include <util/delay.h>
FUSES = {.low = 0xff, .high = 0xd8, .extended = 0xff};  // from the boot section, 2048 words
static uint8_t heard;
int main(void) {
  MCUSR = 0;
  wdt_disable();
  const uint8_t boots = eeprom_read_byte((uint8_t *)3);
  eeprom_write_byte((uint8_t *)3, boots + 1);
  UBRR0 = 8;
  UCSR0B = _BV(TXEN0) | _BV(RXEN0);
  const uint16_t page = 0x400 + SPM_PAGESIZE * (boots % 4);
  boot_page_erase(page);
  boot_spm_busy_wait();
  for (uint8_t i = 0; i < SPM_PAGESIZE; i += 2) boot_page_fill(page + i, boots * 257u + i);
  boot_page_write(page);
  boot_spm_busy_wait();
  boot_rww_enable();
  wdt_enable(WDTO_30MS);
  for (uint8_t i = 0;; ++i) {
    if (UCSR0A & _BV(RXC0)) heard = UDR0;
    if (UCSR0A & _BV(UDRE0)) UDR0 = boots + heard;
    if (i < 20) _delay_ms(1);
  }
}
)",
                                           "-Os -g -Wl,--section-start=.text=0x7000");
  return {"restless", {"ATmega328P", 16'000'000}, image, 3, {"eeprom_write_byte"}, 60};
}

World with_panel() {
  auto bench = Bench::open(std::string(LUCID_KILN) + "/kiln-and-panel.bench.toml", "kiln");
  REQUIRE(bench);
  return {"panel", bench->chip, test::kKilnOg, 4, {"control_step"}, 300};
}

}  // namespace

TEST_CASE("at any moment, reached by any means, the world is the one that was") {
  const unsigned seed = test::fresh_seed();
  INFO("seed " << seed);
  std::mt19937 random(seed);
  for (const World& world : {World{"kiln", kiln_options(), test::kKilnOg, 5, {"control_step"}, 300},
                             restless(), with_panel()}) {
    INFO(world.name);
    const bool slow = world.name == "panel";  // each world is made from its start
    Truth truth{world.options, world.image, {}};
    Session session(*Chip::make(truth.options));
    REQUIRE(session.open(truth.image));
    session.set_timeline_bound(400'000);  // so that copies are let go, too
    for (const char* place : world.breakpoints)
      REQUIRE(session.pause_at({place, BreakpointSpec::Rule::kEvery, 3, ""}));
    if (world.name == "kiln") {
      BreakpointSpec data{"into_second in TIMER1_COMPA_vect", BreakpointSpec::Rule::kEvery, 700,
                          ""};
      data.kind = BreakpointSpec::Kind::kChange;
      REQUIRE(session.pause_at(data));
    }
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
    for (unsigned i = 0; i < (slow ? 8 : 40); ++i) {  // a first run
      forward(session, random, world.longest * 3);
      if (random() % 2 == 0) act(session, truth, random, world.kinds);
      session.go_for(Picoseconds{(random() % world.longest) * 1'000'000'000});
    }
    check();
    const unsigned rounds = slow ? 25 : 100;
    for (unsigned i = 0; i < (test::is_short() ? rounds / 4 : rounds); ++i) {
      INFO(i);
      if (random() % 3 == 0)
        forward(session, random, world.longest * 3);
      else
        backward(session, random);
      // Before what was done at this very tick is in the past, too.
      const bool present =
          session.behind().count == 0 &&
          (truth.acts.empty() || truth.acts.back().first < session.chip().cycles());
      if (present && random() % 2 == 0) act(session, truth, random, world.kinds);
      check();
    }
    CHECK(session.timeline().bytes <= (slow ? 4'000'000 : 400'000));
  }
}

namespace {

struct Stand {
  std::uint64_t cycles = 0, hash = 0;
  std::string levels;  ///< which function is where in which
  std::string text;
};
Stand stand(const Session& session) {
  const Location& where = session.pause().where;
  std::string levels;
  for (const CallLevel& level : session.callers())
    levels += fmt::format(":{} / {}", level.where.line, level.where.function);
  levels.erase(levels.rfind(':'), levels.rfind('/') - levels.rfind(':'));  // it goes on there
  return {session.chip().cycles(), session.chip().hash(), levels,
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
  // At length, and more builds: LUCID_STEPS.
  const char* wanted = std::getenv("LUCID_STEPS");
  const auto count = wanted != nullptr  ? static_cast<unsigned>(std::strtoul(wanted, nullptr, 10))
                     : test::is_short() ? 6U
                                        : 500U;
  std::vector<Row> rows{{test::kKilnOg, count}, {test::kKilnOs, count}};
  for (const std::string level : {"-Og", "-O2", "-O0", "-O1", "-Os"})
    rows.push_back({test::compiled("past" + level, kSteps, level + " -gdwarf-4"),
                    rows.size() < 4 ? count : std::min(count, 70U)});
  // A step back by line goes through what functions share, and what comes in between.
  rows.push_back({test::compiled("past-shared", kSteps, "-O0 -gdwarf-4 -mcall-prologues"),
                  std::min(count, 400U)});
  if (wanted != nullptr)
    for (const std::string flags :
         {"", " -gdwarf-5", " -fno-inline", " -mrelax", " -mcall-prologues"})
      for (const std::string level : {"-Og", "-O2", "-O0", "-O1", "-Os"}) {
        const std::string name = "past" + level + std::to_string(rows.size());
        rows.push_back({test::compiled(name, kSteps, level + " -gdwarf-4" + flags), count});
      }
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

TEST_CASE("a reset ends a step, and can be gone back before") {
  const std::string image = test::compiled("bites", R"(#include <avr/wdt.h>
#include <stdint.h>
volatile uint16_t n;
__attribute__((noinline)) void work(void) {
  for (uint16_t i = 0; i < 60000; i++)
    n += i;
}
int main(void) {
  wdt_enable(WDTO_15MS);
  for (;;)
    work();
}
)",
                                           "-Og -gdwarf-4");
  for (const StepKind kind : {StepKind::kOver, StepKind::kOut, StepKind::kInto}) {
    Session session(*Chip::make({"ATmega328P", 16'000'000}));
    REQUIRE(session.open(image));
    REQUIRE(session.go_to(kind == StepKind::kOver ? "bites.c:11" : "work"));
    const std::uint64_t cycles = session.chip().cycles(), hash = session.chip().hash();
    const auto stepped = session.step(kind, StepUnit::kLine, 1'000'000);
    REQUIRE(stepped);
    CHECK(stepped->cause == Pause::Cause::kEvent);
    CHECK(stepped->detail == "the chip has been reset (WDRF)");
    CHECK(session.chip().pc() == 0);
    REQUIRE(session.step(StepKind::kInto, StepUnit::kLine));  // the next life
    REQUIRE(session.back_for(session.chip().cycles() - cycles));
    CHECK(session.chip().hash() == hash);
  }
}

TEST_CASE("passes are those of the moment, from wherever one comes") {
  // Passed without a pause, by the machine itself; a session that only goes forwards has the truth.
  const unsigned seed = test::fresh_seed();
  INFO("seed " << seed);
  std::mt19937 random(seed);
  for (const char* condition : {"", "ticks % 5 != 1"})
    for (const std::uint64_t every : {std::uint64_t{997}, std::uint64_t{1'000'000}}) {
      INFO(condition << " every " << every);
      BreakpointSpec spec{"TIMER1_COMPA_vect", BreakpointSpec::Rule::kEvery, every, condition};
      const auto opened = [&] {
        Session out(*Chip::make(kiln_options()));
        REQUIRE(out.open(test::kKilnOs));
        REQUIRE(out.pause_at(spec));
        return out;
      };
      Session session = opened();
      std::vector<std::uint64_t> pauses;
      const auto limit = Picoseconds{4'200'000'000'000};
      for (;;) {
        const auto left = limit.count - session.chip().time().count;
        if (session.go_for(Picoseconds{left}).cause != Pause::Cause::kBreakpoint) break;
        pauses.push_back(session.chip().cycles());
      }
      CHECK(pauses.size() == (every > 10'000 ? 0 : *condition == 0 ? 4 : 3));
      std::vector<std::uint64_t> moments;
      for (unsigned i = 0; i < 12; ++i) moments.push_back(random() % 67'200'000);
      for (const std::uint64_t cycles : moments) {
        REQUIRE(session.go_to_time(to_time(cycles, 16'000'000)));
        Session forwards = opened();
        while (forwards.chip().cycles() < session.chip().cycles())
          forwards.go_for(session.chip().cycles() - forwards.chip().cycles());
        const Breakpoint here = session.breakpoints().front(),
                         there = forwards.breakpoints().front();
        INFO("at " << session.chip().cycles());
        CHECK(here.passes == there.passes);
        CHECK(here.reached == there.reached);
      }
      while (session.chip().time().count < limit.count) REQUIRE(session.go_to_time(limit));
      while (!pauses.empty()) {
        REQUIRE(session.back());
        CHECK(session.pause().cause == Pause::Cause::kBreakpoint);
        CHECK(session.chip().cycles() == pauses.back());
        pauses.pop_back();
      }
    }
}

TEST_CASE("what was set counts from where it was set; what was spent is there again") {
  Session session(*Chip::make(kiln_options()));
  REQUIRE(session.open(test::kKilnOg));
  session.go_for(Picoseconds{5'500'000'000'000});
  REQUIRE(session.pause_at({"every_second", BreakpointSpec::Rule::kEvery, 2, ""}));  // at 5.5 s
  BreakpointSpec once{"control_step"};
  once.once = true;
  REQUIRE(session.pause_at(once));
  const auto second = [&] { return session.pause().time.count / 1'000'000'000'000; };
  CHECK(session.go().breakpoints == std::vector<unsigned>{2});
  CHECK(second() == 6);
  CHECK(session.breakpoints().size() == 1);
  CHECK(session.go().passes == 2);
  CHECK(second() == 7);
  CHECK(session.go().passes == 4);
  CHECK(second() == 9);
  // Back through all of it: the one for once is met at its place.
  REQUIRE(session.back());
  CHECK(second() == 7);
  CHECK(session.pause().passes == 2);
  CHECK(session.pause().backwards);
  REQUIRE(session.back());
  CHECK(session.pause().breakpoints == std::vector<unsigned>{2});
  // It has no pass rule, and counts before it was set, too; the other one is passed over.
  REQUIRE(session.back());
  CHECK(session.pause().breakpoints == std::vector<unsigned>{2});
  INFO(to_text(session.pause().time));
  CHECK(second() == 5);
  const auto with = session.pause().remarks;
  CHECK(std::any_of(with.begin(), with.end(), [](const std::string& remark) {
    return remark.find("breakpoint 1 counts from 5.500 s on") != remark.npos;
  }));
  REQUIRE(session.back_to_start());
  CHECK(session.chip().cycles() == 0);
  CHECK(session.back().error().code == ErrorCode::kOutOfRange);
  // From here on it counts from here: seconds 2 and 4.
  REQUIRE(session.remove(2));
  CHECK(session.go().passes == 2);
  CHECK(second() == 2);
  REQUIRE(session.revert_to("nowhere").error().code == ErrorCode::kNotFound);
  session.go();
  REQUIRE(session.back(true));
  CHECK(second() == 2);
}

TEST_CASE("the past is heard again, not sent again; an edit there begins another future") {
  struct Ears final : Listener {
    void on_serial(const std::string&, const std::string& bytes) override { sent += bytes; }
    void on_serial_again(const std::string&, const std::string& bytes) override { again += bytes; }
    void on_note(const std::string& text) override { notes += text + "\n"; }
    std::vector<SerialText> on_pace(Picoseconds) override {
      ++asked;
      return {};
    }
    std::string sent, again, notes;
    unsigned asked = 0;
  } ears;
  Session session(*Chip::make(kiln_options()));
  session.set_listener(&ears);
  REQUIRE(session.open(test::kKilnOg));
  session.set_pace({1'000'000'000});
  REQUIRE(session.pause_at({"every_second"}));
  session.go_for(Picoseconds{500'000'000'000});
  REQUIRE(session.drive_for("PD3", true, {700'000'000'000}));  // ends at 1.2 s
  session.all_breakpoints(false);
  session.go_for(Picoseconds{3'600'000'000'000});
  const std::string first = ears.sent;
  const auto bytes = session.bytes_sent();
  CHECK(bytes == first.size());
  REQUIRE(session.mark("late"));
  const std::uint64_t end = session.chip().hash();
  ears.asked = 0;
  REQUIRE(session.back_to_time({2'100'000'000'000}));
  CHECK(session.behind().count == 2'000'000'000'000);
  CHECK(session.bytes_sent() < bytes);
  CHECK(session.inputs().size() == 2);
  REQUIRE(session.back_to_time({1'100'000'000'000}));
  CHECK(session.inputs().size() == 1);  // it has not been let go of
  session.go_for(Picoseconds{3'000'000'000'000});
  CHECK(session.chip().hash() == end);
  CHECK(ears.asked == 0);
  CHECK(ears.sent == first);
  CHECK(first.substr(first.size() - ears.again.size()) == ears.again);
  CHECK(session.bytes_sent() == bytes);
  // Beyond the end all is new.
  session.go_for(Picoseconds{1'000'000'000'000});
  CHECK(ears.asked > 900);
  CHECK(ears.sent.size() > first.size());
  const std::uint64_t present = session.chip().hash();
  const std::uint64_t cycles = session.chip().cycles();

  REQUIRE(session.back_to_time({2'000'000'000'000}));
  REQUIRE(session.let("seconds", "40"));
  CHECK(ears.notes.find("another future; `revert to end1`") != ears.notes.npos);
  CHECK(session.behind().count == 0);
  session.go_for(Picoseconds{2'000'000'000'000});
  CHECK(session.evaluate("seconds")->integer == 42);
  const std::uint64_t other = session.chip().hash();
  // Both futures are there, and what is before each.
  REQUIRE(session.revert_to("end1"));
  CHECK(session.chip().hash() == present);
  REQUIRE(session.back_for(std::uint64_t{40'000'000}));
  CHECK(session.evaluate("seconds")->integer < 6);
  REQUIRE(session.go_to_time(to_time(cycles, 16'000'000)).has_value());
  CHECK(session.chip().hash() == present);
  REQUIRE(session.revert_to("end2"));
  CHECK(session.chip().hash() == other);
  REQUIRE(session.back_for(std::uint64_t{16'000'000}));
  CHECK(session.evaluate("seconds")->integer == 41);
  REQUIRE(session.revert_to("late"));
  CHECK(session.chip().hash() == end);
  // The image ends it all.
  REQUIRE(session.reload());
  CHECK(session.revert_to("late").error().code == ErrorCode::kUsage);
  CHECK(session.marks()[0].image_gone);
  CHECK(session.back().error().code == ErrorCode::kOutOfRange);
}

TEST_CASE("where something was done is a place that one can come to again") {
  Session session(*Chip::make(kiln_options()));
  REQUIRE(session.open(test::kKilnOg));
  REQUIRE(session.go_to("every_second"));
  const std::uint64_t cycles = session.pause().cycles;
  REQUIRE(session.let("seconds", "40"));
  session.go_for(Picoseconds{100'000'000'000});
  const std::uint64_t end = session.chip().hash();
  REQUIRE(session.back_to_start());
  const auto pause = session.go_to("every_second", Picoseconds{2'000'000'000'000});
  REQUIRE(pause);
  CHECK(pause->cycles == cycles);
  CHECK(session.evaluate("seconds")->integer == 0);  // it is not done yet
  session.go_for(Picoseconds{100'000'000'000});
  CHECK(session.chip().hash() == end);
}

TEST_CASE("a time is exact; as it was shown, it means the moment that was shown") {
  Session session(*Chip::make(kiln_options()));
  REQUIRE(session.open(test::kKilnOg));
  session.go_for(Picoseconds{100'000'000'000});  // from 1 ms on, 16 cycles look alike
  std::vector<std::pair<Picoseconds, std::uint64_t>> stands;
  for (int i = 0; i < 100; ++i) {
    REQUIRE(session.step(StepKind::kInto, StepUnit::kInstruction));
    stands.emplace_back(session.chip().time(), session.chip().hash());
  }
  std::map<std::string, Picoseconds> shown;
  for (const auto& [time, hash] : stands) shown[to_text(time)] = time;
  CHECK(shown.size() < stands.size() / 2);
  for (const auto& [text, time] : shown)
    CHECK(session.meant(*parse_time(text)).count == time.count);
  for (std::size_t i = 0; i < stands.size(); ++i) {
    const auto& [time, hash] = stands[i * 37 % stands.size()];
    REQUIRE(session.go_to_time(time));
    CHECK(session.chip().time().count == time.count);
    CHECK(session.chip().hash() == hash);
  }
}

TEST_CASE("supposing and comparing leave no trace") {
  Session session(*Chip::make(kiln_options()));
  REQUIRE(session.open(test::kKilnOg));
  REQUIRE(session.go_to("control_step"));
  REQUIRE(session.mark("here"));
  CHECK(session.compare("here")->differences.empty());
  const std::uint64_t hash = session.chip().hash();
  const auto copies = session.timeline().copies;
  const auto seconds = session.suppose({{"seconds", "1000", {}, {}}}, {2'000'000'000'000});
  REQUIRE(seconds);
  REQUIRE(seconds->supposed);
  CHECK(seconds->as_is->what == "USART0 sends '3'");
  CHECK(seconds->supposed->what == "USART0 sends '1'");
  const auto nothing = session.suppose({{"seconds", "seconds", {}, {}}}, {2'000'000'000'000});
  REQUIRE(nothing);
  CHECK((!nothing->as_is && !nothing->supposed && nothing->at_end.empty()));
  CHECK(session.suppose({{"secnds", "1", {}, {}}}, {1'000'000'000}).error().code ==
        ErrorCode::kNotFound);
  CHECK(session.chip().hash() == hash);
  CHECK(session.timeline().copies == copies);
  CHECK(session.behind().count == 0);
  REQUIRE(session.let("seconds", "9"));
  const auto compared = session.compare("here");
  REQUIRE(compared);
  REQUIRE(compared->differences.size() == 1);
  CHECK(compared->differences[0].name == "seconds");
  CHECK(compared->differences[0].now == "9");
  session.set_timeline(false);
  CHECK(session.back().error().code == ErrorCode::kUsage);
  session.set_timeline(true);
  CHECK(session.back().error().code == ErrorCode::kOutOfRange);
  session.go_for(std::uint64_t{1'000'000});
  CHECK(session.back_for(std::uint64_t{999'999}).has_value());
}

TEST_CASE(
    "a part that keeps something of its own is found out when the past is gone through again") {
  class Counter final : public Part {
   public:
    explicit Counter(std::string pin) : Part("counter"), pin_(std::move(pin)) {}
    [[nodiscard]] std::vector<std::string> pins() const override { return {pin_}; }
    void on_pin(Wires& wires, unsigned, bool) const override {
      wires.number(0) = ++mine_;  // not in its numbers alone
    }
    [[nodiscard]] unsigned numbers() const override { return 1; }
    [[nodiscard]] std::string describe(Wires& wires) const override {
      return std::to_string(wires.number(0));
    }

   private:
    std::string pin_;
    mutable std::int64_t mine_ = 0;
  };
  struct Ears final : Listener {
    void on_note(const std::string& text) override { notes += text + "\n"; }
    std::string notes;
  } ears;
  Chip::Options options;
  options.parts.push_back(std::make_shared<Counter>("PD1"));
  Session session(*Chip::make(options));
  session.set_listener(&ears);
  REQUIRE(session.open(test::kKilnOg));
  session.go_for(std::uint64_t{100'000'000});
  REQUIRE(session.back_to_time({1'000'000'000'000}));
  session.go_for(std::uint64_t{50'000'000});
  CHECK(ears.notes.find("has not led to the same: part counter") != ears.notes.npos);
}
