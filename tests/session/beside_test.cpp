// SPDX-License-Identifier: MIT
// Signals and values of a chip beside the one that is debugged: what it shows itself where it is
// the one, and the other one beside it.
#include <fmt/format.h>

#include <catch2/catch.hpp>
#include <random>

#include "lucid/bench.h"
#include "lucid/session.h"
#include "tools.h"

using namespace lucid;

namespace {

const std::string kFolder = LUCID_KILN;
const std::string kPanel = kFolder + "/images/panel.elf";

/// The kiln with its panel, or the panel with the kiln.
Session opened(bool panel, std::uint64_t panel_hz, std::uint64_t ahead = 0) {
  auto bench = Bench::open(kFolder + "/kiln-and-panel.bench.toml", panel ? "panel" : "");
  REQUIRE(bench);
  (panel ? bench->chip : bench->chip.companions[0].options).clock_hz = panel_hz;
  bench->chip.companions_ahead = {ahead};
  Session session(*Chip::make(bench->chip));
  REQUIRE(session.open(panel ? kPanel : test::kKilnOg));
  return session;
}

const std::vector<std::string> kMany{"pin.PD0",
                                     "pin.PD1",
                                     "pin.PD2",
                                     "pin.PB0",
                                     "pin.PB1",
                                     "pin.PC",
                                     "pin.PD",
                                     "shown",
                                     "reports",
                                     "length",
                                     "complete",
                                     "pressed",
                                     "line[0]",
                                     "line[3]",
                                     "shown + reports",
                                     "latest",
                                     "interrupt",
                                     "calls",
                                     "calls 1",
                                     "calls 2",
                                     "sleep",
                                     "reset",
                                     "byte in",
                                     "byte out",
                                     "interrupt USART_RX",
                                     "readings[2].is",
                                     "is in remember",
                                     "temperature in show",
                                     "text in read_line",
                                     "last in remember",
                                     "byte in USART_RX_vect"};

/// Of the chip itself `PORTC` is named in another way.
const std::vector<std::string> kOfChip{"PORTC", "PORTC.3",    "UCSR0A",
                                       "UDR0",  "EIFR.INTF0", "eeprom[4]"};

void trace(Session& session, const std::string& chip, bool from_start = false) {
  for (const std::string& signal : kMany) {
    INFO(signal);
    const auto done = session.trace({chip + signal, {}, {}, from_start});
    if (!done) FAIL(done.error().text());
  }
  for (const std::string& signal : kOfChip)
    REQUIRE(session.trace({(chip.empty() ? "chip." : chip) + signal, {}, {}, from_start}));
}

/// Samples as text, of the ticks up to one.
std::string told(const Signal& signal, std::uint64_t to) {
  std::string out;
  auto samples = signal.samples(signal.begin(), to);
  while (const auto sample = samples.next())
    out += fmt::format("{} {} {}\n", sample->tick, sample->value, static_cast<int>(sample->state));
  return out;
}

void check_same(const Session& beside, const Session& itself) {
  std::size_t all = 0;
  const auto check = [&](const std::string& signal, const std::string& own) {
    INFO(signal);
    const auto heard = beside.signal("panel." + signal), truth = itself.signal(own);
    REQUIRE(heard);
    REQUIRE(truth);
    CHECK(heard->hz() == truth->hz());
    CHECK(heard->facts().names == truth->facts().names);
    const std::uint64_t now = beside.chip().time().count;
    CHECK(to_time(heard->end(), heard->hz()).count <= now);
    CHECK(to_time(heard->end() + 1, heard->hz()).count > now);
    const std::uint64_t to = std::min(heard->end(), truth->end());
    const std::string a = told(*heard, to), b = told(*truth, to);
    CHECK(a == b);
    all += a.size();
  };
  for (const std::string& signal : kMany) check(signal, signal);
  for (const std::string& signal : kOfChip) check(signal, "chip." + signal);
  CHECK(all > 20'000);
}

}  // namespace

TEST_CASE("signals of a chip beside are those that it has itself", "[tracing]") {
  const Picoseconds end{3'300'000'000'000};
  std::mt19937 random(test::fresh_seed());
  for (const std::uint64_t hz : {8'000'000ULL, 7'372'800ULL, 16'000'000ULL, 18'432'000ULL}) {
    INFO("panel at " << hz << " Hz");
    Session itself = opened(true, hz);
    trace(itself, "");
    itself.go_for(Picoseconds{end.count + 5'000'000'000});

    Session plain = opened(false, hz);
    plain.go_for(end);
    Session straight = opened(false, hz, random() % 2 * (1 + random() % 3'000'000'000));
    trace(straight, "panel.");
    straight.go_for(end);
    CHECK(straight.chip().hash() == plain.chip().hash());
    check_same(straight, itself);

    // From the start, afterwards.
    trace(plain, "panel.", true);
    CHECK(straight.chip().hash() == plain.chip().hash());
    check_same(plain, itself);

    // With pauses, steps, ways back and views between.
    Session session = opened(false, hz);
    trace(session, "panel.");
    REQUIRE(session.pause_at({"report"}));
    for (unsigned i = 0; session.chip().time().count < end.count; ++i) {
      const std::uint64_t now = session.chip().time().count;
      switch (i < 60 ? random() % 7 : 6) {
        case 0: (void)session.step(StepKind::kInto, StepUnit::kLine, 3).has_value(); break;
        case 1: (void)session.step(StepKind::kInto, StepUnit::kInstruction, 5).has_value(); break;
        case 2: (void)session.traces(); break;
        case 3: (void)session.evaluate("panel.readings")->text; break;
        case 4: REQUIRE(session.back_for(Picoseconds{now / (2 + random() % 9)})); break;
        default:
          session.go_for(Picoseconds{std::min<std::uint64_t>(
              end.count - now, random() % 4 == 0 ? 1 + random() % 90'000'000
                                                 : random() % 400 * 1'000'000'000ULL + 1)});
      }
    }
    check_same(session, itself);
  }
}

TEST_CASE("two chips that answer each other's edges at once are heard as they are", "[tracing]") {
  test::write(test::scratch("chatter.c"), R"(#include <avr/interrupt.h>
#include <avr/io.h>
#include <stdint.h>
volatile uint16_t edges, sent;
volatile uint8_t seen[8];
ISR(PCINT0_vect) {
  seen[edges++ & 7] = PINB;
  if (edges & 1) PORTB ^= 2;
}
int main(void) {
  uint32_t x = SEED;
  DDRB = 3;
  PCMSK0 = 12;
  PCICR = 1;
  TCCR0B = 2;
  OCR0A = 99;
  TCCR2B = 1;
  sei();
  for (;;) {
    x = x * 1664525 + 1013904223;
    for (volatile uint8_t i = x >> 28; i; i--);
    if (x & 0x8000000) PINB = 1;
    sent++;
  }
}
)");
  const auto image = [](unsigned seed) {
    const std::string name = test::scratch(fmt::format("chatter{}.elf", seed));
    REQUIRE(test::run(fmt::format("avr-gcc -Os -gdwarf-4 -mmcu=atmega328p -DSEED={} -o {} {}", seed,
                                  name, test::scratch("chatter.c")))
                .code == 0);
    return name;
  };
  const std::string one = image(1), other = image(2);
  std::mt19937 random(test::fresh_seed());
  const std::vector<std::string> kAll{"pin.PB0",   "pin.PB1",    "pin.PB",         "edges",
                                      "sent",      "seen[3]",    "interrupt",      "edges - sent",
                                      "x in main", "match OC0A", "overflow TIMER2"};
  for (const auto& [mine, theirs] :
       {std::pair<std::uint64_t, std::uint64_t>{16'000'000, 16'000'000},
        {16'000'000, 8'000'000},
        {1'000'000, 20'000'000},
        {14'745'600, 11'059'200},
        {20'000'000, 32'768}}) {
    INFO(mine << " and " << theirs << " Hz");
    const auto pair = [&, mine = mine, theirs = theirs](bool swapped) {
      Chip::Options a{"ATmega328P", mine}, b{"ATmega328P", theirs};
      Chip::Options first = swapped ? b : a;
      first.companions = {{"other", swapped ? a : b, *Image::open(swapped ? one : other)}};
      first.wires = {
          {"PB0", "other.PB2"}, {"PB1", "other.PB3"}, {"PB2", "other.PB0"}, {"PB3", "other.PB1"}};
      first.companions_ahead = {random() % 3 * (1 + random() % 90'000'000)};
      Session session(*Chip::make(first));
      REQUIRE(session.open(swapped ? other : one));
      return session;
    };
    constexpr std::uint64_t kEnd = 40'000'000'000;
    Session itself = pair(true), beside = pair(false);
    for (const std::string& signal : kAll) {
      REQUIRE(itself.trace({signal}));
      REQUIRE(beside.trace({"other." + signal}));
    }
    itself.go_for(Picoseconds{kEnd + kEnd / 10});
    for (unsigned i = 0; beside.chip().time().count < kEnd; ++i) {
      const std::uint64_t now = beside.chip().time().count;
      if (i % 7 == 6 && i < 90) REQUIRE(beside.back_for(Picoseconds{random() % (now / 8)}));
      if (i % 5 == 4 && i < 90)
        (void)beside.step(StepKind::kInto, StepUnit::kInstruction).has_value();
      beside.go_for(Picoseconds{1 + random() % (kEnd / 30)});
    }
    std::uint64_t all = 0;
    for (const std::string& signal : kAll) {
      INFO(signal);
      const Signal heard = *beside.signal("other." + signal), truth = *itself.signal(signal);
      const std::uint64_t to = std::min(heard.end(), truth.end());
      CHECK(to_time(heard.end() + 1, heard.hz()).count > beside.chip().time().count);
      CHECK(told(heard, to) == told(truth, to));
      all += heard.changes();
    }
    CHECK(all > 500);
  }
}

TEST_CASE("another future of a chip beside takes the place of the one that was", "[tracing]") {
  const Picoseconds fork{1'020'000'000'000}, more{1'200'000'000'000};
  const auto act = [](Session& session) { REQUIRE(session.let("seconds", "77")); };
  const auto all = [](const Session& session) {
    std::string out;
    for (const Signal& signal : session.signals()) out += signal.name() + told(signal, UINT64_MAX);
    return out;
  };
  Session once = opened(false, 8'000'000);
  trace(once, "panel.");
  once.go_for(fork);
  act(once);
  once.go_for(more);
  Session twice = opened(false, 8'000'000);
  trace(twice, "panel.");
  twice.go_for(fork);
  REQUIRE(twice.mark("fork"));
  twice.go_for(more);
  const std::string first = all(twice);
  REQUIRE(twice.revert_to("fork"));
  act(twice);
  twice.go_for(more);
  CHECK(twice.chip().hash() == once.chip().hash());
  CHECK(all(twice) == all(once));
  CHECK(all(twice) != first);
}

TEST_CASE("traces of a chip beside that begin later, lie around passes, or end", "[tracing]") {
  Session whole = opened(false, 8'000'000);
  trace(whole, "panel.");
  Session session = opened(false, 8'000'000);
  const auto report = session.pause_at({"report"});
  REQUIRE(report);
  Session::TraceSpec spec{"panel.byte in"};
  spec.around = report->id;
  spec.before = Picoseconds{10'000'000'000};
  spec.after = Picoseconds{3'000'000'000};
  REQUIRE(session.trace(spec));
  session.go();
  const std::uint64_t passed = session.chip().time().count;
  session.go_for(Picoseconds{1'234'567'891});
  const std::uint64_t began = session.chip().time().count;
  for (const char* signal : {"panel.pin.PD0", "panel.line[3]", "panel.interrupt"})
    REQUIRE(session.trace({signal}));
  session.go_for(Picoseconds{900'000'000'000});
  whole.go_for(Picoseconds{session.chip().time().count});

  for (const char* name : {"panel.pin.PD0", "panel.line[3]", "panel.interrupt"}) {
    INFO(name);
    const Signal later = *session.signal(name), truth = *whole.signal(name);
    CHECK(to_time(later.begin(), later.hz()).count <= began);
    CHECK(to_time(later.begin() + 1, later.hz()).count > began);
    CHECK(later.at(later.begin()).value == truth.at(later.begin()).value);
    std::string wanted = told(truth, later.end());
    while (!wanted.empty() && std::stoull(wanted) <= later.begin())
      wanted.erase(0, wanted.find('\n') + 1);
    std::string got = told(later, later.end());
    got.erase(0, got.find('\n') + 1);
    CHECK(got == wanted);
    CHECK_FALSE(wanted.empty());
  }
  // Bytes that arrive within 3 ms behind the pass are some of those of the report.
  const Signal bytes = *session.signal("panel.byte in"), truth = *whole.signal("panel.byte in");
  CHECK(bytes.changes() != 0);
  CHECK(bytes.changes() < truth.changes());
  std::string wanted;
  auto samples = truth.samples(truth.begin(), truth.end());
  while (const auto sample = samples.next()) {
    const std::uint64_t at = to_time(sample->tick, truth.hz()).count;
    if (at + spec.before.count >= passed && at <= passed + spec.after.count)
      wanted += fmt::format("{} {}\n", sample->tick, sample->value);
  }
  std::string got;
  samples = bytes.samples(bytes.begin(), bytes.end());
  while (const auto sample = samples.next())
    got += fmt::format("{} {}\n", sample->tick, sample->value);
  CHECK(got == wanted);
  CHECK(session.traces().front().windows == 1);

  REQUIRE(session.untrace("panel.byte in"));
  session.clear_traces();
  CHECK(to_time(session.signal("panel.pin.PD0")->begin(), 8'000'000).count + 125'000 >
        session.chip().time().count);
}

TEST_CASE("traces of a chip beside may be asked for while the program runs", "[tracing]") {
  Session session = opened(false, 8'000'000), plain = opened(false, 8'000'000);
  REQUIRE(plain.trace({"panel.pin.PD0"}));
  REQUIRE(session.trace({"panel.pin.PD0"}));
  struct Asks final : Listener {
    Session* session = nullptr;
    std::uint64_t asked = 0;
    void on_progress(Picoseconds now) override {
      if (asked != 0 || now.count < 2'000'000'000'000) return;
      asked = now.count;
      session->post([this] {
        CHECK(session->trace({"panel.shown"}));
        CHECK(session->trace({"panel.byte in"}));
      });
    }
  } asks;
  asks.session = &session;
  session.set_listener(&asks);
  for (Session* of : {&session, &plain}) of->go_for(Picoseconds{4'000'000'000'000});
  REQUIRE(asks.asked != 0);
  CHECK(asks.asked < 3'000'000'000'000);
  CHECK(told(*session.signal("panel.pin.PD0"), UINT64_MAX) ==
        told(*plain.signal("panel.pin.PD0"), UINT64_MAX));
  CHECK(session.signal("panel.byte in")->changes() > 20);
  CHECK(session.signal("panel.shown")->changes() > 1);
  CHECK(session.chip().hash() == plain.chip().hash());
}

TEST_CASE("names of a chip beside mean what they mean there") {
  Session beside = opened(false, 8'000'000);
  Session itself = opened(true, 8'000'000);
  for (const std::uint64_t ms : {1, 1100, 3500}) {
    beside.go_for(Picoseconds{ms * 1'000'000'000});
    // To where the panel stands, seen from the kiln.
    const std::uint64_t there = beside.chip().companion("panel")->time().count;
    itself.go_for(Picoseconds{there - itself.chip().time().count});
    for (const char* text : {"readings", "latest", "*latest", "latest->is",
                             "latest->before->is * 2", "&shown", "shown", "readings[1]",
                             "sizeof readings", "complete", "line", "line[2]", "reports + 1"}) {
      INFO(text << " after " << ms);
      const std::string other = std::string(text).find("sizeof") == 0 ? "sizeof panel.readings"
                                : text[0] == '*' || text[0] == '&'
                                    ? text[0] + ("panel." + std::string(text + 1))
                                    : "panel." + std::string(text);
      const auto value = beside.evaluate(other), truth = itself.evaluate(text);
      REQUIRE(value);
      REQUIRE(truth);
      CHECK(value->text == truth->text);
      CHECK(value->type == truth->type);
    }
    CHECK(beside.evaluate("panel.UCSR0B")->fields.size() ==
          itself.evaluate("chip.UCSR0B")->fields.size());
  }
  // The chip itself has no program, or one that knows nothing of such types.
  auto bench = Bench::open(kFolder + "/kiln-and-panel.bench.toml");
  REQUIRE(bench);
  Session bare(*Chip::make(bench->chip));
  CHECK(bare.evaluate("panel.readings[1]")->text == "{is = 0, before = 0x0000}");
  CHECK(bare.evaluate("panel.line[2] == 0 && !panel.complete")->integer == 1);
  CHECK(bare.evaluate("panel.readings[2].is * 2 + panel.readings[3].is")->integer == 0);
  CHECK(*bare.holds("panel.readings[1].is == 0"));
  for (const char* text : {"(panel.readings)[1].is", "(panel.readings[1]).is",
                           "(*(&panel.readings[1])).is", "(&panel.readings[1])->is"}) {
    INFO(text);
    CHECK(bare.evaluate(text)->text == "0");
  }
  CHECK(bare.trace({"panel.readings[1].is"}));

  struct Row {
    const char *text, *what;
  };
  const auto error_of = [&](const auto& result) { return result ? "none" : result.error().text(); };
  for (const Row& row :
       {Row{"panel.shwn", "did you mean shown"}, Row{"panel.PORTX", "did you mean PORT"},
        Row{"panel.command", "but for locals"}, Row{"panel.latest->was", "was"},
        Row{"panel.readings + 1", "structure or array"}, Row{"panel.", "part of the chip"}}) {
    INFO(row.text);
    CHECK(error_of(beside.evaluate(row.text)).find(row.what) != std::string::npos);
  }
  CHECK(error_of(beside.let("panel.shown", "3")).find("on chip 'panel'") != std::string::npos);
  BreakpointSpec change{"panel.shown"};
  change.kind = BreakpointSpec::Kind::kChange;
  CHECK(error_of(beside.pause_at(change)).find("on chip 'panel'") != std::string::npos);
  for (const Row& row :
       {Row{"panel.readings", "more than one"}, Row{"panel.r17", "register of the processor"},
        Row{"panel.byte in USART3", "USART0"}, Row{"panel.sleeep", "did you mean sleep"}}) {
    INFO(row.text);
    const std::string text = error_of(beside.trace({row.text}));
    CHECK(text.find(row.what) != std::string::npos);
    CHECK(text.find("panel: ") == 0);
  }
  const auto names = [&](const std::string& start) {
    std::string out;
    for (const std::string& name : beside.names(start)) out += name + " ";
    return out;
  };
  CHECK(names("1 + panel.sho") == "1 + panel.shown ");
  CHECK(names("panel.latest->") == "panel.latest->before panel.latest->is ");
  CHECK(names("panel.PORTC.PORTC3") == "");
  CHECK(names("panel.pin.PC5") == "");
  CHECK(names("panel.pin.PC").find("panel.pin.PC5") != std::string::npos);
  CHECK(names("panel.UCSR0B.RX").find("panel.UCSR0B.RXCIE0") != std::string::npos);
}
