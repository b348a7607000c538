// SPDX-License-Identifier: MIT
// Whole runs, as a person at the program meets them: on the kiln.
#include <catch2/catch.hpp>

#include <filesystem>
#include <tuple>

#include "app/program.h"

using test::has;
using test::lucid;

TEST_CASE("races at the prompt", "[race]") {
  const std::string torn = std::string(LUCID_KILN) + "/images/torn-tick.elf";
  const std::string lines =
      "go for 20ms\nrace search clock_ms\ngo to race 1\nexpect no race in serial_put\n"
      "race search clock_ms interrupt TIMER1_COMPA expect ticks < 1000\nraise ADC\n"
      "raise USART_RX byte 71\ngo for 1ms\n= rx_head\n";
  const auto out = lucid("open " + torn, lines);
  INFO(out.text);
  CHECK(out.code == 0);
  for (const char* text :
       {"clock_ms, entered at 20.000 ms, 3 instructions to its return",
        "TIMER1_COMPA: 4 runs with it in the middle", "where it cannot be asked for",
        "also with ticks = 255",
        "race 1  TIMER1_COMPA before clock_ms+0x4 (clock.c:29), 2 cycles in, with ticks = 255",
        "returns 511; 256 if it comes before, 255 behind",
        "race 1: TIMER1_COMPA is raised here, and comes next", "note: ADC is forced",
        "rx_head = 1"})
    CHECK_THAT(out.text, Catch::Contains(text));
  const auto json = lucid("open --json " + torn, lines);
  for (const char* text :
       {R"("view":"races","function":"clock_ms","where":{)", R"("also_with":["ticks = 255"])",
        R"("kind":"neither","interrupt":"TIMER1_COMPA")",
        R"({"name":"returns","value":"511","if_before":"256","if_behind":"255"})",
        R"("expectation":"ticks < 1000","broken_before":false)"})
    CHECK_THAT(json.text, Catch::Contains(text));
  // A race fails a script, which leads to where it stands.
  const std::string script = test::scratch("race.loop");
  test::write(script, "open " + torn + "\ngo for 20ms\nexpect no race in clock_ms\n");
  const auto failed = lucid("play " + script);
  CHECK(failed.code == 1);
  CHECK_THAT(failed.text, Catch::Contains("race.loop:3: expected no race in clock_ms, but "
                                          "TIMER1_COMPA before clock_ms+0x4"));
  const auto there = lucid("open --at race.moment", "step instruction\n");
  std::filesystem::remove("race.moment");
  CHECK_THAT(there.text, Catch::Contains("interrupt TIMER1_COMPA was entered"));
  const std::tuple<const char*, const char*> wrong[] = {
      {"race search clok_ms", "did you mean clock_ms?"},
      {"race search clock_ms interrupt ADCC", "did you mean ADC?"},
      {"race search clock_ms expect now == 1", "there is no 'now'"},
      {"race search clock_wait_ms", "clock_wait_ms is not called within 10.000 s"},
      {"go to race 1", "no race has been found (`race search FUNCTION` looks for them)"},
      {"raise TIMER0_OVF", "TIMER0_OVF cannot come here: it is not enabled"},
      {"raise USART_RX byte 256", "256 is more than a byte"},
  };
  for (const auto& [line, text] : wrong) {
    const auto answer = lucid("open " + torn, std::string("go for 2s\n") + line + "\n");
    INFO(line);
    CHECK_THAT(answer.text, Catch::Contains(text));
  }
}

TEST_CASE("checks at the prompt", "[checks]") {
  const std::string torn = std::string(LUCID_KILN) + "/images/torn-tick.elf";
  const std::string lines =
      "show findings\ngo for 20ms\nshow findings\nshow checks\ncheck torn-access pause\nreset\n"
      "show wear\ncheck nested list\nshow heap\ncheck values list\nshow heap\ncheck all off\n"
      "show checks\ncheck tron-access off\n";
  const auto out = lucid("open " + torn, lines);
  INFO(out.text);
  for (const char* text :
       {"nothing has been found; `show checks` tells",
        "note: found: ticks is being read at clock.c:29", "  torn-access  5.146 ms",
        "      clock.c:29 clock_ms\n", "  torn-access     list   an interrupt",
        "nothing has been programmed since power-on", "  nested          off    ",
        "  torn-access     off    ", "did you mean torn-access?",
        "the heap is not followed: `check heap list`", "nothing has come from the heap"})
    CHECK_THAT(out.text, Catch::Contains(text));
  const auto json = lucid("open --json " + torn, lines);
  for (const char* text :
       {R"({"view":"findings","list":[{"check":"torn-access","text":"ticks is being read)",
        R"("harmless":false,"where":{"address":1632)", R"("other":{)",
        R"({"view":"checks","list":[{"name":"torn-access","words":)", R"("mode":"list"})",
        R"({"view":"heap","followed":false})", R"({"view":"heap","followed":true,"used":0,)",
        R"("mode":"off","follows_values":true})"})
    CHECK_THAT(json.text, Catch::Contains(text));
  const std::string script = test::scratch("findings.loop");
  test::write(script, "open " + torn + "\ngo for 20ms\nexpect no findings\n");
  const auto failed = lucid("play " + script);
  std::filesystem::remove("findings.moment");
  CHECK(failed.code == 1);
  CHECK_THAT(failed.text, Catch::Contains("expected no findings, but ticks is being read at "
                                          "clock.c:29 when TIMER1_COMPA comes between"));
  test::write(script, "open " + test::kKilnOg + "\ngo for 1s\nexpect no findings\n");
  CHECK(lucid("play " + script).code == 0);
}

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
  const std::string page = test::read(test::scratch("profile.html"));
  for (const char* text : {"<!doctype html>", "Where the cycles of kiln-og.elf went",
                           R"({"function":"clock_wait_ms","calls":)", "</html>"})
    CHECK_THAT(page, Catch::Contains(text));
  CHECK(page.find("http") == std::string::npos);  // it needs no network
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
      {"survey\nexport profile into x.html", "`survey with calls` does that"},
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
