// SPDX-License-Identifier: MIT
// Programs in C++: names with scopes, templates and overloads, members of the object at hand, what
// functions return. The expected numbers follow from the source below by hand.
#include <catch2/catch.hpp>
#include <set>

#include "lucid/session.h"
#include "tools.h"

using namespace lucid;

namespace {

const char* const kZones = R"(#include <stdint.h>
namespace kiln {
enum class Mode : uint8_t { kOff, kHeat = 5 };
struct Reading { int16_t raw; int16_t degrees; };
template <int N> class Analog {
 public:
  enum Kind { kBare = 3, kScaled = 4 };
  Analog(int16_t gain) : gain_(gain) {}
  int16_t read(uint8_t which) {
    last_.raw = which * gain_;
    last_.degrees = which + N;
    kind_ = kScaled;
    ++count;
    return last_.raw + N;
  }
  static uint8_t count;
  int16_t gain_;
  Reading last_;
  Kind kind_;
};
template <int N> uint8_t Analog<N>::count = 0;
struct Print {
  virtual void write(uint8_t c) { sum += c; }
  uint8_t println(int v) { write(v); return v + 1; }
  uint8_t println(const char* s) { while (*s) write(*s++); return 7; }
  bool println(unsigned long v, bool hex) { write(v); return hex; }
  bool operator<(const Print& other) const { return sum < other.sum; }
  uint16_t sum = 0;
};
template <class T> __attribute__((noinline)) T largest(T a, T b) { return a > b ? a : b; }
}
typedef struct node { struct node* next; int16_t value; } node_t;
node_t third = {0, 3}, second = {&third, 2}, first = {&second, 1};
kiln::Analog<1> inner(3);
kiln::Analog<2> outer(4);
kiln::Print console, panel;
kiln::Mode mode = kiln::Mode::kHeat;
volatile int16_t sink;
int8_t samples[8] = {1, 2, 3, 4, 5, 6, 7, 8};
__attribute__((noinline)) int16_t look(int16_t from) {
  int16_t sum = from;
  sum += inner.read(5);
  sum += outer.read(6);
  return sum;
}
__attribute__((noinline)) int64_t wide(int16_t v) { return v * 100000000000LL; }
__attribute__((noinline)) kiln::Reading make(int16_t v) { kiln::Reading r = {v, 2}; return r; }
__attribute__((noinline)) float half(int16_t v) { return v / 2.0f; }
int main() {
  int16_t worst = 0;
  node_t* list = &first;
  for (;;) {
    worst = kiln::largest<int16_t>(worst, look(list->value));
    sink = console.println(worst);
    sink = console.println("ab");
    sink = console.println(5UL, true);
    sink = panel < console;
    sink = wide(3) + make(worst).raw;
    sink = half(worst);
    worst = 40 + 3;
  }
}
)";

std::string built(const std::string& flags) {
  static unsigned number = 0;
  const std::string path = test::scratch("zones" + std::to_string(number++));
  test::write(path + ".cpp", kZones);
  const auto made = test::run("avr-g++ -std=c++11 -mmcu=atmega328p " + flags + " -o " + path +
                              ".elf " + path + ".cpp");
  INFO(made.text);
  REQUIRE(made.code == 0);
  return path + ".elf";
}

Session opened(const std::string& elf) {
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(elf));
  return session;
}

/// The functions in which a breakpoint pauses in one round of main's loop, in order.
std::vector<std::string> paused_in(const std::string& elf, const std::string& place) {
  Session session = opened(elf);
  REQUIRE(session.pause_at({place}));
  REQUIRE(session.pause_at({"half"}));
  std::vector<std::string> out;
  for (unsigned i = 0; i < 10; ++i) {
    const Pause pause = session.go_for(1'000'000);
    if (pause.where.function == "half" && place != "half") break;
    const auto levels = session.callers();
    out.push_back(levels.back().where.function + levels.back().signature);
  }
  return out;
}

}  // namespace

TEST_CASE("functions of C++ are named with and without scopes, arguments and signatures") {
  using Names = std::vector<std::string>;
  const std::string one = "kiln::Analog<1>::read(uint8_t)";
  const std::string two = "kiln::Analog<2>::read(uint8_t)";
  const std::string number = "kiln::Print::println(int)";
  const std::string text = "kiln::Print::println(char *)";
  const std::string wide = "kiln::Print::println(long unsigned int, bool)";
  const std::string less = "kiln::Print::operator<(kiln::Print &)";
  const struct {
    const char* place;
    Names in;
  } kCases[] = {
      {"kiln::Analog<1>::read", {one}},
      {"Analog<2>::read", {two}},
      {"Analog::read", {one, two}},
      {"read", {one, two}},
      {"Analog<1>::read(unsigned char)", {}},
      {"Analog<1>::read(uint8_t)", {one}},
      {"println", {number, text, wide}},
      {"Print::println(int)", {number}},
      {"Print::println( const char* )", {text}},
      {"println(unsigned long, bool)", {wide}},
      {"operator<", {less}},
      {"largest", {"kiln::largest<int>(int, int)"}},
      {"largest<int>", {"kiln::largest<int>(int, int)"}},
      {"look", {"look(int16_t)"}},
  };
  for (const char* flags : {"-O0 -gdwarf-2", "-O0 -gdwarf-4", "-O0 -gdwarf-4 -flto"}) {
    const std::string elf = built(flags);
    for (const auto& c : kCases) {
      INFO(flags << ": " << c.place);
      if (!c.in.empty()) {
        CHECK(paused_in(elf, c.place) == c.in);
        continue;
      }
      Session session = opened(elf);
      const auto point = session.pause_at({c.place});
      REQUIRE(point);  // a place that may come with another build
      CHECK(point->addresses.empty());
      CHECK(point->waits_because.find("(uint8_t)") != std::string::npos);
    }
  }
}

TEST_CASE("objects of C++: members, statics, enumerators, casts, locals of a caller") {
  for (const char* flags : {"-O0 -gdwarf-2", "-O0 -gdwarf-4"}) {
    Session session = opened(built(flags));
    REQUIRE(session.pause_at({"Analog<2>::read"}));
    CHECK(session.go().where.function == "kiln::Analog<2>::read");
    const struct {
      const char* expression;
      const char* text;
    } kCases[] = {
        {"gain_", "4"},
        {"this->gain_", "4"},
        {"inner.last_.degrees", "6"},
        {"((Analog<1>*)&inner)->last_.raw", "15"},
        {"((kiln::Analog<1> *)&inner)->gain_", "3"},
        {"sizeof(Analog<2>)", "8"},
        {"kiln::Analog<1>::count", "1"},
        {"Analog<1>::count + Analog<2>::count", "1"},
        {"mode == Mode::kHeat", "1"},
        {"kiln::Mode::kHeat", "5"},
        {"Analog<1>::kScaled", "4"},
        {"worst in main", "0"},
        {"from in look", "1"},
        {"sum in look", "17"},
        {"(list in main)->next->value", "2"},
        {"which < 7 && which > 5", "1"},
        {"(unsigned char)300", "44"},
        {"(signed char)200", "-56"},
        {"(long)1 << 20", "1048576"},
        {"(unsigned)-1", "65535"},
        {"(const uint8_t)258", "2"},
        {"5000000000 > -1", "1"},
        {"(float)1 / 4", "0.25"},
    };
    for (const auto& c : kCases) {
      INFO(flags << ": " << c.expression);
      const auto value = session.evaluate(c.expression);
      CHECK((value ? value->text : value.error().text()) == c.text);
    }
    const auto behind = session.evaluate("samples[8]");
    REQUIRE(behind);
    CHECK(behind->which == "past the end of the array");
    CHECK_FALSE(session.evaluate("samples[9]"));
    CHECK_FALSE(session.evaluate("worst in half"));
    const auto nodes = session.graph("list in main");
    REQUIRE(nodes);
    CHECK(nodes->nodes.size() == 3);
    CHECK(session.graph("&first")->edges.size() == 2);
    // A local of another function in a condition and in sight.
    REQUIRE(session.watch("worst in main"));
    CHECK(session.watches()[0].value == "0");
    BreakpointSpec when{"worst in main == 43"};
    when.kind = BreakpointSpec::Kind::kWhen;
    REQUIRE(session.pause_at(when));
    CHECK(session.go_for(1'000'000).cause == Pause::Cause::kHolds);
    CHECK(session.watches()[0].value == "43");
    CHECK(session.evaluate("worst in main")->integer == 43);
  }
}

TEST_CASE("steps tell what functions return") {
  const struct {
    const char* in;
    const char* value;
  } kCases[] = {{"Analog<1>::read", "16"},
                {"Analog<2>::read", "26"},
                {"look", "43"},
                {"largest", "43"},
                {"println(int)", "44"},
                {"println(char*)", "7"},
                {"println(unsigned long, bool)", "true"},
                {"operator<", "true"},
                {"wide", "300000000000"},
                {"make", "{raw = 43, degrees = 2}"},
                {"half", "21.5"}};
  for (const char* flags :
       {"-O0 -gdwarf-4", "-Og -fno-inline -gdwarf-4", "-O2 -fno-inline -gdwarf-4",
        "-Os -fno-inline -mcall-prologues -gdwarf-3"}) {
    const std::string elf = built(flags);
    for (const auto& c : kCases) {
      INFO(flags << ": " << c.in);
      Session session = opened(elf);
      REQUIRE(session.go_to(c.in));
      const std::string name = session.pause().where.function;
      const auto out = session.step(StepKind::kOut, StepUnit::kLine);
      REQUIRE(out);
      const bool removed = out->returned.empty();  // the compiler has seen that nobody wants it
      if (!removed || std::string(flags).find("-O0") == 0) {
        REQUIRE(out->returned.size() == 1);
        CHECK(out->returned[0].function == name);
        CHECK(out->returned[0].value == c.value);
      }
    }
  }
  Session session = opened(built("-O0 -gdwarf-4"));
  REQUIRE(session.go_to("main"));
  std::vector<std::string> returned;
  for (unsigned i = 0; i < 12; ++i) {
    const auto pause = session.step(StepKind::kOver, StepUnit::kLine);
    REQUIRE(pause);
    for (const auto& r : pause->returned) returned.push_back(r.function + " " + r.value);
    if (returned.size() > 8) break;
  }
  CHECK(returned == std::vector<std::string>{"look 43", "kiln::largest<int> 43",
                                             "kiln::Print::println 44", "kiln::Print::println 7",
                                             "kiln::Print::println true",
                                             "kiln::Print::operator< true", "wide 300000000000",
                                             "make {raw = 43, degrees = 2}", "half 21.5"});
}

TEST_CASE("completion goes on behind members, arrows and brackets, in any case") {
  Session session = opened(built("-O0 -gdwarf-4"));
  REQUIRE(session.go_to("println(int)"));
  REQUIRE(session.select_level(1));
  using Names = std::vector<std::string>;
  const struct {
    const char* start;
    Names names;
  } kCases[] = {
      {"first.", {"first.next", "first.value"}},
      {"first.next->v", {"first.next->value"}},
      {"first.next.v", {"first.next->value"}},
      {"list->N", {"list->next"}},
      {"3+samples[first.v", {"3+samples[first.value"}},
      {"inner.last_.", {"inner.last_.degrees", "inner.last_.raw"}},
      {"console.", {"console.sum"}},
      {"chip.portb", {"chip.PORTB"}},
      {"chip.TCCR1B.cs",
       {"chip.TCCR1B.CS", "chip.TCCR1B.CS10", "chip.TCCR1B.CS11", "chip.TCCR1B.CS12"}},
      {"Analog<2>::re", {"Analog<2>::read"}},
      {"kiln::Print::w", {"kiln::Print::write"}},
      {"nothing.", {}},
  };
  for (const auto& c : kCases) {
    INFO(c.start);
    CHECK(session.names(c.start) == c.names);
  }
}

TEST_CASE("without debug information the linker's names of C++ are opened") {
  const std::string elf = built("-O1 -fno-inline");
  const std::string stripped = elf + ".plain";
  REQUIRE(test::run("avr-objcopy --strip-debug " + elf + " " + stripped).code == 0);
  Session session = opened(stripped);
  std::set<std::string> names;
  for (const Function& f : session.program().functions()) names.insert(f.name + f.signature);
  for (const char* name :
       {"kiln::Analog<1>::read(unsigned char)", "kiln::largest<int>(int, int)", "look(int)",
        "kiln::Print::println(char const*)", "kiln::Print::println(unsigned long, bool)",
        "kiln::Print::operator<(kiln::Print const&)"})
    CHECK(names.count(name) == 1);
  REQUIRE(session.pause_at({"println(const char*)"}));
  REQUIRE(session.pause_at({"println(unsigned long, bool)"}));
  CHECK(session.go_for(1'000'000).where.function == "kiln::Print::println");
  CHECK(session.pause().breakpoints == std::vector<unsigned>{1});
}
