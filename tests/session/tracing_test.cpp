// SPDX-License-Identifier: MIT
// Traces, against sessions that are stepped and looked at, and against themselves by other ways.
#include <fmt/format.h>

#include <catch2/catch.hpp>
#include <functional>
#include <map>
#include <random>
#include <set>
#include <sstream>

#include "lucid/bench.h"
#include "lucid/measurement.h"
#include "lucid/session.h"
#include "lucid/waveform.h"
#include "tools.h"

using namespace lucid;

namespace {

Session kiln(const std::string& image = test::kKilnOg) {
  auto bench = Bench::open(std::string(LUCID_KILN) + "/kiln.bench.toml", "");
  REQUIRE(bench);
  bench->chip.name = "ATmega328P";
  Session session(*Chip::make(bench->chip));
  REQUIRE(session.open(image));
  return session;
}

void trace(Session& session, const std::vector<std::string>& signals, bool from_start = false) {
  for (const std::string& signal : signals) {
    INFO(signal);
    const auto done = session.trace({signal, {}, {}, from_start});
    if (!done) FAIL(done.error().text());
  }
}

const std::vector<std::string> kMany{"pin.PB5",        "pin.PB0",
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

/// Some of each function, as they are traced: `error in control_step`.
std::vector<std::string> locals_of(const Program& program) {
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

/// All that has been recorded, up to a time.
std::string recorded(const Session& session, Picoseconds to = {UINT64_MAX}) {
  std::ostringstream out;
  REQUIRE(write_waveforms(out, WaveformKind::kCsv, session.signals(), {}, to));
  return out.str();
}

/// Equal, or what differs first.
void check_same(const std::string& a, const std::string& b) {
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

std::uint64_t ticks_of(const Session& session) { return session.chip().cycles(); }

}  // namespace

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
  trace(straight, kMany);
  straight.go_for(end);
  const std::string truth = recorded(straight);
  CHECK(straight.chip().hash() == plain.chip().hash());
  CHECK(truth.size() > 100'000);

  SECTION("afterwards, from the start") {
    const std::uint64_t hash = plain.chip().hash();
    trace(plain, kMany, true);
    CHECK(plain.chip().hash() == hash);
    check_same(recorded(plain), truth);
  }
  SECTION("with pauses, views and steps between") {
    Session session = kiln();
    trace(session, kMany);
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
    trace(session, kMany);
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
  trace(once, kMany);
  once.go_for(fork);
  const Picoseconds at = once.chip().time();
  act(once);
  once.go_for(more);
  Session twice = kiln();
  trace(twice, kMany);
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

TEST_CASE("pulse widths in every mode of every timer, to the cycle", "[tracing]") {
  // Nothing but single-cycle instructions: stepping sees every cycle.
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(test::assembled("tracing-nops", ".rept 16000\nnop\n.endr\n")));
  // And one with the longest: pulses come and go within an instruction.
  Session slow(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(slow.open(test::assembled("tracing-calls", "1: rcall 2f\nrjmp 1b\n2: ret\n")));
  const Session::Moment start = session.moment(), slow_start = slow.moment();
  struct Timer {
    unsigned number;
    unsigned modes;
    const char* pins[2];
  };
  for (const Timer& timer :
       {Timer{0, 8, {"PD6", "PD5"}}, Timer{1, 16, {"PB1", "PB2"}}, Timer{2, 8, {"PB3", "PD3"}}})
    for (unsigned mode = 0; mode < timer.modes; ++mode)
      for (unsigned com = 1; com <= 3; ++com)
        for (const unsigned compare : {0U, 1U, 7U, 99U, 100U}) {
          const std::string n = std::to_string(timer.number);
          INFO("timer " << n << " mode " << mode << " com " << com << " compare " << compare);
          const auto set_up = [&](Session& s, const Session::Moment& from) {
            REQUIRE(s.return_to(from));
            const auto let = [&](const std::string& reg, unsigned value) {
              REQUIRE(s.let("chip." + reg, std::to_string(value), true));
            };
            let("DDRB", 0xff);
            let("DDRD", 0xff);
            if (timer.number == 1) let("ICR1", 100);
            // TCCRnB last: it starts the counter.
            let("TCCR" + n + "A", (com << 6 | com << 4 | (mode & 3U)));
            let("OCR" + n + "A", compare);
            let("OCR" + n + "B", compare / 2);
            let("TCCR" + n + "B", (timer.number == 1 ? (mode >> 2) << 3 : (mode >> 2) << 3) | 1);
            s.clear_traces();
          };
          for (const char* pin : timer.pins) {
            (void)session.trace({std::string("pin.") + pin});
            (void)slow.trace({std::string("pin.") + pin});
          }
          set_up(session, start);
          Chip stepped = session.chip();
          session.go_for(std::uint64_t{450});
          std::vector<std::map<std::string, bool>> seen;
          const std::uint64_t from = stepped.cycles();
          for (unsigned i = 0; i <= 450; ++i) {
            if (i % 3 == 0 || !test::kSanitized) {
              seen.emplace_back();
              for (const PinState& pin : stepped.pins())
                if (pin.name == timer.pins[0] || pin.name == timer.pins[1])
                  seen.back()[pin.name] = pin.level;
            } else {
              seen.push_back(seen.back());
            }
            stepped.step();
          }
          for (const char* pin : timer.pins) {
            const auto signal = session.signal(std::string("pin.") + pin);
            REQUIRE(signal);
            unsigned wrong = 0;
            for (unsigned i = 0; i <= 450; ++i)
              if (i % 3 == 0 || !test::kSanitized)
                if ((signal->at(from + i).value != 0) != seen[i].at(pin)) ++wrong;
            CHECK(wrong == 0);
          }
          set_up(slow, slow_start);
          slow.go_for(std::uint64_t{440});
          for (const char* pin : timer.pins) {
            const auto a = session.signal(std::string("pin.") + pin);
            const auto b = slow.signal(std::string("pin.") + pin);
            auto x = a->samples(0, from + 440), y = b->samples(0, from + 440);
            for (;;) {
              const auto one = x.next(), other = y.next();
              REQUIRE(one.has_value() == other.has_value());
              if (!one) break;
              REQUIRE(one->tick == other->tick);
              REQUIRE(one->value == other->value);
            }
          }
        }
}

TEST_CASE("the period and duty of pulse width modulation are what the registers say", "[tracing]") {
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(test::assembled("tracing-loop", "1: rjmp 1b\n")));
  trace(session, {"pin.PB1"});
  std::mt19937 random(test::fresh_seed());
  for (unsigned i = 0; i < 30; ++i) {
    const unsigned top = 2 + random() % 3000;
    const unsigned compare = 1 + random() % (top - 1);
    const bool phase = random() % 2 != 0;
    const unsigned dividers[] = {1, 8, 64};
    const unsigned cs = 1 + random() % 3;
    REQUIRE(session.back_to_start().has_value() == (i != 0));
    REQUIRE(session.let("chip.DDRB", "0xff", true));
    REQUIRE(session.let("chip.ICR1", "0", true));
    REQUIRE(session.let("chip.TCCR1A", phase ? "0x82" : "0x82", true));
    REQUIRE(session.let("chip.TCCR1B", phase ? "0x10" : "0x18", true));
    REQUIRE(session.let("chip.ICR1", std::to_string(top), true));
    REQUIRE(session.let("chip.OCR1A", std::to_string(compare), true));
    REQUIRE(session.let("chip.TCCR1B", std::to_string((phase ? 0x10 : 0x18) | cs), true));
    session.clear_traces();
    const std::uint64_t cycles = std::uint64_t{dividers[cs - 1]} * (top + 1) * 2;
    session.go_for(cycles * 6);
    const auto m = measure(*session.signal("pin.PB1"), session.signal("pin.PB1")->time(cycles * 2),
                           {UINT64_MAX});
    REQUIRE(m);
    REQUIRE(m->period.count >= 2);
    // "Fast PWM Mode": TOP + 1 counts, high for OCR + 1; "Phase Correct": 2 TOP, high for 2 OCR.
    const std::uint64_t ps = 62'500ULL * dividers[cs - 1];
    CHECK(m->period.least.count == ps * (phase ? 2 * top : top + 1));
    CHECK(m->period.most.count == m->period.least.count);
    CHECK(m->high.least.count == ps * (phase ? 2 * compare : compare + 1));
    CHECK(m->high.most.count == m->high.least.count);
    CHECK(*m->duty == Approx(phase ? compare / double(top) : (compare + 1.0) / (top + 1.0)));
  }
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

TEST_CASE("traces outlive a new build, and memory is bounded", "[tracing]") {
  Session session = kiln();
  trace(session, {"pin.PB5", "heater_ms", "interrupt", "byte out"});
  session.go_for(Picoseconds{3'500'000'000'000});
  CHECK(session.signal("interrupt")->changes() > 10'000);
  session.set_trace_bound(20'000);
  session.go_for(Picoseconds{1'000'000'000'000});
  std::size_t bytes = 0;
  for (const auto& view : session.traces()) bytes += view.bytes;
  CHECK(bytes < 60'000);
  CHECK(session.traces()[2].discarded > 10'000);
  CHECK(session.traces()[0].discarded == 0);
  REQUIRE(session.reload(test::kKilnOs));
  CHECK(session.traces().size() == 4);
  CHECK(session.signal("interrupt")->changes() <= 1);
  session.go_for(Picoseconds{100'000'000'000});
  CHECK(session.signal("interrupt")->changes() > 100);
}

TEST_CASE("what there is no room for goes into a file, as long as there is one", "[tracing]") {
  struct Heard : Listener {
    std::vector<std::string> notes;
    void on_note(const std::string& text) override { notes.push_back(text); }
  } heard;
  const std::vector<std::string> all{"interrupt", "pin.PB5", "chip.TIFR1", "state", "byte out"};
  const Picoseconds end{2'000'000'000'000};
  Session plain = kiln(), filed = kiln(), full = kiln();
  for (Session* session : {&plain, &filed, &full}) trace(*session, all);
  filed.set_trace_bound(20'000);
  full.set_trace_bound(20'000);
  full.set_listener(&heard);
  REQUIRE(filed.put_traces_into(test::scratch("traces")));
  REQUIRE(full.put_traces_into("/dev/full"));
  CHECK_FALSE(full.put_traces_into("/nonexistent/file"));
  for (Session* session : {&plain, &filed, &full}) session->go_for(end);
  check_same(recorded(filed), recorded(plain));
  std::uint64_t in_file = 0;
  for (const Session::TraceView& view : filed.traces()) {
    CHECK(view.discarded == 0);
    in_file += view.bytes_in_file;
  }
  CHECK(in_file > 1'000);
  // Back, and another future.
  for (Session* session : {&plain, &filed}) {
    REQUIRE(session->back_for(Picoseconds{end.count / 3 * 2}));
    REQUIRE(session->let("setpoint", "100"));
    session->go_for(Picoseconds{end.count / 3});
  }
  check_same(recorded(filed), recorded(plain));
  REQUIRE(heard.notes.size() == 1);
  CHECK(heard.notes[0].find("cannot write '/dev/full': No space left on device") == 0);
  CHECK(full.traces()[0].discarded > 0);
}

TEST_CASE("around a breakpoint what is traced is what it is without, elsewhere nothing",
          "[tracing]") {
  const std::vector<std::string> all{"interrupt", "pin.PB5",    "seconds",
                                     "byte out",  "conversion", "chip.TIFR1"};
  const Picoseconds part{4'000'000'000'000};
  const bool dense = GENERATE(false, true);  // windows that meet
  const std::uint64_t before = dense ? 3'200'000 : 16'000, after = dense ? 3'200'000 : 23'456;
  BreakpointSpec often;
  often.kind = BreakpointSpec::Kind::kInterrupt;
  often.place = "TIMER1_COMPA";
  often.rule = BreakpointSpec::Rule::kEvery;
  often.count = 371;
  Session whole = kiln(), windowed = kiln(), pausing = kiln();
  REQUIRE(pausing.pause_at(often));
  often.log = "there";
  const auto point = windowed.pause_at(often);
  REQUIRE(point);
  trace(whole, all);
  for (const std::string& signal : all) {
    Session::TraceSpec spec{signal,
                            {},
                            {},
                            false,
                            true,
                            point->id,
                            to_time(before, 16'000'000),
                            to_time(after, 16'000'000)};
    REQUIRE(windowed.trace(spec));
    spec.name = "another";
    spec.around = 999;
    CHECK(windowed.trace(spec).error().code == ErrorCode::kNotFound);
    spec.around = point->id;
    spec.from_start = true;
    CHECK(windowed.trace(spec).error().code == ErrorCode::kUsage);
  }
  std::vector<std::uint64_t> marks;
  const auto run = [&](Picoseconds span) {
    whole.go_for(span);
    CHECK(windowed.go_for(span).cause == Pause::Cause::kTimeUp);
    const std::uint64_t end = ticks_of(whole);
    while (ticks_of(pausing) < end) {
      const Picoseconds left = to_time(end - ticks_of(pausing), 16'000'000);
      if (pausing.go_for(left).cause == Pause::Cause::kEvent) marks.push_back(ticks_of(pausing));
    }
  };
  const auto is_kept = [&](std::uint64_t tick) {
    return std::any_of(marks.begin(), marks.end(), [&](std::uint64_t mark) {
      return tick + before >= mark && tick <= mark + after;
    });
  };
  const auto check = [&] {
    std::uint64_t known = 0;
    for (const std::string& name : all) {
      INFO(name);
      const Signal truth = *whole.signal(name), seen = *windowed.signal(name);
      CHECK(seen.end() == truth.end());
      auto samples = truth.samples();
      if (truth.facts().kind == Signal::Kind::kMoment) {
        auto kept = seen.samples();
        while (const auto sample = samples.next()) {
          if (!is_kept(sample->tick)) continue;
          const auto same = kept.next();
          REQUIRE(same);
          CHECK((same->tick == sample->tick && same->value == sample->value));
          ++known;
        }
        CHECK_FALSE(kept.next());
        continue;
      }
      std::vector<std::uint64_t> looks;
      while (const auto sample = samples.next()) looks.push_back(sample->tick);
      for (const std::uint64_t mark : marks)
        for (const std::uint64_t edge : {mark - before, mark + after + 1}) {
          looks.push_back(edge);
          looks.push_back(edge - 1);
        }
      for (const std::uint64_t tick : looks) {
        if (tick > truth.end()) continue;
        const Sample there = seen.at(tick);
        if (there.known() != is_kept(tick) || (there.known() && !there.same_as(truth.at(tick))))
          FAIL(fmt::format("at {} (kept: {}, marks from {}) {} instead of {}", tick, is_kept(tick),
                           marks.empty() ? 0 : marks[0], seen.text(there),
                           truth.text(truth.at(tick))));
        known += there.known() ? 1 : 0;
      }
      // Changes within windows have their places.
      auto places = seen.places()->samples();
      while (const auto place = places.next())
        if (place->known()) CHECK(is_kept(place->tick));
    }
    CHECK(known > 200);
    CHECK(windowed.traces()[0].windows == (dense ? 1 : marks.size()));
  };
  run(part);
  check();
  run(part);
  check();
  // Back, over again, and into another future that parts before what has been settled long ago.
  for (const std::uint64_t share : {100, 2}) {
    const Picoseconds span = to_time(ticks_of(whole) / share, 16'000'000);
    for (Session* session : {&whole, &windowed, &pausing}) REQUIRE(session->back_for(span));
    const std::uint64_t now = ticks_of(whole);
    for (Session* session : {&whole, &windowed, &pausing}) REQUIRE(session->let("seconds", "7"));
    marks.erase(std::upper_bound(marks.begin(), marks.end(), now), marks.end());
    run(part);
    check();
  }
  whole.set_trace_bound(4'000);
  windowed.set_trace_bound(4'000);
  windowed.go_for(part);
  CHECK(windowed.traces()[0].windows < marks.size());
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

TEST_CASE("a traced local is what is seen of it where lines begin, and unknown elsewhere",
          "[tracing]") {
  std::mt19937 random(test::fresh_seed());
  unsigned known = 0;
  for (const std::string program : {"ring", "states", "recursion", "schedule", "parse", "curve"}) {
    const char* const levels[] = {"-O0", "-Og", "-Os", "-O2"};
    const std::string level = levels[random() % 4];
    INFO(program << " " << level);
    const std::string image = test::compiled(
        "tracing-locals",
        test::read(std::string(LUCID_TEST_SOURCES) + "/programs/" + program + ".c"),
        level + " -gdwarf-4 -std=gnu11 -w -I" LUCID_TEST_SOURCES "/programs", "atmega328p");
    const Chip chip = *Chip::make({"ATmega328P", 16'000'000});
    Session stepped(chip), traced(chip);
    for (Session* session : {&stepped, &traced}) {
      REQUIRE(session->open(image));
      session->go_for(random() % 1'500 + 100);
    }
    const auto begin = std::max(ticks_of(stepped), ticks_of(traced));
    for (Session* session : {&stepped, &traced})
      if (ticks_of(*session) < begin) session->go_for(begin - ticks_of(*session));
    std::vector<std::string> locals;
    for (const std::string& local : locals_of(traced.program()))
      if (traced.trace({local})) locals.push_back(local);
    struct Seen {
      std::uint64_t tick;
      std::size_t local;
      std::optional<std::int64_t> value;  // nothing: it cannot be told
      bool leaves = false;                // its function, so that it is gone
    };
    std::vector<Seen> seen;
    for (unsigned i = 0; i < (test::kSanitized ? 300U : 1'500U); ++i) {
      (void)stepped.step(StepKind::kInto, StepUnit::kInstruction).has_value();
      const std::uint32_t pc = stepped.chip().pc();
      const auto line = stepped.program().line_at(pc);
      const Function* function = stepped.program().function_at(pc);
      if (!line || line->begin != pc || function == nullptr) continue;
      const auto inlined = stepped.program().inlined_at(pc);
      const std::string& here = inlined.empty() ? function->name : inlined.front()->name;
      for (std::size_t k = 0; k < locals.size(); ++k) {
        const std::size_t in = locals[k].find(" in ");
        if (locals[k].substr(in + 4) != here) continue;
        const auto value = stepped.evaluate(locals[k].substr(0, in));
        const Instruction next = stepped.chip().instruction_at(pc);
        const bool leaves =
            next.flow == Flow::kReturn || next.flow == Flow::kInterruptReturn ||
            (next.flow == Flow::kJump && stepped.program().function_at(*next.target) != function);
        seen.push_back({ticks_of(stepped), k, {}, leaves});
        if (value && value->kind != Value::Kind::kReal) seen.back().value = value->integer;
        if (value && value->kind == Value::Kind::kReal) seen.pop_back();
      }
    }
    traced.go_for(ticks_of(stepped) - ticks_of(traced));
    REQUIRE(ticks_of(traced) == ticks_of(stepped));
    CHECK(traced.chip().hash() == stepped.chip().hash());
    for (const Seen& one : seen) {
      INFO(locals[one.local] << " at " << one.tick);
      const auto signal = traced.signal(locals[one.local]);
      REQUIRE(signal);
      const Sample sample = signal->at(one.tick);
      const std::uint64_t mask =
          signal->facts().bits >= 64 ? UINT64_MAX : (std::uint64_t{1} << signal->facts().bits) - 1;
      if (one.value && !one.leaves) {
        REQUIRE(sample.known());
        CHECK(sample.value == (static_cast<std::uint64_t>(*one.value) & mask));
        ++known;
      } else {
        CHECK_FALSE(sample.known());
      }
    }
  }
  CHECK(known > 200);
}

TEST_CASE("a traced local that is a real is one, and a structure is never a number", "[tracing]") {
  const std::string image =
      test::compiled("tracing-reals",
                     "struct pair { int low, high; };\n"
                     "volatile int sink; volatile float by;\n"
                     "__attribute__((noinline)) int mean(float weight, struct pair *q) {\n"
                     "  float half = weight * 2;\n"
                     "  by = half;\n"
                     "  sink = q->low;\n"
                     "  return half > 3;\n"
                     "}\n"
                     "int main(void) {\n"
                     "  struct pair p = {4, 5};\n"
                     "  for (int i = 1;; i++) mean(i, &p);\n"
                     "}\n",
                     "-O0 -gdwarf-4");
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(image));
  // Asked for where they have no value, and where `half` has one: the same.
  trace(session, {"half in mean", "weight + half in mean"});
  REQUIRE(session.go_to("tracing-reals.c:5"));
  trace(session, {"half * 2", "q->high"});
  CHECK_FALSE(session.trace({"*q"}).has_value());
  session.go_for(std::uint64_t{20'000});
  const std::tuple<const char*, double, double> rows[] = {// the least, the step
                                                          {"half in mean", 2, 2},
                                                          {"weight + half in mean", 3, 3},
                                                          {"half * 2 in mean", 4, 4},
                                                          {"q->high in mean", 5, 0}};
  for (const auto& [name, first, step] : rows) {
    INFO(name);
    const auto signal = session.signal(name);
    REQUIRE(signal);
    std::vector<double> values;
    auto samples = signal->samples();
    while (const auto sample = samples.next())
      if (sample->known() && (values.empty() || values.back() != signal->number(*sample)))
        values.push_back(signal->number(*sample));
    REQUIRE(values.size() >= (step > 0 ? 3U : 1U));
    for (std::size_t i = 0; i < values.size(); ++i)
      CHECK(values[i] == first + step * static_cast<double>(i));
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
