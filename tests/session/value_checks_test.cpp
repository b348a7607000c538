// SPDX-License-Identifier: MIT
// Checks that follow values: against what lines say of themselves, and against the compiler's own
// memory checker on programs made at random.
#include <catch2/catch.hpp>
#include <regex>
#include <set>

#include "lucid/finding.h"
#include "lucid/session.h"
#include "tools.h"

using namespace lucid;
using Mode = Session::CheckMode;

namespace {

constexpr Picoseconds k5ms{5'000'000'000};
constexpr const char* kChecks[] = {"never-written", "floating-input", "null-pointer", "gone-stack",
                                   "heap"};

/// A line ends with the check that finds something there; all others are right.
const std::string kProgram = R"(#include <avr/interrupt.h>
#include <avr/io.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#define APART __attribute__((noinline, noclone))
volatile uint8_t seen, zero;
uint8_t quiet __attribute__((section(".noinit")));
struct padded { uint8_t a; uint16_t b; uint8_t c[3]; };
struct bits { unsigned low : 3, high : 5; };
APART uint8_t decides(void) {
  if (quiet == 3) return 1;  // never-written
  return 2;
}
APART int sum_of(const int *p) { return p[0] + p[1]; }
APART uint8_t half_set(int n) {
  int pair[2];
  if (n > 2) pair[1] = 4;
  pair[0] = n;
  int sum = sum_of(pair);
  return sum > 10;  // never-written
}
APART void keep(const void *p) { __asm__ volatile("" : : "r"(p) : "memory"); }
APART int *leaves(int n) {
  int local[3];
  local[n] = n;
  keep(local);
  int *volatile p = local;
  return p;
}
APART uint8_t fills(void) {
  uint8_t buffer[24];
  memset(buffer, 1, sizeof buffer);
  keep(buffer);
  return buffer[5] == 1;
}
APART void copies(struct padded *to) {
  struct padded from, again;
  from.a = 1;
  from.b = 2;
  keep(&from);
  again = from;
  memcpy(to, &again, sizeof from);
  if (to->b == 2) seen = 1;
  if (to->c[1] == 7) seen = 2;  // never-written
}
APART void masks(void) {
  uint16_t word;
  struct bits field;
  keep(&word);
  field.low = 5;
  keep(&field);
  if ((word & zero) == 0) seen = 3;
  if (word * zero == 0) seen = 4;
  if ((word | 0x100) != 0) seen = 5;
  if (field.low == 5) seen = 6;
  if (field.high == 5) seen = 7;  // never-written
  if ((word & 0x20) != 0) seen = 8;  // never-written
}
static const uint8_t table[] = {1, 2, 3, 4};
APART void addresses(void) {
  uint8_t at;
  keep(&at);
  seen = table[at & 3];  // never-written
}
ISR(TIMER0_OVF_vect) { static uint16_t n; if (++n > 3 && zero) seen = 9; }
int main(void) {
  TCCR0B = 1;
  TIMSK0 = 1;
  sei();
  DDRB = 0xff;
  seen = decides();
  seen = half_set(5);
  if (half_set(1)) seen = 2;
  int *p = leaves(1);
  seen = *p;  // gone-stack
  seen = fills();
  PORTB = quiet;  // never-written
  DDRD = 0x01;
  PORTD = 0x04;
  __asm__ volatile("nop");
  if (PIND & 0x04) seen = 4;
  if (PIND & 0x08) seen = 5;  // floating-input
  if (bit_is_set(PIND, 0)) seen = 5;
  loop_until_bit_is_clear(PIND, 5);  // floating-input
  struct padded *nobody = (struct padded *)(uint16_t)zero;
  keep(nobody);
  if (nobody->b == 7) seen = 10;  // null-pointer
  struct padded target;
  copies(&target);
  masks();
  addresses();
  char *a = malloc(10), *b = malloc(6);
  keep(a);
  memset(a, 0, 10);
  if (a[9] == 0) seen = 6;
  if (b[2]) seen = 6;  // never-written
  a[10] = 1;  // heap
  keep(a);
  a[-1] = 0;  // heap
  char *c = calloc(3, 4);
  keep(c);
  if (c[5] == 0) seen = 7;
  c = realloc(c, 40);
  keep(c);
  if (c[11] == 0) seen = 8;
  if (c[20] == 0) seen = 9;  // never-written
  seen = c[40];  // heap
  free(0);
  free(b);
  keep(b);
  seen = b[3];  // heap
  free(b);  // heap
  free(&target);  // heap
  for (;;)
    ;
}
)";

/// `LINE CHECK`, each on its own line.
std::string listed(const std::set<std::pair<unsigned, std::string>>& found) {
  std::string out;
  for (const auto& [line, check] : found) out += std::to_string(line) + " " + check + "\n";
  return out;
}

std::string expected(const std::string& source) {
  std::set<std::pair<unsigned, std::string>> out;
  unsigned number = 0;
  std::stringstream in(source);
  for (std::string line; std::getline(in, line);) {
    ++number;
    if (const std::size_t at = line.rfind("// "); at != std::string::npos)
      out.emplace(number, line.substr(at + 3));
  }
  return listed(out);
}

std::string found(const Session& session) {
  std::set<std::pair<unsigned, std::string>> out;
  for (const FindingView& f : session.findings()) out.emplace(f.where ? f.where->line : 0, f.check);
  return listed(out);
}

Session opened(const std::string& elf, const std::string& chip) {
  Session session(*Chip::make({chip, 16'000'000}));
  REQUIRE(session.open(elf));
  for (const char* check : kChecks) REQUIRE(session.set_check(check, Mode::kList));
  return session;
}

std::string built(const std::string& name, const std::string& source, const std::string& flags) {
  const std::string path = test::scratch(name);
  test::write(path + ".c", source);
  const test::Output out =
      test::run("avr-gcc -w -std=gnu11 -gdwarf-4 " + flags + " -o " + path + ".elf " + path + ".c");
  INFO(out.text);
  REQUIRE(out.code == 0);
  return path + ".elf";
}

}  // namespace

TEST_CASE("values that nothing has written are found where they decide, and nowhere else") {
  for (const char* chip : {"ATmega328P", "ATmega2560"})
    for (const char* level : {"0", "1", "s", "2", "3"}) {
      std::string mcu = chip;
      for (char& c : mcu) c = static_cast<char>(std::tolower(c));
      INFO(chip << " -O" << level);
      const std::string elf =
          built("values", kProgram, std::string("-fno-inline -mmcu=") + mcu + " -O" + level);
      Session session = opened(elf, chip);
      session.go_for(k5ms);
      CHECK(found(session) == expected(kProgram));
      // The past finds nothing twice, and knows what the heap was.
      const auto heap = session.heap();
      REQUIRE(heap);
      CHECK(heap->most == 56);
      CHECK(heap->used == 50);
      CHECK(heap->given == 4);
      REQUIRE(heap->holders.size() == 2);
      CHECK(heap->holders[0].bytes == 40);
      const auto before = session.findings().size();
      REQUIRE(session.go_to_time({1'000'000}));
      CHECK(session.heap()->given == 0);
      REQUIRE(session.go_to_time(k5ms));
      CHECK(session.heap()->used == 50);
      CHECK(session.findings().size() == before);
      // Whoever does not look sees the same world.
      Session plain(*Chip::make({chip, 16'000'000}));
      REQUIRE(plain.open(elf));
      CHECK_FALSE(plain.heap());
      plain.go_for(k5ms);
      CHECK(plain.chip().hash() == session.chip().hash());
    }
}

TEST_CASE("a check that follows values pauses where it finds something") {
  Session session = opened(built("values-pause", kProgram, "-mmcu=atmega328p -Og"), "ATmega328P");
  REQUIRE(session.set_check("never-written", Mode::kPause));
  const Pause pause = session.go_for(k5ms);
  CHECK(pause.cause == Pause::Cause::kFault);
  CHECK(pause.detail.find("quiet (0x") != std::string::npos);
  // What a person writes is written.
  REQUIRE(session.back_to_start());
  REQUIRE(session.let("quiet", "3"));
  const Pause other = session.go_for(k5ms);
  CHECK(other.detail.find("quiet") == std::string::npos);
}

TEST_CASE("tasks with stacks of their own are no fault") {
  std::string save, restore;
  for (int n : {2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16, 17, 28, 29}) {
    save += "push r" + std::to_string(n) + "\\n";
    restore = "pop r" + std::to_string(n) + "\\n" + restore;
  }
  for (const char* stack : {"malloc(200)", "area"}) {
    const std::string source = R"(#include <avr/io.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#define APART __attribute__((noinline, noclone))
volatile uint8_t seen;
uint16_t rounds;
uint8_t area[200];
uint8_t *volatile other;
APART void keep(const void *p) { __asm__ volatile("" : : "r"(p) : "memory"); }
APART __attribute__((naked)) void swap(void) {
  __asm__ volatile(")" + save + R"("
    "in r0, 0x3d\n in r1, 0x3e\n lds r30, other\n lds r31, other+1\n"
    "sts other, r0\n sts other+1, r1\n"
    "in r0, 0x3f\n cli\n out 0x3e, r31\n out 0x3f, r0\n out 0x3d, r30\n clr r1\n"
    ")" + restore + R"(ret\n");
}
APART uint8_t deep(uint8_t n) {
  uint8_t local[40];
  memset(local, n, sizeof local);
  keep(local);
  swap();
  return local[39];
}
void task(void) {
  for (uint8_t n = 0;; n++)
    if (deep(n) != n) seen = 1;
}
int main(void) {
  uint8_t *top = )" + stack + R"(;
  uint8_t *block = malloc(30);
  memset(block, 7, 30);
  memset(top, 0, 200);
  top += 199;
  *top-- = (uint16_t)task;
  *top-- = (uint16_t)task >> 8;
  other = top - 18;
  for (;;) {
    if (deep(block[rounds % 30]) != 7) seen = 2;
    rounds++;
  }
}
)";
    for (const char* level : {"0", "s"}) {
      INFO(stack << " -O" << level);
      Session session =
          opened(built("tasks", source, std::string("-mmcu=atmega328p -O") + level), "ATmega328P");
      REQUIRE(session.set_fault("stack-into-data", false));
      session.go_for(k5ms);
      CHECK(found(session) == "");
      CHECK(session.evaluate("rounds")->integer > 10);
      CHECK(session.evaluate("seen")->integer == 0);
    }
  }
}

/// Lines at which a decision or an address depends on bits that nothing has written, the same by
/// ours and by a compiler that puts its own checks into the program.
TEST_CASE("values are followed as the compiler's memory checker follows them") {
  std::mt19937 random(test::fresh_seed());
  const auto pick = [&](unsigned n) { return static_cast<unsigned>(random() % n); };
  const unsigned programs = std::getenv("LUCID_ALL") != nullptr ? 200 : 12;
  unsigned equal = 0, findings = 0;
  for (unsigned i = 0; i < programs; ++i) {
    constexpr unsigned kVariables = 6;
    const auto name = [&] { return "v" + std::to_string(pick(kVariables)); };
    std::string body;
    for (unsigned v = 0; v < kVariables; ++v)
      body += "  uint16_t v" + std::to_string(v) + ";\n  if (in & " + std::to_string(1U << v) +
              ") v" + std::to_string(v) + " = " + std::to_string(random() & 0xffffU) + ";\n";
    body +=
        "  uint8_t b[4], d[4];\n  struct both { uint8_t one; uint16_t two; } s, t;\n  b[in & 3] = "
        "1;\n"
        "  if (in & 1) s.one = 3;\n  if (in & 2) s.two = 4;\n";
    for (unsigned k = 0; k < 30; ++k) {
      const std::string a = name(), e = name();
      std::string c = name();
      while (c == a || c == e) c = name();  // of `x == x` nothing is left
      const unsigned mask = random() & 0xffffU;
      const std::string m = std::to_string(mask), part = std::to_string(mask & random());
      static const char* const kOps[] = {" + ", " - ", " ^ "};
      switch (pick(14)) {
        case 0: body += "  " + a + " = (uint16_t)(" + c + kOps[pick(3)] + e + ");\n"; break;
        case 1: body += "  " + a + " = " + c + ";\n"; break;
        case 2: body += "  " + a + " = id(" + c + ");\n"; break;
        case 3: body += "  " + a + " = " + std::to_string(mask) + ";\n"; break;
        case 4: body += "  memcpy(d, b, sizeof b);\n"; break;
        case 5: body += "  t = s;\n"; break;
        case 6: body += "  if (d[" + std::to_string(pick(4)) + "] == 1) seen = 1;\n"; break;
        case 7:
          body += "  if (t." + std::string(pick(2) == 0 ? "one" : "two") + " == 3) seen = 2;\n";
          break;
        case 8: body += "  if ((" + a + " & " + m + ") == " + part + ") seen = 3;\n"; break;
        case 9: body += "  if (" + a + ") seen = 4;\n"; break;
        case 10: body += "  if (" + a + " == " + c + ") seen = 5;\n"; break;
        case 11: body += "  seen = table[" + a + " & 3];\n"; break;
        case 12:
          body += "  if ((" + a + " >> " + std::to_string(pick(16)) + ") & 1) seen = 6;\n";
          break;
        case 13: body += "  b[" + std::to_string(pick(4)) + "] = (uint8_t)" + a + ";\n"; break;
      }
    }
    const std::string source = "#include <stdint.h>\n#include <string.h>\nvolatile uint8_t in = " +
                               std::to_string(pick(64)) +
                               ", seen;\nuint8_t table[4];\nuint16_t __attribute__((noinline)) "
                               "id(uint16_t x) { return x; }\n"
                               "int main(void) {\n" +
                               body + "#ifdef __AVR__\n  for (;;) ;\n#endif\n}\n";
    INFO(source);
    Session session = opened(built("followed", source, "-O0 -mmcu=atmega328p"), "ATmega328P");
    session.go_for(k5ms);
    std::set<unsigned> ours, theirs;
    for (const FindingView& f : session.findings()) ours.insert(f.where ? f.where->line : 0);
    const std::string c = test::scratch("followed.c"), native = test::scratch("followed");
    const test::Output made = test::run(
        "clang -w -std=gnu11 -g -O0 -fsanitize=memory "
        "-fsanitize-recover=memory -o " +
        native + " " + c);
    INFO(made.text);
    REQUIRE(made.code == 0);
    const std::string text = test::run("MSAN_OPTIONS=halt_on_error=0 " + native).text;
    const std::regex report(R"(use-of-uninitialized-value\n\s+#0 \S+ in \w+ \S+?:(\d+))");
    for (std::sregex_iterator at(text.begin(), text.end(), report), end; at != end; ++at)
      theirs.insert(static_cast<unsigned>(std::stoul((*at)[1])));
    CHECK(ours == theirs);
    equal += ours == theirs;
    findings += static_cast<unsigned>(theirs.size());
  }
  CHECK(equal == programs);
  CHECK(findings > programs * 2);
}
