// SPDX-License-Identifier: MIT
// The program `lucid` as its users meet it: subcommands, prompt, scripts, exit codes, JSON.
#include <catch2/catch.hpp>

#include "tools.h"

namespace {

test::Output lucid(const std::string& arguments, const std::string& input = "") {
  const std::string feed = input.empty() ? " < /dev/null" : " < " + test::scratch("input");
  if (!input.empty()) test::write(test::scratch("input"), input);
  return test::run(std::string(LUCID_PROGRAM) + " " + arguments + feed);
}
bool has(const test::Output& output, const std::string& text) {
  return output.text.find(text) != std::string::npos;
}
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
  CHECK(has(commands, "An empty line repeats"));
  CHECK(has(commands, "for example: pause at control.c:16 on pass 9"));
}

TEST_CASE("a session at the prompt: pauses, views, repeats") {
  const auto session = lucid(
      "open " + kKiln,
      "pause at every_second on pass 2\ngo\ns callers\nshow registers\nstep over\n\n= seconds\n"
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
            "drive PD2 low\nsend USART0 \"T3000\\nG\\n\"\nwatch setpoint - measured\n"
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
      {"goo", "there is no command 'goo' (did you mean `go`?)"},
      {"steep over", "did you mean `step`?"},
      {"breakpoint", "did you mean `breakpoints`?"},
      {"back", "planned, not built yet"},
      {"watch sconds", "did you mean seconds?"},
      {"watch seconds as octal", "there is no format 'octal'"},
      {"pause on smoke", "there are: at, on read"},
      {"pause on change", "pause on change what?"},
      {"pause on change sconds", "did you mean seconds?"},
      {"pause on change seconds twice", "'twice' is not expected here"},
      {"pause on sleep deeply", "'deeply' is not expected here"},
      {"pause on interrupt TIMER1_COMPX", "did you mean TIMER1_COMPA or TIMER1_COMPB?"},
      {"disable fault stack", "there is no kind of fault 'stack'"},
      {"breakpoints save /nowhere/x", "cannot write '/nowhere/x'"},
      {"go to mian", "did you mean main?"},
      {"go for 20 parsecs", "'20 parsecs' is not a span (write 20ms, 2 s or 500 cycles)"},
      {"pause at kiln.c:1", "kiln.c:1 has no code"},
      {"pause at main on pass 0", "1 or more"},
      {"pause at main sometimes", "'sometimes' is not expected here"},
      {"pause at main if", "if what?"},
      {"disable 9", "there is no breakpoint 9"},
      {"enable x", "not the number of a breakpoint"},
      {"show rigisters", "there is no view 'rigisters'"},
      {"show ram 0x9000", "not in ram"},
      {"= seconds as hexx", "did you mean hex?"},
      {"= sconds", "did you mean seconds?"},
      {"let 3 = 4", "no place to store"},
      {"let seconds", "this is written: let OBJECT = EXPR"},
      {"drive PB9 low", "there is no pin 'PB9'"},
      {"drive PB5 sideways", "levels are low, high, open and voltages"},
      {"send USART0 hello", "a text stands in quotes"},
      {"transfer 0x99 read 1", "not an address on the two-wire bus"},
      {"transfer 0x29 write 1", "not a byte of two hex digits"},
      {"send USART0 frame", "not the data of a frame"},
      {"send USART0 frame 0x999", "not the data of a frame"},
      {"send USART0 frame 65 wrong-party", "wrong-parity"},
      {"drive PD2 open for 3ms", "`for` goes with all but open"},
      {"drive PD2 low for ever", "ever"},
      {"send USART0 \"\\q\"", "escape \\q is not known"},
      {"drive PC0 9V", "a pin of this chip bears -0.5 V to 5.5 V"},
      {"press", "this is written: press PART"},
      {"press door", "there is no part 'door' on the bench (give a bench file with --bench)"},
      {"turn knob", "this is written: turn PART on|off|PERCENT%|VOLTS"},
      {"stay in klin.c", "no file 'klin.c' is part of this program (did you mean kiln.c?)"},
      {"run through lamp_sett", "there is no file or function 'lamp_sett'"},
      {"step sideways", "this is written: step"},
      {"step 0", "at least once"},
      {"play /nowhere.loop", "cannot read the script"},
      {"open /nowhere.elf", "cannot read '/nowhere.elf'"},
      {"help nothing", "there is no command 'nothing'"}};
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
  CHECK(lucid("open " + std::string(LUCID_PROGRAM)).code == 4);
  CHECK(lucid("open " + std::string(LUCID_KILN)).code == 7);
  CHECK(lucid("open").code == 2);
  CHECK(lucid("opne " + kKiln).code == 2);
  CHECK(lucid("open " + kKiln + " --chip ATmega32X").code == 3);
  CHECK(lucid("open " + kKiln + " --clock fast").code == 2);
  CHECK(lucid("run " + kKiln + " --bench /nowhere.toml").code == 3);
  CHECK(lucid("run " + kKiln + " --serial USART7=pty").code == 3);
  CHECK(lucid("run " + kKiln + " --serial USART0").code == 2);
  CHECK(lucid("run " + kKiln + " --serial USART0=tcp:99999").code == 2);
  CHECK(lucid("run " + kKiln + " --serial USART0=file:/nowhere").code == 3);
  test::write(test::scratch("bad.toml"), "[[part]]\n");
  CHECK(lucid("run " + kKiln + " --bench " + test::scratch("bad.toml")).code == 4);
  CHECK(lucid("run " + kKiln + " --for soon").code == 2);
  const auto fault =
      lucid("run " + std::string(LUCID_KILN) +
            "/images/deep-plan.elf --for 2s --do 'go for 1100ms' --do 'send USART0 \"P\\n\"'");
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
      "pause at every_second\ngo\nshow registers\nshow source\nshow mixed\nshow stack\nshow "
      "callers\n"
      "show pins\nshow io PORTB\nshow globals\nshow time\nshow ram seconds\nexplain\nbreakpoints\n"
      "show serial\n= seconds\nnonsense\n");
  std::istringstream lines(session.text);
  unsigned count = 0;
  for (std::string line; std::getline(lines, line); ++count) {
    INFO(line);
    CHECK(line.front() == '{');
    CHECK(line.back() == '}');
    CHECK(line.find("{\"view\":\"") == 0);
  }
  CHECK(count == 17);
  CHECK(has(session, "\"cause\":\"breakpoint\""));
  CHECK(has(session, "{\"view\":\"error\",\"what\":\"there is no command 'nonsense'\""));
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
                          test::scratch("prompt.bench.toml") + " --do 'show parts'");
  CHECK(has(json, "\"name\":\"knob\""));
}

TEST_CASE("several chips: both speak, either is debugged") {
  const std::string bench = " --bench " LUCID_KILN "/kiln-and-panel.bench.toml";
  const auto run = lucid("run " + kKiln + bench + " --for 5s");
  CHECK(run.code == 0);
  for (const char* line : {"kiln ready\r\n", "\npanel.USART0: G\n", "\nramp 4 s, set 995",
                           "ATmega328P at 8 MHz, asleep at 0x"})
    CHECK(has(run, line));
  const auto panel = lucid("open " LUCID_KILN "/images/panel.elf" + bench +
                           " --on panel --do 'go for 3s' --do '= kiln.TCCR1B.CS' --do 'inputs'");
  CHECK(panel.code == 0);
  CHECK(has(panel, "serial: kiln.USART0: kiln ready"));
  CHECK(has(panel, "kiln.TCCR1B.CS = 1"));
  CHECK(lucid("open " + kKiln + bench + " --on pannel").code == 3);
  CHECK(lucid("open " + kKiln + " --on panel").code == 2);
  CHECK(has(lucid("open " LUCID_KILN "/images/panel.elf" + bench + " --do 'show time'"),
            "the image of 'panel'"));
  for (const char* line : {"press start", "drive panel.PD2 low", "send panel.USART0 \\\"x\\\""}) {
    const auto refused = lucid("open " + kKiln + bench + " --do \"" + line + "\"");
    CHECK(refused.code == 5);
    CHECK(has(refused, "is on chip 'panel'"));
  }
  CHECK(has(lucid("open " + kKiln + bench + " --do '= panel'"), "a part of it is missing"));
  CHECK(has(lucid("open " + kKiln + bench + " --do '= panel.shown'"), "not the names of its"));
}

TEST_CASE("other programs talk to the firmware: by a socket, by files") {
  test::write(test::scratch("typed"), "P\n");
  const std::string out = test::scratch("sent");
  CHECK(lucid("run " + kKiln + " --for 1200ms --serial USART0=file:" + test::scratch("typed") +
              "," + out)
            .code == 0);
  CHECK(test::read(out).find("1: to 200 C") != std::string::npos);
  const std::string port = std::to_string(20'000 + test::fresh_seed() % 20'000);
  const test::Output socket = test::run(
      "timeout 20 " LUCID_PROGRAM " run " + kKiln + " --for 4s --serial USART0=tcp:" + port +
      " >/dev/null 2>" + out + " & for i in $(seq 50); do grep -q 127.0.0.1:" + port + " " + out +
      " && break; sleep 0.1; done; for i in 1 2; do timeout 1.4 bash -c 'exec "
      "3<>/dev/tcp/127.0.0.1/" +
      port + "; echo P >&3; cat <&3'; sleep 0.3; done; wait");
  INFO(socket.text << test::read(out));
  const std::size_t first = socket.text.find("1: to 200 C");
  REQUIRE(first != std::string::npos);
  CHECK(socket.text.find("1: to 200 C", first + 1) != std::string::npos);  // and one after it
  CHECK(test::read(out).find("another may come") != std::string::npos);
}
