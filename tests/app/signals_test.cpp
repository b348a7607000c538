// SPDX-License-Identifier: MIT
// Signals over time, as a person at the program meets them: on the kiln.
#include <catch2/catch.hpp>

#include "app/program.h"

namespace {

using test::has;
using test::lucid;

const std::string kKiln =
    "open " + test::kKilnOg + " --bench " + std::string(LUCID_KILN) + "/kiln.bench.toml";

}  // namespace

TEST_CASE("tracing, measuring, drawing and writing at the prompt", "[signals]") {
  const std::string vcd = test::scratch("kiln.vcd"), csv = test::scratch("kiln.csv");
  const std::string png = test::scratch("kiln.png"), html = test::scratch("kiln.html");
  const auto out =
      lucid(kKiln,
            "go for 8 s\n"
            "trace pin.PB0 named lamp from start\n"
            "trace state from start\n"
            "trace part chamber named chamber from start\n"
            "trace pin.PD1 from start\n"
            "traces\n"
            "measure lamp\n"
            "measure state from 2 s to now\n"
            "measure chamber in 25..28\n"
            "measure delay lamp rising to pin.PD1 falling\n"
            "decode serial pin.PD1\n"
            "= width(lamp, high)\n"
            "expect width(lamp, high) in 120ms..130ms\n"
            "plot lamp, state from start to 8 s\n"
            "export into " +
                vcd +
                " from 1 s to 1100ms\n"
                "export into " +
                csv +
                "\n"
                "plot into " +
                png +
                "\n"
                "plot lamp, state, chamber cursors 2 s and 3 s sized 640 by 400 dark into " +
                html +
                "\n"
                "import " +
                vcd +
                " named real\n"
                "decode serial real.PD1\n");
  INFO(out.text);
  CHECK(out.code == 0);
  for (const char* text :
       {"1  lamp", "KILN_IDLE  ", "5 rising edges, 4 falling edges", "high", "124.998 ms",
        "KILN_RAMP         4.999 s", "pin.PD1 serial", "38400 baud", "kiln ready..",
        "width(lamp, high) = 124.998 ms", "│KILN_RAMP", "5 signals drawn into",
        "3 signals drawn into", "real.PD1 serial  "})
    CHECK_THAT(out.text, Catch::Contains(text));
  CHECK(test::read(png).substr(1, 3) == "PNG");
  CHECK_THAT(test::read(html), Catch::Contains("<canvas id=\"waves\""));
  CHECK_THAT(test::read(vcd), Catch::StartsWith("$version"));
  CHECK_THAT(test::read(csv), Catch::StartsWith("time in s,lamp,state,chamber in °C"));

  const auto drawn =
      lucid("plot " + vcd + " PD1 --from 1s --to 1002ms --into " + test::scratch("a.svg"));
  CHECK(drawn.code == 0);
  CHECK_THAT(test::read(test::scratch("a.svg")), Catch::Contains("<svg"));
  CHECK(has(lucid("plot " + vcd + " PDx"), "did you mean PD1?"));
  CHECK(lucid("plot " + vcd + " PD1 --from 9s --to 10s").code == 6);
  CHECK(lucid("plot /nowhere.vcd").code == 3);
  CHECK(lucid("plot " + test::kKilnOg).code == 2);

  // Tab.
  const auto words =
      lucid(kKiln,
            "trace pin.PB0 named lamp\ncomplete \"measure la\"\ncomplete \"plot lam\"\n"
            "complete \"trace int\"\ncomplete \"trace heater_\"\ncomplete \"plot lamp from st\"\n");
  INFO(words.text);
  for (const char* word : {"lamp", "interrupt", "heater_ms", "start"})
    CHECK_THAT(words.text, Catch::Contains(std::string(word) + "\n"));

  // The same for programs.
  const auto json =
      lucid(kKiln + " --json", "trace pin.PB0\ngo for 1 s\nmeasure pin.PB0\nplot pin.PB0\n");
  CHECK(has(json, "\"view\":\"traces\""));
  CHECK(has(json, "\"rising\":4"));
  CHECK(has(json, "\"samples\":[{\"picoseconds\":0,\"value\":\"floating\"}"));
}

TEST_CASE("a stretch without an end goes up to now", "[signals]") {
  const std::string before = "go for 8 s\ntrace state from start\n";
  for (const std::string command : {"measure state", "measure state in 0..1", "plot state"}) {
    INFO(command);
    const auto open = lucid(kKiln + " --json", before + command + " from 2 s\n");
    const auto closed = lucid(kKiln + " --json", before + command + " from 2 s to now\n");
    const auto whole = lucid(kKiln + " --json", before + command + "\n");
    CHECK(open.code == 0);
    const auto answer = [](const std::string& text) {
      return text.substr(text.rfind("\"answer\""));
    };
    CHECK(answer(open.text) == answer(closed.text));
    CHECK(answer(open.text) != answer(whole.text));
  }
}

TEST_CASE("a file takes what is traced, and places are told of", "[signals]") {
  const std::string file = test::scratch("traces-of-the-program");
  test::write(file, "old");
  const auto out = lucid(kKiln + " --json", "trace into " + file +
                                                "\ntrace state with places\ntrace conversion\n"
                                                "go for 3 s\ntraces\n");
  CHECK(out.code == 0);
  CHECK(has(out, "\"place\":\"load_segment, kiln.c:"));
  CHECK(has(out, "\"bytes_in_file\":0"));  // there is room enough
  CHECK(test::read(file).empty());
}

TEST_CASE("what is wrong about signals is said", "[signals]") {
  const std::pair<const char*, const char*> wrong[] = {
      {"measure pin.PB5", "`trace pin.PB5 from start` records it"},
      {"trace pin.PB9", "PB9"},
      {"trace interrupt TIMER1_COMPX", "did you mean TIMER1_COMPA"},
      {"trace part chambr", "did you mean chamber?"},
      {"trace conversions", "did you mean conversion?"},
      {"trace byte out SPY", "did you mean SPI?"},
      {"trace into /nowhere/x", "cannot write '/nowhere/x'"},
      {"trace state around 9 for 1ms before and 1ms after", "there is no breakpoint 9"},
      {"trace state around 9 for 1ms", "5ms before and"},
      {"plot", "nothing is traced"},
      {"export into x.vcd", "nothing is traced"},
      {"trace state\nexport into /nowhere/x.vcd", "cannot be written"},
      {"trace state\nexport into x.txt", "neither .vcd nor .csv"},
      {"trace state\ngo for 1ms\nplot into x.txt", "neither .png, .svg nor .html"},
      {"trace state\nplot", "no time between these moments"},
      {"trace state\ngo for 1ms\nplot from 5 s to 6 s", "nothing is recorded there"},
      {"trace state\ngo for 1ms\nplot from 5 s", "no time between these moments"},
      {"trace state\ngo for 1ms\nplot sized 10 by 10 into x.png", "320 to 16384"},
      {"trace state\ngo for 1ms\nmeasure state from now to start", "comes before"},
      {"trace state\ngo for 1ms\nmeasure state from then to now", "'then' is no moment"},
      {"trace state\ngo for 1ms\nmeasure state in 3", "no limits"},
      {"trace state\ndecode serial state", "is no wire"},
      {"trace pin.PD1\ndecode serial pin.PD1 with 4 bits", "5 to 9"},
      {"trace state\ntrace state", "traced already"},
      {"untrace state", "not traced"},
      {"import /nowhere.vcd", "nowhere.vcd"},
      {"trace state\n= width(state, high)", "neither high nor low"},
      {"= width(state)", "width(SIGNAL, high|low)"},
  };
  for (const auto& [commands, text] : wrong) {
    INFO(commands);
    const auto out = lucid(kKiln, std::string(commands) + "\n");
    CHECK(out.code != 0);
    CHECK_THAT(out.text, Catch::Contains(text));
  }
}
