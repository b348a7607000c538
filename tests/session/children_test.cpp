// SPDX-License-Identifier: MIT
// Objects opened part by part: what is told of each part is what its own expression says.
#include <catch2/catch.hpp>

#include "lucid/session.h"
#include "tools.h"

using namespace lucid;

namespace {

/// Opens everything below an expression; the number of parts.
std::size_t walk(const Session& session, const std::string& expression, unsigned depth) {
  const auto parts = session.children(expression, 0, 1000);
  INFO(expression);
  INFO((parts ? "" : parts.error().text()));
  REQUIRE(parts);
  std::size_t count = 0;
  for (const VariableView& part : *parts) {
    INFO(part.expression);
    const auto value = session.evaluate(part.expression);
    if (part.value.front() != '(') {
      REQUIRE(value);
      CHECK(part.value == value->text);
      CHECK(part.type == value->type);
      if (value->address) CHECK(part.address == *value->address);
    } else if (part.unknown != Unknown::kNone) {
      CHECK_FALSE(value);
    }
    if (depth > 0 && part.children != 0) {
      const std::size_t below = walk(session, part.expression, depth - 1);
      if (part.value.front() != '(') CHECK(below >= 1);
    }
    count += 1;
  }
  return count;
}

}  // namespace

TEST_CASE("each part of an object is what its own expression says") {
  const std::string path = test::scratch("parts");
  test::write(path + ".cpp",
              "struct Base { int serial; union { long whole; unsigned char bytes[4]; }; };\n"
              "struct Node : Base { Node* next; const char* name; unsigned state : 3, heat : 5;\n"
              "  struct { int x, y; } place; double real; };\n"
              "Node last, first;\n"
              "unsigned char big[1500]; int grid[3][4];\n"
              "volatile int go;\n"
              "int main() { first.serial = 1; first.whole = 0x01020302; first.next = &last;\n"
              "  first.name = \"first\"; first.heat = 17; first.place.y = -2; last.real = 1.5;\n"
              "  Node local = first; for (int i = 0; i < 12; ++i) grid[i / 4][i % 4] = i;\n"
              "  big[1234] = 99; go = local.serial; for (;;) {} }\n");
  REQUIRE(
      test::run("avr-g++ -w -O0 -gdwarf-4 -mmcu=atmega328p -o " + path + ".elf " + path + ".cpp")
          .code == 0);
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(path + ".elf"));
  REQUIRE(session.go_for(200'000).cause == Pause::Cause::kTimeUp);
  CHECK(walk(session, "first", 6) == 9);  // members of the base and of the union among them
  CHECK(walk(session, "local", 2) == 9);
  CHECK(walk(session, "grid", 2) == 3);
  CHECK(session.evaluate("first.bytes[0]")->integer == 2);

  // Pages of a large array; nothing else is read.
  const auto page = session.children("big", 1233, 3);
  REQUIRE(page);
  REQUIRE(page->size() == 3);
  CHECK((*page)[1].name == "[1234]");
  CHECK((*page)[1].value.find("99") != std::string::npos);
  CHECK(session.children("big", 1499, UINT64_MAX)->size() == 1);
  CHECK(session.children("big", 5000, 10)->empty());
  CHECK(session.children("go")->empty());
  CHECK_FALSE(session.children("nowhere"));
  CHECK(session.children("1 + 2")->empty());
  CHECK(session.children("chip.PORTB")->empty());
  Session without(*Chip::make({"ATmega328P", 16'000'000}));  // no image: no types
  CHECK(without.children("chip.r24")->empty());
  for (const VariableView& v : session.globals()) walk(session, v.expression, 1);
  const auto variables = session.variables();
  REQUIRE_FALSE(variables.empty());
  for (const VariableView& v : variables)
    if (v.unknown == Unknown::kNone)
      CHECK((v.children == 0) == session.children(v.expression)->empty());
}
