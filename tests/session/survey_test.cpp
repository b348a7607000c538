// SPDX-License-Identifier: MIT
// Counts of whole runs, against a record made by stepping, against breakpoints, and by formula.
#include "lucid/survey.h"

#include <catch2/catch.hpp>
#include <map>
#include <random>
#include <set>

#include "lucid/session.h"
#include "tools.h"

using namespace lucid;
using Survey = Session::Survey;

namespace {

constexpr std::uint64_t kSecond = 1'000'000'000'000;

Session opened(const std::string& elf, const std::string& chip = "ATmega328P") {
  Session session(*Chip::make({chip, 16'000'000}));
  REQUIRE(session.open(elf));
  return session;
}

struct Count {
  std::uint64_t executed = 0, departed = 0, cycles = 0;
  friend bool operator==(const Count& a, const Count& b) {
    return a.executed == b.executed && a.departed == b.departed && a.cycles == b.cycles;
  }
};
std::ostream& operator<<(std::ostream& out, const Count& c) {
  return out << c.executed << " executed, " << c.departed << " departed, " << c.cycles << " cycles";
}
using Record = std::map<std::uint32_t, Count>;

Record counted(const Session& session) {
  Record out;
  const auto counts = session.instruction_counts();
  REQUIRE(counts);
  for (const InstructionCount& c : *counts) out[c.address] = {c.executed, c.departed, c.cycles};
  return out;
}

/// What happens in so many steps by instruction. An entry of an interrupt is one.
struct Stepped {
  Record record;
  std::uint64_t cycles = 0, entering = 0, asleep = 0;
  std::map<std::uint32_t, std::uint64_t> entries;  ///< by the vector's address
};
Stepped stepped(Session& session, unsigned steps) {
  Stepped out;
  std::set<std::uint32_t> vectors;
  for (const InterruptVector& v : session.chip().info().vectors) vectors.insert(v.address);
  std::map<std::uint32_t, Instruction> instructions;
  Picoseconds asleep = session.time().asleep;
  for (unsigned i = 0; i < steps; ++i) {
    const std::uint32_t at = session.pause().where.address;
    const auto [known, is_new] = instructions.try_emplace(at);
    if (is_new) known->second = session.disassembly("here", 1)->rows.front().instruction;
    const Instruction& instruction = known->second;
    const auto paused = session.step(StepKind::kInto, StepUnit::kInstruction);
    REQUIRE(paused);
    if (paused->cause == Pause::Cause::kFault) break;  // asleep for ever
    REQUIRE(paused->cause == Pause::Cause::kStep);
    const std::uint32_t to = paused->where.address;
    out.cycles += paused->cycles_since;
    const bool slept = session.time().asleep.count != asleep.count;
    asleep = session.time().asleep;
    if (slept) {
      out.asleep += paused->cycles_since;
      continue;
    }
    const bool conditional = instruction.flow == Flow::kBranch || instruction.flow == Flow::kSkip;
    // An entry: nothing but an interrupt leads to a vector, in these programs.
    if (at != 0 && to != 0 && vectors.count(to) != 0 && instruction.target != to) {
      out.entering += paused->cycles_since;
      ++out.entries[to];
      continue;
    }
    Count& c = out.record[at];
    ++c.executed;
    if (conditional && to != at + instruction.size) ++c.departed;
    c.cycles += paused->cycles_since;
  }
  return out;
}

std::string program(const std::string& name, const std::string& flags, const std::string& mcu) {
  return test::compiled(
      "survey-" + name + flags + "-" + mcu,
      test::read(std::string(LUCID_TEST_SOURCES) + "/programs/" + name + ".c"),
      flags + " -gdwarf-4 -std=gnu11 -w -DPRINTED -I" LUCID_TEST_SOURCES "/programs", mcu);
}

void check_equal(const Record& found, const Record& expected) {
  std::set<std::uint32_t> addresses;
  for (const auto* side : {&found, &expected})
    for (const auto& [address, count] : *side) addresses.insert(address);
  for (const std::uint32_t address : addresses) {
    const auto of = [address](const Record& r) {
      const auto at = r.find(address);
      return at == r.end() ? Count{} : at->second;
    };
    if (of(found) == of(expected)) continue;
    INFO("at " << std::hex << address);
    CHECK(of(found) == of(expected));
  }
}

}  // namespace

TEST_CASE("counts are those of a record made by stepping") {
  struct Row {
    std::string image, chip;
    unsigned steps;
    bool jumps;  ///< from one function to another
  };
  std::vector<Row> rows;
  for (const char* kiln : {"kiln-os", "kiln-og", "torn-tick", "deep-plan", "lost-character"})
    rows.push_back(
        {std::string(LUCID_KILN) + "/images/" + kiln + ".elf", "ATmega328P", 20'000, true});
  for (const char* name : {"ring", "recursion", "states", "real"}) {
    rows.push_back({program(name, "-O2", "atmega328p"), "ATmega328P", 20'000, true});
    rows.push_back({program(name, "-O0", "atmega2560"), "ATmega2560", 20'000, false});
  }
  for (const Row& row : rows) {
    INFO(row.image << " on " << row.chip);
    Session by_steps = opened(row.image, row.chip), whole = opened(row.image, row.chip);
    const Stepped truth = stepped(by_steps, row.steps);
    REQUIRE(whole.survey(Survey::kWithCalls));
    // In pieces, so that some code is translated and some is left in the middle.
    std::uint64_t left = truth.cycles;
    for (std::uint64_t piece = 777; left != 0; piece *= 3) {
      whole.go_for(std::min(piece, left));
      left = truth.cycles - std::min(truth.cycles, whole.pause().cycles);
    }
    REQUIRE(truth.cycles > 10'000);
    REQUIRE(whole.pause().cycles == truth.cycles);
    check_equal(counted(whole), truth.record);
    const ProfileView profile = *whole.profile();
    CHECK(profile.cycles == truth.cycles);
    CHECK(profile.entering == truth.entering);
    CHECK(profile.asleep == truth.asleep);
    std::uint64_t sum = profile.asleep + profile.entering + profile.unknown;
    for (const ProfileView::Function& f : profile.functions) sum += f.self;
    CHECK(sum == profile.cycles);
    // The tree of calls has been made of calls and returns, not of instructions.
    std::uint64_t in_trees = profile.asleep + profile.entering;
    std::map<std::string, std::uint64_t> own_by_calls, own_by_instructions, calls;
    for (const ProfileView::Call& call : profile.calls) {
      if (!call.caller) in_trees += call.cycles;
      own_by_calls[call.function] += call.self;
      calls[call.function] += call.calls;
    }
    CHECK(in_trees == profile.cycles);
    for (const ProfileView::Function& f : profile.functions)
      own_by_instructions[f.inlined_in.empty() ? f.name : f.inlined_in] += f.self;
    unsigned equal = 0;
    for (const ProfileView::Function& f : profile.functions) {
      // Libraries in assembly go on from one function into another.
      if (!f.inlined_in.empty() || row.jumps || f.where.line == 0) continue;
      INFO(f.name);
      CHECK(calls[f.name] == f.calls);
      CHECK(own_by_calls[f.name] == own_by_instructions[f.name]);
      ++equal;
    }
    CHECK((row.jumps || equal > 3));
    std::uint64_t entries = 0, told = 0;
    for (const auto& [vector, times] : truth.entries) entries += times;
    const std::vector<InterruptView> interrupts = *whole.interrupts();
    for (const InterruptView& i : interrupts) told += i.wait.count;
    CHECK(told == entries);
  }
}

TEST_CASE("branches of the source, as the program itself counts them") {
  const std::string source = R"(#include <avr/io.h>
volatile unsigned yes[4], no[4], n;
int main(void) {
  for (;;) {
    n++;
    if (n & 1) yes[0]++; else no[0]++;
    if (n % 5 == 3) {
      yes[1]++;
    } else {
      no[1]++;
    }
    if (GPIOR0 == 7)
      yes[2]++;
    if ((uint8_t)n < 40)
      yes[3]++;
    else
      no[3]++;
  }
}
)";
  for (const char* level : {"-O0", "-Og", "", "-Os"}) {
    INFO(level);
    const std::string elf =
        test::compiled(std::string("branches") + level, source, std::string("-gdwarf-4 ") + level);
    Session session = opened(elf, "ATmega328P");
    REQUIRE(session.survey(Session::Survey::kCounts));
    session.go_for(500'000);
    REQUIRE(session.go_to("5"));
    const auto coverage = session.coverage();
    REQUIRE(coverage);
    const auto* const file = coverage->named(std::string("branches") + level + ".c").at(0);
    if (std::string(level) == "-Os") {
      CHECK(file->branches.empty());
      continue;
    }
    for (const auto& [line, i] : {std::pair{6U, 0}, {7U, 1}, {12U, 2}, {14U, 3}}) {
      INFO("line " << line);
      std::multiset<std::uint64_t> counted, told;
      for (const char* name : {"yes", "no"}) {
        const auto value = session.evaluate(std::string(name) + "[" + std::to_string(i) + "]");
        REQUIRE(value);
        counted.insert(static_cast<std::uint64_t>(value->integer));
      }
      if (i == 2) counted = {0, static_cast<std::uint64_t>(session.evaluate("n")->integer)};
      for (const CoverageView::Branch& b : file->branches)
        if (b.line == line) {
          CHECK(b.reached);
          told.insert(b.taken);
        }
      CHECK(told == counted);
    }
  }
}

TEST_CASE("beside the source stands what coverage says") {
  for (const char* image : {"kiln-og", "kiln-os"}) {
    Session session = opened(std::string(LUCID_KILN) + "/images/" + image + ".elf", "ATmega328P");
    const auto marks = [&](const std::string& file, unsigned at) {
      std::set<unsigned> out;
      const auto view = session.source(file + ":" + std::to_string(at), 1000);
      REQUIRE(view);
      for (const SourceView::Line& line : view->lines)
        if (line.never_run) out.insert(line.number);
      return out;
    };
    CHECK(marks("clock.c", 13).empty());  // nothing is counted
    REQUIRE(session.survey(Session::Survey::kCounts));
    session.go_for(Picoseconds{200'000'000'000});
    unsigned compared = 0;
    const auto coverage = session.coverage();
    REQUIRE(coverage);
    for (const CoverageView::File& file : coverage->files) {
      const std::string name = file.path.substr(file.path.rfind('/') + 1);
      if (name.find(".c") == std::string::npos || name == "board.c") continue;
      INFO(name);
      std::set<unsigned> wanted;
      for (const CoverageView::Line& line : file.lines)
        if (!line.executed) wanted.insert(line.line);
      CHECK(marks(name, file.lines.front().line) == wanted);
      compared += static_cast<unsigned>(wanted.size());
    }
    CHECK(compared > 20);
  }
}

TEST_CASE("events of timers are counted whether their handler comes or not") {
  // Events in all: by arithmetic, from the cycles and the period.
  const struct {
    const char* name;
    const char* setup;
    std::uint64_t period;    ///< cycles
    std::uint64_t each = 1;  ///< events a period
  } kRows[] = {
      {"TIMER1_COMPA", "OCR1A = 999; TCCR1B = 1 << WGM12 | 1; TIMSK1 = 1 << OCIE1A;", 1000},
      {"TIMER1_COMPB", "OCR1A = 499; OCR1B = 77; TCCR1B = 1 << WGM12 | 2; TIMSK1 = 1 << OCIE1B;",
       4000},
      {"TIMER1_OVF", "TCCR1A = 2; TCCR1B = 3 << WGM12 | 1; ICR1 = 699; TIMSK1 = 1 << TOIE1;", 700},
      {"TIMER1_CAPT", "TCCR1A = 2; TCCR1B = 3 << WGM12 | 1; ICR1 = 699; TIMSK1 = 1 << ICIE1;", 700},
      {"TIMER1_COMPA", "TCCR1B = 1 << WGM13 | 1; ICR1 = 600; OCR1A = 200; TIMSK1 = 1 << OCIE1A;",
       1200, 2},
      {"TIMER1_COMPA", "TCCR1B = 1 << WGM13 | 1; ICR1 = 600; OCR1A = 600; TIMSK1 = 1 << OCIE1A;",
       1200},
      {"TIMER1_OVF", "TCCR1B = 1 << WGM13 | 1; ICR1 = 600; TIMSK1 = 1 << TOIE1;", 1200},
      {"TIMER0_OVF", "TCCR0B = 2; TIMSK0 = 1 << TOIE0;", 2048},
      {"TIMER2_COMPB", "OCR2B = 7; TCCR2B = 1; TIMSK2 = 1 << OCIE2B;", 256},
      {"ADC", "ADCSRA = 1 << ADEN | 1 << ADSC | 1 << ADATE | 1 << ADIE | 4;", 13 * 16},
  };
  unsigned n = 0;
  for (const auto& row : kRows) {
    INFO(row.name << " " << row.setup);
    const std::string elf = test::compiled(
        "missed-" + std::to_string(n++),
        std::string("#include <avr/io.h>\n#include <avr/interrupt.h>\nvolatile uint8_t x;\nISR(") +
            row.name + R"(_vect) {
  static uint8_t k;
  for (uint16_t i = (k += 91) * 5; i != 0; i--) __asm__ volatile("nop");
}
int main(void) {
  )" + row.setup +
            R"(
  for (uint16_t k = 1;; k += 7919) {
    cli();
    for (uint16_t i = k % 1500; i != 0; i--) __asm__ volatile("nop");
    sei();
    for (uint16_t i = k % 700; i != 0; i--) x++;
  }
}
)",
        "-Os");
    Session session = opened(elf, "ATmega328P");
    REQUIRE(session.go_to("main"));
    REQUIRE(session.survey(Session::Survey::kCounts));
    const std::uint64_t begin = session.chip().cycles();
    session.go_for(Picoseconds{300'000'000'000});
    const std::uint64_t cycles = session.chip().cycles() - begin;
    const auto interrupts = session.interrupts();
    REQUIRE(interrupts);
    REQUIRE(interrupts->size() == 1);
    const InterruptView& view = interrupts->front();
    CHECK(view.missed > 100);
    const double wanted = static_cast<double>(cycles) / static_cast<double>(row.period) *
                          static_cast<double>(row.each);
    // The timer begins a little later; the last events may wait still.
    CHECK(static_cast<double>(view.wait.count + view.missed) < wanted + 1.5);
    CHECK(static_cast<double>(view.wait.count + view.missed) > wanted - 30);
  }
}

TEST_CASE("lines and functions pass as breakpoints count them") {
  struct Row {
    std::string image, chip;
    std::uint64_t cycles;
  };
  std::vector<Row> rows;
  for (const char* kiln : {"kiln-os", "kiln-og", "torn-tick", "overshoot"})
    rows.push_back({std::string(LUCID_KILN) + "/images/" + kiln + ".elf", "ATmega328P",
                    test::kSanitized ? 300'000U : 3'000'000U});
  for (const char* name : {"ring", "recursion", "states", "parse", "schedule"})
    for (const char* level : {"-O0", "-Os", "-O2"})
      rows.push_back({program(name, level, "atmega328p"), "ATmega328P",
                      test::kSanitized ? 50'000U : 1'000'000U});
  for (const Row& row : rows) {
    INFO(row.image);
    Session session = opened(row.image, row.chip);
    const auto files = session.program().files();
    std::map<std::pair<std::string, unsigned>, unsigned> ids;
    for (const SourceFile& file : files)
      for (const unsigned line : file.lines_with_code) {
        BreakpointSpec spec;
        spec.place = file.path + ":" + std::to_string(line);
        spec.rule = BreakpointSpec::Rule::kOn;
        spec.count = UINT64_MAX;
        const auto point = session.pause_at(spec);
        REQUIRE(point);
        ids[{file.name, line}] = point->id;
      }
    REQUIRE(session.survey(Survey::kCounts));
    session.go_for(row.cycles);
    std::map<unsigned, std::uint64_t> passes;
    const std::vector<Breakpoint> points = session.breakpoints();
    for (const Breakpoint& point : points) passes[point.id] = point.passes;
    const CoverageView coverage = *session.coverage();
    unsigned compared = 0;
    for (const CoverageView::File& file : coverage.files)
      for (const CoverageView::Line& line : file.lines)
        for (const auto& [place, id] : ids)
          if (place.second == line.line && file.path.size() >= place.first.size() &&
              file.path.compare(file.path.size() - place.first.size(), std::string::npos,
                                place.first) == 0) {
            INFO(file.path << ":" << line.line);
            // The one it stands before has been counted there, and has not executed.
            const bool stands =
                session.locate(place.first + ":" + std::to_string(place.second))->address ==
                session.pause().where.address;
            CHECK(line.passes + (stands ? 1 : 0) == passes[id]);
            CHECK(line.executed >= (line.passes != 0));
            ++compared;
          }
    CHECK(compared > 20);
  }
}

TEST_CASE("each stretch counts once, by whatever way, and counting changes nothing") {
  std::mt19937 random(test::fresh_seed());
  const std::string image = std::string(LUCID_KILN) + "/images/lost-character.elf";
  constexpr std::uint64_t kEnd = 3'000'000;
  Session plain = opened(image), straight = opened(image), wandering = opened(image);
  for (Session* session : {&straight, &wandering}) REQUIRE(session->survey(Survey::kWithCalls));
  plain.go_for(kEnd);
  straight.go_for(kEnd);
  for (unsigned i = 0; i < 12; ++i) {
    const std::uint64_t now = wandering.pause().cycles;
    switch (random() % 4) {
      case 0: (void)wandering.back_for(random() % (now + 1)).has_value(); break;
      case 1: (void)wandering.origin("ticks").has_value(); break;
      case 2: (void)wandering.step_back(StepKind::kOver, StepUnit::kLine).has_value(); break;
      default:
        if (now < kEnd) wandering.go_for(1 + random() % (kEnd - now));
    }
  }
  if (wandering.pause().cycles < kEnd) wandering.go_for(kEnd - wandering.pause().cycles);
  CHECK(plain.chip().hash() == straight.chip().hash());
  CHECK(plain.chip().hash() == wandering.chip().hash());
  check_equal(counted(wandering), counted(straight));
  CHECK(wandering.profile()->cycles == straight.profile()->cycles);
  std::map<std::string, std::uint64_t> calls, wandered;
  const ProfileView one = *straight.profile(), other = *wandering.profile();
  for (const ProfileView::Call& call : one.calls) calls[call.function] += call.calls;
  for (const ProfileView::Call& call : other.calls) wandered[call.function] += call.calls;
  CHECK(wandered == calls);
  const std::vector<InterruptView> a = *straight.interrupts(), b = *wandering.interrupts();
  REQUIRE(a.size() == b.size());
  for (std::size_t i = 0; i < a.size(); ++i) {
    INFO(a[i].name);
    CHECK(a[i].wait.count == b[i].wait.count);
    CHECK(a[i].wait.most.count == b[i].wait.most.count);
    CHECK(a[i].inside.count == b[i].inside.count);
  }
  // In the past nothing is added; another future is.
  const std::uint64_t before = straight.profile()->cycles;
  REQUIRE(straight.back_for(std::uint64_t{1'000'000}));
  CHECK(straight.profile()->cycles == before);
  const ProfileView in_past = *straight.profile();
  for (std::size_t i = 0; i < in_past.calls.size(); ++i)
    CHECK(in_past.calls[i].cycles == one.calls[i].cycles);
  REQUIRE(straight.drive("PD2", true));
  straight.go_for(std::uint64_t{500'000});
  CHECK(straight.profile()->cycles > before + 490'000);
  const ProfileView both = *straight.profile();
  std::uint64_t in_trees = both.asleep + both.entering;
  for (const ProfileView::Call& call : both.calls)
    if (!call.caller) in_trees += call.cycles;
  CHECK(in_trees == both.cycles);
  // From nought, and what is asked for when nothing counts.
  REQUIRE(straight.survey(Survey::kOff));
  CHECK(!straight.profile());
  CHECK(!straight.coverage());
  CHECK(!straight.surveys());
  REQUIRE(straight.survey(Survey::kCounts));
  CHECK(straight.profile()->cycles == 0);
  REQUIRE(straight.reload());
  CHECK(straight.profile()->cycles == 0);
  straight.go_for(std::uint64_t{1000});
  CHECK(straight.profile()->cycles >= 1000);
}

/// Timer 1 asks every 1,000 cycles; interrupts are off for 300 of the main loop's cycles; the
/// handler takes 28; another one, of timer 0, takes longer and asks now and then.
const char* const kWaits = R"(
.global main
main:
  jmp start
.org 0x2c
  jmp fast
.org 0x40
  jmp slow
.org 0x80
start:
  ldi r16, 0x08
  out IO(SPH), r16
  ldi r16, 0xff
  out IO(SPL), r16
  ldi r16, 0x03
  sts OCR1AH, r16
  ldi r16, 0xe7
  sts OCR1AL, r16
  ldi r16, 0x02
  sts TIMSK1, r16
  ldi r16, 0x01
  sts TIMSK0, r16
  ldi r16, 0x02
  out IO(TCCR0B), r16
  ldi r16, 0x09
  sts TCCR1B, r16
loop:
  sei
  ldi r17, 200
1: dec r17
  brne 1b
  cli
  ldi r17, 100
2: dec r17
  brne 2b
  rjmp loop
fast:
  push r20
  ldi r20, 5
3: dec r20
  brne 3b
  pop r20
  reti
slow:
  push r20
  ldi r20, 150
4: dec r20
  brne 4b
  pop r20
  reti
)";

TEST_CASE("how long interrupts wait, against looking at every boundary") {
  const std::string image = test::assembled("survey-waits", kWaits);
  constexpr unsigned kSteps = 40'000;
  Session whole = opened(image), looked = opened(image);
  struct Truth {
    std::uint64_t count = 0, most = 0, inside_most = 0, nested = 0;
  };
  // TIMER1_COMPA is 11, TIMER0_OVF 16; their flags are bit 1 of TIFR1 and bit 0 of TIFR0.
  std::map<unsigned, Truth> truth;
  const std::pair<unsigned, Address> flags[] = {{11, {Space::kData, 0x36}},
                                                {16, {Space::kData, 0x35}}};
  std::map<unsigned, std::uint64_t> since;
  std::vector<std::pair<unsigned, std::uint64_t>> inside;
  for (unsigned i = 0; i < kSteps; ++i) {
    const std::uint32_t at = looked.pause().where.address;
    REQUIRE(looked.step(StepKind::kInto, StepUnit::kInstruction));
    const std::uint64_t now = looked.pause().cycles;
    const std::uint32_t to = looked.pause().where.address;
    for (const auto& [vector, flag] : flags) {
      const unsigned bit = vector == 11 ? 2 : 1;
      if ((*looked.chip().peek(flag) & bit) != 0 && since.count(vector) == 0) since[vector] = now;
      if (to == vector * 4 && at != to) {
        Truth& t = truth[vector];
        ++t.count;
        if (since.count(vector) != 0) t.most = std::max(t.most, now - since[vector]);
        since.erase(vector);
        inside.emplace_back(vector, now);
      }
    }
    if (to == 0) break;
    // A return from interrupt: the stack is where the entry found it.
    if (!inside.empty() && looked.chip().sp() == 0x08ff) {
      truth[inside.back().first].inside_most =
          std::max(truth[inside.back().first].inside_most, now - inside.back().second);
      inside.clear();
    }
  }
  REQUIRE(truth[11].count > 50);
  REQUIRE(truth[16].count > 20);
  REQUIRE(whole.survey(Survey::kCounts));
  whole.go_for(looked.pause().cycles);
  const std::vector<InterruptView> views = *whole.interrupts();
  REQUIRE(views.size() == 2);
  for (const InterruptView& view : views) {
    INFO(view.name);
    const Truth& t = truth[view.number];
    const std::uint64_t cycle = 62'500;
    CHECK(view.wait.count == t.count);
    CHECK(view.wait.least.count >= 4 * cycle);
    // A boundary is at most a few cycles behind the request.
    CHECK(view.wait.most.count >= t.most * cycle);
    CHECK(view.wait.most.count <= (t.most + 4) * cycle);
    CHECK(view.inside.most.count == t.inside_most * cycle);
    CHECK(view.inside.least.count == view.inside.most.count);
    CHECK(view.nested == 0);
    CHECK((view.held_by == InterruptView::HeldBy::kOff ||
           view.held_by == InterruptView::HeldBy::kHandler));
  }
  // 300 cycles off and an entry, or the slow handler: the fast one's longest wait is one of them.
  CHECK(views[0].wait.most.count > 250 * 62'500);
  CHECK(whole.holds("latency(TIMER1_COMPA) < 100us").value());
  CHECK(whole.holds("latency(TIMER1_COMPA) in 0.2us..90us").value());
  CHECK(whole.evaluate("latency(INT0)").error().what == "INT0 has not been entered");
}

TEST_CASE("coverage as a file: written, read by others and by us, added up, held against") {
  Session session = opened(std::string(LUCID_KILN) + "/images/kiln-og.elf");
  REQUIRE(session.survey(Survey::kCounts));
  session.go_for(Picoseconds{kSecond});
  const CoverageView once = *session.coverage();
  REQUIRE(session.feed("USART0", "G\n"));
  session.go_for(Picoseconds{kSecond});
  const CoverageView more = *session.coverage();
  std::size_t lines = 0, executed = 0, functions = 0, called = 0;
  for (const CoverageView::File& file : more.files) {
    lines += file.lines.size();
    executed += file.lines_executed();
    functions += file.functions.size();
    called += file.functions_executed();
  }
  CHECK(executed > 100);
  std::size_t branches = 0, taken = 0;
  for (const CoverageView::File& file : more.files) {
    branches += file.branches.size();
    taken += file.branches_taken();
  }
  CHECK(branches > 100);  // it is built at -Og
  CHECK(session.holds("coverage(all) in 0.3..0.99").value());
  CHECK(session.evaluate("coverage(all)")->real == Approx(double(executed) / double(lines)));
  CHECK(session.evaluate("coverage(contrl.c)").error().hint == "did you mean control.c?");
  const std::string path = test::scratch("survey.info");
  test::write(path, lcov_text(more, "kiln"));
  const auto summary = test::run("lcov --summary " + path);
  INFO(summary.text);
  CHECK(summary.code == 0);
  CHECK(summary.text.find("(" + std::to_string(executed) + " of " + std::to_string(lines) +
                          " lines)") != std::string::npos);
  CHECK(summary.text.find("(" + std::to_string(called) + " of " + std::to_string(functions) +
                          " functions)") != std::string::npos);
  const auto with_branches = test::run("lcov --rc lcov_branch_coverage=1 --summary " + path);
  CHECK(with_branches.text.find("(" + std::to_string(taken) + " of " + std::to_string(branches) +
                                " branches)") != std::string::npos);
  const auto again = read_lcov(test::read(path), path);
  REQUIRE(again);
  CHECK(lcov_text(*again, "kiln") == lcov_text(more, "kiln"));
  CHECK(only_in(more, *again).files.empty());
  CHECK(only_in(*again, more).files.empty());
  CHECK(only_in(once, more).files.empty());
  const CoverageView news = only_in(more, once);
  REQUIRE(!news.files.empty());
  CoverageView sum = once;
  merge(sum, news);
  CHECK(only_in(more, sum).files.empty());
  CoverageView twice = more;
  merge(twice, more);
  CHECK(twice.files.front().lines.front().passes == 2 * more.files.front().lines.front().passes);
  for (const auto& [text, what] : std::vector<std::pair<std::string, std::string>>{
           {"DA:1,2\n", "DA stands before any SF"},
           {"SF:\n", "SF names no file"},
           {"SF:a\nDA:x,2\nend_of_record\n", "'DA:x,2' is no DA record"},
           {"SF:a\nDA:1\nend_of_record\n", "'DA:1' is no DA record"},
           {"SF:a\nSF:b\n", "SF comes before end_of_record"},
           {"SF:a\nFNDA:1,f\nend_of_record\n", "FNDA is of a function that has no FN: f"},
           {"end_of_record\n", "end_of_record ends nothing"},
           {"SF:a\nDA:1,1\n", "the last file has no end_of_record"},
           {"\x7f"
            "ELF anything\n",
            "it tells of no source file: is it an LCOV tracefile?"},
           {"", "it tells of no source file: is it an LCOV tracefile?"}}) {
    const auto bad = read_lcov(text, "x.info");
    REQUIRE(!bad);
    CHECK(bad.error().what == what);
    CHECK(bad.error().where.rfind("x.info:", 0) == 0);
  }
  const auto foreign = read_lcov(
      "TN:\nVER:1\nSF:a.c\nFN:3,9,f\nFNDA:2,f\nBRDA:3,0,0,1\nDA:3,2,abc\r\n"
      "end_of_record\n",
      "x.info");
  REQUIRE(foreign);
  CHECK(foreign->files.at(0).functions.at(0).name == "f");
  CHECK(foreign->files[0].lines.at(0).passes == 2);
}

TEST_CASE("the stack's bound holds what runs need, and is met where all of it runs") {
  unsigned bounded = 0;
  for (const char* name : {"ring", "states", "parse", "schedule", "real", "sort", "matrix", "wide",
                           "text", "curve", "recursion", "search"})
    for (const auto& [level, mcu] : {std::pair{"-O0", "atmega2560"}, std::pair{"-Os", "atmega328p"},
                                     std::pair{"-O2", "atmega328p"}}) {
      const std::string chip = mcu == std::string("atmega328p") ? "ATmega328P" : "ATmega2560";
      Session session = opened(program(name, level, mcu), chip);
      INFO(session.image_path());
      const StackBoundView bound = *session.stack_bound();
      session.go_for(std::uint64_t{2'000'000});
      const std::uint32_t deepest = session.stack().deepest.value_or(0);
      REQUIRE(bound.program);
      if (!bound.total) {
        CHECK(!bound.program->why.empty());
        continue;
      }
      ++bounded;
      CHECK(deepest <= *bound.total);
      CHECK(deepest > 0);
    }
  CHECK(bounded > 15);
  // By hand: two bytes for main's return address; three levels below, the deepest with two pushes;
  // a handler with two, which lets others come; one that calls.
  const std::string image = test::compiled("survey-stack", R"(
#include <avr/interrupt.h>
#define FUNCTION(name, body) __attribute__((naked, noinline, used)) void name(void) { __asm__ volatile(body); }
FUNCTION(leaf, "push r16\n push r17\n pop r17\n pop r16\n ret")
FUNCTION(middle, "push r16\n rcall leaf\n pop r16\n ret")
FUNCTION(tail, "rjmp middle")
FUNCTION(pointer, "icall\n ret")
FUNCTION(again, "push r16\n rcall again\n pop r16\n ret")
__attribute__((naked, used)) void TIMER1_COMPA_vect(void);
ISR(TIMER1_COMPA_vect, ISR_NAKED) { __asm__ volatile("push r16\n push r17\n rcall leaf\n pop r17\n pop r16\n reti"); }
ISR(INT0_vect, ISR_NAKED) { __asm__ volatile("push r16\n pop r16\n reti"); }
int main(void) { __asm__ volatile("rcall tail"); __asm__ volatile("ldi r16, 0x02\n sts 0x6f, r16\n ldi r16, 2\n sts 0x88, r16\n ldi r16, 9\n sts 0x81, r16\n sei\n rcall middle"); for (;;) __asm__ volatile("rcall middle"); }
)",
                                           "-Os -gdwarf-4 -w");
  Session session = opened(image);
  const StackBoundView bound = *session.stack_bound();
  const auto of = [&](const std::string& name) {
    for (const StackBoundView::Function& f : bound.functions)
      if (f.name == name) return f;
    FAIL(name);
    return StackBoundView::Function{};
  };
  CHECK(of("leaf").bytes == 2u);
  CHECK(of("middle").bytes == 5u);
  CHECK(of("middle").own == 1u);
  CHECK(of("tail").bytes == 5u);
  CHECK(of("tail").chain == std::vector<std::string>{"tail", "middle", "leaf"});
  CHECK(of("pointer").why == "pointer calls through a pointer");
  CHECK(of("again").why == "again → again calls itself");
  REQUIRE(bound.total);
  CHECK(bound.handlers == 2u + 2 + 2 + 2);
  CHECK(*bound.total == 2 + 2 + 5 + bound.handlers);
  session.go_for(std::uint64_t{3'000'000});
  CHECK(session.stack().deepest == *bound.total);
}

TEST_CASE("constructors, and interrupts that nobody handles, are in the stack's bound") {
  const auto built = [](const std::string& name, const std::string& source) {
    const std::string path = test::scratch(name);
    test::write(path + ".cpp", source);
    const auto made =
        test::run("avr-g++ -Os -gdwarf-4 -w -mmcu=atmega328p -o " + path + ".elf " + path + ".cpp");
    INFO(made.text);
    REQUIRE(made.code == 0);
    return path + ".elf";
  };
  const std::string leaf =
      "extern \"C\" __attribute__((naked, noinline, used)) void leaf() { __asm__ volatile(\"push "
      "r16\\n push "
      "r17\\n push r18\\n pop r18\\n pop r17\\n pop r16\\n ret\"); }\n";
  for (const auto& [source, bytes] : std::vector<std::pair<std::string, std::uint32_t>>{
           // The constructor's return address, leaf's, and three pushes; main needs its own two.
           {leaf + "struct S { S() { leaf(); __asm__(\"\"); } } s;\nint main() { for (;;) {} }", 0},
           {leaf + "__attribute__((constructor, naked)) void early() { __asm__ volatile(\"rcall "
                   "leaf\\n ret\"); }\nint main() { for (;;) {} }",
            2 + 2 + 3},
           // Back to the reset: the entry leaves two bytes more.
           {"#include <avr/interrupt.h>\nint main() { TIMSK1 = 1; TCCR1B = 1; TCNT1 = 65000; "
            "sei(); "
            "for (;;) {} }",
            2 + 2}}) {
    INFO(source);
    Session session = opened(built("survey-start", source));
    const StackBoundView bound = *session.stack_bound();
    REQUIRE(bound.program);
    INFO(bound.program->why);
    REQUIRE(bound.total);
    (void)session.set_fault("no-handler", false).has_value();
    session.go_for(std::uint64_t{100'000});
    CHECK(session.stack().deepest == *bound.total);
    if (bytes != 0) CHECK(*bound.total == bytes);
  }
}

/// Rounds of five cycles; the head is come to by falling into it, too.
const char* const kFallsIn = R"(
.global main
main:
  rjmp 2f
1: nop
  nop
2: nop
  rjmp 1b
stop: break
)";

TEST_CASE("a mark is met each time, when the loop falls into it, too; at a BREAK once") {
  for (const unsigned rule : {0U, 1U}) {
    Session session = opened(test::assembled("survey-falls-in", kFallsIn));
    BreakpointSpec spec;
    spec.place = "0x6";
    spec.rule = BreakpointSpec::Rule::kOn;
    spec.count = rule == 0 ? UINT64_MAX : 50'001;
    REQUIRE(session.pause_at(spec));
    REQUIRE(session.survey(Survey::kCounts));
    constexpr std::uint64_t kRounds = 100'000;
    session.go_for(2 + 5 * kRounds);
    const std::uint64_t passes = session.breakpoints().front().passes;
    if (rule == 0) {
      CHECK(passes == kRounds + 1);  // it stands before it again
      continue;
    }
    CHECK(session.pause().cause == Pause::Cause::kBreakpoint);
    CHECK(session.pause().cycles == 2 + 5 * 50'000u);
  }
  Session session = opened(
      test::assembled("survey-break", ".global main\nmain:\n nop\nhere: break\n rjmp main\n"));
  BreakpointSpec spec;
  spec.place = "0x2";
  spec.rule = BreakpointSpec::Rule::kOn;
  spec.count = UINT64_MAX;
  REQUIRE(session.pause_at(spec));
  for (unsigned i = 1; i < 5; ++i) {
    CHECK(session.go().cause == Pause::Cause::kBreakInstruction);
    CHECK(session.breakpoints().front().passes == i);
  }
}

TEST_CASE("calls deeper than are kept, with handlers on top, are summed up") {
  const std::string image = test::compiled("survey-deep", R"(
#include <avr/interrupt.h>
volatile uint8_t ticks;
uint8_t __attribute__((noinline)) deeper(uint8_t n) { volatile uint8_t m = n; return m == 0 ? ticks : deeper(m - 1) + 1; }
void __attribute__((noinline)) count(void) { ticks++; }
ISR(TIMER0_OVF_vect) { sei(); count(); }
int main(void) { TIMSK0 = 1; TCCR0B = 1; sei(); for (;;) ticks = deeper(120); }
)",
                                           "-O1 -fno-optimize-sibling-calls -gdwarf-4 -w");
  Session session = opened(image);
  REQUIRE(session.survey(Survey::kWithCalls));
  session.go_for(std::uint64_t{2'000'000});
  const ProfileView profile = *session.profile();
  std::uint64_t in_trees = profile.asleep + profile.entering;
  std::map<std::string, std::uint64_t> calls;
  for (const ProfileView::Call& call : profile.calls) {
    if (!call.caller) in_trees += call.cycles;
    calls[call.function] += call.calls;
  }
  CHECK(in_trees == profile.cycles);
  // Where it interrupts what is too deep, what it calls is summed up with it.
  CHECK(calls["TIMER0_OVF_vect"] > 5'000);
  CHECK(calls["count"] > 1'000);
  CHECK(calls["count"] < calls["TIMER0_OVF_vect"]);
}
