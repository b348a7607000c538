// SPDX-License-Identifier: MIT
// Expressions: C's rules for a 16-bit int, the machine's objects, formats, and errors with columns.
#include <fmt/format.h>

#include <catch2/catch.hpp>

#include "lucid/session.h"
#include "tools.h"

using namespace lucid;

namespace {

const char* const kSource = R"(
#include <stdint.h>
struct node { struct node *next; int16_t value; uint8_t low : 3, high : 5; };
enum colour { RED, GREEN = 5 };
volatile int8_t small = -3;
volatile uint8_t byte = 200;
volatile int16_t word = -300;
volatile uint16_t positive = 40000;
volatile int32_t wide = -100000;
volatile float real = 2.5f;
volatile enum colour colour = GREEN;
volatile _Bool yes = 1;
volatile char letter = 'x';
volatile char text[8] = "hi\n";
volatile uint16_t table[2][3] = {{1, 2, 3}, {4, 5, 6}};
struct node last = {0, 7, 5, 17};
struct node first = {&last, -2, 1, 2};
struct node *volatile head = &first;
static volatile uint8_t hidden = 9;
int16_t printed[64];
int main(void) {
  static volatile uint8_t counted = 4;
  printed[0] = small + byte;
  printed[1] = byte * byte;
  printed[2] = word - positive < 0;
  printed[3] = word / 7;
  printed[4] = word % 7;
  printed[5] = positive >> 3;
  printed[6] = word >> 3;
  printed[7] = (uint8_t)word;
  printed[8] = (int8_t)byte;
  printed[9] = ~byte;
  printed[10] = small < byte;
  printed[11] = -1 < 1u;
  printed[12] = wide / 3 == -33333;
  printed[13] = byte << 7;
  printed[14] = colour == GREEN ? table[1][2] : 0;
  printed[15] = head->next->value + head->high;
  printed[16] = (word & 0xff) | (byte ^ 0x55);
  printed[17] = sizeof(struct node);
  printed[18] = !word || (small && !yes);
  printed[19] = real * 4 > 9.5;
  printed[20] = text[1] - 'a';
  printed[21] = (positive + positive) / 2;
  printed[22] = &table[1][1] - &table[0][0];
  printed[23] = *(&table[0][0] + 4);
  hidden++; counted++;
  __asm__ volatile("break");
  for (;;) {
  }
}
)";
// The same expressions, as they stand in the source.
const char* const kExpressions[] = {"small + byte",
                                    "byte * byte",
                                    "word - positive < 0",
                                    "word / 7",
                                    "word % 7",
                                    "positive >> 3",
                                    "word >> 3",
                                    "(uint8_t)word",
                                    "(int8_t)byte",
                                    "~byte",
                                    "small < byte",
                                    "-1 < 1u",
                                    "wide / 3 == -33333",
                                    "byte << 7",
                                    "colour == GREEN ? table[1][2] : 0",
                                    "head->next->value + head->high",
                                    "(word & 0xff) | (byte ^ 0x55)",
                                    "sizeof(struct node)",
                                    "!word || (small && !yes)",
                                    "real * 4 > 9.5",
                                    "text[1] - 'a'",
                                    "(positive + positive) / 2"};

Session& session() {
  static Session instance = [] {
    Session s(*Chip::make({"ATmega328P", 16'000'000}));
    REQUIRE(s.open(test::compiled("expressions", kSource, "-Og -gdwarf-4")));
    CHECK(s.go().cause == Pause::Cause::kBreakInstruction);
    return s;
  }();
  return instance;
}

}  // namespace

TEST_CASE("what an expression comes to is what the compiled program computed") {
  for (std::size_t i = 0; i < std::size(kExpressions); ++i) {
    INFO(kExpressions[i]);
    const auto value = session().evaluate(kExpressions[i]);
    REQUIRE(value);
    const auto printed = session().evaluate(fmt::format("printed[{}]", i));
    REQUIRE(printed);
    CHECK(static_cast<std::int16_t>(value->integer) == printed->integer);
  }
  CHECK(session().evaluate("*(&table[0][0] + 4)")->integer == 5);
}

TEST_CASE("names: file and function statics, enumerators, functions, machine objects") {
  const auto is = [](const char* expression, std::int64_t value) {
    INFO(expression);
    const auto result = session().evaluate(expression);
    REQUIRE(result);
    CHECK(result->integer == value);
  };
  is("hidden", 10);
  is("hidden in expressions.c", 10);
  is("counted in main", 5);
  is("RED", 0);
  is("chip.sp", 0x8fd);
  is("chip.r1", 0);
  is("chip.SP", 0x8fd);
  is("chip.ram[&byte]", 200);
  is("chip.sreg.I", 0);
  is("chip.UCSR0A.UDRE0", 1);
  is("chip.UCSR0C.UCSZ", 3);
  is("pin.PB0", 0);
  is("chip.time > 1us && chip.time < 20ms", 1);
  is("chip.cycles > 10 cycles", 1);
  is("chip.stack.used", 2);
  is("1 ? 2 : 3", 2);
  is("0x10 + 0b11", 19);
  CHECK(session().evaluate("main")->integer ==
        session().program().find_functions("main")[0]->begin);
}

TEST_CASE("values are written by their type, or as asked") {
  struct Row {
    const char* expression;
    const char* format;
    const char* text;
  };
  const Row rows[] = {{"word", "", "-300"},
                      {"word", "unsigned", "65236"},
                      {"word", "hex", "0xfed4"},
                      {"byte", "bin", "0b1100_1000"},
                      {"byte", "dec", "200"},
                      {"word", "dec", "-300"},
                      {"byte", "signed", "-56"},
                      {"byte", "bits", "bits 7, 6, 3"},
                      {"byte", "char", "'\\xc8'"},
                      {"word", "q8.8", "-1.171875"},
                      {"word", "raw", "d4 fe"},
                      {"real", "", "2.5"},
                      {"colour", "", "GREEN (5)"},
                      {"yes", "", "true"},
                      {"letter", "", "'x' (120)"},
                      {"text", "", "\"hi\\n\""},
                      {"table", "", "{{1, 2, 3}, {4, 5, 6}}"},
                      {"first.value", "", "-2"},
                      {"last", "", "{next = 0x0000, value = 7, low = 5, high = 17}"},
                      {"(uint16_t)1 - (uint16_t)7u", "", "65530 (signed: -6)"},
                      {"chip.ram[0x100..0x103]", "", nullptr},
                      {"20ms + 1 s", "", "1.020 s"}};
  for (const Row& row : rows) {
    INFO(row.expression << " as " << row.format);
    Format format;
    if (*row.format != '\0') format = *parse_format(row.format);
    const auto value = session().evaluate(row.expression, format);
    REQUIRE(value);
    if (row.text != nullptr) CHECK(value->text == row.text);
  }
  CHECK(session().evaluate("head")->text.find("→ first") != std::string::npos);
  CHECK(parse_format("hex depth 5")->depth == 5);
  CHECK(parse_format("depth 1")->kind == Format::Kind::kNatural);
  for (const char* wrong : {"depth", "depth x", "depth 99", "hexdepth 3", "depth 3 hex"})
    CHECK_FALSE(parse_format(wrong));
  CHECK_FALSE(parse_format("hexx"));
  CHECK(parse_format("hexx").error().hint == "did you mean hex?");
}

TEST_CASE("errors name the column and what to do") {
  struct Row {
    const char* expression;
    const char* says;
  };
  const Row rows[] = {
      {"", "an expression is missing"},
      {"1 +", "column 4: the expression ends too early"},
      {"byte = 3", "column 6: '=' assigns, and only `let` does that (to compare, write ==)"},
      {"bite", "column 1: there is no 'bite' in this program (did you mean byte"},
      {"main(1)", "functions of the program cannot be called"},
      {"(1 + 2", "')' is missing"},
      {"table[1", "']' is missing"},
      {"table[3]", "elements 0 to 1"},
      {"first.valeu", "has no member 'valeu' (did you mean value?)"},
      {"head.value", "pointer (write ->value)"},
      {"first->value", "use '.'"},
      {"1 / 0", "division by zero"},
      {"1 << 40", "has no result in C"},
      {"first + 1", "no single value"},
      {"byte[0]", "has no elements"},
      {"*byte", "only a pointer can be followed"},
      {"chip", "a part of the chip is missing"},
      {"chip.r40", "ATmega328P has no 'r40'"},
      {"chip.PORTX", "did you mean"},
      {"chip.TCCR1B.CSS", "no bit or field 'CSS' (did you mean CS"},
      {"chip.sreg.Q", "there is no flag 'Q'"},
      {"chip.ram[0x900]", "ram reaches from 0x0100 to 0x08ff"},
      {"chip.ram[0x110..0x100]", "ram reaches"},
      {"pin.PE1", "there is no pin 'PE1'"},
      {"20ms > 3", "a time can only be compared with a time"},
      {"12parsecs", "not a unit"},
      {"2622 * 22h", "longer than can be told"},
      {"1h / 0", "cannot be worked out with a time"},
      {"hidden in nowhere.c", "there is no 'hidden' in nowhere.c"},
      {"0x", "not a number"},
      {"'ab'", "stands between two '"},
      {"byte byte", "'byte' is not expected here"},
      {"*(struct node *)0x4000", "{"}};
  for (const Row& row : rows) {
    INFO(row.expression);
    const auto value = session().evaluate(row.expression);
    if (value) {  // the last one is an aggregate whose bytes are not there
      CHECK(value->text.find(row.says) != std::string::npos);
      CHECK(value->text.find("(no memory)") != std::string::npos);
      continue;
    }
    INFO(value.error().text());
    CHECK(value.error().text().find(row.says) != std::string::npos);
  }
  const std::string deep = std::string(5000, '(') + "1" + std::string(5000, ')');
  REQUIRE_FALSE(session().evaluate(deep));
  CHECK(session().evaluate(deep).error().what.find("nested too deeply") != std::string::npos);
  CHECK_FALSE(session().evaluate(std::string(20000, '-') + "1"));
}

TEST_CASE("macros: constants in expressions, and a line with its macros opened") {
  const std::string source = R"(#include <avr/io.h>
#define LIMIT 130
#define TWICE(x) ((x) * 2)
#define NAMED(a, b) a##_##b
#define QUOTED(x) #x
#define LOOP LOOP + 1
#define BOTH TWICE(LIMIT + 1)
int NAMED(lamp, level);
const char *text = QUOTED(a b);
int main(void) {
  for (;;) { lamp_level = BOTH; PORTB |= _BV(PB5); }
}
)";
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(test::compiled("macros", source, "-Og -g3 -gdwarf-4")));
  CHECK(session.evaluate("LIMIT")->text == "130");
  CHECK(session.evaluate("LIMIT * 2 == 260")->text == "1");
  CHECK(session.evaluate("RAMEND")->text == "2303");
  CHECK(session.evaluate("1 + TWICE").error().text().find("macro with arguments") !=
        std::string::npos);
  CHECK(session.evaluate("1 + LOOP").error().text().find("leads back to itself") !=
        std::string::npos);
  const auto levels = session.macros("macros.c:11");
  REQUIRE(levels.has_value());
  CHECK(levels->front() == "for (;;) { lamp_level = BOTH; PORTB |= _BV(PB5); }");
  REQUIRE(levels->size() > 3);
  CHECK((*levels)[1].find("lamp_level = TWICE(LIMIT + 1);") != std::string::npos);
  CHECK((*levels)[2].find("lamp_level = ((LIMIT + 1) * 2);") != std::string::npos);
  // The last one is what the preprocessor makes of the line.
  const std::string made = test::run("avr-gcc -mmcu=atmega328p -E -P " + test::scratch("macros.c") +
                                     " | grep lamp_level.=")
                               .text;
  const auto without_blanks = [](const std::string& text) {
    std::string out;
    for (const char c : text)
      if (std::isspace(static_cast<unsigned char>(c)) == 0) out += c;
    return out;
  };
  CHECK(without_blanks(levels->back()) == without_blanks(made));
  Session plain(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(plain.open(test::kKilnOg));
  CHECK(plain.macros("kiln.c:141").error().text().find("-g3") != std::string::npos);
}

TEST_CASE("C++: base classes, references, members without a name; enumerators as flags") {
  const std::string path = test::scratch("classes");
  test::write(path + ".cpp", R"(#include <stdint.h>
struct Base { uint8_t id; };
class Heater : public Base {
 public:
  explicit Heater(uint8_t n) : power(n) { id = 7; }
  __attribute__((noinline)) int16_t step(int16_t &error) { error += power; return error; }
  union { uint16_t whole; uint8_t half[2]; };
  uint8_t power;
};
Heater heater(3);
enum Flags { NONE, HOT = 1, DOOR = 2, FAULT = 4 };
volatile Flags flags = Flags(5);
int main() {
  int16_t e = 4;
  heater.whole = 0x1234;
  for (;;) heater.step(e);
}
)");
  const auto made =
      test::run("avr-g++ -O0 -gdwarf-4 -mmcu=atmega328p -o " + path + ".elf " + path + ".cpp");
  INFO(made.text);
  REQUIRE(made.code == 0);
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(path + ".elf"));
  REQUIRE(session.go_to("step"));
  CHECK(session.evaluate("this->id")->integer == 7);
  CHECK(session.evaluate("heater.half[1]")->integer == 0x12);
  CHECK(session.evaluate("error + 1")->integer == 5);
  CHECK(session.evaluate("flags")->text == "HOT | FAULT (5)");
  REQUIRE(session.let("error", "100"));
  REQUIRE(session.step(StepKind::kOut, StepUnit::kLine));
  CHECK(session.evaluate("e")->integer == 103);
}
