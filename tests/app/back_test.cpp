// SPDX-License-Identifier: MIT
// Going back in time at the prompt: what is said, in text and JSON, and what goes wrong.
#include <catch2/catch.hpp>

#include "app/program.h"

using test::has;
using test::lucid;

namespace {

const std::string kOpen = "open " + std::string(LUCID_KILN) + "/images/overshoot.elf";
const std::string kHeating = "drive PD2 low\nfeed USART0 \"G\\nT3000\\n\"\ngo for 3 s\n";

void says(const test::Output& session, std::initializer_list<const char*> texts) {
  INFO(session.text);
  for (const char* text : texts) {
    INFO(text);
    CHECK(has(session, text));
  }
}

}  // namespace

TEST_CASE("back at the prompt: where one is, what is heard, another future") {
  const auto session = lucid(
      kOpen, kHeating +
                 "mark hot\nback to control_step\nback into\nback out\nshow time\nshow serial\n"
                 "go to 2.5s\ngo to 1.5 s\nlet measured = 1\ngo for 1 s\nmarks\n"
                 "compare hot\nrevert to end1\n= measured\ntimeline\ntimeline off\nback\n"
                 "timeline on\ntimeline\n");
  says(session,
       {"  hot                 3.000 s  kiln.c:209 main", "arrived · control.c:17 control_step · −",
        "stepped back · kiln.c:206 main · −", "serial: ramp 2 s", "idle 1 s, set 0, is 200",
        "went back · kiln.c:209 main", "this begins another future; `revert to end1` leads back",
        "  end1                3.000 s  kiln.c:209 main, in another future", "3.000 s → 2.500 s",
        "measured  3000 → 1", "measured = 3000", "back: the timeline ends at 3.000 s",
        "the timeline begins at 0 s and ends at 3.000 s", "the timeline is off",
        "`timeline on` keeps it from then on"});
}

TEST_CASE("origin and history and missed and suppose at the prompt") {
  const auto session =
      lucid(kOpen, kHeating +
                       "history heater_ms last 2\nback to history 1\ngo to 3.000 s\n"
                       "origin heater_ms\nback to origin 1\ngo for 500 ms\nmissed fan_set\n"
                       "missed kiln.c:109\nback to origin 1\nmark here\ngo for 1 ms\n"
                       "missed finish from here\nsuppose let measured = 100 and let seconds = 7 "
                       "for 2 s\nsuppose let state = 0 until kiln.c:145\n"
                       "suppose instruction kiln.c:141 \"nop\" for 1 s\nhelp suppose\n");
  CHECK(session.code == 0);
  says(session, {"   1      104.625 us  0 → 0     __do_clear_bss", "   2         2.000 s  0 → 1000",
                 "heater_ms = 1000: a constant, set by `ldi r18, 0xe8` in control.c:20",
                 "fan_set was executed, last at", "from MARK` looks only at what came since",
                 "kiln.c:109 was never executed\n  turned away last by `br",
                 "finish was not executed since mark 'here'", "the first happening that differs",
                 "supposed    USART0 sends '", "kiln.c:145 is reached at", "supposed, at",
                 "let OBJECT = EXPR, or instruction PLACE TEXT"});
}

TEST_CASE("a moment in a file, opened again with all its past") {
  const std::string file = test::scratch("hot.moment");
  const auto saved = lucid(kOpen + " --bench " LUCID_KILN "/kiln.bench.toml",
                           "feed USART0 \"G\\n\"\ngo for 2 s\nturn door off\ngo for 1 s\n"
                           "let seconds = 40\nback for 500 ms\ntimeline save " +
                               file + "\n= ticks\n");
  says(saved, {"this moment, and all before it, is in ", "lucid open --at "});
  const auto opened = lucid("open --at " + file, "= ticks\nback to start\ngo for 4 s\n= seconds\n");
  CHECK(opened.code == 0);
  says(opened, {"ready · kiln.c:209 main", "ticks = 2499", "the start · 0x0000", "seconds = 41"});
  CHECK(has(saved, "ticks = 2499"));
  const auto without = lucid(kOpen + " --no-timeline", "go for 1 ms\nback\n");
  says(without, {"the timeline is off"});
  struct Row {
    std::string arguments;
    const char* says;
    int code;
  };
  test::write(test::scratch("none.moment"), "{\"image\": 3}");
  for (const Row& row : {Row{"open --at /nowhere", "cannot read '/nowhere'", 3},
                         {"open --at " + test::scratch("none.moment"), "is no saved moment", 2},
                         {"open", "an argument is missing: image", 2},
                         {kOpen + " --at " + file, "excludes", 2}}) {
    const auto wrong = lucid(row.arguments);
    INFO(row.arguments << "\n" << wrong.text);
    CHECK(wrong.code == row.code);
    CHECK(has(wrong, row.says));
  }
}

TEST_CASE("lucid diverge: two builds, one fault, two files that lead there") {
  const std::string images = LUCID_KILN "/images/";
  const std::string first =
      " --first 'drive PD2 low' --first 'feed USART0 \"G\\nT3000\\n\"' --into " + test::scratch("");
  const auto parts = lucid("diverge " + images + "kiln-og.elf " + images + "overshoot.elf" + first);
  CHECK(parts.code == 1);
  says(parts, {"they part behind", "clamp is called: value = -2400",
               "clamp is called: value = 63136", "control.c:18 control_step", "lucid open --at "});
  const auto there = lucid("open --at " + test::scratch("diverge-2.moment"), "= value\nback out\n");
  says(there, {"value = 63136", "control.c:18 control_step"});
  const auto same =
      lucid("diverge " + images + "kiln-og.elf " + images + "kiln-os.elf --for 300ms" + first);
  CHECK(same.code == 0);
  says(same, {"they do not part within 300.000 ms"});
  const auto second =
      lucid("diverge " + images + "kiln-og.elf " + images + "overshoot.elf --for 1s" + first);
  CHECK(second.code == 0);
  says(second, {"they do not part within 1.000 s"});
  if (!test::kSanitized) {  // it takes minutes there
    const auto json = lucid("diverge --json --align serial " + images + "kiln-og.elf " + images +
                            "overshoot.elf" + first);
    says(json, {R"({"view":"divergence","same":)", R"("event":"USART0 sends: '0'")"});
  }
  struct Row {
    std::string arguments;
    const char* says;
    int code;
  };
  for (const Row& row :
       {Row{"", "an argument is missing: other", 2},
        {images + "none.elf", "none.elf", 3},
        {images + "kiln-os.elf --align colours", "'colours' is nothing to align by", 2},
        {images + "kiln-os.elf --align 'writes nosuch'", "there is no 'nosuch'", 3},
        {images + "kiln-os.elf --chip a --chip b --chip c", "two sides, not more", 2},
        {images + "kiln-os.elf --for 3x", "'3x' is not a time", 2},
        {images + "overshoot.elf --align serial --into /nowhere" +
             first.substr(0, first.find(" --into")),
         "cannot be written", 7}}) {
    const auto wrong = lucid("diverge " + images + "kiln-og.elf " + row.arguments);
    INFO(row.arguments << "\n" << wrong.text);
    CHECK(wrong.code == row.code);
    CHECK(has(wrong, row.says));
  }
}

TEST_CASE("who is attached to a port hears everything once, whatever is gone back") {
  const std::string in = test::scratch("commands"), once = test::scratch("once"),
                    again = test::scratch("again");
  test::write(in, "G\n");
  const std::string image = "open " + test::kKilnOg;
  lucid(image, "attach USART0 files " + in + " " + once + "\ngo for 3 s\n");
  const auto back = lucid(image, "attach USART0 files " + in + " " + again +
                                     "\ngo for 2 s\nback for 1.5 s\nback to main\ngo for 1 s\n"
                                     "back over\ngo to 3 s\n");
  CHECK(test::read(once).size() > 50);
  CHECK(test::read(again) == test::read(once));
  says(back, {"bytes that have been sent before were not sent again"});
}

TEST_CASE("mistakes in the past: one line, and one stays where one is") {
  struct Row {
    const char* command;
    const char* says;
  };
  const Row rows[] = {
      {"back to nowhere", "there is no function 'nowhere'"},
      {"back to fail", "fail was not executed before this moment (`back to start`"},
      {"back to origin 1", "there is no origin 1 (`origin OBJECT` makes the list)"},
      {"back to history 2", "there is no row 2"},
      {"back for 1 h", "the timeline begins 3.000 s ago"},
      {"back until sconds", "did you mean seconds?"},
      {"back until seconds == 99", "did not hold before this moment"},
      {"back sideways", "is not expected behind `back`"},
      {"history sconds", "did you mean seconds?"},
      {"history heater_ms last 0", "at least one row"},
      {"origin ramp", "'ramp' has many parts (ask for a member or an element)"},
      {"origin 3", "has no place that could be followed"},
      {"revert to x", "there is no mark 'x' (`mark NAME` makes one)"},
      {"compare x", "there is no mark 'x'"},
      {"missed nowhere", "there is no function 'nowhere'"},
      {"missed fail from x", "there is no mark 'x'"},
      {"suppose", "is not complete (there follows"},
      {"suppose let seconds = 1 for ever", "ever"},
      {"suppose let seconds = 1 until fail", "fail is not reached as it is"},
      {"suppose instruction main \"bla\" for 1 s", "'bla' is no instruction here"},
      {"suppose instruction main bla for 1 s", "(there follows TEXT"},
      {"timeline save /nowhere/x", "this file cannot be written"},
      {"go to 99 parsecs", "there is no"},
  };
  std::string input = kHeating;
  for (const Row& row : rows) input += std::string(row.command) + "\n";
  const auto session = lucid(kOpen, input + "show time\n");
  for (const Row& row : rows) {
    INFO(row.command << "\n" << session.text);
    CHECK(has(session, row.says));
  }
  CHECK(has(session, "48'000'"));  // cycles: nothing has moved
  // The limit of a run holds for what is only supposed, too.
  const auto limited =
      lucid(kOpen + " --limit 20ms",
            "go for 10 ms\nsuppose let seconds = 1 until fail\nsuppose let seconds = "
            "1 for 5 s\nsuppose let seconds = 1 for 5 ms\nshow time\n");
  says(limited, {"fail is not reached as it is", "a command may run for 20.000 ms at most",
                 "up to 15.000 ms the same happens", " 10.000 ms, "});
}

TEST_CASE("the past as JSON") {
  const auto session = lucid(kOpen + " --json",
                             kHeating +
                                 "back over\norigin heater_ms depth 2\nhistory heater_ms\nmark a\n"
                                 "go for 10 ms\ncompare a\nmissed finish\ntimeline\nmarks\n"
                                 "suppose let seconds = 9 for 1 s\n");
  says(
      session,
      {R"("backwards":true)", R"("picoseconds_behind":)", R"({"view":"origin","nodes":[{"depth":0)",
       R"("how":"constant")", R"({"view":"history","object":"heater_ms","writes":[)",
       R"({"view":"marks","marks":[{"name":"a")", R"({"view":"comparison","picoseconds_then":)",
       R"({"view":"missed","place":"finish","not_called":[{"function":"finish")",
       R"("turn":{"where":)", R"({"view":"timeline","on":true,"copies":)",
       R"({"view":"supposition","same":)", R"("supposed":{"picoseconds":)"});
}
