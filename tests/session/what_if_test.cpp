// SPDX-License-Identifier: MIT
// Why a place was not reached, what would be otherwise, where two runs part, and a past in a file.
#include <fmt/format.h>

#include <algorithm>
#include <catch2/catch.hpp>
#include <map>
#include <random>
#include <set>

#include "lucid/bench.h"
#include "lucid/divergence.h"
#include "tools.h"

using namespace lucid;

namespace {

constexpr std::uint64_t kHz = 16'000'000;

std::string image(const std::string& name) {
  return std::string(LUCID_KILN) + "/images/" + name + ".elf";
}

Session untouched(const std::string& path) {
  auto bench = Bench::open(std::string(LUCID_KILN) + "/kiln.bench.toml");
  REQUIRE(bench);
  Session session(*Chip::make(bench->chip));
  REQUIRE(session.open(path));
  return session;
}

Session kiln(const std::string& path) {
  Session session = untouched(path);
  REQUIRE(session.feed("USART0", "G\n"));
  return session;
}

/// A run noted instruction by instruction, and the ways that the disassembly shows.
class Record {
 public:
  Record(const std::string& path, std::uint64_t begin, std::uint64_t end) : begin_(begin) {
    auto bench = Bench::open(std::string(LUCID_KILN) + "/kiln.bench.toml");
    Chip chip = *Chip::make(bench->chip);
    REQUIRE(chip.load(*Image::open(path)));
    REQUIRE(chip.feed("USART0", "G\n"));
    while (chip.cycles() < end) {
      const std::uint32_t pc = chip.pc();
      const std::uint64_t at = chip.cycles();
      chip.step();
      // Entries of interrupts and sleep are no instruction that was executed there.
      const Instruction now = chip.instruction_at(pc);
      const bool leads = next_of(now).count(chip.pc()) != 0 || now.flow == Flow::kReturn ||
                         now.flow == Flow::kInterruptReturn || now.flow == Flow::kIndirectCall ||
                         now.flow == Flow::kIndirectJump || now.flow == Flow::kSleep;
      if (!leads || at < begin_) continue;
      last[pc] = at;
      went[pc] = chip.pc();
    }
    for (std::uint32_t pc = 0; pc < 0x1800;) {
      const Instruction now = chip.instruction_at(pc);
      ways[pc] = next_of(now);
      size[pc] = now.size;
      pc += now.size;
    }
    for (auto& [pc, next] : ways) {
      const Instruction now = chip.instruction_at(pc);
      if (now.flow == Flow::kSkip) next.insert(pc + now.size + size[pc + now.size]);
    }
  }

  /// From here to there through what was never executed.
  [[nodiscard]] bool leads(std::uint32_t from, std::uint32_t to) const {
    std::set<std::uint32_t> seen;
    std::vector<std::uint32_t> waiting{from};
    while (!waiting.empty()) {
      const std::uint32_t pc = waiting.back();
      waiting.pop_back();
      if (last.count(pc) != 0 || !seen.insert(pc).second) continue;
      if (pc == to) return true;
      const auto next = ways.find(pc);
      if (next != ways.end())
        waiting.insert(waiting.end(), next->second.begin(), next->second.end());
    }
    return false;
  }
  /// It was executed, and could have gone on to what leads there.
  [[nodiscard]] bool turns_from(std::uint32_t pc, std::uint32_t to) const {
    const auto next = ways.find(pc);
    return last.count(pc) != 0 && next != ways.end() &&
           std::any_of(next->second.begin(), next->second.end(),
                       [&](std::uint32_t way) { return leads(way, to); });
  }

  std::map<std::uint32_t, std::uint64_t> last;  ///< cycles at which it was executed last
  std::map<std::uint32_t, std::uint32_t> went;  ///< then, to
  std::map<std::uint32_t, std::set<std::uint32_t>> ways;
  std::map<std::uint32_t, std::uint8_t> size;

 private:
  static std::set<std::uint32_t> next_of(const Instruction& i) {
    const std::uint32_t behind = i.address + i.size;
    switch (i.flow) {
      case Flow::kJump: return {*i.target};
      case Flow::kBranch:
      case Flow::kCall: return {behind, *i.target};
      case Flow::kSkip: return {behind, behind + 2, behind + 4};
      case Flow::kIndirectJump:
      case Flow::kReturn:
      case Flow::kInterruptReturn: return {};
      default: return {behind};
    }
  }
  std::uint64_t begin_;
};

}  // namespace

TEST_CASE("a missed place: what turned away, by a record of every instruction") {
  if (std::getenv("LUCID_QUICK") != nullptr) return;  // seconds each
  const unsigned seed = test::fresh_seed();
  INFO("seed " << seed);
  std::mt19937 random(seed);
  unsigned executed = 0, turned = 0, none = 0;
  for (const std::string& path : {test::kKilnOg, test::kKilnOs, image("wrong-bit")}) {
    Session session = kiln(path);
    const std::uint64_t longest = test::is_short() ? 300'000 : 1'000'000;
    const std::uint64_t end = longest + random() % longest;
    session.go_for(end);
    const Record record(path, 0, session.chip().cycles());
    std::vector<std::uint32_t> places;
    for (const Function& f : session.program().functions())
      if (f.has_lines)
        for (std::uint32_t pc = f.begin; pc < f.end; pc += record.size.at(pc)) places.push_back(pc);
    std::shuffle(places.begin(), places.end(), random);
    places.resize(test::is_short() ? 20 : 60);
    for (const std::uint32_t place : places) {
      INFO(path << fmt::format(" {:#x} at ", place) << end);
      const auto missed = session.missed(fmt::format("{:#x}", place));
      REQUIRE(missed);
      const auto when = record.last.find(place);
      CHECK(missed->executed_at.has_value() == (when != record.last.end()));
      if (when != record.last.end()) {
        CHECK(missed->executed_at->count == to_time(when->second, kHz).count);
        ++executed;
        continue;
      }
      if (!missed->turn || missed->turn->instruction.empty()) {
        const Function* f = session.program().function_at(place);
        for (std::uint32_t pc = f->begin; pc < f->end; pc += record.size.at(pc))
          CHECK_FALSE((record.turns_from(pc, place) && pc != session.chip().pc()));
        ++none;
        continue;
      }
      ++turned;
      const std::uint32_t turn = missed->turn->where.address;
      INFO(fmt::format("turned at {:#x}", turn));
      REQUIRE(record.last.count(turn) != 0);
      CHECK(missed->turn->time.count == to_time(record.last.at(turn), kHz).count);
      CHECK(missed->turn->went.address == record.went.at(turn));
      CHECK(record.turns_from(turn, place));
      // In its function nothing has turned away later.
      const Function* f = session.program().function_at(turn);
      for (std::uint32_t pc = f->begin; pc < f->end; pc += record.size.at(pc))
        if (record.turns_from(pc, place) && session.program().function_at(place) == f)
          CHECK(record.last.at(pc) <= record.last.at(turn));
    }
  }
  CHECK((executed > 2 && turned > 2));
  INFO(none);
}

TEST_CASE("a missed place since a mark, in words that are found again") {
  Session session = kiln(test::kKilnOg);
  session.go_for(Picoseconds{1'500'000'000'000});
  REQUIRE(session.mark("then"));
  CHECK(session.missed("every_second", "then").error().code == ErrorCode::kUsage);
  session.go_for(Picoseconds{100'000'000'000});
  const std::uint64_t hash = session.chip().hash();
  CHECK(session.missed("every_second")->executed_at);
  const auto since = session.missed("fan_set", "then");
  REQUIRE(since);
  CHECK_FALSE(since->executed_at);
  REQUIRE(since->not_called.size() == 2);
  CHECK(since->not_called[0].function == "fan_set");
  CHECK(since->not_called[1].function == "every_second");
  CHECK(since->not_called[1].calls.at(0).line == 206);
  REQUIRE(since->turn);
  CHECK(since->turn->where.function == "main");
  CHECK_FALSE(since->origins.nodes.empty());
  CHECK(session.missed("TIMER0_OVF_vect").error().code == ErrorCode::kNotFound);
  CHECK_FALSE(session.missed("ADC_vect")->turn);
  CHECK(session.missed("main", "never").error().code == ErrorCode::kNotFound);
  CHECK(session.chip().hash() == hash);  // without a trace
  REQUIRE(session.missed("fan_set", "then"));
  const auto there = session.back_to_origin(1);
  REQUIRE(there);
  CHECK(session.chip().cycles() < 1'600'000 * 16);
}

TEST_CASE("supposed changes, one or several, of objects and of instructions") {
  if (std::getenv("LUCID_QUICK") != nullptr) return;  // seconds each
  Session session = kiln(test::kKilnOg);
  session.go_for(Picoseconds{3'500'000'000'000});
  const std::uint64_t hash = session.chip().hash();
  const auto assigned = [](const char* object, const char* value) {
    return Session::Change{object, value, {}, {}};
  };
  const auto both =
      session.suppose({assigned("seconds", "70"), assigned("setpoint", "5")}, {1'000'000'000'000});
  REQUIRE(both);
  std::set<std::string> names;
  for (const Difference& d : both->at_end) names.insert(d.name);
  CHECK((names.count("seconds") == 1 && names.count("setpoint") == 1));
  // The line that counts seconds, by another instruction; and what that leads to, done for true.
  const auto line = session.disassembly("kiln.c:141", 6, false);
  REQUIRE(line);
  const auto counts = std::find_if(line->rows.begin(), line->rows.end(), [](const auto& row) {
    return row.instruction.mnemonic == "adiw";
  });
  REQUIRE(counts != line->rows.end());
  const std::string place = fmt::format("{:#x}", counts->instruction.address);
  const auto faster = session.suppose({{{}, {}, place, "ADIW R24,3"}}, {2'000'000'000'000});
  REQUIRE(faster);
  REQUIRE(faster->supposed);
  CHECK(faster->supposed->what == "USART0 sends '6'");  // 3 s and 3, not 4
  const auto seconds = std::find_if(faster->at_end.begin(), faster->at_end.end(),
                                    [](const Difference& d) { return d.name == "seconds"; });
  REQUIRE(seconds != faster->at_end.end());
  CHECK((seconds->then == "5" && seconds->now == "9"));
  // Until a place; a call that comes or does not.
  const auto idle = session.suppose_until({assigned("state", "0")}, "fan_set");
  REQUIRE(idle);
  CHECK(idle->supposed_until);
  REQUIRE((idle->call_as_is && idle->call_supposed));
  CHECK(idle->call_as_is->what != idle->call_supposed->what);
  // Nothing of it has happened.
  CHECK(session.chip().hash() == hash);
  CHECK(session.marks().empty());
  CHECK(session.inputs().size() == 1);
  CHECK(session.chip().peek({Space::kCode, counts->instruction.address}) ==
        counts->instruction.bytes[0]);
  struct Row {
    Session::Change change;
    const char* says;
  };
  for (const Row& row : {Row{{{}, {}, place, "adiw r24"}, "is no instruction here"},
                         {{{}, {}, place, "jmp 0x40"}, "takes 4 bytes"},
                         {{{}, {}, "nowhere", "nop"}, "there is no function 'nowhere'"},
                         {assigned("secnds", "1"), "there is no 'secnds'"}}) {
    const auto wrong = session.suppose({row.change}, {1'000'000'000});
    REQUIRE_FALSE(wrong);
    INFO(wrong.error().text());
    CHECK(wrong.error().text().find(row.says) != std::string::npos);
  }
  CHECK(session.suppose({}, {1}).error().code == ErrorCode::kUsage);
  CHECK(session.suppose_until({assigned("seconds", "1")}, "fail").error().code ==
        ErrorCode::kNotFound);
  CHECK(session.chip().hash() == hash);
}

TEST_CASE("a past as text leads to the same world, and back from there") {
  const unsigned seed = test::fresh_seed();
  INFO("seed " << seed);
  std::mt19937 random(seed);
  Session session = kiln(test::kKilnOg);
  REQUIRE(session.pause_at({"control_step", BreakpointSpec::Rule::kEvery, 2, ""}));
  for (unsigned i = 0; i < 25; ++i) {
    switch (random() % 8) {
      case 0: REQUIRE(session.feed("USART0", std::string("P\n\0\xff", 4))); break;
      case 1: REQUIRE(session.feed_frame("USART0", {0x141, true, true})); break;
      case 2: REQUIRE(session.act("door", "turn", random() % 2 != 0 ? "on" : "off")); break;
      case 3: {
        // In this order with each compiler: the worlds are compared between builds.
        const bool high = random() % 2 != 0;
        REQUIRE(session.drive_for("PD4", high, {random() % 30'000'000'000}));
        break;
      }
      case 4: REQUIRE(session.let("seconds", std::to_string(random() % 60))); break;
      case 5: REQUIRE(session.apply_voltage("PC3", (random() % 50) / 10.0)); break;
      case 6: REQUIRE(session.transfer({0x29, {1, 2}, 3})); break;
      default: session.go_for(Picoseconds{random() % 400'000'000'000});
    }
  }
  if (random() % 2 != 0) REQUIRE(session.back_for(session.chip().cycles() / 3));
  const std::string text = session.timeline_text();
  Session other = untouched(test::kKilnOg);
  const auto there = other.follow_timeline(text);
  INFO(text.substr(0, 3000));
  REQUIRE(there);
  CHECK(there->remarks.empty());
  CHECK(other.chip().cycles() == session.chip().cycles());
  CHECK(other.chip().hash() == session.chip().hash());
  CHECK(other.behind().count == session.behind().count);
  CHECK(other.timeline_text() == text);
  test::record(other.chip().hash());
  session.all_breakpoints(false);
  for (Session* s : {&session, &other}) {
    s->set_timeline_bound(1'000'000);
    s->go_for(Picoseconds{300'000'000'000});
    REQUIRE(s->back_for(s->chip().cycles() / 2));
  }
  CHECK(other.chip().hash() == session.chip().hash());
  // Another image, another chip, and what is no past.
  const std::uint64_t hash = other.chip().hash();
  Session foreign = kiln(test::kKilnOs);
  CHECK(foreign.follow_timeline(text).error().what.find("another image") != std::string::npos);
  Session slower(*Chip::make({"ATmega328P", 8'000'000}));
  REQUIRE(slower.open(test::kKilnOg));
  CHECK(slower.follow_timeline(text).error().what.find("another chip") != std::string::npos);
  Session bare(*Chip::make({"ATmega328P", kHz}));  // no bench
  REQUIRE(bare.open(test::kKilnOg));
  CHECK(bare.follow_timeline(text).error().what.find("began otherwise") != std::string::npos);
  const auto spoilt = [&](const std::string& from, const std::string& to) {
    std::string out = text;
    const std::size_t at = out.find(from);
    REQUIRE(at != std::string::npos);
    return out.replace(at, from.size(), to);
  };
  for (const std::string& bad :
       {std::string(), std::string("{}"), std::string("[1]"), text.substr(0, text.size() / 2),
        spoilt("\"tick\":\"", "\"tick\":\"x"), spoilt("\"acts\":[", "\"acts\":{\"a\":["),
        spoilt("\"bytes\":\"47", "\"bytes\":\"4g"),
        spoilt("\"clock_hz\":", "\"clock_hz\":\"a\",\"b\":"),
        spoilt("\"serial\":\"USART0\"", "\"serial\":3")}) {
    const auto wrong = other.follow_timeline(bad);
    INFO(bad.substr(0, 400));
    REQUIRE_FALSE(wrong);
    CHECK(wrong.error().code == ErrorCode::kUsage);
  }
  CHECK(other.chip().hash() == hash);
}

TEST_CASE("two runs part where the fault is") {
  struct Row {
    const char* fault;
    DivergenceOptions::Align align;
    const char* object;
    const char* a;  ///< what happens in the good one, and in the other
    const char* b;
    std::uint64_t seconds;
  };
  using Align = DivergenceOptions::Align;
  for (const Row& row :
       {Row{"overshoot", Align::kCalls, "", "clamp is called: value = -2400",
            "clamp is called: value = 63136", 4},
        {"torn-tick", Align::kCalls, "", "clock_ms returns 256", "clock_ms returns 511", 1},
        {"wrong-bit", Align::kCalls, "", "schedule_is_sound returns true",
         "schedule_is_sound returns false", 1},
        {"overshoot", Align::kWrites, "heater_ms", "heater_ms is written: 0",
         "heater_ms is written: 1000", 4},
        {"overshoot", Align::kSerial, "", "USART0 sends: '0'", "USART0 sends: '1'", 4}}) {
    if (std::getenv("LUCID_QUICK") != nullptr && row.fault != std::string("wrong-bit")) continue;
    INFO(row.fault << " " << row.a);
    const auto made = [&](const std::string& name) {
      Session session(*Chip::make({"ATmega328P", kHz}));
      REQUIRE(session.open(image(name)));
      REQUIRE(session.drive("PD2", false));
      REQUIRE(session.feed("USART0", "G\nT3000\n"));
      return session;
    };
    Session good = made("kiln-og"), bad = made(row.fault);
    DivergenceOptions options;
    options.align = row.align;
    options.object = row.object;
    options.span = {row.seconds * 1'000'000'000'000};
    const auto parting = first_divergence(good, bad, options);
    REQUIRE(parting);
    REQUIRE((parting->a && parting->b));
    CHECK(parting->a->event.rfind(row.a, 0) == 0);
    CHECK(parting->b->event.rfind(row.b, 0) == 0);
    CHECK(parting->same > 0);
    // Each stands there, and can go back.
    CHECK(good.pause().time.count == parting->a->time.count);
    CHECK(good.back_for(1000));
    CHECK(good.breakpoints().empty());
  }
}

TEST_CASE("builds of one program do not part, whatever the optimisation") {
  if (std::getenv("LUCID_QUICK") != nullptr) return;  // seconds each
  const auto made = [](const std::string& path) {
    Session session(*Chip::make({"ATmega328P", kHz}));
    REQUIRE(session.open(path));
    REQUIRE(session.drive("PD2", false));
    REQUIRE(session.feed("USART0", "G\nP\nT500\n"));
    return session;
  };
  DivergenceOptions options;
  options.span = {test::is_short() ? 300'000'000'000U : 2'500'000'000'000U};
  Session a = made(test::kKilnOg), b = made(test::kKilnOs), c = made(test::kKilnOg);
  const auto parting = first_divergence(a, b, options);
  REQUIRE(parting);
  INFO((parting->a ? parting->a->event : "") << " | " << (parting->b ? parting->b->event : ""));
  CHECK((!parting->a && !parting->b));
  CHECK(parting->same > (test::is_short() ? 50 : 500));
  CHECK(first_divergence(a, a, options).error().code == ErrorCode::kUsage);
  options.align = DivergenceOptions::Align::kWrites;
  options.object = "nothing";
  CHECK(first_divergence(a, c, options).error().code == ErrorCode::kNotFound);
  options.align = DivergenceOptions::Align::kCalls;
  options.go_on = [](Picoseconds) { return false; };
  Session d = made(test::kKilnOg);
  CHECK(first_divergence(c, d, options).error().what == "interrupted");
}

TEST_CASE("a missed place in a circle that nothing else leads into") {
  const std::string image = test::assembled("circle", R"(
    .global main, circle
    .type main, @function
    .type circle, @function
    main: ldi r16, 1
      rjmp circle
    .size main, . - main
    circle: nop
      wdr
      nop
      rjmp circle
    .size circle, . - circle
  )");
  Session session(*Chip::make({"ATmega328P", kHz}));
  REQUIRE(session.open(image));
  REQUIRE(session.step(StepKind::kInto, StepUnit::kInstruction, 3));  // before the `wdr`
  session.reset();                                                    // and away from there
  const auto missed = session.missed("circle+0x4");
  REQUIRE(missed);
  CHECK_FALSE(missed->executed_at);
  CHECK(missed->not_called.empty());  // it has been entered
}
