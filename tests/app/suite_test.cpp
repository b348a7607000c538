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
    CHECK(xml.find("in kiln.c:") != std::string::npos);
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
