// SPDX-License-Identifier: MIT
// What other compilers, older debug information and unusual programs need to be told right.
#include <catch2/catch.hpp>

#include "lucid/session.h"
#include "tools.h"

using namespace lucid;

namespace {

Session opened(const std::string& elf) {
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(elf));
  return session;
}

/// The lines at which `count` steps over end, from a place on.
std::vector<unsigned> steps_over(Session& session, const std::string& from, unsigned count) {
  REQUIRE(session.go_to(from));
  std::vector<unsigned> out;
  for (unsigned i = 0; i < count; ++i) {
    REQUIRE(session.step(StepKind::kOver, StepUnit::kLine));
    out.push_back(session.pause().where.line);
  }
  return out;
}

const char* const kForms = R"(#include <stdint.h>
struct ramp { uint8_t step; int16_t target; struct { uint8_t on : 3, off : 5; } part; };
volatile struct ramp ramp = {1, 900, {2, 9}};
static const int16_t limit = 200;
static const uint8_t most = 200;
enum state { COLD, HOT = 0xF0 };
enum sign { BELOW = -2, ABOVE = 2 };
volatile enum state state = HOT;
volatile enum sign sign = BELOW;
volatile int16_t sink;
int main(void) {
  for (;;)
    sink = ramp.target + limit + most;
}
)";

}  // namespace

TEST_CASE("members, constants and enumerators in each version of DWARF, by two compilers") {
  std::vector<std::string> images;
  for (const char* form : {"-gdwarf-2", "-gdwarf-2 -gstrict-dwarf", "-gdwarf-3", "-gdwarf-4"})
    images.push_back(test::compiled("forms" + std::to_string(images.size()), kForms,
                                    std::string("-O0 ") + form));
  const std::string path = test::scratch("forms-clang");
  const std::string object = path + ".o";
  test::write(path + ".c", kForms);
  REQUIRE(test::run("clang --target=avr -mmcu=atmega328p -O1 -gdwarf-5 -isystem "
                    "/usr/lib/avr/include -c -o " +
                    object + " " + path + ".c && avr-gcc -mmcu=atmega328p -o " + path + ".elf " +
                    object)
              .code == 0);
  images.push_back(path + ".elf");
  const std::vector<std::pair<std::string, std::int64_t>> values{
      {"ramp.step", 1},    {"ramp.target", 900}, {"ramp.part.on", 2}, {"ramp.part.off", 9},
      {"limit", 200},      {"most", 200},        {"HOT", 0xF0},       {"BELOW", -2},
      {"state == HOT", 1}, {"sign == BELOW", 1}, {"sign", -2},        {"state", 0xF0}};
  for (const std::string& image : images) {
    INFO(image);
    Session session = opened(image);
    CHECK(session.program().warnings().empty());
    REQUIRE(session.go_to("main"));
    for (const auto& [text, wanted] : values) {
      INFO(text);
      const auto value = session.evaluate(text);
      REQUIRE(value);
      CHECK(value->integer == wanted);
    }
    REQUIRE(session.let("ramp.target", "-3"));  // and is stored where it belongs
    CHECK(session.evaluate("ramp.target")->integer == -3);
    CHECK(session.evaluate("ramp.step")->integer == 1);
  }
}

TEST_CASE("steps over a switch by table, a call left by longjmp and loops on one line") {
  const std::string source = R"(#include <setjmp.h>
volatile int sink, which = 3;
jmp_buf place;
__attribute__((noinline)) void leave(void) {
  longjmp(place, 1);
}
__attribute__((noinline)) int choose(int n) {
  switch (n) {
    case 0: return 10;
    case 1: sink = 1; break;
    case 2: sink = 7; break;
    case 3: sink = 5; break;
    case 4: sink = 9; break;
    case 5: sink = 4; break;
    case 6: sink = 2; break;
  }
  return sink;
}
int main(void) {
  sink = choose(which);
  if (setjmp(place) == 0)
    leave();
  for (int i = 0; i < 3; i++) sink += i;
  sink = 99;
  for (;;) sink++;
}
)";
  for (const std::string level : {"-O0", "-Og", "-Os"}) {
    INFO(level);
    Session session = opened(
        test::compiled("jumps" + level, source, level + " -std=gnu99 -gdwarf-4 -fno-jump-tables"));
    Session table =
        opened(test::compiled("table" + level, source, level + " -std=gnu99 -gdwarf-4"));
    for (Session* one : {&session, &table}) {
      const auto main_lines = steps_over(*one, "main", 9);
      for (const unsigned line : {21U, 22U, 23U, 24U, 25U})
        CHECK(std::count(main_lines.begin(), main_lines.end(), line) != 0);
      CHECK(main_lines.back() == 25);  // nothing leads out of it: a step is a round
    }
    Session again = opened(test::scratch("table" + level) + ".elf");
    const auto lines = steps_over(again, "choose", level == "-O0" ? 2 : 1);
    CHECK(std::count(lines.begin(), lines.end(), 12) == 1);
    // A loop on one line is one pass, and the breakpoint says so.
    const auto point = again.pause_at({"table" + level + ".c:23"});
    REQUIRE(point);
    if (level == "-O0") CHECK(point->remark.find("one pass") != std::string::npos);
    REQUIRE(again.go_to("table" + level + ".c:24"));
    CHECK(again.breakpoints().front().passes == 1);
  }
}

TEST_CASE("a watch keeps its variable, and names that several have are told apart") {
  const std::string source = R"(volatile int level = 7, sink;
__attribute__((noinline)) void set(int level) {
  sink = level;
  sink += level;
}
int main(void) {
  for (;;) {
    set(42);
    sink = level;
  }
}
)";
  Session session = opened(test::compiled("names", source, "-O0 -gdwarf-4"));
  REQUIRE(session.go_to("main"));
  const unsigned global = session.watch("level")->id;
  REQUIRE(session.go_to("set"));
  const unsigned local = session.watch("level")->id;
  const auto shown = [&](unsigned id) {
    for (const WatchView& w : session.watches())
      if (w.id == id) return w;
    return WatchView{};
  };
  CHECK(shown(global).value == "7");
  CHECK(shown(local).value == "42");
  CHECK(session.evaluate("level")->which == "hides 'level in names.c'");
  REQUIRE(session.step(StepKind::kOut, StepUnit::kLine));
  CHECK(shown(global).value == "7");
  CHECK(shown(local).unknown == Unknown::kNotInScope);
  CHECK(shown(local).value == "42");  // as last known
  CHECK(session.evaluate("level")->integer == 7);
}

TEST_CASE("a task's own stack: nobody is invented") {
  const std::string source = R"(.global main
main:
  ldi r24, lo8(0x400)
  ldi r25, hi8(0x400)
  in r28, 0x3d
  in r29, 0x3e
  out 0x3e, r25
  out 0x3d, r24
  ldi r24, lo8(pm(task))
  ldi r25, hi8(pm(task))
  push r24
  push r25
  ret
.type task, @function
.global task
task:
  nop
  rcall work
  rjmp task
.type work, @function
.global work
work:
  push r2
  nop
  pop r2
  ret
)";
  Session session = opened(test::assembled("task", source));
  REQUIRE(session.go_to("work"));
  REQUIRE(session.step(StepKind::kInto, StepUnit::kInstruction));
  const auto levels = session.callers();
  REQUIRE(levels.size() == 2);
  CHECK(levels[0].where.function == "task");
  CHECK(levels[0].end == CallersEnd::kNoCall);
  CHECK(levels[1].where.function == "work");
}

TEST_CASE("a place that holds nothing yet, or something else, shows no value") {
  const std::string source = R"(volatile int sink, input = 3;
__attribute__((noinline)) int work(int a, int b) {
  int early;
  sink = a;
  early = b * 3 + input;
  sink = early;
  return early + a;
}
int main(void) {
  for (;;) sink = work(5, 6);
}
)";
  for (const std::string level : {"-O0", "-Og", "-O1", "-O2", "-Os"}) {
    INFO(level);
    Session session = opened(test::compiled("unset" + level, source, level + " -gdwarf-4"));
    REQUIRE(session.go_to("unset" + level + ".c:4"));
    const auto early = session.evaluate("early");
    REQUIRE_FALSE(early);
    CHECK(early.error().unknown != Unknown::kNone);
    REQUIRE(session.go_to("unset" + level + ".c:6"));
    if (const auto value = session.evaluate("early")) CHECK(value->integer == 21);
  }
}

TEST_CASE("a structure without members has nothing that could be unknown") {
  const std::string source = R"(struct nothing {};
struct holds { struct nothing in; int behind, none[0]; };
volatile int sink;
__attribute__((noinline)) int take(struct nothing by, int more) {
  struct holds h = {{}, more};
  int rest[0];
  sink = h.behind;
  return h.behind + sizeof rest;
}
int main(void) {
  struct nothing here;
  for (;;) sink = take(here, 7);
}
)";
  for (const std::string level : {"-O0", "-Og", "-O2", "-Os"}) {
    INFO(level);
    Session session = opened(test::compiled("nothing" + level, source, level + " -gdwarf-4"));
    REQUIRE(session.go_to("nothing" + level + ".c:7"));
    for (const VariableView& v : session.variables()) {
      INFO(v.name << " = " << v.value);
      if (v.name == "by") CHECK(v.value == "{}");
    }
    if (level == "-O0") CHECK(session.evaluate("h.in")->text == "{}");
    if (level == "-O0") CHECK(session.evaluate("h.behind")->integer == 7);
  }
}

TEST_CASE("debug information that cannot be read is said to be so") {
  const std::string path = test::scratch("clang-four");
  test::write(path + ".c", kForms);
  REQUIRE(test::run("clang --target=avr -mmcu=atmega328p -O1 -gdwarf-4 -isystem "
                    "/usr/lib/avr/include -c -o " +
                    path + ".o " + path + ".c && avr-gcc -mmcu=atmega328p -o " + path + ".elf " +
                    path + ".o")
              .code == 0);
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  const auto warnings = session.open(path + ".elf");
  REQUIRE(warnings);
  REQUIRE_FALSE(warnings->empty());
  CHECK(warnings->front().find("build with -gdwarf-5") != std::string::npos);
}

TEST_CASE(
    "objects in a frame: what a callee, an index or a pointer stores is there, the rest is not") {
  const std::string source = R"(#include <stdint.h>
#include <string.h>
struct zone { int16_t target, reached; int32_t heat; uint8_t name[4]; };
struct flags { uint16_t code : 12, field : 4; uint32_t rest; };
volatile int16_t sink;
volatile uint8_t n = 3;
__attribute__((noinline)) void fill(struct zone *z) {
  z->target = 900;
  z->reached = -5;
  z->heat = 100000;
  z->name[0] = 'a';
  z->name[3] = 7;
  sink = z->reached; // inside
}
__attribute__((noinline)) int16_t look(const void *p) { return *(const int16_t *)p; }
__attribute__((noinline)) void whole(void) {
  struct zone zone; // before
  sink = 1;
  fill(&zone);
  sink = look(&zone); // filled
}
__attribute__((noinline)) void indexed(void) {
  int16_t steps[5];
  for (uint8_t i = 0; i < n; i++) steps[i + 1] = 10 * i;
  sink = steps[n]; // indexed
  sink = look(steps);
}
__attribute__((noinline)) void first(void) {
  volatile struct zone zone;
  zone.target = 5;
  sink = zone.target; // first
  zone.reached = 6;
  zone.heat = 7;
  sink = zone.reached; // second
}
__attribute__((noinline)) int16_t passed(struct zone zone, struct flags flags) {
  return zone.target + flags.code; // passed
}
int main(void) {
  struct flags flags = {0xabc, 5, 77};
  struct zone zone = {1, 2, 3, {4, 5, 6, 7}};
  for (;;) {
    whole();
    indexed();
    first();
    sink = passed(zone, flags);
  }
}
)";
  const auto line = [&](const std::string& mark) {
    const auto end = source.begin() + static_cast<std::ptrdiff_t>(source.find("// " + mark));
    return "frame-objects.c:" + std::to_string(1 + std::count(source.begin(), end, '\n'));
  };
  // Where, what, and the number there; nothing: it has none, at any level.
  const struct {
    const char *mark, *what;
    std::optional<std::int64_t> number;
    unsigned level = 0;  ///< from the outermost, 1; 0: where it stands
  } kRows[] = {{"filled", "zone.target", 900},    {"filled", "zone.reached", -5},
               {"filled", "zone.heat", 100000},   {"filled", "zone.name[3]", 7},
               {"inside", "zone.target", 900, 2}, {"inside", "zone.heat", 100000, 2},
               {"indexed", "steps[1]", 0},        {"indexed", "steps[2]", 10},
               {"indexed", "steps[3]", 20},       {"first", "zone.target", 5},
               {"first", "zone.reached", {}},     {"first", "zone.heat", {}},
               {"first", "zone.name[0]", {}},     {"second", "zone.reached", 6},
               {"second", "zone.heat", 7},        {"second", "zone.name[1]", {}}};
  for (const char* level : {"-O0", "-Og", "-O1", "-O2", "-O3", "-Os"}) {
    INFO(level);
    Session session =
        opened(test::compiled("frame-objects", source, std::string(level) + " -gdwarf-4"));
    for (const auto& row : kRows) {
      INFO(row.mark << " " << row.what);
      REQUIRE(session.go_to(line(row.mark)));
      if (row.level != 0) REQUIRE(session.select_level(row.level));
      const auto value = session.evaluate(row.what);
      if (row.number) {
        if (!value) FAIL_CHECK(value.error().hint);
        CHECK(value->integer == *row.number);
      } else {
        CHECK(!value);
      }
    }
    // Of what is passed, what the function does not keep may have no value, but no other one.
    REQUIRE(session.go_to(line("passed")));
    const std::pair<const char*, std::int64_t> passed[] = {
        {"zone.target", 1},    {"zone.reached", 2}, {"zone.heat", 3},  {"zone.name[2]", 6},
        {"flags.code", 0xabc}, {"flags.field", 5},  {"flags.rest", 77}};
    unsigned known = 0;
    for (const auto& [what, number] : passed) {
      const auto value = session.evaluate(what);
      INFO(what);
      if (value) CHECK(value->integer == number);
      known += value ? 1 : 0;
    }
    CHECK(known >= (level == std::string("-O0") ? 7U : 1U));
  }
}

TEST_CASE("a step behind the end of main ends, also where there is something to destroy") {
  const std::string source = R"(volatile int count = 7, by = 3;
struct Door { Door() { ++count; } ~Door() { --count; } };
Door door;
int main() {
  count += count / by;
  return 0;
}
)";
  for (const char* level : {"-O0", "-Os"}) {
    INFO(level);
    Session session =
        opened(test::compiled("destroyed", source, std::string(level) + " -x c++ -gdwarf-4"));
    REQUIRE(session.go_to("main"));
    for (unsigned i = 0; i < 12; ++i) REQUIRE(session.step(StepKind::kOver, StepUnit::kLine));
    CHECK(session.pause().where.function == "_exit");
    // Which has several names; the compiler's helpers keep theirs.
    for (const char* name : {"__divmodhi4", "_exit"})
      CHECK(session.program().find_functions(name).size() == 1);
    CHECK(session.chip().cycles() < 10'000);
  }
}
