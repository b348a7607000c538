// SPDX-License-Identifier: MIT
// The program `lucid` as its users meet it: subcommands, prompt, scripts, exit codes, JSON.
#include <catch2/catch.hpp>

#include "app/program.h"

using test::has;
using test::lucid;

namespace {

const std::string kKiln = test::kKilnOg;

}  // namespace

TEST_CASE("help everywhere, with an example") {
  for (const char* command : {"", "open", "play", "run", "listing", "chips", "demo"}) {
    const auto help = lucid(std::string(command) + " --help");
    INFO(command);
    CHECK(help.code == 0);
    CHECK(has(help, "Example: lucid"));
  }
  const auto commands = lucid("open " + kKiln, "help\nhelp pause at\nhelp step\n");
  CHECK(has(commands, "Enter on an empty line repeats"));
  CHECK(has(commands, "for example: pause at control.c:16 on pass 9"));
}

TEST_CASE("a session at the prompt: pauses, views, repeats") {
  const auto session = lucid(
      "open " + kKiln,
      "pause at every_second on pass 2\ngo\ns callers\nshow registers\nstep over\n\nstep over\n= "
      "seconds\n"
      "show pins\nshow io TIMER1\nshow stack\nshow ram seconds\nshow eeprom 0 for 16\nfind tick\n"
      "show serial\nshow time\nexplain\nbreakpoints\nquit\n= not reached\n");
  CHECK(session.code == 0);
  for (const char* text :
       {"breakpoint 1 · kiln.c:141 every_second · pass 2", "▌   seconds++;", "serial: kiln ready",
        "main", "flags I=", "stepped · kiln.c:142", "stepped · kiln.c:143", "seconds = 2",
        "PD1      output  high   USART0 TXD", "OCR1A    0x3e7f", "returns to main", "4b 49 4c 4e",
        "KILN-0042", "buzzer_tick", "cycles at 16 MHz", "on pass 2"}) {
    INFO(text);
    CHECK(has(session, text));
  }
  CHECK_FALSE(has(session, "not reached"));
  CHECK_FALSE(has(session, "\x1b["));  // no colour into a pipe
}

TEST_CASE("data breakpoints, events and watches at the prompt, saved and loaded") {
  const std::string file = test::scratch("night.loop");
  const auto session =
      lucid("open " + kKiln,
            "drive PD2 low\nfeed USART0 \"T3000\\nG\\n\"\nwatch setpoint - measured\n"
            "pause on change heater_ms if measured > 100 once then \"show watches\"\ngo for 20s\n"
            "pause on interrupt TIMER1_COMPA every 1000 passes\ngo for 3s\n"
            "pause when seconds == 14\ndisable 3\ngo for 9s\nbreakpoints save " +
                file + "\nremove all\nbreakpoints load " + file +
                "\nbreakpoints like when\nshow faults\n");
  INFO(session.text);
  CHECK(session.code == 0);
  const std::string symbol =
      test::run("avr-nm " + kKiln + " | grep heater_ms").text;  // 008001bb b …
  CHECK(has(session, "sts 0x" + symbol.substr(4, 4) + ", r24"));
  for (const char* text : {"heater_ms 0 → 1000, breakpoint 2 · kiln.c:145 every_second · pass 1",
                           "breakpoint 2 was for once and is gone", "(1) setpoint - measured = ",
                           "interrupt TIMER1_COMPA has been entered, breakpoint 3", "pass 1000",
                           "seconds == 14 holds, breakpoint 4", "2 breakpoints and 1 watch are in ",
                           "(6) when seconds == 14", "never-written-read   off"}) {
    INFO(text);
    CHECK(has(session, text));
  }
  CHECK(
      test::read(file) ==
      "pause on interrupt TIMER1_COMPA every 1000 passes\ndisable last\npause when seconds == 14\n"
      "watch setpoint - measured\n");
  const auto json = lucid("open --json " + kKiln,
                          "pause on change ticks\nwatch seconds\ngo for 10ms\nshow watches\n");
  CHECK(has(json, R"("cause":"data")"));
  CHECK(has(json, R"("how":"changed","before":"0","after":"1")"));
  CHECK(has(json, R"({"view":"watches","list":[{"id":2,"expression":"seconds","value":"0")"));
}

TEST_CASE("mistakes at the prompt: one line, a suggestion, the session goes on") {
  struct Row {
    const char* command;
    const char* says;
  };
  const Row rows[] = {
      {"goo", "there is no command 'goo' (did you mean go?)"},
      {"steep over", "did you mean step?"},
      {"breakpoitns", "did you mean breakpoints?"},
      {"watch sconds", "did you mean seconds?"},
      {"watch seconds as octal", "there is no format 'octal'"},
      {"pause on smoke", "'smoke' is not expected behind `pause on` (there follows read, write"},
      {"pause at main on pass 2 from pass 3", "`pass` is there twice (another breakpoint"},
      {"pause at main log \"a\" then \"step\" log \"b\"", "`log` is there twice"},
      {"pause on change", "`pause on change` is not complete (there follows following or OBJECT"},
      {"pause on change sconds", "did you mean seconds?"},
      {"pause on change seconds twice", "'twice' is not expected here"},
      {"pause on sleep deeply", "'deeply' is not expected behind `pause on sleep`"},
      {"pause on interrupt TIMER1_COMPX", "did you mean TIMER1_COMPA or TIMER1_COMPB?"},
      {"disable fault stack", "there is no kind of fault 'stack'"},
      {"breakpoints save /nowhere/x", "this file cannot be written"},
      {"go to mian", "did you mean main?"},
      {"go for 20 parsecs", "'20 parsecs' is not a span (write 20ms, 2 s or 500 cycles)"},
      {"pause at kiln.c:1", "kiln.c:1 has no code"},
      {"pause at main on pass 0", "1 or more"},
      {"pause at main sometimes", "'sometimes' is not expected behind `pause at main`"},
      {"pause at main if", "is not complete (there follows EXPR"},
      {"disable 9", "there is no breakpoint 9"},
      {"enable x", "'x' is not expected behind `enable` (there follows last, all, fault or ID"},
      {"show rigisters", "'rigisters' is not expected behind `show` (did you mean registers?)"},
      {"show ram 0x9000", "not in ram"},
      {"= seconds as hexx", "did you mean hex?"},
      {"= sconds", "did you mean seconds?"},
      {"let 3 = 4", "no place to store"},
      {"let seconds", "`let seconds` is not complete (there follows =)"},
      {"drive PB9 low", "there is no pin 'PB9'"},
      {"drive PB5 sideways", "(there follows low, high, open or VOLTS"},
      {"feed USART0 hello", "(there follows frame or TEXT (a text in quotes"},
      {"transfer 0x99 read 1", "not an address on the two-wire bus"},
      {"transfer 0x29 write 1", "not a byte of two hex digits"},
      {"feed USART0 frame", "is not complete (there follows DATA (the data of a frame"},
      {"feed USART0 frame 0x999", "not the data of a frame"},
      {"feed USART0 frame 65 wrong-party", "did you mean wrong-parity?"},
      {"drive PD2 open for 3ms", "`for` goes with low, high and voltages"},
      {"drive PD2 low for ever", "ever"},
      {"feed USART0 \"\\q\"", "escape \\q is not known"},
      {"drive PC0 9V", "a pin of this chip bears -0.5 V to 5.5 V"},
      {"press", "`press` is not complete (there follows PART (a part on the bench: door))"},
      {"press door", "there is no part 'door' on the bench (give a bench file with --bench)"},
      {"turn knob", "(there follows SETTING (on, off, 40% or 2.5V))"},
      {"stay in klin.c", "no file 'klin.c' is part of this program (did you mean kiln.c?)"},
      {"run through lamp_sett", "there is no file or function 'lamp_sett'"},
      {"step sideways", "(there follows into, line, instruction, over, out or N"},
      {"step 0", "at least once"},
      {"play /nowhere.loop", "cannot read the script"},
      {"open /nowhere.elf", "cannot read '/nowhere.elf'"},
      {"help nothing", "there is no command or topic 'nothing'"},
      {"value", "there is `=`: work out a C expression"},
      {"condition", "`help passes` tells about pausing at the ninth time, or on a condition"},
      {"st", "'st' may be step or stay"},
      {"= PORTB", "the chip's is chip.PORTB"},
      {"= PB5", "the pin is pin.PB5"},
      {"show io nonsense", "no peripheral or I/O register 'nonsense'"},
      {"abbreviate g = quit", "'g' is short for `go` for ever"},
      {"abbreviate show = quit", "'show' begins a command"}};
  std::string input;
  for (const Row& row : rows) input += std::string(row.command) + "\n";
  const auto session = lucid("open " + kKiln, input + "= 6 * 7\n");
  for (const Row& row : rows) {
    INFO(row.command);
    CHECK(has(session, row.says));
  }
  CHECK(has(session, "6 * 7 = 42"));
  CHECK(has(lucid("play " + test::scratch("none.loop")), "cannot read the script"));
}

TEST_CASE("exit codes mean something") {
  const auto script = [](const std::string& text) {
    test::write(test::scratch("script.loop"), text);
    return lucid("play " + test::scratch("script.loop") + " " + kKiln);
  };
  CHECK(script("go to main\nexpect measured == 200\n").code == 0);
  const auto failed = script("go to main  # a comment\n\nexpect measured == 7\n");
  CHECK(failed.code == 1);
  CHECK(has(failed, "script.loop:3: expected measured == 7, but it is 200 == 7"));
  CHECK(script("expect pause at main\n").code == 1);
  CHECK(script("go for 100ms\nexpect serial \"kiln\"\n").code == 1);
  CHECK(script("go for 1100ms\nexpect serial \"kiln ready\\r\\n\"\n").code == 0);
  CHECK(script("play " + test::scratch("script.loop") + "\n").code == 2);  // plays itself
  CHECK(script("gone\n").code == 2);
  CHECK(script("go to nowhere\n").code == 3);
  CHECK(lucid("open /nowhere.elf").code == 3);
  CHECK(lucid("open " + std::string("/bin/sh")).code == 4);
  CHECK(lucid("open " + std::string(LUCID_KILN)).code == 7);
  CHECK(lucid("open").code == 2);
  CHECK(lucid("opne " + kKiln).code == 2);
  CHECK(has(lucid("opne " + kKiln), "did you mean open?"));
  CHECK(lucid("/nowhere.elf").code == 3);
  CHECK(lucid("open " + kKiln + " --chip ATmega32X").code == 3);
  CHECK(lucid("open " + kKiln + " --clock fast").code == 2);
  CHECK(lucid("run " + kKiln + " --bench /nowhere.toml").code == 3);
  CHECK(lucid("run " + kKiln + " --attach 'USART7 terminal'").code == 3);
  CHECK(lucid("run " + kKiln + " --attach USART0").code == 2);
  CHECK(lucid("run " + kKiln + " --attach 'USART0 socket 99999'").code == 2);
  CHECK(lucid("run " + kKiln + " --attach 'USART0 files /nowhere'").code == 3);
  test::write(test::scratch("bad.toml"), "[[part]]\n");
  CHECK(lucid("run " + kKiln + " --bench " + test::scratch("bad.toml")).code == 4);
  CHECK(lucid("run " + kKiln + " --for soon").code == 2);
  const auto fault = lucid(
      "run " + std::string(LUCID_KILN) +
      "/images/deep-plan.elf --for 2s --first 'go for 1100ms' --first 'feed USART0 \"P\\n\"'");
  CHECK(fault.code == 8);
  CHECK(has(fault, "static data"));
}

TEST_CASE("run sums up, listing interleaves, chips and demo list") {
  const auto run = lucid("run " + kKiln + " --for 2100ms");
  CHECK(run.code == 0);
  CHECK(has(run, "idle 2 s, set 0, is 200, heat 0"));
  CHECK(has(run, "2.100 s, 33'600'0"));
  const auto listing = lucid("listing " + kKiln + " --function control_step");
  CHECK(has(listing, "control.c:17    int16_t error = setpoint - measured;"));
  CHECK(has(listing, "sub    r24, r22"));
  CHECK_FALSE(has(listing, "main:"));
  CHECK(lucid("listing " + kKiln + " --function nothing").code == 3);
  CHECK(has(lucid("listing " + std::string(LUCID_KILN) + "/images/kiln-os.hex"), "000000   940c"));
  CHECK(has(lucid("chips"), "ATmega328P      avr5      32768    2048    1024"));
  CHECK(has(lucid("chips atmega328p"), "modelled:"));
  CHECK(lucid("chips z80").code == 3);
  CHECK(has(lucid("demo"), "torn-tick"));
  CHECK(lucid("demo nothing").code == 3);
}

TEST_CASE("an image without debug information still works, and says what to do") {
  const auto session = lucid("open " + std::string(LUCID_KILN) + "/images/kiln-os.hex",
                             "step\nshow disassembly\ngo for 1 s\n= chip.PORTB\n");
  CHECK(has(session, "Intel HEX has no debug information"));
  CHECK(has(session, "taken for ATmega328P"));
  CHECK(has(session, "stepped"));
  CHECK(has(session, "chip.PORTB ="));
}

TEST_CASE("--json: each line is an object") {
  const auto session = lucid(
      "open " + kKiln + " --json",
      "pause at every_second on pass 2\ngo\nshow registers\nshow source\nshow mixed\nshow "
      "stack\nshow "
      "callers\n"
      "show pins\nshow io PORTB\nshow globals\nshow time\nshow ram seconds\nexplain\nbreakpoints\n"
      "show serial\n= seconds\nnonsense\n");
  std::istringstream lines(session.text);
  std::vector<std::string> answers;
  for (std::string line; std::getline(lines, line);) {
    INFO(line);
    CHECK(line.back() == '}');
    const bool answer = line.find("{\"id\":" + std::to_string(answers.size()) + ",") == 0;
    CHECK((answer || line.find("{\"event\":\"serial\",\"port\":\"USART0\",\"bytes\":[") == 0));
    if (answer) answers.push_back(line);
  }
  REQUIRE(answers.size() == 18);  // the image is opened first
  const std::pair<std::size_t, const char*> says[] = {
      {0, R"("command":"open )"},
      {2, R"("answer":"done","views":[{"view":"pause","cause":"breakpoint","where":{"address":)"},
      {6, R"({"view":"stack","sp":)"},
      {9, R"("fields":{"PORTB7":0)"},
      {10, R"({"view":"globals","variables":[{"name":)"},
      {15, R"({"view":"serial","text":"kiln ready\r\nidle)"},
      {16, R"("views":[{"view":"value","expression":"seconds","text":"1","type":"uint16_t")"},
      {17, R"("answer":"error","error":{"code":"usage","what":"there is no command 'nonsense'")"}};
  for (const auto& [index, text] : says) {
    INFO(index << " " << text);
    CHECK(answers[index].find(text) != std::string::npos);
  }
  // A program's own marks, one answer for all that a command does, and everything else, too.
  const auto driven =
      lucid("open " + kKiln + " --json",
            "{\"id\": \"a\", \"command\": \"pause at every_second once then \\\"show "
            "time\\\"\"}\n{\"id\": [1], \"command\": \"go\"}\n{\"id\": 1}\n");
  CHECK(has(driven, R"({"id":"a","command":"pause at every_second once)"));
  CHECK(has(driven, R"({"id":[1],"command":"go","answer":"done","views":[{"view":"pause")"));
  CHECK(has(driven, R"(},{"view":"time","cycles":)"));
  CHECK(has(driven, R"("answer":"error")"));
  CHECK(has(lucid("chips --json"), R"("views":[{"view":"chips","chips":[{"name":)"));
  CHECK(has(lucid("chips ATmega328P --json"), R"({"view":"chip","name":"ATmega328P")"));
  CHECK(has(lucid("demo --json"), R"({"view":"demos","folder":)"));
  CHECK(has(lucid("open /nowhere --json"), R"("answer":"error","error":{"code":"not found")"));
  CHECK(has(lucid("opne --json"), R"("answer":"error","error":{"code":"usage")"));
}

TEST_CASE("a bench at the prompt: parts are pressed, turned, shown, and their chip is taken") {
  test::write(
      test::scratch("prompt.bench.toml"),
      "[chip]\nclock = \"8MHz\"\n[[part]]\nname = \"door\"\nkind = \"switch\"\npin = "
      "\"PD2\"\n[[part]]\nname = \"go\"\nkind = \"button\"\npin = \"PD3\"\n[[part]]\nname = "
      "\"knob\"\nkind = \"potentiometer\"\npin = \"PC0\"\n");
  const auto session =
      lucid("open " + kKiln + " --bench " + test::scratch("prompt.bench.toml"),
            "press go\nturn door on\nturn knob 20%\nshow parts\nshow pins\nshow time\n");
  CHECK(has(session, "go              PD3          pressed"));
  CHECK(has(session, "door            PD2          on"));
  CHECK(has(session, "knob            PC0          20 %, 1.000 V"));
  CHECK(has(session, "1 V from outside"));
  CHECK(has(session, "8 MHz"));
  const auto json = lucid("open " + kKiln + " --json --bench " +
                          test::scratch("prompt.bench.toml") + " --first 'show parts'");
  CHECK(has(json, "\"name\":\"knob\""));
}

TEST_CASE("several chips: both speak, either is debugged") {
  const std::string bench = " --bench " LUCID_KILN "/kiln-and-panel.bench.toml";
  const auto run = lucid("run " + kKiln + bench + " --for 5s");
  CHECK(run.code == 0);
  for (const char* line : {"kiln ready\r\n", "\npanel.USART0: G\n", "\nramp 4 s, set 995",
                           "ATmega328P at 8 MHz, asleep at 0x"})
    CHECK(has(run, line));
  const auto panel =
      lucid("open " LUCID_KILN "/images/panel.elf" + bench +
            " --on panel --first 'go for 3s' --first '= kiln.TCCR1B.CS' --first 'inputs'");
  CHECK(panel.code == 0);
  CHECK(has(panel, "serial: kiln.USART0: kiln ready"));
  CHECK(has(panel, "kiln.TCCR1B.CS = 1"));
  CHECK(lucid("open " + kKiln + bench + " --on pannel").code == 3);
  CHECK(lucid("open " + kKiln + " --on panel").code == 2);
  CHECK(has(lucid("open " LUCID_KILN "/images/panel.elf" + bench + " --first 'show time'"),
            "the image of 'panel'"));
  for (const char* line : {"press start", "drive panel.PD2 low", "feed panel.USART0 \\\"x\\\""}) {
    const auto refused = lucid("open " + kKiln + bench + " --first \"" + line + "\"");
    CHECK(refused.code == 5);
    CHECK(has(refused, "is on chip 'panel'"));
  }
  CHECK(has(lucid("open " + kKiln + bench + " --first '= panel'"), "a part of it is missing"));
  CHECK(has(lucid("open " + kKiln + bench + " --first '= panel.shwn'"), "did you mean shown"));
  CHECK(has(lucid("open " + kKiln + " --first 'go for 1s' --first 'show time'"),
            "in loops that wait, gone through at once, for 99."));
}

TEST_CASE("other programs talk to the firmware: by a socket, by files") {
  test::write(test::scratch("typed"), "P\n");
  const std::string out = test::scratch("sent");
  CHECK(lucid("run " + kKiln + " --for 1200ms --attach 'USART0 files " + test::scratch("typed") +
              " " + out + "'")
            .code == 0);
  CHECK(test::read(out).find("1: to 200 C") != std::string::npos);
  const std::string port = std::to_string(20'000 + test::fresh_seed() % 20'000);
  const test::Output socket = test::run(
      "timeout 20 " LUCID_PROGRAM " run " + kKiln + " --for 4s --attach 'USART0 socket " + port +
      "' >/dev/null 2>" + out + " & for i in $(seq 50); do grep -q 127.0.0.1:" + port + " " + out +
      " && break; sleep 0.1; done; for i in 1 2; do timeout 1.4 bash -c 'exec "
      "3<>/dev/tcp/127.0.0.1/" +
      port + "; echo P >&3; cat <&3'; sleep 0.3; done; wait");
  INFO(socket.text << test::read(out));
  const std::size_t first = socket.text.find("1: to 200 C");
  REQUIRE(first != std::string::npos);
  CHECK(socket.text.find("1: to 200 C", first + 1) != std::string::npos);  // and one after it
  CHECK(test::read(out).find("another may come") != std::string::npos);
}

namespace {

/// What a terminal shows while these keys are pressed, half a second apart.
test::Output at_terminal(const std::string& arguments, const std::vector<std::string>& keys,
                         const std::string& settings = "LC_ALL=C.UTF-8") {
  std::string typing = "sleep 0.7";
  for (const std::string& key : keys) typing += "; printf '" + key + "'; sleep 0.5";
  return test::run(
      "(" + typing + ") | HOME=" + test::scratch("home") + " XDG_STATE_HOME= TERM=xterm " +
      settings + " timeout 30 script -qfec \"exec " LUCID_PROGRAM " " + arguments + "\" /dev/null");
}

}  // namespace

TEST_CASE(
    "at a terminal: Ctrl-C clears a line or pauses, an empty line repeats, commands are kept") {
  test::run("rm -rf " + test::scratch("home") + "; mkdir -p " + test::scratch("home"));
  const auto first =
      at_terminal("open " + kKiln, {"half a line", "\\003", "= 40 + 2\\r", "go\\r", "\\003",
                                    "step instruction\\r", "\\r", "quit\\r"});
  CHECK(first.code == 0);
  CHECK(has(first, "\x1b[1m42"));
  CHECK(has(first, "paused on request"));
  std::size_t steps = 0;
  for (std::size_t at = 0; (at = first.text.find("stepped", at)) != std::string::npos; ++at)
    ++steps;
  CHECK(steps == 2);
  const auto plain =
      at_terminal("open " + kKiln, {"pause at main\\r", "go\\r", "quit\\r"}, "LC_ALL=C NO_COLOR=1");
  CHECK(has(plain, "breakpoint 1 . kiln.c"));
  CHECK(std::all_of(plain.text.begin(), plain.text.end(), [](char c) { return (c & 0x80) == 0; }));
  const std::string kept = test::scratch("home") + "/.local/state/lucid/commands";
  CHECK(test::read(kept) ==
        "# commands given to lucid, the latest last\n= 40 + 2\ngo\nstep instruction\nquit\n"
        "pause at main\ngo\nquit\n");
  test::write(kept, "another form\n");
  at_terminal("open " + kKiln, {"quit\\r"});
  CHECK(test::read(kept) == "another form\n");
  // Tab completes by what may follow, single letters and beginnings of words included.
  test::run("rm -rf " + test::scratch("home") + "; mkdir -p " + test::scratch("home") +
            "/.config/lucid");
  test::write(test::scratch("home") + "/.config/lucid/start.loop",
              "abbreviate pc = pause on change\n");
  const auto typed = at_terminal(
      "open " + kKiln,
      {"sho\\tvar\\t\\r", "s call\\t\\r", "g to every_s\\t\\r", "pc sec\\t\\r", "quit\\r"});
  CHECK(test::read(kept) ==
        "# commands given to lucid, the latest last\nshow variables\ns callers\ng to every_second\n"
        "pc seconds\nquit\n");
  for (const char* text : {"arrived", "(1) on change seconds"}) {
    INFO(text);
    CHECK(has(typed, text));
  }
  const auto paced = at_terminal("run " + kKiln + " --for 60s --pace", {"", "\\003"});
  CHECK(has(paced, "paused on request"));
  CHECK(paced.code == 130);
}

TEST_CASE("nothing from outside acts on a terminal") {
  const std::string path = test::scratch("esc");
  test::write(path + ".c",
              "#include <avr/io.h>\nint main(void) {  // \x1b]0;title\x07 \xff\n"
              "  UCSR0B = 1 << TXEN0;\n"
              "  for (const char* p = \"a\\033[31mb\\377\\n\"; *p; p++) {\n"
              "    while (!(UCSR0A & 1 << UDRE0)) {}\n    UDR0 = *p;\n  }\n  for (;;) {}\n}\n");
  REQUIRE(test::run("avr-gcc -w -O1 -gdwarf-4 -mmcu=atmega328p -o " + path + ".elf " + path + ".c")
              .code == 0);
  const auto looked = lucid("open " + path + ".elf",
                            "go to main\nshow source\ngo for 50ms\nshow serial\n= \x1b[2J\n");
  CHECK(looked.text.find('\x1b') == std::string::npos);
  CHECK(looked.text.find('\xff') == std::string::npos);
  CHECK(has(looked, "\\x1b]0;title\\x07 \\xff"));
  CHECK(has(looked, "a\\x1b[31mb\\xff"));
  const auto run = at_terminal("run " + path + ".elf --for 50ms", {});
  CHECK(has(run, "a\\x1b[31mb\\xff"));
  CHECK_FALSE(has(run, "a\x1b[31mb"));
  // JSON keeps every byte.
  const auto json = lucid("open " + path + ".elf --json", "go for 50ms\nshow serial\n");
  CHECK(has(json, "\"bytes\":[97,27,91,51,49,109,98,255,10]"));
}

TEST_CASE("exit codes tell what went wrong without anybody there") {
  const auto played = [](const std::string& text, const std::string& more = "") {
    test::write(test::scratch("lone.loop"), text);
    return lucid("play " + test::scratch("lone.loop") + " " + kKiln + " " + more);
  };
  CHECK(lucid("play " LUCID_KILN).code == 7);  // a folder
  CHECK(test::run(LUCID_PROGRAM " chips > /dev/full").code == 7);
  const auto endless = played("go\n", "--limit 2s");
  CHECK(endless.code == 6);
  CHECK(has(endless, "nothing has paused the program within 2"));
  CHECK(played("step over 5\npause at nowhere_at_all\ngo until seconds == 70000\n", "--limit 100ms")
            .code == 6);
  CHECK(lucid("open " + kKiln, "= nothing\n= 1\n").code == 3);
  CHECK(lucid("open " + kKiln, "go for 1ms\nexpect 1 == 2\n= 1\n").code == 1);
  CHECK(test::run("timeout -s INT 2 " LUCID_PROGRAM " run " + kKiln + " --for 60s --pace").code !=
        0);
  test::write(test::scratch("unmet"), "say \"P\\n\"\nawait \"no such thing\" within 20ms\n");
  test::write(
      test::scratch("unmet.bench.toml"),
      "[[part]]\nname = \"x\"\nkind = \"terminal\"\nport = \"USART0\"\nscript = \"unmet\"\n");
  const auto unmet =
      lucid("run " + kKiln + " --for 2s --bench " + test::scratch("unmet.bench.toml"));
  CHECK(unmet.code == 1);
  CHECK(has(unmet, "x gave up at line 2"));
  // Tabs, a byte order mark, a quote before a remark.
  const auto odd =
      played("\xef\xbb\xbf= 1 + 1\n\tgo\tfor 1ms\t# remark\nnote \"a \\\" # b\" # c\n");
  CHECK(odd.code == 0);
  CHECK(has(odd, "a \" # b"));
  for (const char* line :
       {"quit now", "reset now", "show time now", "show registers r0", "go fast"})
    CHECK(played(std::string(line) + "\n").code == 2);
}

TEST_CASE("files are written whole, and what is saved loads from where it is") {
  const std::string folder = test::scratch("saved");
  test::run("rm -rf " + folder + "; mkdir -p " + folder + "/deep");
  const auto saved =
      lucid("open " + kKiln + " --bench " LUCID_KILN "/kiln.bench.toml",
            "go for 1ms\ndrive PD7 high\ninputs save " + folder + "/deep/night.bench.toml\n");
  CHECK(saved.code == 0);
  CHECK(lucid("run " + kKiln + " --for 20ms --bench " + folder + "/deep/night.bench.toml").code ==
        0);
  CHECK(lucid("open " + kKiln, "breakpoints save /nowhere/at/all\n").code == 7);
  test::write(folder + "/kept", "old");
  test::run("chmod a-w " + folder);
  lucid("open " + kKiln, "pause at main\nbreakpoints save " + folder + "/deep/list\n");
  CHECK(test::read(folder + "/deep/list") == "pause at main\n");
  CHECK(test::run("ls " + folder + "/deep").text == "list\nnight.bench.toml\n");
  test::run("chmod u+w " + folder);
  // What a link leads to is written, the link stays.
  test::run("ln -s " + folder + "/kept " + folder + "/link");
  lucid("open " + kKiln, "pause at main\nbreakpoints save " + folder + "/link\n");
  CHECK(test::read(folder + "/kept") == "pause at main\n");
  CHECK(test::run("test -L " + folder + "/link").code == 0);
}

TEST_CASE("words of a command: beginnings, single letters, the program's own in quotes") {
  struct Row {
    const char* typed;
    const char* whole;
  };
  const Row rows[] = {{"s reg", "show registers"},
                      {"sho ti", "show time"},
                      {"= seconds as h", "= seconds as h"},  // behind an expression words are whole
                      {"s io TIMER1", "show io TIMER1"},
                      {"g for 1 ms", "go for 1 ms"},
                      {"g  to\tclock_ms  # remark", "go to clock_ms"},
                      {"ste li", "step line"},
                      {"wat seconds as hex", "watch seconds as hex"},
                      {"=seconds", "= seconds"},
                      {"let seconds=3", "let seconds = 3"},
                      {"br", "breakpoints"}};
  for (const Row& row : rows) {
    INFO(row.typed);
    CHECK(lucid("open " + kKiln, "go to main\n" + std::string(row.typed) + "\n").text ==
          lucid("open " + kKiln, "go to main\n" + std::string(row.whole) + "\n").text);
  }
  const auto session = lucid("open " + kKiln,
                             "pause at main if '\"' == 34 && '#' == 35 once log \"say \\\"once\\\" "
                             "# {seconds} {seconds as hex}\"\n"
                             "pause when seconds>=1 on pass 1 then \"note \\\"then "
                             "{seconds}\\\"\"\nbreakpoints\ngo for 3s\n");
  INFO(session.text);
  CHECK(has(session, "(1) main               if '\"' == 34 && '#' == 35 once log"));
  CHECK(has(session, "log: say \"once\" # 0 0x0000"));
  CHECK(has(session, "── then 1"));
}

TEST_CASE("a line that could be split in very many ways is answered at once") {
  std::string conditions = "pause at main";
  std::string many = conditions;
  for (unsigned i = 0; i < 100; ++i) conditions += " if a";
  for (unsigned i = 0; i < 50'000; ++i) many += " once";
  const auto session =
      lucid("open " + kKiln, conditions + " if\n" + many + " if\n= 6 * 7\nbreakpoints\n");
  CHECK(has(session, "`if` is there twice"));
  CHECK(has(session, "6 * 7 = 42"));
  CHECK(has(session, "no breakpoints"));
}

TEST_CASE("what a line could go on to") {
  struct Row {
    const char* line;
    const char* all;  ///< by blanks
  };
  const Row rows[] = {
      {"show s", "serial signature source stack"},
      {"g", "go"},
      {"go ", "for to until"},
      {"step ", "instruction into line out over"},
      {"pause on re", "read reset return"},
      {"pause at main o", "on once"},
      {"pause at main on ", "pass"},
      {"pause on edge PB5 ", "each every falling from if log on once rising then"},
      {"drive PD2 ", "high low open"},
      {"= ramp.", "ramp.hold_left ramp.rate ramp.segment ramp.target"},
      {"= 3 + sec", "seconds seconds_due"},
      {"s io TIMS", "TIMSK0 TIMSK1 TIMSK2"},
      {"enable fault stack", "stack-into-data stack-outside-ram"},
      {"pause on interrupt USART_", "USART_RX USART_TX USART_UDRE"},
      {"watch seconds ", "as"},
      {"watch seconds as u", "unsigned"},
      {"pause at control.c:1",
       "control.c:10 control.c:11 control.c:12 control.c:13 control.c:14 control.c:16 control.c:17 "
       "control.c:18 control.c:19"},
      {"attach USART0 ", "files nothing socket terminal"},
      {"breakpoints save " LUCID_KILN "/kiln.b", LUCID_KILN "/kiln.bench.toml"},
      {"help passe", "passes"},
      {"turn ", ""},
      {"go to main ", ""}};
  std::string input;
  for (const Row& row : rows) input += "complete \"" + std::string(row.line) + "\"\n";
  std::istringstream answers(lucid("open " + kKiln + " --json", input).text);
  std::string answer;
  std::getline(answers, answer);  // the image
  for (const Row& row : rows) {
    std::getline(answers, answer);
    INFO(row.line << ": " << answer);
    std::string words;
    std::istringstream all(row.all);
    for (std::string word; all >> word;) words += (words.empty() ? "\"" : ",\"") + word + "\"";
    CHECK(answer.find("\"words\":[" + words + "]}]}") != std::string::npos);
  }
}

TEST_CASE("small courtesies of the program and its prompt") {
  CHECK(has(lucid(""), "Example: lucid open main.elf"));
  CHECK(has(lucid(kKiln, "= 6 * 7\n"), "6 * 7 = 42"));
  CHECK(has(lucid("open " + kKiln + " --clock 16"), "16MHz, 16kHz or 16Hz?"));
  CHECK(has(lucid("open " + kKiln + " --colour pink"), "there are auto, dark, light and none"));
  CHECK(has(lucid("open " + kKiln + " --colour light --first '= 1'"), "\x1b[1m1\x1b[0m"));
  const auto session =
      lucid("open " + kKiln,
            "explain 0x2c\nshow io PORTB\n= chip.ADCSRA\ngo for 1003ms\ngo for 3ms\ngo for 60ms\n"
            "help condition\ncondition\n");
  INFO(session.text);
  for (const char* text :
       {"Goes to 0x0600 (TIMER1_COMPA_vect).", "0x25 PORTB    0x00     0b0000_0000",
        "ADPS=0 (clk/2)", "  serial: kiln ready…\n", "  serial: idle 1 s, …\n", "  serial: …set 0",
        "pause at control_step on pass 9", "`help passes` tells about"})
    CHECK(has(session, text));
  // The unit that was named last holds, whatever is looked at, and the prompt shows it.
  test::write(
      test::scratch("units.loop"),
      "go to main\nshow disassembly\nstep\nstep instruction\nshow source\nstep\nstep line\n");
  const auto units = lucid("play " + test::scratch("units.loop") + " " + kKiln);
  CHECK(units.text.find("by instruction> show source") != std::string::npos);
  CHECK(units.text.find("by instruction> step\n") != std::string::npos);
  CHECK(units.text.find("by instruction> step line\n") != std::string::npos);
  CHECK(units.text.find("by instruction> show disassembly") == std::string::npos);
  CHECK(units.text.find("by instruction> step instruction") == std::string::npos);
  // Of two variables of one name each says whose it is.
  const std::string elf = test::compiled("two-names", R"(#include <avr/io.h>
static volatile int n;
__attribute__((noinline)) int other(void) { static volatile int n = 5; return ++n; }
int main(void) { n = 1; other(); n = 2; for (;;) {} }
)",
                                         "-gdwarf-4 -Og");
  const auto two = lucid("open " + elf, "go for 1ms\n");
  CHECK(has(two, "n in other 0 → 6"));
  CHECK(has(two, "n in two-names.c 0 → 2"));
  // Something at a serial port, also in a session.
  test::write(test::scratch("typed"), "P\n");
  CHECK(lucid("open " + kKiln + " --attach 'USART0 files " + test::scratch("typed") + " " +
              test::scratch("sent") + "' --first 'go for 1200ms'")
            .code == 0);
  CHECK(test::read(test::scratch("sent")).find("1: to 200 C") != std::string::npos);
}

TEST_CASE("the man page and the shells' completion say all that the tables do") {
  const auto man = lucid("documents man");
  for (const char* text : {".B pause on read|write|change [following] OBJECT [CLAUSE...]\n",
                           "\\fB\\-\\-colour\\fR \\fICHOICE\\fR", ".B 130\ninterrupted"}) {
    INFO(text);
    CHECK(has(man, text));
  }
  test::write(test::scratch("lucid.1"), man.text);
  const auto page = test::run("LC_ALL=C.UTF-8 MANWIDTH=100 man -l --warnings=w " +
                              test::scratch("lucid.1") + " 2>&1");
  if (page.code == 0)  // there is a man here
    for (const char* text : {"pause on read|write|change [following] OBJECT", "--colour CHOICE",
                             "XDG_CONFIG_HOME", "130", "In short: o."}) {
      INFO(text);
      CHECK(page.text.find(text) != std::string::npos);
      CHECK(page.text.find("warning") == std::string::npos);
    }
  test::write(test::scratch("lucid.bash"), lucid("documents bash").text);
  const auto completed = test::run(
      "PATH=$(dirname " LUCID_PROGRAM "):$PATH bash -c 'source " + test::scratch("lucid.bash") +
      "; cd $(mktemp -d); t() { COMP_WORDS=(\"$@\"); COMP_CWORD=$(($#-1)); _lucid; echo "
      "\"${COMPREPLY[*]}\"; }; t "
      "lucid "
      "li; t lucid open x --cl; t lucid open x --chip ATmega328; t lucid demo ove'");
  CHECK(completed.text == "listing\n--clock\nATmega328 ATmega328P\novershoot\n");
  CHECK(lucid("documents fish").code == 2);
}
