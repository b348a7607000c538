// SPDX-License-Identifier: MIT
// Walks through faults of the kiln on the screen, in a pseudo-terminal: by keys alone and by the
// mouse alone. What is seen is held against a session of the library's that goes the same way.
#include <algorithm>
#include <catch2/catch.hpp>
#include <filesystem>

#include "lucid/bench.h"
#include "lucid/session.h"
#include "terminal.h"

using namespace lucid;
using test::Window;

namespace {

std::string folder() {
  const std::string out = test::scratch("walk");
  std::filesystem::remove_all(out);
  std::filesystem::create_directory(out);
  return out;
}

bool has(const std::string& text, const std::string& part) {
  return text.find(part) != std::string::npos;
}

std::string image(const std::string& name) { return LUCID_KILN "/images/" + name + ".elf"; }
const std::string kBench = LUCID_KILN "/kiln.bench.toml";

Session session_of(const std::string& name, bool bench) {
  Chip::Options options;
  if (bench) options = Bench::open(kBench)->chip;
  Session out(*Chip::make(options));
  REQUIRE(out.open(image(name)));
  return out;
}

}  // namespace

TEST_CASE("by keys alone: why the heater stays on, and which character is lost") {
  Session truth = session_of("overshoot", false);
  REQUIRE(truth.pause_at({"control.c:17", {}, 1, "measured > setpoint"}));
  Window w(36, 120, {"open", image("overshoot"), "--screen"}, folder());
  REQUIRE(w.wait_for("1 source"));
  w.type("fcontrol_step");
  REQUIRE(w.wait_for("function at"));
  w.type("\r");
  REQUIRE(w.wait_for("code: control.c"));
  w.type("cpause at control.c:17 if measured > setpoint\r\x1b");
  REQUIRE(w.wait_for("(1)"));
  // The door is closed; the firing begins, and then the chamber is told to be hot.
  w.type("cdrive PD2 low\r\x1b");
  REQUIRE(truth.drive("PD2", false));
  w.type("5\t\t\r");  // the serial pane, and typing into it
  REQUIRE(w.wait_for("serial: USART0: typing"));
  w.type("G\rT3000\r\x1b");
  REQUIRE(truth.feed("USART0", "G\n"));
  REQUIRE(truth.feed("USART0", "T3000\n"));
  w.type("1g");
  REQUIRE(w.wait_for("breakpoint 1"));
  truth.go();
  CHECK(w.find(to_text(truth.chip().time())));
  w.type("o");
  REQUIRE(truth.step(StepKind::kOver, StepUnit::kLine));
  for (const char* name : {"error", "measured"}) {
    const std::string row = std::string(name) + " = " + truth.evaluate(name)->text;
    INFO(row);
    CHECK(w.wait_for(row));
  }
  CHECK(truth.evaluate("error")->integer > 32767);  // a difference below zero that has wrapped
  w.type("q");
  REQUIRE(w.wait_for("s>"));
  w.type("screen\r");
  REQUIRE(w.wait_for("1 source"));
  REQUIRE(w.find("(1)"));
  w.type("q");
  w.type("quit\r");
  CHECK(w.ended() == 0);

  Session lost = session_of("lost-character", false);
  BreakpointSpec spec{"serial_put"};
  spec.rule = BreakpointSpec::Rule::kOn;
  spec.count = 32;
  REQUIRE(lost.pause_at(spec));
  Window l(36, 120, {"open", image("lost-character"), "--screen"}, folder());
  REQUIRE(l.wait_for("1 source"));
  l.type("cpause at serial_put on pass 32\r\x1b");
  l.type("g");
  lost.go();
  const auto value = [&](const char* name) {
    return std::string(name) + " = " + lost.evaluate(name)->text;
  };
  for (const char* name : {"byte", "tx_head"}) {
    INFO(l.all());
    CHECK(l.wait_for(value(name)));
  }
  CHECK(value("tx_head") == "tx_head = 31");
  for (int i = 0; i < 4; ++i) {
    l.type("\t");  // back among the panes to the code
    if (l.find("\xe2\x96\x8c"
               "code: serial.c"))
      break;
  }
  l.type("oooo");
  REQUIRE(lost.step(StepKind::kOver, StepUnit::kLine, 4));
  l.type("\x1bOA\x1bOCw");  // a line up, the first name in it, watch
  REQUIRE(l.wait_for("(2) tx_head = "));
  REQUIRE(l.wait_for(value("tx_head")));
  CHECK(value("tx_head") == "tx_head = 0");
  CHECK(l.find(to_text(lost.chip().time())));
}

TEST_CASE("by the mouse alone: a schedule that is said to be damaged") {
  Session truth = session_of("wrong-bit", false);
  REQUIRE(truth.pause_at({"checksum.S:20"}));
  const std::string home = folder();
  Window w(36, 120, {"open", image("wrong-bit"), "--screen"}, home);
  REQUIRE(w.wait_for("find"));
  w.click(*w.find(" find", 35));
  REQUIRE(w.wait_for("checksum.S"));
  w.click(*w.find("checksum.S"));
  REQUIRE(w.wait_for("code: checksum.S"));
  // The margin of line 20.
  w.type("\x1b[<65;10;10M\x1b[<65;10;10M");  // the wheel
  const auto line = w.find("  20 ");
  INFO(w.all());
  REQUIRE(line);
  w.click(line->first, line->second);
  REQUIRE(w.wait_for("(1)"));
  w.click(*w.find("2 instructions"));
  REQUIRE(w.wait_for("instructions"));
  // On until bit 0 asks for feedback and bit 1 does not.
  for (int i = 0; i < 40; ++i) {
    w.click(*w.find("go ", 35));
    truth.go();
    char r18[16];
    std::snprintf(r18, sizeof r18, "r18 %02x",
                  static_cast<unsigned>(*truth.chip().register_value("r18")));
    REQUIRE(w.wait_for(to_text(truth.chip().time())));
    INFO(w.all());
    REQUIRE(w.find(r18));
    if ((*truth.chip().register_value("r18") & 3) == 1) break;
  }
  w.click(*w.find("into", 35));
  REQUIRE(truth.step(StepKind::kInto, StepUnit::kInstruction));
  REQUIRE(w.wait_for("checksum.S:22"));
  CHECK(truth.pause().where.line == 22);  // the exclusive-or was skipped
  // A click opens TIMER1, its control register and a field; choosing a meaning changes it.
  w.click(*w.find("+ TIMER1"));
  w.click(*w.find("+ TIMER1"));
  CHECK(w.wait_for("- TIMER1"));
  // The border between code and registers is dragged.
  const auto border = w.find("\xe2\x94\x82");
  REQUIRE(border);
  const auto at = [](int row, int column) {
    return std::to_string(column + 1) + ";" + std::to_string(row + 1);
  };
  w.type("\x1b[<0;" + at(10, border->second) + "M");
  w.type("\x1b[<0;" + at(10, border->second - 12) + "m");
  const auto moved = [&] { return w.find("\xe2\x94\x82")->second == border->second - 12; };
  for (int i = 0; i < 20 && !moved(); ++i) w.settle(300);
  CHECK(moved());
  w.click(*w.find(" prompt", 35));
  w.type("quit\r");
  CHECK(w.ended() == 0);
  CHECK(has(test::read(home + "/lucid.screen.toml"), "layout = \"instructions\""));
}

TEST_CASE("by the mouse alone: a door that is closed once and counted often") {
  Session truth = session_of("bouncing-door", true);
  Window w(36, 120, {"open", image("bouncing-door"), "--bench", kBench, "--screen"}, folder());
  REQUIRE(w.wait_for("find"));
  w.click(*w.find(" find", 35));
  REQUIRE(w.wait_for("door.c"));
  int row = 0;
  while (row < 36 && !(has(w.row(row), "door.c ") && has(w.row(row), "file: its code"))) ++row;
  REQUIRE(row < 36);
  w.click(row, 60);
  REQUIRE(w.wait_for("code: door.c"));
  for (int i = 0; i < 10 && !w.find("closings++"); ++i) w.type("\x1b[<65;10;10M");  // the wheel
  const auto line = w.find("closings++");
  REQUIRE(line);
  const std::string text = w.row(line->first);
  const unsigned number = static_cast<unsigned>(std::stoul(text));
  REQUIRE(truth.pause_at({"door.c:" + std::to_string(number)}));
  w.click(line->first, 8);  // its margin
  REQUIRE(w.wait_for("(1)"));
  w.click(*w.find("5 serial"));
  REQUIRE(w.wait_for("[on]"));
  // Some time passes before the hand closes the door.
  w.click(*w.find("[on]"));
  REQUIRE(truth.act("door", "turn", "on"));
  REQUIRE(w.wait_for("turn door on"));
  Picoseconds first;
  for (int pass = 1; pass <= 3; ++pass) {
    w.click(*w.find("go ", 35));
    truth.go();
    if (pass == 1) first = truth.chip().time();
    INFO(w.all());
    REQUIRE(w.wait_for("pass " + std::to_string(pass)));
    CHECK(w.wait_for(to_text(truth.chip().time())));
  }
  CHECK(truth.chip().time().count - first.count < 4'000'000'000);  // within the 4 ms of bouncing
}

TEST_CASE("the screen in terminals as they are") {
  const std::string home = folder();
  SECTION("a step takes few bytes") {
    Window w(36, 120, {"open", image("kiln-og"), "--bench", kBench, "--screen"}, home);
    REQUIRE(w.wait_for("1 source"));
    w.type("cgo to control_step\r\x1b");
    REQUIRE(w.wait_for("arrived"));
    std::vector<std::size_t> steps;
    for (int i = 0; i < 15; ++i) {
      const std::size_t before = w.bytes();
      w.type("o");
      steps.push_back(w.bytes() - before);
    }
    std::sort(steps.begin(), steps.end());
    INFO("the most " << steps.back());
    CHECK(steps.front() > 100);
    CHECK(steps[7] <= 2048);  // a typical one
  }
  SECTION("Ctrl-C and Space pause; the screen stays alive while the chip runs") {
    Window w(24, 80, {"open", image("kiln-og"), "--bench", kBench, "--screen"}, home);
    REQUIRE(w.wait_for("1 source"));
    w.type("g");
    REQUIRE(w.wait_for("runs "));
    const std::string first = w.row(0);
    for (int i = 0; i < 50 && w.row(0) == first; ++i) w.settle(100);
    CHECK(w.row(0) != first);
    w.type("4");  // looks go on
    REQUIRE(w.wait_for("pins in use"));
    w.type("o");
    REQUIRE(w.wait_for("would move it"));
    w.type("\x03");
    REQUIRE(w.wait_for("paused "));
    w.type("g");
    REQUIRE(w.wait_for("runs "));
    w.type(" ");
    REQUIRE(w.wait_for("paused "));
  }
  SECTION("without colours, in ASCII, and resized") {
    Window w(24, 80, {"open", image("kiln-og"), "--screen"}, home,
             {"TERM=vt100", "LC_ALL=C", "NO_COLOR=1"});
    REQUIRE(w.wait_for("1 source"));
    for (const char c : w.raw()) REQUIRE((static_cast<unsigned char>(c) & 0x80) == 0);
    w.type("cgo to main\r\x1b");
    REQUIRE(w.wait_for("arrived"));
    const std::string before = w.all();
    w.resize(40, 130);
    REQUIRE(w.wait_for("callers"));
    w.resize(24, 80);
    for (int i = 0; i < 20 && w.all() != before; ++i) w.settle(300);
    CHECK(w.all() == before);
  }
  SECTION("nothing of the program's acts on the terminal") {
    const std::string path = test::scratch("esc-screen");
    test::write(path + ".c",
                "#include <avr/io.h>\nint main(void) {  // \x1b]0;title\x07 \xff\n"
                "  UCSR0B = 1 << TXEN0;\n"
                "  for (const char* p = \"a\\033[31mb\\377\\n\"; *p; p++) {\n"
                "    while (!(UCSR0A & 1 << UDRE0)) {}\n    UDR0 = *p;\n  }\n  for (;;) {}\n}\n");
    REQUIRE(
        test::run("avr-gcc -w -O1 -gdwarf-4 -mmcu=atmega328p -o " + path + ".elf " + path + ".c")
            .code == 0);
    Window w(36, 120, {"open", path + ".elf", "--screen"}, home);
    REQUIRE(w.wait_for("1 source"));
    w.type("cgo to main\rgo for 50ms\r\x1b");
    w.type("5");
    CHECK(w.wait_for("\\x1b]0;title\\x07 \\xff"));
    CHECK(w.wait_for("a\\x1b[31mb\\xff"));
    CHECK_FALSE(has(w.raw(), "\x1b]0;title"));
    CHECK_FALSE(has(w.raw(), "\x1b[31mb"));
  }
  SECTION("the terminal vanishes: breakpoints and watches are kept") {
    Window w(36, 120, {"open", image("kiln-og"), "--screen"}, home);
    REQUIRE(w.wait_for("1 source"));
    w.type("cpause at control_step on pass 9\rwatch seconds\r\x1bg");
    REQUIRE(w.wait_for("runs "));
    w.hang_up();
    CHECK(w.ended());
    CHECK(test::read(home + "/lucid.kept.loop") ==
          "pause at control_step on pass 9\nwatch seconds\n");
    Window again(36, 120, {"open", image("kiln-og"), "--screen"}, home);
    CHECK(again.wait_for("breakpoints load lucid.kept.loop"));
  }
  SECTION("suspended and resumed") {
    Window w(24, 80, {"open", image("kiln-og"), "--screen"}, home);
    REQUIRE(w.wait_for("1 source"));
    const std::string before = w.all();
    kill(w.pid(), SIGTSTP);
    w.settle(300);
    kill(w.pid(), SIGCONT);
    for (int i = 0; i < 20 && w.all() != before; ++i) w.settle(300);
    CHECK(w.all() == before);
  }
  SECTION("settings that are wrong are told, and left as they are") {
    test::write(home + "/lucid.screen.toml", "layout = \"sauce\"\n");
    Window w(24, 80, {"open", image("kiln-og"), "--screen"}, home);
    REQUIRE(w.wait_for("there is no layout 'sauce'"));
    w.type("3");
    w.type("q");
    w.type("quit\r");
    CHECK(w.ended() == 0);
    CHECK(test::read(home + "/lucid.screen.toml") == "layout = \"sauce\"\n");
  }
  SECTION("a terminal that cannot show it") {
    Window w(24, 80, {"open", image("kiln-og"), "--screen"}, home, {"TERM=dumb"});
    CHECK(w.wait_for("needs a terminal that can place its cursor"));
  }
}
