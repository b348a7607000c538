// SPDX-License-Identifier: MIT
// Several scripts, and what a build server reads of them.
#include <algorithm>
#include <catch2/catch.hpp>
#include <filesystem>

#include "program.h"

using test::has;
using test::lucid;

namespace {

const std::string kImages = LUCID_KILN "/images/";

/// A folder with scripts: some hold, one misses, some cannot be carried out.
std::string folder() {
  const std::string out = test::scratch("suite");
  std::filesystem::remove_all(out);
  std::filesystem::create_directory(out);
  const std::string open = "open " + kImages + "kiln-og.elf\n";
  test::write(out + "/good.loop", open + "go for 1500ms\nexpect seconds == 1\n");
  test::write(out + "/other.loop",
              "go to main\nexpect pause at main\nexpect chip.cycles < 10000\n");
  test::write(out + "/missed.loop",
              open + "feed USART0 \"<&\\x07\\xff\\n\"\ngo for 1100ms\nexpect seconds == 7\n");
  test::write(out + "/wrong.loop", open + "fly away\n");
  test::write(out + "/lost.loop", "open nothing.elf\n");
  test::write(out + "/long.loop", open + "go\n");
  return out;
}

std::string cut(const std::string& text, const std::string& from) {
  const std::size_t at = text.find(from);
  return at == std::string::npos ? "" : text.substr(at);
}

}  // namespace

TEST_CASE("scripts side by side: a verdict for each, in the order that was asked for") {
  const std::string in = folder();
  const std::string scripts = in + "/good.loop " + in + "/missed.loop " + in + "/wrong.loop " + in +
                              "/other.loop " + in + "/lost.loop";
  const std::string image = " --image " + kImages + "kiln-og.elf";
  test::Output first;
  for (const char* jobs : {"1", "2", "5"}) {
    const auto all = test::run("cd " + in + " && LC_ALL=C.UTF-8 " LUCID_PROGRAM " play " + scripts +
                               image + " --jobs " + jobs + " --report r.xml < /dev/null");
    CHECK(all.code == 1);
    if (first.text.empty()) first = all;
    CHECK(all.text == first.text);
    CHECK(has(all, "2 of 5 scripts held, 1 missed, 2 error"));
    const std::string table = cut(all.text, "held ");
    std::size_t at = 0;
    for (const char* name : {"good.loop", "missed.loop", "wrong.loop", "other.loop", "lost.loop"}) {
      at = table.find(name, at);
      CHECK(at != std::string::npos);
    }
    CHECK(has(all, "missed.loop:4: expected seconds == 7, but it is 1 == 7"));
    CHECK(has(all, "there is no command 'fly'"));
    // The report is what its schema says, and holds what XML cannot as text.
    const auto valid =
        test::run("xmllint --noout --schema " LUCID_TEST_SOURCES "/app/junit.xsd " + in + "/r.xml");
    INFO(valid.text);
    CHECK(valid.code == 0);
    const std::string xml = test::read(in + "/r.xml");
    CHECK(xml.find("tests=\"5\" failures=\"1\" errors=\"2\" skipped=\"0\"") != std::string::npos);
    CHECK(xml.find("<property name=\"time\" value=\"simulated\"/>") != std::string::npos);
    CHECK(xml.find("time=\"1.100000\"") != std::string::npos);
    CHECK(xml.find("at 1.100 s, kiln.c:") != std::string::npos);
  }
  // The moment of the failure can be reopened, and gone back from.
  const auto reopened =
      lucid("open --at " + in + "/missed.moment", "= seconds\nback to start\n= chip.cycles\n");
  CHECK(has(reopened, "seconds = 1"));
  CHECK(has(reopened, "chip.cycles = 0"));
  const auto json = lucid("play " + in + "/good.loop " + in + "/missed.loop --json --image " +
                          kImages + "kiln-og.elf");
  CHECK(json.code == 1);
  CHECK(std::count(json.text.begin(), json.text.end(), '\n') == 2);
  CHECK(has(json, "\"verdict\":\"held\""));
  CHECK(has(json, "\"verdict\":\"missed\""));
  std::filesystem::remove("missed.moment");
}

TEST_CASE("suites: what is wrong is one line and a code") {
  const std::string in = folder();
  struct Case {
    std::string arguments;
    int code;
    const char* text;
  };
  const std::string good = in + "/good.loop ";
  const Case cases[] = {
      {good + good, 0, "2 of 2 scripts held"},
      {good + "--report " + in + "/nowhere/r.xml", 7, "this file cannot be written"},
      {good + in + "/none.loop", 3, "cannot read the script"},
      {in + "/other.loop " + kImages + "kiln-og.elf", 0, "2 expectations held"},
      {good + "a.elf b.elf", 2, "one image more than there can be"},
      {"a.elf b.elf", 2, "one image more than there can be"},
      {"a.elf --image b.elf", 3, "cannot read 'b.elf'"},
      {good + "--jobs 0", 2, "--jobs"},
      {good + good + "--first go", 2, "--first and --attach are for one script"},
      {good + "--wall soon", 2, "'soon'"},
      {in + "/long.loop --limit 10h --wall 300ms", 6, "longer than it may, by the clock"},
  };
  for (const Case& c : cases) {
    INFO(c.arguments);
    const auto played = lucid("play " + c.arguments);
    INFO(played.text);
    CHECK(played.code == c.code);
    CHECK(has(played, c.text));
  }
  CHECK_FALSE(std::filesystem::exists(in + "/nowhere"));
}

TEST_CASE("expectations in scripts: in time, for a while, from here on, the same as recorded") {
  const std::string in = folder();
  struct Case {
    std::string lines;
    int code;
    const char* text;
  };
  const Case cases[] = {
      {"expect heard USART0 \"kiln ready\" within 2s", 0, "1 expectation held"},
      {"expect heard USART0 \"nope\" within 20ms", 1,
       "expected \"nope\" from USART0 within 20.000 ms, but it was not sent (at 20.000 ms, "
       "clock.c:"},
      {"expect seconds == 1 within 2s\nexpect chip.cycles < 17000000", 0, "2 expectations held"},
      {"expect seconds == 0 for 3 s", 1, "but after 1.000 s it is 1 == 0 (at 1.000 s, kiln.c:"},
      {"expect pause at every_second within 2s\nexpect pause at every_second", 0, "2 exp"},
      {"expect pause fault within 1ms", 1, "but there was none (at 1.000 ms"},
      {"expect never seconds == 1\ngo for 3 s", 1, "expected never seconds == 1, but it holds"},
      {"expect never seconds == 9\ngo for 3 s\nexpect", 0, "never seconds == 9: not broken so far"},
      {"go for 5 ms\nexpect interrupt TIMER1_COMPA every 900us..1100us\ngo for 9 ms", 0,
       "1 expectation held"},
      {"expect interrupt TIMER1_COMPA every 1us..9us\ngo for 9 ms\ngo for 9 ms", 1,
       ":2: expected interrupt TIMER1_COMPA every 1.000 us..9.000 us, but"},
      {"expect pin.PB5 every 10ms..5ms", 2, "the least time is more than the most"},
      {"expect pin.PB5 every often", 2, "'often' are not two spans"},
      {"expect never", 2, "`expect never` is not complete"},
      {"expect heard USART0 \"x\"", 2, "such as: expect heard USART0"},
      {"expect never seconds == 9\nbreakpoints off\ngo for 1 ms", 1, "is off: it cannot be told"},
      {"expect seconds within 10", 2, "'10' is not a time"},
      {"expect heard USART7 \"x\" within 1ms", 3, "did you mean USART0?"},
      {"expect serial USART7 same as none.txt", 3, "did you mean USART0?"},
      {"expect seconds same as none.txt", 3, "`lucid play --renew` writes what is there now"},
  };
  for (const Case& c : cases) {
    INFO(c.lines);
    test::write(in + "/case.loop", c.lines + "\n");
    const auto played =
        test::run("cd " + in + " && LC_ALL=C.UTF-8 " LUCID_PROGRAM " play case.loop --image " +
                  kImages + "kiln-og.elf < /dev/null");
    INFO(played.text);
    CHECK(played.code == c.code);
    CHECK(has(played, c.text));
    CHECK(std::filesystem::exists(in + "/case.moment") == (c.code == 1));
    std::filesystem::remove(in + "/case.moment");
  }
  // Written once, it is the same again, until something is another.
  const auto same = [&](const std::string& span, const char* options) {
    test::write(in + "/same.loop",
                "go for " + span +
                    "\nexpect serial same as serial.txt\nexpect serial USART0 same as "
                    "serial.txt\nexpect seconds; "
                    "window_start same as values.txt\n");
    return lucid("play " + in + "/same.loop --image " + kImages + "kiln-og.elf" + options);
  };
  CHECK(same("2500ms", " --renew").code == 0);
  CHECK(same("2500ms", "").code == 0);
  CHECK(test::read(in + "/values.txt") == "2\n2000\n");
  const auto other = same("3500ms", "");
  CHECK(other.code == 1);
  CHECK(has(other, "line 4 is 'idle 3 s, set 0, is 200, heat 0"));
  std::filesystem::remove("same.moment");
  // A program for a chip with two ports that sends 'A' by one, 'B' by the other, and stays.
  test::write(in + "/two.hex",
              ":1000000008E00093C1000093C90001E40093C6001A\n"
              ":0800100002E40093CE00FFCFD3\n"
              ":00000001FF\n");
  test::write(in + "/a.txt", "A\n");
  test::write(in + "/b.txt", "B\n");
  test::write(in + "/two.loop",
              "go for 2 ms\nexpect serial USART0 same as a.txt\nexpect serial USART1 same as "
              "b.txt\nexpect serial USART1 same as a.txt\n");
  const auto two = lucid("play " + in + "/two.loop --chip atmega1284p --image " + in + "/two.hex");
  INFO(two.text);
  CHECK(two.code == 1);
  CHECK(has(two, "two.loop:4: expected text of USART1 same as"));
  CHECK(has(two, "line 1 is 'B', and was 'A'"));
  std::filesystem::remove("two.moment");
}

TEST_CASE("values at each pass are rows of a table, along the timeline") {
  const std::string in = folder();
  const auto play = [&](const std::string& lines) {
    test::write(in + "/table.loop", lines);
    return lucid("play " + in + "/table.loop --image " + kImages + "kiln-og.elf");
  };
  CHECK(has(play("pause at every_second\ntabulate seconds; 1 / seconds into t.csv on 1\ngo for "
                 "3500ms\nbreakpoints\n"),
            "it tabulates seconds; 1 / seconds"));
  const std::string rows = test::read(in + "/t.csv");
  CHECK(rows.rfind("time in s,seconds,1 / seconds\n1.0002", 0) == 0);
  CHECK(rows.find(",0,x\n2.0001") != std::string::npos);
  CHECK(rows.find(",1,1\n3.0001") != std::string::npos);
  CHECK(rows.substr(rows.size() - 5) == ",2,0\n");
  // What is gone through again is there once; another future takes its place.
  const auto changed = play(
      "pause at every_second\ntabulate seconds into t.csv on 1\ngo for 3500ms\n"
      "back to 1500ms\ngo for 1 s\nlet seconds = 40\ngo for 1 s\n");
  CHECK(changed.code == 0);
  std::string seconds;
  const std::string other = test::read(in + "/t.csv");
  for (std::size_t at = other.find(','); at != std::string::npos; at = other.find(',', at + 1))
    seconds += other.substr(at + 1, other.find('\n', at) - at - 1) + " ";
  CHECK(seconds == "seconds 0 1 40 ");
  // It can be drawn as it is, and ended.
  CHECK(lucid("plot " + in + "/t.csv").code == 0);
  CHECK(has(play("pause at every_second\ntabulate seconds into t.csv on 1\ntabulate nothing on "
                 "1\ngo for 3s\n"),
            "breakpoint 1 · "));
  CHECK(has(play("tabulate seconds into t.csv on 7\n"), "no breakpoint 7"));
  CHECK(has(play("pause at main\ntabulate 1 + into t.csv on 1\n"), "column"));
  CHECK(has(play("pause at main\ntabulate seconds into no/t.csv on 1\n"), "cannot be written"));
}

TEST_CASE("tests on the target fail where the same tests fail on this machine") {
  const std::string in = test::scratch("target");
  std::filesystem::remove_all(in);
  std::filesystem::create_directories(in + "/host/lucid");
  // The same macros for a program that runs here, and says the line of each check that fails.
  test::write(in + "/host/lucid/test.h", R"(
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#define LUCID_TEST(name) static void name(void)
#define LUCID_RUN(name) name()
#define LUCID_CHECK(c) do { if (!(c)) printf("%d\n", __LINE__); } while (0)
#define LUCID_CHECK_EQUAL(a, b) do { int32_t l = (a), r = (b); if (l != r) \
  printf("%d %d %d\n", __LINE__, (int)l, (int)r); } while (0)
#define lucid_tests_done() exit(0)
)");
  test::write(in + "/t.loop", "expect tests within 1s\n");
  const char* const kMutants[] = {
      "s/a/a/",
      "s/WINDOW_MS);/WINDOW_MS - 1);/",
      "s/integral = 0; }/; }/",
      "s/GAIN_Q4 40/GAIN_Q4 48/",
      "s/setpoint - measured/measured - setpoint/",
      "s/return least/return most/",
      "s/INTEGRAL_Q8 8/INTEGRAL_Q8 0/",
      "s/integral + error/error/",
  };
  unsigned failed = 0;
  for (const char* mutant : kMutants)
    for (const std::string level :
         {"-O0", "-Og", "-Os", "-O2", "-Os -flto", "-O2 -mrelax", "clang -O0", "clang -O2"}) {
      if (test::kSanitized && level != "-Os") continue;  // each compiles twice, too
      INFO(mutant << " " << level);
      const std::string from = LUCID_KILN;
      const std::string flags = " -std=c99 -I " + from + " -I " + from + "/.. " + from +
                                "/tests/control_test.c control.c ";
      const bool clang = level.rfind("clang", 0) == 0;
      const bool relaxed = level.find("relax") != std::string::npos;  // moves code behind its lines
      const std::string mcu = relaxed ? " -mmcu=atmega1284p" : " -mmcu=atmega328p";
      const std::string cross =
          clang ? level + " --target=avr -g -isystem /usr/lib/avr/include -c" + mcu + flags +
                      "&& avr-gcc -o there.elf control_test.o control.o" + mcu
                : "avr-gcc -gdwarf-4 " + level + mcu + " -o there.elf" + flags;
      const auto built =
          test::run("cd " + in + " && sed '" + mutant + "' " + from +
                    "/control.c > control.c && cc -w -o here " + "-I host -I " + from + " " + from +
                    "/tests/control_test.c control.c && " + cross + " && ./here");
      REQUIRE(built.code == 0);
      const auto played = test::run("cd " + in +
                                    " && " LUCID_PROGRAM
                                    " play t.loop --image there.elf --json --report r.xml --chip " +
                                    (relaxed ? "ATmega1284P" : "ATmega328P"));
      std::string lines;  // of failures, as the report has them
      const std::string report = test::read(in + "/r.xml");
      const std::string sign = "message=\"control_test.c:";
      for (std::size_t at = report.find(sign); at != std::string::npos;
           at = report.find(sign, at + 1)) {
        const std::string message =
            report.substr(at + sign.size(), report.find('"', at + sign.size()) - at - sign.size());
        lines += message.substr(0, message.find(':'));
        if (const std::size_t values = message.rfind(": ");
            message.find("EQUAL") != std::string::npos) {
          std::string both = message.substr(values + 1);
          both.erase(both.find(" and"), 4);
          lines += both;
        }
        lines += "\n";
      }
      if (relaxed)  // its line table is wrong: by the toolchain's own reader, too
        CHECK(std::count(lines.begin(), lines.end(), '\n') ==
              std::count(built.text.begin(), built.text.end(), '\n'));
      else
        CHECK(lines == built.text);
      std::size_t cases = 0;  // each test once, in its order
      for (const char* test : {"cold_kiln", "hot_kiln", "a_degree", "what_lasts", "a_reset"}) {
        cases = report.find(std::string("<testcase name=\"") + test, cases + 1);
        CHECK(cases != std::string::npos);
      }
      CHECK(report.find("<testsuites name=\"lucid\" tests=\"6\"") != std::string::npos);
      CHECK(played.code == (built.text.empty() ? 0 : 1));
      CHECK(has(played, built.text.empty() ? "held" : " of 5 failed"));
      failed += built.text.empty() ? 0 : 1;
      CHECK(test::run("xmllint --noout --schema " LUCID_TEST_SOURCES "/app/junit.xsd " + in +
                      "/r.xml")
                .code == 0);
    }
  CHECK(failed >= (test::kSanitized ? 4U : 20U));
  const auto none = lucid("play " + in + "/t.loop --image " + kImages + "kiln-og.elf");
  CHECK(none.code == 3);
  CHECK(has(none, "this program has no tests"));
  std::filesystem::remove("t.moment");
}

TEST_CASE(
    "cases: one script with inputs, values and images; a miss is told with the fewest of them") {
  const std::string in = folder();
  test::write(in + "/hot.loop", "expect measured <= setpoint + 1000 || heater_ms == 0 for 6 s\n");
  const std::string start =
      "  {at = \"100 ms\", pin = \"PD2\", level = \"low\"},\n"
      "  {at = \"1200 ms\", serial = \"USART0\", text = \"G\\n\"},\n"
      "  {at = \"1300 ms\", serial = \"USART0\", text = \"T3000\\n\"},\n";
  std::string others;  // that have nothing to do with it
  for (int i = 0; i < 12; ++i)
    others += "  {at = \"" + std::to_string(50 + 100 * i) + " ms\", pin = \"PB2\", level = \"" +
              (i % 2 != 0 ? "low" : "high") + "\"},\n";
  const auto one = [&](const std::string& name, const std::string& image, const std::string& more) {
    return "[[case]]\nname = \"" + name + "\"\nimage = \"" + kImages + image + ".elf\"\n" + more +
           "\n";
  };
  test::write(in + "/all.toml",
              one("at rest", "overshoot", "") +
                  one("too hot", "overshoot",
                      "input = [\n" + start + others + "]\nlet = {seconds = 3, window_start = 0}") +
                  one("mended", "kiln-og", "input = [\n" + start + "]"));
  const auto play = [&](const std::string& options) {
    return test::run("cd " + in + " && LC_ALL=C.UTF-8 " LUCID_PROGRAM " play hot.loop " + options +
                     " < /dev/null");
  };
  for (const char* jobs : {"1", "3"}) {
    const auto all = play("--cases all.toml --report r.xml --jobs " + std::string(jobs));
    INFO(all.text);
    CHECK(all.code == 1);
    CHECK(has(all, "2 of 3 cases held, 1 missed"));
    CHECK(has(all, "missed      hot.loop [too hot]"));
    const std::string enough = cut(all.text, "enough for it:");
    CHECK(enough.find("PD2") != std::string::npos);
    CHECK(enough.find("G\\n") != std::string::npos);
    CHECK(enough.find("T3000\\n") != std::string::npos);
    CHECK(enough.find("PB2") == std::string::npos);
    CHECK(enough.find("let ") == std::string::npos);
    CHECK(
        test::run("xmllint --noout --schema " LUCID_TEST_SOURCES "/app/junit.xsd " + in + "/r.xml")
            .code == 0);
  }
  // Its moment has the inputs of the case in it.
  const auto back =
      lucid("open --at " + in + "/hot-too-hot.moment", "= state\nback to 1 s\n= state\n");
  CHECK(has(back, "state = KILN_RAMP"));
  CHECK(has(back, "state = KILN_IDLE"));
  CHECK_FALSE(has(back, "not the same"));
  // Values are there where main begins.
  test::write(in + "/value.loop", "expect pause at main\nexpect seconds == 7\n");
  test::write(in + "/value.toml", one("seven", "kiln-og", "let = {seconds = \"3 + 4\"}"));
  CHECK(lucid("play " + in + "/value.loop --cases " + in + "/value.toml").code == 0);
  struct Wrong {
    const char* text;
    int code;
    const char* words;
  };
  const Wrong wrong[] = {
      {"[[case]]", 2, "bad.toml, line 1: a case needs a name"},
      {"[[case]]\nname = \"a\"\nlett = {a = 1}", 2,
       "line 3: 'lett' is no key of a case (did you mean let?)"},
      {"[[case]]\nname = \"a\"\n[[case]]\nname = \"a\"", 2, "there are two cases 'a'"},
      {"[[case]]\nname = \"a\"\ninput = [3]", 2, "an input is a table"},
      {"x = 1", 2, "'bad.toml' has no cases"},
      {"[[case]\n", 2, "bad.toml, line 1"},
      {"[[case]]\nname = \"a\"\ninput = [{at = \"1 s\", pin = \"PX9\", level = \"low\"}]", 3,
       "case 'a': part"},
      {"[[case]]\nname = \"a\"\nlet = {nosuch = 1}", 3, "there is no 'nosuch'"},
      {"[[case]]\nname = \"a\"\nimage = \"none.elf\"", 3, "cannot read"},
  };
  for (const Wrong& w : wrong) {
    INFO(w.text);
    test::write(in + "/bad.toml", w.text);
    const auto played = play("--cases bad.toml --image " + kImages + "kiln-og.elf");
    INFO(played.text);
    CHECK(played.code == w.code);
    CHECK(has(played, w.words));
  }
  CHECK(play("--cases none.toml").code == 3);
}
