// SPDX-License-Identifier: MIT
#include "commands.h"

#include "console.h"

namespace lucid::app {

using Group = Command::Group;

const std::vector<ArgumentKind>& argument_kinds() {
  using Shape = ArgumentKind::Shape;
  static const std::vector<ArgumentKind> kKinds{
      {"PLACE", Shape::kWord,
       "a line, function or address: 42, kiln.c:42, kiln.c:42:17 (column), main, 0x1f4, here"},
      {"WHERE", Shape::kWords, "a place, or a time: kiln.c:42, main, 12.5ms, 2 min 05.100 s"},
      {"MARK", Shape::kWord, "the name of a mark"},
      {"SIGNAL", Shape::kWords,
       "a pin, variable, interrupt …: pin.PB5, ramp.target, `help signals`"},
      {"SIGNALS", Shape::kWords, "traced signals, with commas between: pin.PB5, state"},
      {"WHEN", Shape::kWords, "a moment: 12.5ms, 2 min 05.100 s, start, now, a mark"},
      {"LIMITS", Shape::kWord, "two numbers in the signal's unit: 190..210"},
      {"EXPR", Shape::kWords, "a C expression: ramp.target - setpoint"},
      {"OBJECT", Shape::kWords, "what can hold a value: ramp.target, chip.PORTB.5, pin.PD2"},
      {"FORMAT", Shape::kWords, "hex, signed, bin …: `help formats`"},
      {"N", Shape::kNumber, "a number"},
      {"ID", Shape::kNumber, "the number of a breakpoint or watch"},
      {"TIMES", Shape::kWord, "two spans: 999ms..1001ms"},
      {"TIME", Shape::kTime, "a span of simulated time: 20ms, 2 s"},
      {"VOLTS", Shape::kDigit, "a voltage: 2.5V, 300mV"},
      {"SETTING", Shape::kWord, "on, off, 40% or 2.5V"},
      {"TEXT", Shape::kQuoted, "a text in quotes: \"G\\n\""},
      {"COMMAND", Shape::kQuoted, "a command in quotes"},
      {"FILE", Shape::kWords, "the path of a file"},
      {"SOURCE", Shape::kWord, "a source file of the program: kiln.c"},
      {"FUNCTION", Shape::kWord, "a function of the program"},
      {"NAME", Shape::kWords, "a part of a name"},
      {"WORD", Shape::kWord, "a word of your own"},
      {"WORDS", Shape::kWords, "the beginning of a command"},
      {"PIN", Shape::kWord, "a pin: PD2"},
      {"PART", Shape::kWord, "a part on the bench: door"},
      {"PORT", Shape::kWord, "a serial port: USART0"},
      {"CHIP", Shape::kWord, "a chip on the bench"},
      {"INTERRUPT", Shape::kWord, "an interrupt: TIMER1_COMPA"},
      {"FAULT", Shape::kWord, "a kind of fault: `show faults`"},
      {"CHECK", Shape::kWord, "what a check is called: `show checks`"},
      {"REGISTER", Shape::kWord, "a peripheral, or an I/O register: TIMER1, PORTB"},
      {"MEMORY", Shape::kOneOf, "a memory of the chip"},
      {"RANGE", Shape::kWords, "0x100..0x11f, 0x100 for 32, or a variable"},
      {"ADDRESS", Shape::kDigit, "an address of the two-wire bus: 0x29"},
      {"BYTE", Shape::kWord, "a byte of two hexadecimal digits"},
      {"DATA", Shape::kDigit, "the data of a frame: 65, 0x1ff"},
      {"TOPIC", Shape::kWords, "a command, or a topic"},
  };
  return kKinds;
}

const std::vector<SharedForm>& shared_forms() {
  static const std::vector<SharedForm> kShared{
      {"CHANGE", "let OBJECT = EXPR | instruction PLACE TEXT",
       "let OBJECT = EXPR, or instruction PLACE TEXT: another one in its place, as `show "
       "disassembly` writes it."},
      {"MORE", "and let OBJECT = EXPR | and instruction PLACE TEXT",
       "and let …, and instruction …: several at once."},
      {"CLAUSE",
       "on pass N | from pass N | every N passes | if EXPR | once | each byte | log TEXT | "
       "then COMMAND",
       "on pass N, from pass N, every N passes: only these. `if EXPR`: a pass counts when it "
       "holds. "
       "`once`: the breakpoint goes with its pause. `each byte`: an object's bytes one by one. "
       "`log "
       "TEXT`: writes it, {EXPR} filled in, and goes on. `then COMMAND`: carried out after the "
       "pause."},
  };
  return kShared;
}

const std::vector<CommandGroup>& command_groups() {
  static const std::vector<CommandGroup> kGroups{
      {Group::kRun, "Run and step"},
      {Group::kBack, "Go back in time"},
      {Group::kPause, "Say where to pause"},
      {Group::kLook, "Look"},
      {Group::kSignals, "Trace and measure"},
      {Group::kSurvey, "Whole runs"},
      {Group::kChange, "Change"},
      {Group::kWorld, "Act from outside"},
      {Group::kScript, "Open, record, leave"},
  };
  return kGroups;
}

const std::vector<ShortWord>& short_words() {
  static const std::vector<ShortWord> kShort{
      {"g", "go"},    {"i", "step into"}, {"o", "step over"}, {"u", "step out"},
      {"p", "pause"}, {"s", "show"},      {"b", "back"}};
  return kShort;
}

const std::vector<Command>& commands() {
  static const std::vector<Command> kCommands{
      {"go",
       Group::kRun,
       {"go"},
       "run on to the next pause",
       "Ctrl-C pauses.",
       "go",
       &Console::do_go,
       true,
       true},
      {"go to",
       Group::kRun,
       {"go to race N", "go to WHERE"},
       "run up to a place, or to a time",
       "Breakpoints on the way pause first. A time that is past is gone back to. Race: what `race "
       "search` has found, with the interrupt raised.",
       "go to kiln.c:141",
       &Console::do_go_to,
       true,
       true},
      {"go for",
       Group::kRun,
       {"go for N cycles", "go for TIME"},
       "run for a time",
       "",
       "go for 20ms",
       &Console::do_go_for,
       true,
       true},
      {"go until",
       Group::kRun,
       {"go until EXPR"},
       "run until an expression holds",
       "An object wider than a byte counts when it has been stored whole. Locals and what else "
       "moves are "
       "looked at after each instruction, which takes longer.",
       "go until measured > 2000",
       &Console::do_go_until,
       true,
       true},
      {"step into",
       Group::kRun,
       {"step into [line|instruction] [N]", "step [line|instruction] [N]",
        "step into call FUNCTION"},
       "step, entering functions that have source",
       "Lines or instructions: the one last named holds, and the prompt shows when it is "
       "instructions. `call`: of the line's calls this one, over the others.",
       "step into 3",
       &Console::do_step_into,
       true,
       true},
      {"step over",
       Group::kRun,
       {"step over [line|instruction] [N]"},
       "step, running calls through",
       "A breakpoint inside still pauses.",
       "step over",
       &Console::do_step_over,
       true,
       true},
      {"step out",
       Group::kRun,
       {"step out [line|instruction] [N]"},
       "run until this function has returned",
       "",
       "step out",
       &Console::do_step_out,
       true,
       true},
      {"stay in",
       Group::kRun,
       {"stay in everywhere", "stay in SOURCE…"},
       "step into functions of these files only",
       "Other calls are run through, and that is said.",
       "stay in kiln.c control.c",
       &Console::do_stay_in},
      {"run through",
       Group::kRun,
       {"run through nothing", "run through SOURCE|FUNCTION…"},
       "never step into these",
       "Calls of them are run through, and that is said.",
       "run through serial.c lamp_set",
       &Console::do_run_through},
      {"move to",
       Group::kRun,
       {"move to PLACE"},
       "go on from elsewhere, running nothing",
       "",
       "move to kiln.c:142",
       &Console::do_move_to},
      {"reset",
       Group::kRun,
       {"reset"},
       "reset the chip",
       "Memories keep their contents.",
       "reset",
       &Console::do_reset},

      {"back",
       Group::kBack,
       {"back [from start]"},
       "to the latest breakpoint or fault before now",
       "None: to the start. Breakpoints count their passes from where they were set; `from start` "
       "counts from the beginning.",
       "back",
       &Console::do_back,
       true,
       true},
      {"back to",
       Group::kBack,
       {"back to start", "back to origin|history N", "back to worst INTERRUPT", "back to WHERE"},
       "where a place was executed last, or to a time",
       "Any time that has been shown may be given back. Worst: where the longest wait of an "
       "interrupt ended, as `show interrupts` tells it.",
       "back to control_step",
       &Console::do_back_to,
       true,
       true},
      {"back for",
       Group::kBack,
       {"back for N cycles", "back for TIME"},
       "so far back",
       "",
       "back for 20ms",
       &Console::do_back_for,
       true,
       true},
      {"back until",
       Group::kBack,
       {"back until EXPR"},
       "where an expression last held",
       "If it holds now: where it began to.",
       "back until heater_ms == 0",
       &Console::do_back_until,
       true,
       true},
      {"back into",
       Group::kBack,
       {"back into [line|instruction] [N]"},
       "a step back, into functions that returned",
       "In the middle of a line: to its beginning.",
       "back into",
       &Console::do_back_into,
       true,
       true},
      {"back over",
       Group::kBack,
       {"back over [line|instruction] [N]"},
       "a step back within this function",
       "From its first line: to the line that calls it.",
       "back over 3",
       &Console::do_back_over,
       true,
       true},
      {"back out",
       Group::kBack,
       {"back out [N]"},
       "to the call of this function",
       "Of an interrupt's handler: before it was entered.",
       "back out",
       &Console::do_back_out,
       true,
       true},
      {"history",
       Group::kBack,
       {"history OBJECT [last N]"},
       "the writes of an object, by whom",
       "The last 20, or as many as you like; `back to history 3` goes behind the third.",
       "history heater_ms",
       &Console::do_history},
      {"origin",
       Group::kBack,
       {"origin OBJECT [depth N]"},
       "where its value has come from",
       "The instruction that worked it out, through all that has moved it since, and what fed "
       "that; `depth 3` follows those, too. `back to origin 2` goes to the second.",
       "origin heater_ms depth 3",
       &Console::do_origin},
      {"missed",
       Group::kBack,
       {"missed PLACE [from MARK]"},
       "why a place was not reached",
       "The branch on the way to it that turned away last, and what fed that; or the call that did "
       "not come. `back to origin 1` goes on from there.",
       "missed kiln.c:152",
       &Console::do_missed},
      {"mark",
       Group::kBack,
       {"mark MARK"},
       "give this moment a name",
       "",
       "mark before",
       &Console::do_mark},
      {"marks",
       Group::kBack,
       {"marks"},
       "the moments that have names",
       "Ends of futures that were left are among them.",
       "marks",
       &Console::do_marks},
      {"revert to",
       Group::kBack,
       {"revert to MARK"},
       "to a marked moment and its future",
       "",
       "revert to before",
       &Console::do_revert},
      {"compare",
       Group::kBack,
       {"compare MARK [with MARK]"},
       "what differs between a mark and now",
       "Variables and calls first, then registers, I/O, memories, pins and parts.",
       "compare before",
       &Console::do_compare},
      {"suppose",
       Group::kBack,
       {"suppose CHANGE [MORE…] for TIME", "suppose CHANGE [MORE…] until PLACE"},
       "what would be otherwise after a change",
       "Runs on twice, as it is and changed, and says what would differ first: of pins, bytes "
       "sent, breakpoints and faults, and of calls. Then all is as before.",
       "suppose let setpoint = 500 for 2 s",
       &Console::do_suppose},
      {"timeline",
       Group::kBack,
       {"timeline [on|off]", "timeline save FILE"},
       "what is kept of the past",
       "Off: nothing is, and one cannot go back. A saved one leads to this moment and all before "
       "it: lucid open --at FILE.",
       "timeline",
       &Console::do_timeline},

      {"pause at",
       Group::kPause,
       {"pause at PLACE [CLAUSE…]"},
       "set a breakpoint",
       "It pauses before the marked instruction. A pass counts when the condition holds and the "
       "instruction executes next.",
       "pause at control.c:16 on pass 9 if measured > 600",
       &Console::do_pause},
      {"pause on",
       Group::kPause,
       {"pause on read|write|change [following] OBJECT [CLAUSE…]",
        "pause on interrupt [INTERRUPT] [CLAUSE…]", "pause on return from [INTERRUPT] [CLAUSE…]",
        "pause on edge PIN [rising|falling] [CLAUSE…]", "pause on byte in|out [PORT] [CLAUSE…]",
        "pause on sleep|wake|reset [CLAUSE…]", "pause on eeprom write [CLAUSE…]",
        "pause on fault [FAULT]"},
       "pause when data is touched, or at an event",
       "It pauses behind the instruction that touched the object. One of several bytes is judged "
       "when all of them have been stored. `following *p`: where p leads, whenever it moves.",
       "pause on change heater_on if ticks > 100",
       &Console::do_pause},
      {"pause when",
       Group::kPause,
       {"pause when EXPR [CLAUSE…]"},
       "pause when an expression becomes true",
       "",
       "pause when measured > setpoint + 50",
       &Console::do_pause},
      {"breakpoints",
       Group::kPause,
       {"breakpoints [on|off]", "breakpoints like NAME", "breakpoints save|load FILE"},
       "list breakpoints; all off or on; save, load",
       "`off` and `on` switch all of them, each keeping its own state. Saved are also the watches, "
       "as the lines that make them.",
       "breakpoints save night.loop",
       &Console::do_breakpoints},
      {"enable",
       Group::kPause,
       {"enable ID…", "enable last|all", "enable fault FAULT"},
       "switch breakpoints on",
       "",
       "enable 2",
       &Console::do_enable},
      {"disable",
       Group::kPause,
       {"disable ID…", "disable last|all", "disable fault FAULT"},
       "switch them off, keeping them",
       "With a kind of fault: that is passed over.",
       "disable 2 3",
       &Console::do_disable},
      {"rearm",
       Group::kPause,
       {"rearm ID…", "rearm last|all"},
       "count passes from nought again",
       "",
       "rearm 1",
       &Console::do_rearm},
      {"remove",
       Group::kPause,
       {"remove ID…", "remove last|all"},
       "take breakpoints and watches away",
       "",
       "remove 1",
       &Console::do_remove},

      {"=",
       Group::kLook,
       {"= EXPR [as FORMAT]"},
       "work out a C expression",
       "",
       "= ramp.target - setpoint as hex",
       &Console::do_evaluate},
      {"watch",
       Group::kLook,
       {"watch EXPR [as FORMAT]"},
       "keep an expression in sight",
       "It is shown at each pause, old → new; out of scope with its last value.",
       "watch setpoint - measured",
       &Console::do_watch},
      {"show",
       Group::kLook,
       {"show source|disassembly|mixed [PLACE] [for N]",
        "show variables|registers|flags|stack|callers|pins|parts|serial|time|watches|faults",
        "show checks|findings|wear|watchdog|heap", "show stack bound", "show globals [NAME]",
        "show io [REGISTER]", "show MEMORY [RANGE]", "show breakpoints [like NAME]",
        "show profile [lines] [for N]", "show profile calls [all]", "show coverage against FILE",
        "show coverage [SOURCE]", "show interrupts"},
       "look at something",
       "* marks what changed since the last pause. Profile, coverage and interrupts are of what "
       "`survey` has counted.",
       "show ram 0x1a0 for 32",
       &Console::do_show},
      {"level",
       Group::kLook,
       {"level N"},
       "select a call level",
       "Expressions and views mean that one until the program moves. `show callers` has the "
       "numbers.",
       "level 1",
       &Console::do_level},
      {"explain",
       Group::kLook,
       {"explain [PLACE]"},
       "say in words what an instruction does",
       "",
       "explain here",
       &Console::do_explain},
      {"macros",
       Group::kLook,
       {"macros [PLACE]"},
       "a line with its macros opened",
       "One level after the other; for images built with -g3.",
       "macros kiln.c:141",
       &Console::do_macros},
      {"follow",
       Group::kLook,
       {"follow EXPR [into FILE]"},
       "a list, ring or tree of structures",
       "From a node or a pointer to one; into a file as a drawing in the DOT language.",
       "follow first into nodes.dot",
       &Console::do_follow},
      {"find",
       Group::kLook,
       {"find NAME"},
       "names of the program that contain a text",
       "",
       "find tick",
       &Console::do_find},

      {"trace",
       Group::kSignals,
       {"trace into FILE",
        "trace SIGNAL [as FORMAT] [named WORD] [with places] [from start] "
        "[around ID for TIME before and TIME after]"},
       "record a signal from here on",
       "A pin, a variable, an interrupt, an I/O register … : `help signals`. With places: which "
       "instruction made each change, too; a page (`plot into run.html`) tells it. From start: "
       "what "
       "has been so far, too, by running through it again. Around the passes at which a breakpoint "
       "pauses or writes its log (`pause at PLACE log TEXT` does not pause): only so much is kept. "
       "Into FILE: what memory (64 MiB) has no "
       "room "
       "for goes there, of all signals, instead of being given up.",
       "trace pin.PB5 from start",
       &Console::do_trace},
      {"traces",
       Group::kSignals,
       {"traces"},
       "what is traced, and how much there is",
       "",
       "traces",
       &Console::do_traces},
      {"untrace",
       Group::kSignals,
       {"untrace SIGNAL", "untrace all"},
       "stop tracing, and forget what there is",
       "By its name or its number.",
       "untrace pin.PB5",
       &Console::do_untrace},
      {"clear traces",
       Group::kSignals,
       {"clear traces"},
       "forget what has been recorded, and go on",
       "",
       "clear traces",
       &Console::do_clear_traces},
      {"measure",
       Group::kSignals,
       {"measure PLACE to PLACE [from WHEN [to WHEN]]",
        "measure delay SIGNAL [rising|falling] to SIGNAL [rising|falling] [from WHEN [to WHEN]]",
        "measure SIGNAL in LIMITS [from WHEN [to WHEN]]", "measure SIGNAL [from WHEN [to WHEN]]"},
       "widths, periods, delays, values of a signal",
       "Of a level: widths, period, frequency, duty. Of a number: least, mean, most, and how long "
       "it had which value, or was within limits. `delay`: from each edge of one signal to the "
       "next of the other. Places: from each time the one is executed to the next time of the "
       "other, "
       "or of itself; the past is gone through for that.",
       "measure pin.PB5 from 4 s to 10 s",
       &Console::do_measure},
      {"match",
       Group::kSignals,
       {"match SIGNAL with SIGNAL [from rising|falling] within TIME"},
       "whether a capture does the same as a trace",
       "From the first edge on, or the first of a kind. Offset and rate of the clocks are fitted "
       "and "
       "told; the first edge that differs by more than that, too.",
       "match pin.PB5 with real.D0 from rising within 10us",
       &Console::do_match},
      {"decode",
       Group::kSignals,
       {"decode serial SIGNAL [at N baud] [with N bits] [even|odd] [ignoring TIME] [named WORD]",
        "decode two-wire SIGNAL and SIGNAL [ignoring TIME] [named WORD]",
        "decode spi SIGNAL and SIGNAL [selected by SIGNAL] [mode N] [ignoring TIME] [named WORD]",
        "decode one-wire|duty|widths SIGNAL [ignoring TIME] [named WORD]"},
       "read bytes off wires, as one more signal",
       "Clock and data. A rate that is not said is found. `ignoring`: pulses that are shorter are "
       "left out, and counted. Duty and widths: of pulses, as curves.",
       "decode serial pin.PD1",
       &Console::do_decode},
      {"import",
       Group::kSignals,
       {"import FILE [at WHEN] [named WORD]"},
       "lay a capture beside the traces",
       "A value change dump (.vcd) or a table (.csv); its signals are called WORD.D0. At: that is "
       "its time 0.",
       "import capture.vcd named real",
       &Console::do_import},
      {"plot",
       Group::kSignals,
       {"plot [SIGNALS] [from WHEN [to WHEN]] [cursors WHEN and WHEN] [sized N by N] [dark] "
        "[into FILE]"},
       "draw what is traced, here or into a picture",
       "Into a .png or .svg, 1280 wide or as it is sized; into an .html: a page to move, zoom and "
       "measure in. Cursors: two lines, and the time between them.",
       "plot pin.PB5, state from 4 s to 10 s into firing.png",
       &Console::do_plot},
      {"tabulate",
       Group::kSignals,
       {"tabulate nothing on ID", "tabulate EXPR into FILE on ID"},
       "record values at each pass of a breakpoint",
       "Several with `;` between. The breakpoint goes on instead of pausing; its condition and "
       "passes "
       "count. The table (.csv) can be drawn: lucid plot FILE.",
       "tabulate measured; setpoint into steps.csv on 1",
       &Console::do_tabulate},
      {"survey",
       Group::kSurvey,
       {"survey", "survey with calls", "survey off"},
       "count what executes, from here on",
       "Every instruction counts itself, in both gears; a run takes a little longer. With calls: "
       "who "
       "calls whom, too, which takes up to half as long again. What is gone "
       "through again in the past does not count again; another future counts in addition. Said "
       "again it begins from nought.",
       "survey",
       &Console::do_survey},
      {"check",
       Group::kSurvey,
       {"check all|values pause|list|off", "check slow-handler over TIME",
        "check CHECK pause|list|off"},
       "what is looked for in the whole run",
       "`show checks` has their names and how they stand, `show findings` what they have found. "
       "List: "
       "it is told, once a place. Pause: there. `over` sets how long a handler may take, and lists "
       "those that take longer. `values` are those that follow each value through registers and "
       "memory (never-written, heap …); while one of them is on, runs take some 50 times as long.",
       "check torn-access pause",
       &Console::do_check},
      {"race search",
       Group::kSurvey,
       {"race search [interrupt INTERRUPT] [within TIME]",
        "race search FUNCTION [interrupt INTERRUPT [and INTERRUPT]] [byte DATA] [from PLACE] "
        "[expect EXPR]"},
       "raise interrupts wherever they could tear something, or in all of a function",
       "Without a function: all places in the code where an interrupt could come between the "
       "accesses to something that its handler changes; those that are come to within 1 s, or the "
       "time given, are tried. "
       "Of a function: from its next call on, or the next one behind a place: a run for each, on "
       "copies. Found is "
       "what breaks the expectation, and what leaves something else behind than the interrupt "
       "before "
       "the entry or behind the return. Without a name all interrupts are tried that have a "
       "handler "
       "and are enabled. Numbers that a handler counts in are tried, too, where all their bytes "
       "change. With two names: both, the one anywhere, the other anywhere behind it. `go to race "
       "N` "
       "stands at a finding.",
       "race search clock_ms interrupt TIMER1_COMPA",
       &Console::do_race_search},
      {"export coverage",
       Group::kSurvey,
       {"export coverage into FILE", "export profile into FILE"},
       "write which lines have executed, or where the cycles went, into a file",
       "Profile: a page for a browser, .html, with the tree of calls (`survey with calls`). "
       "Coverage: an "
       "LCOV tracefile. `show coverage against FILE` tells what another run has not executed.",
       "export coverage into good.info",
       &Console::do_export_coverage},

      {"export",
       Group::kSignals,
       {"export into FILE [from WHEN [to WHEN]]"},
       "write what is traced into a file",
       "A value change dump (.vcd), which other programs read, or a table (.csv).",
       "export into firing.vcd",
       &Console::do_export},

      {"let",
       Group::kChange,
       {"let OBJECT = EXPR [with effects]"},
       "change a variable, register or memory",
       "An I/O register comes to hold the value; with effects it is written as the firmware would: "
       "bytes are sent, flags cleared by a one.",
       "let chip.PORTB.5 = 1",
       &Console::do_let},

      {"drive",
       Group::kWorld,
       {"drive PIN low|high|open|VOLTS [for TIME]"},
       "drive a pin from outside, or let go of it",
       "With `for`, let go of it that much later.",
       "drive PD2 low for 5ms",
       &Console::do_drive},
      {"press",
       Group::kWorld,
       {"press PART"},
       "press a button of the bench",
       "",
       "press door",
       &Console::do_press},
      {"release",
       Group::kWorld,
       {"release PART"},
       "let go of a button",
       "",
       "release door",
       &Console::do_release},
      {"turn",
       Group::kWorld,
       {"turn PART SETTING"},
       "turn a switch, potentiometer or voltage",
       "",
       "turn knob 40%",
       &Console::do_turn},
      {"raise",
       Group::kWorld,
       {"raise INTERRUPT [byte DATA]"},
       "let the event of an interrupt happen now",
       "Its peripheral's next one, before its time: a match, a byte that arrives, the end of a "
       "conversion. It has to be enabled.",
       "raise TIMER1_COMPA",
       &Console::do_raise},
      {"feed",
       Group::kWorld,
       {"feed PORT TEXT", "feed PORT frame DATA [wrong-parity] [no-stop-bit]"},
       "let bytes arrive at a serial port",
       "Back to back. \\n \\r \\t \\\\ \\\" \\xNN are known. A frame has up to 9 data bits and may "
       "be wrong.",
       "feed USART0 \"G\\n\"",
       &Console::do_feed},
      {"attach",
       Group::kWorld,
       {"attach PORT terminal|nothing", "attach PORT socket N", "attach PORT files FILE [FILE]"},
       "other programs, or files, at a serial port",
       "A pseudo-terminal or a socket of this machine; time then passes as on a clock. Or files: "
       "all of one arrives, what is sent goes into the other.",
       "attach USART0 socket 5555",
       &Console::do_attach},
      {"transfer",
       Group::kWorld,
       {"transfer ADDRESS [write BYTE…] [read N]"},
       "a transfer on the two-wire bus",
       "As a controller outside does it; what it reads is shown as bytes of TWI.",
       "transfer 0x29 write 01 02 read 2",
       &Console::do_transfer},
      {"inputs",
       Group::kWorld,
       {"inputs [save FILE]"},
       "what has come from outside so far",
       "Saved, with the bench at hand, as a bench file that repeats it to the tick.",
       "inputs save night.bench.toml",
       &Console::do_inputs},

      {"open",
       Group::kScript,
       {"open FILE [with FILE [on CHIP]]"},
       "load an image",
       "ELF or Intel HEX. It stands before its first instruction; with what a bench file puts on "
       "its pins; on one of that bench's further chips.",
       "open firmware/kiln/images/kiln-og.elf",
       &Console::do_open,
       false},
      {"reload",
       Group::kScript,
       {"reload [FILE]"},
       "load it again after a build",
       "Breakpoints are kept; those on lines follow the line's text.",
       "reload",
       &Console::do_reload},
      {"play",
       Group::kScript,
       {"play FILE"},
       "carry out a script",
       "",
       "play overshoot.loop",
       &Console::do_play,
       false},
      {"expect",
       Group::kScript,
       {"expect", "expect pause at PLACE [within TIME]", "expect pause fault [within TIME]",
        "expect heard PORT TEXT within TIME", "expect serial TEXT", "expect serial same as FILE",
        "expect serial PORT same as FILE", "expect never EXPR", "expect SIGNAL every TIMES",
        "expect tests within TIME", "expect no findings",
        "expect no race [interrupt INTERRUPT] [within TIME]",
        "expect no race in FUNCTION [interrupt INTERRUPT [and INTERRUPT]] [byte DATA] [from PLACE]",
        "expect EXPR same as FILE", "expect EXPR within TIME", "expect EXPR for TIME",
        "expect EXPR"},
       "say what must be so",
       "A script that is wrong about it fails. By itself it looks now. `within` and `for` run on, "
       "to "
       "where it is decided; breakpoints on the way are counted and do not pause. `heard`: a text "
       "that is sent from here on; `serial`: one that has been sent so far. `never` and `every` "
       "hold from here to the script's end; `expect` alone tells how they stand. `same as`: what "
       "`lucid play --renew` has written into the file. `tests`: those of firmware that is built "
       "with "
       "lucid/test.h. `no race`: `race search` finds none; `no findings`: nor do the checks.",
       "expect heater_ms == 0",
       &Console::do_expect},
      {"note",
       Group::kScript,
       {"note TEXT"},
       "write a remark",
       "{EXPR} in it is filled in.",
       "note \"the door opens at {ticks}\"",
       &Console::do_note,
       false},
      {"abbreviate",
       Group::kScript,
       {"abbreviate", "abbreviate WORD = nothing", "abbreviate WORD = WORDS"},
       "short words of your own",
       "For the beginning of a line. Put such lines into lucid/start.loop of your configuration "
       "folder (~/.config): a session at the prompt begins with it.",
       "abbreviate pc = pause on change",
       &Console::do_abbreviate,
       false},
      {"complete",
       Group::kScript,
       {"complete TEXT"},
       "what a line could go on to",
       "For programs; people press Tab.",
       "complete \"show \"",
       &Console::do_complete,
       false},
      {"help",
       Group::kScript,
       {"help [TOPIC]"},
       "this list, a command, or a topic",
       "",
       "help pause at",
       &Console::do_help,
       false},
      {"screen",
       Group::kScript,
       {"screen"},
       "to the full-screen view, and back",
       "Code, values, pins and signals stay in sight and change together; `?` there explains.",
       "screen",
       &Console::do_screen},
      {"quit", Group::kScript, {"quit"}, "leave", "", "quit", &Console::do_quit, false},
  };
  return kCommands;
}

const std::vector<Topic>& topics() {
  static const std::vector<Topic> kTopics{
      {"places", "how a place in the program is written",
       "kiln.c:42       a line of a file\n"
       "42              a line of the file at hand\n"
       "control_step    a function, behind its prologue; C++ with or without its signature\n"
       "0x1f4           an instruction, by its byte address in flash\n"
       "here            where the program stands\n"
       "They follow `go to`, `pause at`, `move to`, `show source`, `explain`.",
       "place line lines address location file where jump label"},
      {"expressions", "how values are written",
       "C expressions of the program, at the selected call level: members, elements,\n"
       "casts, sizeof, addresses. And:\n"
       "seconds in kiln.c     a file's static; `last in read_adc` a function's\n"
       "chip.r24 chip.sreg.Z  registers and flags\n"
       "chip.PORTB.5          I/O registers, by bit or by field (chip.TCCR1B.CS)\n"
       "chip.ram[0x120]       memory; chip.ram[0x100 for 32], chip.eeprom, chip.flash\n"
       "pin.PB5               a pin's level\n"
       "chip.cycles chip.time chip.stack.free chip.stack.deepest\n"
       "`=` works one out, `watch` keeps it in sight, `let` changes what it names.",
       "expression value values variable variables register registers memory"},
      {"formats", "how values are shown",
       "as dec        by the type's own sign      as signed, as unsigned\n"
       "as hex, bin   all bits                    as char, text\n"
       "as real       bytes of a float            as q8.8     fixed point\n"
       "as bits       which bits are set          as time, raw\n"
       "`depth N` opens structures so far: = ramp as hex depth 2",
       "format hexadecimal binary decimal base radix"},
      {"passes", "pausing at the ninth time, or on a condition",
       "pause at control_step on pass 9        only the 9th\n"
       "pause at control_step from pass 9      the 9th and all later ones\n"
       "pause at control_step every 9 passes\n"
       "pause at control_step if error < -50   a pass counts when it holds\n"
       "pause at control_step once             the breakpoint goes with its pause\n"
       "A loop on one line passes it once. `breakpoints` has the counts, `rearm` begins\n"
       "anew.",
       "pass count counts condition conditional breakpoint stop when"},
      {"pins", "pins, parts and what reaches the chip from outside",
       "show pins               direction, level, who drives each\n"
       "drive PD2 low for 5ms   from outside; a voltage, or open\n"
       "pause on edge PB5 rising\n"
       "show parts              what the bench has on the pins: press, release, turn\n"
       "feed USART0 \"G\\n\"      bytes at a serial port; `attach` other programs\n"
       "`lucid open IMAGE --bench FILE` puts parts on the pins.",
       "pin port gpio button input inputs bench part serial uart voltage"},
      {"past", "going back in time, and trying another future",
       "back                 to the latest breakpoint or fault before now\n"
       "back into            a step back; over, out; lines or instructions, with a count\n"
       "back to PLACE, back until EXPR, back for 20ms, back to 11.000 s\n"
       "history OBJECT       all that wrote it; back to history 3\n"
       "origin OBJECT        what its value was made of; back to origin 2\n"
       "go, step …           in the past: into the same future, with the same inputs\n"
       "let, drive, feed …   in the past begin another future; the old end is a mark\n"
       "missed PLACE         why it was not reached\n"
       "mark NAME, marks, revert to NAME, compare NAME\n"
       "suppose let X = E for 2 s   what would differ, without doing it\n"
       "timeline save FILE   this moment and its past: lucid open --at FILE\n"
       "The prompt says how far back one is. Nothing is sent twice to who is attached.",
       "time travel reverse backward backwards undo history mark marks future rewind"},
      {"measures", "what a whole run has done, without a breakpoint",
       "survey               counts from here on; `survey with calls` also who calls whom\n"
       "show profile         functions by their cycles; lines; calls as a tree\n"
       "show coverage        files, and what was never called; `show coverage kiln.c`: its lines\n"
       "show coverage against FILE   what only this run has executed, and what only the other\n"
       "show interrupts      how long they waited, and what for; back to worst TIMER1_COMPA\n"
       "show stack bound     how deep the stack can become, from the code alone\n"
       "show findings        what checks of the whole run have found; `show checks`, `check`\n"
       "show wear            EEPROM cells and flash pages that were programmed, and how long they "
       "last\n"
       "show watchdog        how near it has come\n"
       "show heap            who has asked for memory and not given it back (`check heap list`)\n"
       "race search          wherever an interrupt could tear something; or FUNCTION: all of it\n"
       "export coverage into FILE    LCOV\n"
       "expect coverage(control.c) >= 0.8     expect latency(TIMER1_COMPA) < 20us\n"
       "Counts are exact. The past is not counted twice, another future in addition.",
       "measure profile profiler coverage lcov latency jitter load survey statistics time spent"},
      {"signals", "what can be traced, and what can be done with it",
       "pin.PB5              a pin; pin.PB all pins of that port, as a number\n"
       "heater_ms            a variable, a member, an element; seconds - window_start / 1000\n"
       "chip.TCCR1B          an I/O register, by bit or field; changes by hardware, too\n"
       "interrupt            which handler is at work; interrupt TIMER1_COMPA that one\n"
       "calls                which function is at work; calls 1, calls 2 … by call level\n"
       "byte out USART0      bytes that are sent; byte in USART0 those that arrive; SPI, TWI, too\n"
       "voltage PC0          at a pin; part chamber what is measured of a part\n"
       "sleep, reset, eeprom write; conversion, with its result; watchdog, when it is reset\n"
       "match OC1A           of a timer, its flag up or not; overflow TIMER1, capture TIMER1\n"
       "trace X from start   fills it with what has been so far\n"
       "trace X around 3 for 5ms before and 1ms after   only around passes of breakpoint 3\n"
       "trace X with places  which instruction made each change, too\n"
       "measure X            widths, periods, values; measure delay X rising to Y\n"
       "= width(X, high)     period(X) gap(X) delay(X rising, Y) frequency(X) duty(X) edges(X)\n"
       "expect period(X) in 19ms..21ms      all of them; least(X) most(X) mean(X) of a number\n"
       "decode serial X      two-wire, spi, one-wire; duty and widths of pulses\n"
       "plot [X, Y] [into FILE]\n"
       "export into FILE     a value change dump (.vcd) or a table (.csv)\n"
       "A trace never changes what happens. The past is recorded once, another future anew.",
       "signal signals trace record logic analyser waveform wave vcd csv timing scope"},
      {"keys", "what the keyboard does at the prompt",
       "Enter on an empty line   the last step or go again\n"
       "Tab                      completes by what may follow\n"
       "Up, Ctrl-R               earlier commands, also of other sessions\n"
       "Ctrl-C                   pauses the chip; clears the line\n"
       "Single letters are short words: g go, i step into, o step over, u step out,\n"
       "p pause, s show, b back; `abbreviate` makes more. Of all other words an unambiguous\n"
       "beginning will do: `s reg`, `wat ticks`.",
       "key keyboard tab completion history shortcut abbreviation repeat"},
  };
  return kTopics;
}

const std::vector<Meaning>& meanings() {
  static const std::vector<Meaning> kMeanings{
      {"run", "go"},      {"start", "go"},      {"stop", "pause at"}, {"value", "="},
      {"memory", "show"}, {"set", "let"},       {"change", "let"},    {"leave", "quit"},
      {"exit", "quit"},   {"end", "quit"},      {"delete", "remove"}, {"clear", "remove"},
      {"load", "open"},   {"look", "show"},     {"list", "show"},     {"send", "feed"},
      {"write", "let"},   {"assert", "expect"}, {"search", "find"},   {"restart", "reset"},
      {"goto", "go to"},
  };
  return kMeanings;
}

const Command* find_command(const std::string& name) {
  for (const Command& c : commands())
    if (name == c.name) return &c;
  return nullptr;
}

namespace {
struct Forms {
  Grammar grammar;
  std::vector<const Command*> commands;
};
const Forms& all_forms() {
  static const Forms kForms = [] {
    Forms forms;
    for (const Command& command : commands())
      for (const char* form : command.forms) {
        forms.grammar.add(form);
        forms.commands.push_back(&command);
      }
    return forms;
  }();
  return kForms;
}
}  // namespace

const Grammar& command_grammar() { return all_forms().grammar; }
const Command& command_of_form(unsigned form) { return *all_forms().commands[form]; }

}  // namespace lucid::app
