// SPDX-License-Identifier: MIT
// Accesses outside of objects: against what lines say of themselves, and on programs made at random
// from calls of which it is known whether they lead outside.
#include <catch2/catch.hpp>
#include <random>
#include <set>

#include "lucid/finding.h"
#include "lucid/session.h"
#include "tools.h"

using namespace lucid;

namespace {

const std::string kProgram = R"(#include <avr/interrupt.h>
#include <avr/pgmspace.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#define APART __attribute__((noinline, noclone))
volatile uint8_t seen, zero;
uint8_t first[8], second[8];
volatile uint16_t words[5];
volatile char command[12], behind[40];
struct { uint8_t n; char name[6]; } record;
struct { uint8_t n; char open[]; } sized = {3, {1, 2, 3}};
struct point { int x, y; } points[3];
uint8_t left_out[40];
const uint8_t steps[] PROGMEM = {1, 2, 4, 8, 16}, others[] PROGMEM = {1, 2, 4, 8, 16};
APART void keep(void *p) { __asm__ volatile("" : : "r"(p) : "memory"); }
APART void fills(uint8_t n) {
  for (uint8_t i = 0; i < n; i++)
    first[i] = i;  // BAD
}
APART void sets(uint8_t i) {
  words[i] = i;  // BAD
}
APART void at_once(uint8_t i) {
  command[i] = 0;  // BAD
}
APART uint8_t local(uint8_t i) {
  uint8_t buf[10], other[4];
  keep(other);
  keep(buf);
  buf[3] = seen;
  seen = buf[i];  // BAD
  return seen;
}
APART uint8_t pairs(uint8_t i) {
  uint16_t a[4], b[4];
  memset(a, 1, sizeof a);
  memset(b, 2, sizeof b);
  keep(a);
  keep(b);
  return a[i] == b[i];
}
APART uint8_t down(uint8_t n) {
  uint8_t s = 0;
  for (uint8_t *p = second + 8; p != second + 8 - n;)
    s += *--p;  // BAD
  return s;
}
APART uint8_t from_one(uint8_t n) {
  uint8_t s = 0;
  for (uint8_t i = 1; i <= n; i++)
    s += second[i - 1];  // BAD
  return s;
}
APART int distance(struct point *p) { return p - points; }
APART uint8_t far(struct point *p) { return first[distance(p)]; }
int equal(const void *a, const void *b) {
  seen = ((const struct point *)a)->x + ((const struct point *)b)->x;  // BAD
  return 0;
}
APART void sorted(uint8_t n) { qsort(points, n, sizeof *points, equal); }
APART void named(const char *s) {
  strcpy(record.name, s);  // BAD
  keep(&record);
}
APART void prints(int n) {
  char line[6];
  sprintf(line, "%d", n);  // BAD
  keep(line);
}
APART uint8_t all_of(uint8_t n) {
  uint8_t s = 0;
  for (uint8_t i = 0; i < n; i++)
    s += sized.open[i];
  return s;
}
APART uint8_t flash(uint8_t i) {
  seen = pgm_read_byte(&steps[i]);  // BAD
  return seen;
}
APART void heap(uint8_t i) {
  uint8_t *a = malloc(5), *b = malloc(4);
  keep(b);
  a[i] = 1;  // BAD
  keep(a);
  free(b);
  free(a);
}
uint8_t sum(const uint8_t *p, uint8_t n) {
  uint8_t s = 0;
  while (n--)
    s += *p++;  // BAD
  return s;
}
APART uint8_t taken(uint8_t n, ...) {
  uint8_t s = 0;
  __builtin_va_list all;
  __builtin_va_start(all, n);
  while (n--)
    s += __builtin_va_arg(all, int);
  return s;
}
int main(void) {
  heap(4), heap(9);
  fills(8), fills(9);
  sets(4), sets(5), at_once(12 + zero);
  seen = local(9) + local(10) + pairs(0) + pairs(3);
  seen = down(7) + down(9);
  seen = from_one(8) + from_one(9);
  sorted(3), sorted(4);
  seen = far(points + 2) + all_of(3) + taken(3, 1, 2, 3);
  named("abcde"), named("abcdef");
  prints(12345), prints(-12345);
  seen = flash(4) + flash(5);
  seen = sum(first, 8);
  seen = sum(second, 9);
  for (;;)
    ;
}
)";

using Lines = std::set<unsigned>;

std::string listed(const Lines& lines) {
  std::string out;
  for (const unsigned line : lines) out += std::to_string(line) + " ";
  return out;
}

Lines marked(const std::string& source) {
  Lines out;
  unsigned number = 0;
  std::stringstream in(source);
  for (std::string line; std::getline(in, line);) {
    ++number;
    if (line.find("// BAD") != std::string::npos) out.insert(number);
  }
  return out;
}

Lines found_in(const std::string& elf, const std::string& chip) {
  Session session(*Chip::make({chip, 16'000'000}));
  REQUIRE(session.open(elf));
  for (const char* check : {"out-of-bounds", "heap"})
    REQUIRE(session.set_check(check, Session::CheckMode::kList));
  session.go_for(Picoseconds{20'000'000'000});
  Lines out;
  for (const FindingView& f : session.findings())
    if (f.check == "out-of-bounds" || f.check == "heap") out.insert(f.where ? f.where->line : 0);
  return out;
}

class Random {
 public:
  explicit Random(unsigned seed) : engine_(seed) {}
  int from(int low, int high) {
    return low + static_cast<int>(engine_() % static_cast<unsigned>(high - low + 1));
  }

 private:
  std::mt19937 engine_;
};

/// Functions with one access each, called within an object and then anywhere near it: those lines
/// are marked.
std::string random_program(Random& random) {
  std::string objects, functions, calls;
  constexpr int kFunctions = 16;
  static const char* const kTypes[] = {"uint8_t", "uint16_t", "uint32_t", "struct three"};
  bool through_is_bad = false;
  for (int k = 0; k < kFunctions; ++k) {
    const int count = random.from(3, 12), kind = random.from(0, 8);
    const std::string type = kTypes[random.from(0, kind == 5 ? 0 : 3)];
    const std::string name = "o" + std::to_string(k), n = std::to_string(count);
    const bool counts = kind == 1 || kind == 7 || kind == 8;  // called with a number of elements
    const int least = counts ? 1 : 0, most = counts ? count : count - 1;
    int outside = 0;
    if (random.from(0, 1) == 0)
      outside = !counts && random.from(0, 1) == 0 ? -random.from(1, 2) : most + random.from(1, 3);
    const bool through = kind == 3 || kind == 8;
    const bool bad = outside != 0 && !(kind == 2 && outside > 0);  // then it has no rounds
    const std::string mark = bad && !through ? "  // BAD\n" : "\n";
    through_is_bad = through_is_bad || (bad && through);
    const std::string local =
        "  " + type + " " + name + "[" + n + "];\n  clear(" + name + ", sizeof " + name + ");\n";
    const std::string up = "  for (int k = 0; k < i; k++)\n  ";
    std::string body;
    switch (kind) {
      case 0: body = "  seen += FIRST(" + name + "[i]);" + mark; break;
      case 1: body = up + "  seen += FIRST(" + name + "[k]);" + mark; break;
      case 2:
        body = "  for (int k = " + n + " - 1; k >= i; k--)\n    seen += FIRST(" + name + "[k]);" +
               mark;
        break;
      case 3: body = "  seen += through(&FIRST(" + name + "[i]));\n"; break;
      case 4: body = local + "  seen += FIRST(" + name + "[i]);" + mark; break;
      case 5: body = "  seen += pgm_read_byte(&" + name + "[i]);" + mark; break;
      case 6:
        body = "  " + type + " *" + name + " = malloc(" + n + " * sizeof *" + name +
               "), *next = malloc(20);\n  clear(" + name + ", " + n + " * sizeof *" + name +
               ");\n  seen += FIRST(" + name + "[i]);" + mark + "  free(next), free(" + name +
               ");\n";
        break;
      case 7:
        body = "  char to[200];\n  memcpy(to, " + name + ", i * sizeof *" + name + ");" + mark +
               "  clear(to, 1);\n";
        break;
      case 8: body = local + up + "  seen += through(&FIRST(" + name + "[k]));\n"; break;
    }
    if (kind == 5)
      objects += "const uint8_t " + name + "[" + n + "] PROGMEM = {1, 2, 3};\n";
    else if (kind != 4 && kind != 6 && kind != 8)
      objects += (random.from(0, 1) == 0 ? "static " : "") + type + " " + name + "[" + n + "]" +
                 (random.from(0, 1) == 0 ? " = {{1}}" : "") + ";\n";
    functions += "APART void f" + std::to_string(k) + "(int i) {\n" + body + "}\n";
    std::vector<int> with{random.from(least, most), random.from(least, most)};
    if (outside != 0) with.push_back(outside);
    for (const int i : with) calls += "  f" + std::to_string(k) + "(" + std::to_string(i) + ");\n";
  }
  return R"(#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#include <avr/pgmspace.h>
#define APART __attribute__((noinline, noclone))
#define FIRST(x) (*(volatile uint8_t *)&(x))
struct three { uint8_t a; uint8_t b[2]; };
volatile uint8_t seen;
APART void clear(void *p, size_t n) {
  memset(p, 1, n);
  __asm__ volatile("" : : "r"(p) : "memory");
}
APART uint8_t through(volatile uint8_t *p) {
  return *p;)" +
         std::string(through_is_bad ? "  // BAD" : "") + "\n}\n" + objects + functions +
         "int main(void) {\n  uint8_t room[80];\n  clear(room, 1);\n" + calls + "  for (;;) ;\n}\n";
}

}  // namespace

TEST_CASE("accesses outside of an object are found, and no others") {
  for (const std::string level : {"-O0", "-O1", "-Os", "-O2", "-Og"})
    for (const std::string more : {"", "-mcall-prologues", "-flto",
                                   "-ffunction-sections -fdata-sections -Wl,--gc-sections"}) {
      const bool large = more.empty();
      const std::string flags = level + " " + more + " -fno-inline -w -gdwarf-4";
      INFO(flags);
      const std::string elf =
          test::compiled("bounds", kProgram, flags, large ? "atmega2560" : "atmega328p");
      CHECK(listed(found_in(elf, large ? "ATmega2560" : "ATmega328P")) == listed(marked(kProgram)));
    }
}

TEST_CASE("accesses outside are those of the calls that lead outside") {
  const unsigned seed = test::fresh_seed();
  INFO("seed " << seed);
  Random random(seed);
  const unsigned programs = std::getenv("LUCID_ALL") != nullptr ? 100 : 4;
  std::size_t all = 0;
  for (unsigned i = 0; i < programs; ++i) {
    const std::string source = random_program(random);
    const std::string right = listed(marked(source));
    all += marked(source).size();
    for (const std::string level : {"-O0", "-Og", "-O1", "-Os", "-O2", "-O3"}) {
      INFO(level << "\n" << source);
      CHECK(listed(found_in(test::compiled("outside", source, level + " -w -gdwarf-4"),
                            "ATmega328P")) == right);
    }
  }
  CHECK(all > programs * 2);
}
