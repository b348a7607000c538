// SPDX-License-Identifier: MIT
// Whole runs, as a person at the program meets them: on the kiln.
#include <catch2/catch.hpp>

#include <filesystem>
#include <tuple>

#include "app/program.h"

using test::has;
using test::lucid;

TEST_CASE("a whole run at the prompt, and by one command", "[survey]") {
  const std::string kiln =
      test::kKilnOg + " --bench " + std::string(LUCID_KILN) + "/kiln.bench.toml";
  const std::string info = test::scratch("coverage.info");
  std::filesystem::remove(info);
  const auto first = lucid("survey " + kiln + " --for 3s --into " LUCID_SCRATCH);
  INFO(first.text);
  CHECK(first.code == 0);
  for (const char* text :
       {"48,000,000 cycles in 3.000 s · asleep", "own cycles", "TIMER1_COMPA_vect handler",
        "    main\n", "  clock_wait_ms", "never called: ", "  in all\n", "the longest wait, until ",
        "interrupts were off", "written into " LUCID_SCRATCH "/coverage.info"})
    CHECK_THAT(first.text, Catch::Contains(text));
  CHECK_THAT(test::read(info), Catch::StartsWith("TN:\nSF:"));
  const auto out = lucid("open " + kiln,
                         "survey\nfeed USART0 \"G\\n\"\ngo for 3 s\nshow profile lines for 3\n"
                         "show coverage plan.c\nshow coverage against " +
                             info +
                             "\nshow disassembly clock_wait_ms for 30\n= coverage(control.c)\n"
                             "expect latency(TIMER1_COMPA) in 0.2us..9us\nback to worst "
                             "TIMER1_COMPA\nback to worst INT1\nsurvey\nshow profile\n"
                             "survey off\nshow profile\n");
  INFO(out.text);
  for (const char* text :
       {"counting from here on: `show profile`", "  clock_ms\n", " more lines",
        "plan.c: 0 of 9 lines, 0 of 1 functions", "       never    ", "only here", "kiln.c ",
        "only there\n  nothing", "taken ", "coverage(control.c) = ", "from nought again",
        "0 cycles in 0 s", "nothing has been counted (`survey` counts"})
    CHECK_THAT(out.text, Catch::Contains(text));
  const auto json = lucid("survey " + kiln + " --for 1s --json");
  for (const char* text :
       {"\"view\":\"profile\",\"cycles\":16000000", "\"caller\":0",
        "\"view\":\"coverage\",\"files\":[{\"path\":", "\"held_by\":\"interrupts off\""})
    CHECK_THAT(json.text, Catch::Contains(text));
  struct Wrong {
    std::string lines;
    const char* text;
  };
  test::write(test::scratch("bad.info"), "SF:a.c\nDA:1\n");
  const Wrong wrong[] = {
      {"show coverage", "nothing has been counted"},
      {"survey\nshow coverage contrl.c", "did you mean control.c?"},
      {"survey\nshow coverage against /nowhere.info", "cannot read '/nowhere.info'"},
      {"survey\nshow coverage against " + test::scratch("bad.info"), "bad.info:2: 'DA:1' is no DA"},
      {"survey\nexport coverage into /nowhere/x.info", "cannot be written"},
      {"survey\nshow profile calls", "`survey with calls` does that"},
      {"survey\n= latency(TIMER1_COMPX)", "did you mean TIMER1_COMPA"},
      {"survey\n= coverage(nothing.c)", "no code is from a file 'nothing.c'"},
      {"= coverage(all)", "nothing has been counted"},
  };
  for (const Wrong& w : wrong) {
    INFO(w.lines);
    const auto told = lucid("open " + kiln, w.lines + "\n");
    INFO(told.text);
    CHECK(told.code != 0);
    CHECK(has(told, w.text));
  }
  CHECK(lucid("survey /nowhere.elf").code == 3);
  // What is wrong is said before anything runs.
  for (const auto& [options, code, text] : {std::tuple{"--for never", 2, "'never'"},
                                            std::tuple{"--against /nowhere.info", 3, "nowhere"},
                                            std::tuple{"--into /proc/x", 7, "cannot be made"},
                                            std::tuple{"--script nope.loop", 3, "nope.loop"}}) {
    const auto early = lucid("survey " + kiln + " " + options);
    INFO(early.text);
    CHECK(early.code == code);
    CHECK(has(early, text));
    CHECK(!has(early, "cycles in"));
  }
}
