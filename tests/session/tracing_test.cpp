// SPDX-License-Identifier: MIT
// Traces, against sessions that are stepped and looked at, and against themselves by other ways.
#include <fmt/format.h>

#include <catch2/catch.hpp>
#include <functional>
#include <map>
#include <random>

#include "lucid/measurement.h"
#include "traces.h"

using namespace lucid;
using namespace test;

TEST_CASE("a trace is what one sees by stepping", "[tracing]") {
  struct Look {
    const char* signal;
    std::function<std::uint64_t(const Session&)> now;
    bool wide = false;
  };
  const auto value = [](const char* expression) {
    return [expression](const Session& s) {
      const auto v = s.evaluate(expression);
      REQUIRE(v);
      return static_cast<std::uint64_t>(v->integer) & 0xffffU;
    };
  };
  const auto pin = [](const char* name) {
    return [name](const Session& s) {
      for (const PinView& p : s.pins())
        if (p.pin.name == name) return std::uint64_t{p.pin.floating ? 2U : p.pin.level ? 1U : 0U};
      return std::uint64_t{99};
    };
  };
  const std::vector<Look> looks{
      {"pin.PB5", pin("PB5")},
      {"pin.PD1", pin("PD1")},
      {"pin.PD2", pin("PD2")},
      {"heater_ms", value("heater_ms"), true},
      {"state", value("state"), true},
      {"seconds - heater_ms", value("seconds - heater_ms"), true},
      {"ramp.segment", value("ramp.segment")},
      {"chip.ADCSRA", value("chip.ADCSRA")},
      {"chip.UCSR0A", value("chip.UCSR0A")},
      {"chip.TIFR1.OCF1A", value("chip.TIFR1.OCF1A")},
      {"chip.TIFR1", value("chip.TIFR1")},
      {"chip.OCR1A", value("chip.OCR1A")},
      {"chip.EECR", value("chip.EECR")},
      {"part chamber",
       [](const Session& s) {
         for (const PartState& part : s.chip().parts())
           if (part.name == "chamber")
             return static_cast<std::uint64_t>(part.quantities.at(0).thousandths);
         return std::uint64_t{0};
       }},
  };
  // Where much happens: the door is closed, a firing begins, a report is sent.
  for (const char* image : {"kiln-og", "kiln-os"})
    for (const char* at : {"0s", "999ms", "1999ms", "2999ms"}) {
      INFO(image << " at " << at);
      Session stepped = kiln(std::string(LUCID_KILN) + "/images/" + image + ".elf");
      const Picoseconds start = *parse_time(at);
      if (start.count != 0) stepped.go_for(start);
      Session traced = kiln(std::string(LUCID_KILN) + "/images/" + image + ".elf");
      if (start.count != 0) traced.go_for(start);
      for (const Look& look : looks) trace(traced, {look.signal});
      const std::uint64_t begin = ticks_of(stepped);
      const unsigned steps = test::kSanitized ? 300 : 4'000;
      std::vector<std::uint64_t> ticks;
      std::vector<std::vector<std::uint64_t>> values(looks.size());
      for (unsigned i = 0; i <= steps; ++i) {
        ticks.push_back(ticks_of(stepped));
        for (std::size_t k = 0; k < looks.size(); ++k) values[k].push_back(looks[k].now(stepped));
        if (i != steps) (void)stepped.step(StepKind::kInto, StepUnit::kInstruction).has_value();
      }
      const std::uint64_t end = ticks.back();
      if (end > begin) traced.go_for(end - begin);
      REQUIRE(ticks_of(traced) == end);
      CHECK(traced.chip().hash() == stepped.chip().hash());
      for (std::size_t k = 0; k < looks.size(); ++k) {
        INFO(looks[k].signal);
        const auto signal = traced.signal(looks[k].signal);
        REQUIRE(signal);
        unsigned wrong = 0;
        for (std::size_t i = 0; i < ticks.size(); ++i) {
          // A wide object is judged when it has been stored as a whole.
          const auto settled = [&] {
            for (std::size_t j = i; j-- > 0 && ticks[i] - ticks[j] <= 64;)
              if (values[k][j] != values[k][i]) return false;
            for (std::size_t j = i; j < ticks.size() && ticks[j] - ticks[i] <= 64; ++j)
              if (values[k][j] != values[k][i]) return false;
            return true;
          };
          if (looks[k].wide && !settled()) continue;
          const Sample sample = signal->at(ticks[i]);
          const std::uint64_t got =
              sample.state == Sample::State::kFloating ? 2U : sample.value & 0xffffU;
          if (sample.state == Sample::State::kUnknown || got != (values[k][i] & 0xffffU)) {
            ++wrong;
            UNSCOPED_INFO("tick " << ticks[i] << ": " << signal->text(sample) << ", stepped "
                                  << values[k][i]);
          }
        }
        CHECK(wrong == 0);
      }
    }
}

TEST_CASE("whichever way one goes, the same is recorded, and nothing changes", "[tracing]") {
  std::mt19937 random(test::fresh_seed());
  const Picoseconds end{3'600'000'000'000};
  Session plain = kiln();
  plain.go_for(end);
  Session straight = kiln();
  trace(straight, kManySignals);
  straight.go_for(end);
  const std::string truth = recorded(straight);
  CHECK(straight.chip().hash() == plain.chip().hash());
  CHECK(truth.size() > 100'000);

  SECTION("afterwards, from the start") {
    const std::uint64_t hash = plain.chip().hash();
    trace(plain, kManySignals, true);
    CHECK(plain.chip().hash() == hash);
    check_same(recorded(plain), truth);
  }
  SECTION("with pauses, views and steps between") {
    Session session = kiln();
    trace(session, kManySignals);
    REQUIRE(session.pause_at({"control_step"}));
    REQUIRE(session.pause_at({"report"}));
    while (session.chip().time().count < end.count) {
      const std::uint64_t left = end.count - session.chip().time().count;
      switch (random() % 5) {
        case 0: (void)session.step(StepKind::kInto, StepUnit::kLine, 3).has_value(); break;
        case 1: (void)session.step(StepKind::kInto, StepUnit::kInstruction, 5).has_value(); break;
        case 2: (void)session.traces(); break;
        default:
          session.go_for(
              Picoseconds{std::min<std::uint64_t>(left, random() % 400 * 1'000'000'000ULL + 1)});
      }
    }
    check_same(recorded(session, plain.chip().time()), truth);
  }
  SECTION("back and forth") {
    Session session = kiln();
    trace(session, kManySignals);
    session.go_for(Picoseconds{end.count / 3});
    for (unsigned i = 0; i < 12; ++i) {
      const std::uint64_t now = session.chip().time().count;
      if (random() % 2 == 0) {
        REQUIRE(session.back_for(Picoseconds{now / (2 + random() % 9)}));
      } else if (random() % 3 == 0) {
        REQUIRE(session.step_back(StepKind::kInto, StepUnit::kInstruction, 1 + random() % 50));
      } else {
        session.go_for(Picoseconds{
            std::min<std::uint64_t>(end.count - now, 1 + end.count / (2 + random() % 5))});
      }
    }
    if (session.chip().time().count < end.count)
      session.go_for(Picoseconds{end.count - session.chip().time().count});
    check_same(recorded(session, plain.chip().time()), truth);
  }
}

TEST_CASE("another future takes the place of the one that was", "[tracing]") {
  // The same is done at 1.5 s: once at the first go, once after having been further.
  const auto act = [](Session& session) {
    REQUIRE(session.drive("PD4", true));
    REQUIRE(session.let("setpoint", "300"));
    REQUIRE(session.feed("USART0", "?\n"));
  };
  const Picoseconds fork{1'500'000'000'000}, more{900'000'000'000};
  Session once = kiln();
  trace(once, kManySignals);
  once.go_for(fork);
  const Picoseconds at = once.chip().time();
  act(once);
  once.go_for(more);
  Session twice = kiln();
  trace(twice, kManySignals);
  twice.go_for(fork);
  REQUIRE(twice.mark("fork"));
  twice.go_for(more);
  const std::string first = recorded(twice);
  const std::uint64_t first_hash = twice.chip().hash();
  REQUIRE(twice.back_to_time(at));
  REQUIRE(twice.chip().time().count == at.count);
  act(twice);
  twice.go_for(more);
  CHECK(twice.chip().hash() == once.chip().hash());
  check_same(recorded(twice), recorded(once));
  CHECK(recorded(twice) != first);
  // Back into the first future: what was recorded of it behind the fork is gone, and is recorded
  // again.
  REQUIRE(twice.revert_to("end1"));
  CHECK(twice.chip().hash() == first_hash);
  CHECK(twice.signal("pin.PB5")->end() <= ticks_of(twice));
  REQUIRE(twice.revert_to("fork"));
  twice.go_for(more);
  check_same(recorded(twice, twice.chip().time()), first);
}

TEST_CASE("a torn value is seen if an interrupt comes between", "[tracing]") {
  // 16 bits are stored while nothing interrupts: one change. With a pause between: still one.
  const std::string image =
      test::compiled("tracing-wide",
                     "#include <stdint.h>\n"
                     "volatile uint16_t w; volatile uint32_t d; volatile uint8_t b;\n"
                     "volatile struct { uint8_t low : 3, high : 5; } f; volatile float r = 1.5f;\n"
                     "int main(void) { for (;;) { w += 0x0101; d += 0x01010101UL; b++; f.high++; r "
                     "+= 0.25f; } }\n",
                     "-O1 -gdwarf-4");
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(image));
  REQUIRE(session.go_to("main"));
  trace(session, {"w", "d", "b", "f.high", "r", "w + b"});
  for (unsigned i = 0; i < 500; ++i) (void)session.step(StepKind::kInto, StepUnit::kInstruction);
  session.go_for(std::uint64_t{3'000});
  const auto steady = [&](const char* name, std::uint64_t step, std::uint64_t mask) {
    const auto signal = session.signal(name);
    REQUIRE(signal);
    CHECK(signal->changes() > 20);
    auto samples = signal->samples(signal->begin(), signal->end());
    std::uint64_t expected = 0;
    while (const auto sample = samples.next()) {
      CHECK(sample->value == expected);
      expected = (expected + step) & mask;
    }
  };
  steady("w", 0x0101, 0xffff);
  steady("d", 0x01010101, 0xffffffff);
  steady("b", 1, 0xff);
  steady("f.high", 1, 31);
  const auto real = session.signal("r");
  REQUIRE(real);
  auto samples = real->samples();
  double expected = 1.5;
  while (const auto sample = samples.next()) {
    CHECK(real->number(*sample) == expected);
    expected += 0.25;
  }
  const auto sum = session.signal("w + b");
  REQUIRE(sum);
  CHECK(sum->at(sum->end()).value ==
        static_cast<std::uint64_t>(session.evaluate("w + b")->integer));
}

TEST_CASE("what cannot be traced says why", "[tracing]") {
  Session session = kiln();
  REQUIRE(session.go_to("control_step"));
  const std::pair<const char*, const char*> wrong[] = {
      {"nothing_of_this_name", "nothing_of_this_name"},
      {"interrupt NOPE", "no interrupt 'NOPE'"},
      {"byte out USART7", "no serial port"},
      {"voltage PX9", "no pin"},
      {"part door", "nothing to measure"},
      {"part chamber weight", "no 'weight'"},
      {"pin.PQ", "PQ"},
      {"chip.r24", "register of the processor"},
      {"chip.sreg.Z", "register of the processor"},
      {"ramp", "more than one value"},
      {"42", "constant"},
      {"setpoint in clamp", "no 'setpoint' in clamp"},
      {"error in nowhere", "no 'error' in nowhere"},
      {"chip.flash[0]", "flash"},
      {"heater_ms +", "column"},
      {"chip.PORTB + heater_ms", "only variables"},
  };
  for (const auto& [signal, text] : wrong) {
    INFO(signal);
    const auto done = session.trace({signal});
    REQUIRE_FALSE(done);
    CHECK_THAT(done.error().text(), Catch::Contains(text));
  }
  CHECK(session.traces().empty());
  CHECK_FALSE(session.signal("pin.PB5"));
  CHECK_FALSE(session.untrace("pin.PB5"));
  REQUIRE(session.trace({"pin.PB5", "", "heater"}));
  CHECK_FALSE(session.trace({"heater_ms", "", "heater"}));
  CHECK_FALSE(session.trace({"heater_ms", "no format"}));
  REQUIRE(session.trace({"heater_ms", "hex"}));
  CHECK(session.traces().back().value == "0x0000");
  session.set_timeline(false);
  CHECK_FALSE(session.trace({"pin.PB0", "", "", true}));
  REQUIRE(session.untrace("heater"));
  REQUIRE(session.untrace(std::to_string(session.traces()[0].id)));
  CHECK(session.traces().empty());
}

TEST_CASE("traced calls are the call levels that one sees by stepping", "[tracing]") {
  for (const char* at : {"0s", "999ms", "2999ms"}) {
    INFO(at);
    Session stepped = kiln(), traced = kiln();
    const Picoseconds start = *parse_time(at);
    if (start.count != 0) {
      stepped.go_for(start);
      traced.go_for(start);
    }
    trace(traced, {"calls", "calls 1", "calls 2", "calls 3", "calls 4", "calls 5"});
    struct Seen {
      std::uint64_t tick = 0;
      std::vector<std::string> levels;
    };
    std::vector<Seen> seen;
    const unsigned steps = test::kSanitized ? 400 : 6'000;
    for (unsigned i = 0; i <= steps; ++i) {
      Seen now{ticks_of(stepped), {}};
      for (const CallLevel& level : stepped.callers()) {
        if (level.inlined) continue;
        std::string name = level.where.function;
        if (!level.where.vector.empty()) name = level.where.vector + "_vect";
        if (name == "eeprom_read_blraw") name = "eeprom_read_block";  // a label within it
        now.levels.push_back(name);
      }
      seen.push_back(std::move(now));
      if (i != steps) (void)stepped.step(StepKind::kInto, StepUnit::kInstruction).has_value();
    }
    traced.go_for(seen.back().tick - seen.front().tick);
    CHECK(traced.chip().hash() == stepped.chip().hash());
    unsigned wrong = 0, compared = 0;
    const Signal innermost = *traced.signal("calls");
    for (const Seen& now : seen) {
      if (now.levels.empty() || now.levels[0] != "main") continue;  // start-up code calls nobody
      ++compared;
      std::vector<std::string> got;
      for (unsigned level = 1; level <= std::min<std::size_t>(5, now.levels.size()); ++level) {
        const Signal signal = *traced.signal(fmt::format("calls {}", level));
        got.push_back(signal.text(signal.at(now.tick)));
      }
      std::vector<std::string> expected = now.levels;
      if (expected.size() > 5) expected.resize(5);
      const std::string last = innermost.text(innermost.at(now.tick));
      if (got == expected && last == now.levels.back()) continue;
      ++wrong;
      UNSCOPED_INFO(now.tick << ": " << fmt::format("{}", fmt::join(got, " ")) << " | stepped "
                             << fmt::format("{}", fmt::join(expected, "/")) << " | " << last);
    }
    CHECK(wrong == 0);
    if (start.count != 0) CHECK(compared > steps / 2);
  }
}

TEST_CASE("expressions ask of signals", "[tracing]") {
  Session session = kiln();
  REQUIRE(session.trace({"pin.PB0", "", "lamp"}));
  REQUIRE(session.trace({"byte out"}));
  REQUIRE(session.trace({"part chamber", "", "chamber"}));
  CHECK_FALSE(session.evaluate("width(lamp, high)"));
  session.go_for(Picoseconds{4'000'000'000'000});
  const Measurement lamp = *measure(*session.signal("lamp"), {}, {UINT64_MAX});
  CHECK(session.evaluate("width(lamp, high)")->integer ==
        static_cast<std::int64_t>(lamp.high.last.count));
  CHECK(session.evaluate("width(lamp, low)")->kind == Value::Kind::kTime);
  CHECK(session.evaluate("frequency(lamp)")->real == *lamp.hertz);
  CHECK(session.evaluate("duty(lamp)")->real == *lamp.duty);
  CHECK(session.evaluate("edges(lamp)")->integer ==
        static_cast<std::int64_t>(lamp.rising + lamp.falling));
  CHECK(session.evaluate("edges(lamp rising) - edges(lamp falling)")->integer == 1);
  const std::pair<const char*, bool> holds[] = {
      {"width(lamp, high) in 124ms..126ms", true},
      {"width(lamp, high) in 125ms..126ms", false},  // not all of them
      {"width(lamp, high) > 124ms", true},
      {"gap(byte out) in 1us..2 s", true},
      {"delay(lamp rising, byte out) > 0ms", true},
      {"most(chamber) in 21.5..30 && least(chamber) == 21", true},
      {"seconds in 3..4", true},
      {"seconds in 4..9 || seconds in 1..2", false},
      {"(seconds in kiln.c) in 2 + 1..2 * 2", true},
      {"seconds in kiln.c == 3 || seconds in kiln.c == 4", true},
      {"!(seconds in 3..4)", false},
  };
  for (const auto& [expression, expected] : holds) {
    INFO(expression);
    const auto result = session.holds(expression);
    if (!result) FAIL(result.error().text());
    CHECK(*result == expected);
  }
  const std::pair<const char*, const char*> wrong[] = {
      {"width(lamp, high) in 1..2", "compared with times"},
      {"width(lamp, up)", "width(SIGNAL, high|low)"},
      {"width(lamp)", "width(SIGNAL, high|low)"},
      {"width(lamp rising, high)", "width(SIGNAL, high|low)"},
      {"delay(lamp, nobody)", "'nobody' is not traced"},
      {"period(lamp", "')' is missing"},
      {"seconds in 3..", "ends too early"},
      {"ramp in 1..2", "in no range"},
      {"volume(lamp)", "volume"},
  };
  for (const auto& [expression, text] : wrong) {
    INFO(expression);
    const auto result = session.evaluate(expression);
    REQUIRE_FALSE(result);
    CHECK_THAT(result.error().text(), Catch::Contains(text));
  }
}

TEST_CASE("a trace may be asked for while the program runs", "[tracing]") {
  Session session = kiln(), plain = kiln();
  session.post([&] {
    CHECK(session.trace({"pin.PB0"}));
    CHECK(session.trace({"ticks"}));
    CHECK_FALSE(session.trace({"state", "", "", true}));  // the past is not gone through now
  });
  session.go_for(Picoseconds{1'000'000'000'000});
  CHECK(session.signal("pin.PB0")->changes() >= 8);
  CHECK(session.signal("ticks")->changes() > 900);
  trace(plain, {"pin.PB0", "ticks"});
  plain.go_for(Picoseconds{1'000'000'000'000});
  CHECK(plain.chip().hash() == session.chip().hash());
  CHECK(recorded(session) == recorded(plain));
  session.post([&] { CHECK(session.untrace("ticks")); });
  session.go_for(Picoseconds{500'000'000'000});
  CHECK(session.traces().size() == 1);
}

TEST_CASE("programs that were not made for it: traced or not, by whatever way", "[tracing]") {
  std::mt19937 random(test::fresh_seed());
  const char* const programs[] = {"ring",  "states", "recursion", "schedule",
                                  "parse", "real",   "curve"};
  for (const std::string program : programs) {
    const char* const levels[] = {"-O0", "-Os", "-O2"};
    const std::string level = levels[random() % 3];
    const bool large = random() % 3 == 0;
    INFO(program << " " << level << (large ? " on a 2560" : ""));
    const std::string image =
        test::compiled("tracing-program",
                       test::read(std::string(LUCID_TEST_SOURCES) + "/programs/" + program + ".c"),
                       level + " -gdwarf-4 -std=gnu11 -w -I" LUCID_TEST_SOURCES "/programs",
                       large ? "atmega2560" : "atmega328p");
    const Chip chip = *Chip::make({large ? "ATmega2560" : "ATmega328P", 16'000'000});
    Session plain(chip), live(chip), late(chip), back(chip);
    for (Session* session : {&plain, &live, &late, &back}) REQUIRE(session->open(image));
    std::vector<std::string> signals{"calls", "calls 1", "calls 2", "interrupt",  "byte out",
                                     "sleep", "pin.PB",  "pin.PD0", "chip.UCSR0A"};
    for (const Variable& variable : plain.program().variables())
      if (variable.function.empty() && live.trace({variable.name}))
        REQUIRE(back.trace({variable.name}));
    for (const Session::TraceView& view : live.traces()) signals.push_back(view.signal);
    const std::vector<std::string> locals = locals_of(plain.program());
    for (const std::string& local : locals) {
      const auto done = live.trace({local});
      REQUIRE((done || done.error().text().find("more than one value") != std::string::npos));
      if (done) REQUIRE(back.trace({local}));
    }
    for (const std::string& name : std::vector<std::string>(signals.begin(), signals.begin() + 9)) {
      REQUIRE(live.trace({name}));
      REQUIRE(back.trace({name}));
    }
    constexpr std::uint64_t kEnd = 100'000;
    const auto finish = [](Session& session) {
      for (unsigned i = 0; i < 100 && ticks_of(session) < kEnd; ++i)
        session.go_for(kEnd - ticks_of(session));
    };
    for (Session* session : {&plain, &live, &late}) finish(*session);
    for (const Session::TraceView& view : live.traces())
      REQUIRE(late.trace({view.signal, "", "", true}));
    for (unsigned i = 0; i < 8; ++i) {
      const std::uint64_t now = ticks_of(back);
      if (random() % 2 == 0)
        (void)back.back_for(random() % (now + 1)).has_value();
      else if (now < kEnd)
        back.go_for(1 + random() % (kEnd - now));
    }
    finish(back);
    CHECK(live.chip().hash() == plain.chip().hash());
    CHECK(late.chip().hash() == plain.chip().hash());
    check_same(recorded(late), recorded(live));
    if (ticks_of(back) != ticks_of(live)) continue;  // it ran past the end
    CHECK(back.chip().hash() == plain.chip().hash());
    check_same(recorded(back), recorded(live));
  }
}

TEST_CASE("calls are known where their trace begins, whatever was traced before", "[tracing]") {
  Session session = kiln();
  trace(session, {"interrupt"});
  session.go_for(Picoseconds{2'999'000'000'000});
  REQUIRE(session.go_to("serial_put"));
  trace(session, {"calls", "calls 1", "calls 2"});
  std::vector<std::string> levels;
  for (const CallLevel& level : session.callers()) levels.push_back(level.where.function);
  session.go_for(std::uint64_t{3});
  CHECK(session.signal("calls")->text(session.signal("calls")->at(ticks_of(session))) ==
        "serial_put");
  for (unsigned level : {1U, 2U}) {
    const Signal signal = *session.signal(fmt::format("calls {}", level));
    CHECK(signal.text(signal.at(ticks_of(session))) == levels.at(level - 1));
  }
}

TEST_CASE("a port with gaps keeps its places", "[tracing]") {
  Session session(*Chip::make({"ATmega32U4", 16'000'000}));
  REQUIRE(session.open(test::assembled("tracing-gaps",
                                       "ldi r16, 0xff\nout IO(DDRC), r16\nout IO(DDRE), r16\n"
                                       "ldi r16, 0x80\nout IO(PORTC), r16\n"
                                       "ldi r16, 0x44\nout IO(PORTE), r16\n1: rjmp 1b\n",
                                       "atmega32u4")));
  for (const char* port : {"pin.PC", "pin.PE"}) REQUIRE(session.trace({port}));
  CHECK(session.traces()[0].value == "floating");
  session.go_for(std::uint64_t{50});
  CHECK(session.traces()[0].value == "0b10000000");
  CHECK(session.traces()[1].value == "0b1000100");
}
