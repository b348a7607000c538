// SPDX-License-Identifier: MIT
// The table of commands: their names, words of help and functions.
#include <algorithm>
#include <cstring>

#include "console.h"

namespace lucid::app {

const std::vector<Command>& commands() {
  static const std::vector<Command> kCommands{
      {"open", "", "open IMAGE [with BENCH [on CHIP]]",
       "Load an ELF or Intel HEX image and stand before its first instruction; with what a bench "
       "file puts on its pins; on one of its further chips.",
       "open firmware/kiln/images/kiln-og.elf", &Console::do_reload, false},
      {"go to", "", "go to PLACE", "Run up to a place; breakpoints on the way pause first.",
       "go to kiln.c:141", &Console::do_go_to, true},
      {"go for", "", "go for SPAN", "Run for a time or a number of cycles.", "go for 20ms",
       &Console::do_go_for, true},
      {"go until", "", "go until EXPR",
       "Run until an expression holds, looked at after each instruction.",
       "go until measured > 2000", &Console::do_go_until, true},
      {"go", "g", "go", "Run on to the next pause. Ctrl-C pauses.", "go", &Console::do_go, true},
      {"step into", "i", "step into [line|instruction] [N]",
       "Step, entering functions that have source. The unit follows the view in use.",
       "step into 3", &Console::do_step_into, true},
      {"step over", "o", "step over [line|instruction] [N]",
       "Step, running calls through; a breakpoint inside still pauses.", "step over",
       &Console::do_step_over, true},
      {"step out", "u", "step out [N]", "Run until this function has returned.", "step out",
       &Console::do_step_out, true},
      {"step", "", "step [line|instruction] [N]", "The same as `step into`.", "step instruction 2",
       &Console::do_step, true},
      {"stay in", "", "stay in FILE… | everywhere",
       "Step into functions of these files only; other calls are run through, and that is said.",
       "stay in kiln.c control.c", &Console::do_stay_in, true},
      {"run through", "", "run through FILE|FUNCTION… | nothing",
       "Never step into these; calls of them are run through, and that is said.",
       "run through serial.c lamp_set", &Console::do_run_through, true},
      {"move to", "", "move to PLACE", "Move the execution point; nothing is executed.",
       "move to kiln.c:142", &Console::do_move_to, true},
      {"reset", "", "reset", "Reset the chip; memories keep their contents.", "reset",
       &Console::do_reset, true},
      {"reload", "", "reload [IMAGE]", "Load the image again after a build; breakpoints are kept.",
       "reload", &Console::do_reload, false},
      {"pause at", "p",
       "pause at PLACE [on pass N | from pass N | every N passes] [if EXPR] [once] [log \"TEXT\"]\n"
       "       [then \"COMMAND\"]",
       "Set a breakpoint. It pauses before the marked instruction. A pass counts when the "
       "condition\n"
       "holds and the instruction executes next. `log` writes a message, {EXPR} filled in, and "
       "goes on; `then` carries out a command after the pause.",
       "pause at control.c:16 on pass 9 if measured > 600", &Console::do_pause_at, true},
      {"pause on", "",
       "pause on read|write|change [following] OBJECT [each byte]\n"
       "       on interrupt [NAME] | return from NAME | edge PIN [rising|falling] |\n"
       "       byte in|out [PORT] | sleep | wake | eeprom write | reset   + clauses as for `pause "
       "at`\n"
       "       fault [KIND]",
       "Pause behind the instruction that touched an object, or at an event. An object of several "
       "bytes\nis judged when all of them have been stored. `following *p`: where p leads, "
       "whenever "
       "it moves.",
       "pause on change heater_on if ticks > 100", &Console::do_pause_on, true},
      {"pause when", "", "pause when EXPR   + clauses as for `pause at`",
       "Pause at the moment an expression becomes true.", "pause when measured > setpoint + 50",
       &Console::do_pause_when, true},
      {"watch", "", "watch EXPR [as FORMAT]",
       "Keep an expression in sight: shown at each pause, old → new; out of scope with its last "
       "value.",
       "watch setpoint - measured", &Console::do_watch, true},
      {"breakpoints", "", "breakpoints [like TEXT | on | off | save FILE | load FILE]",
       "List the breakpoints; switch all of them off for a clean run, and on again; save them and "
       "the\nwatches as the lines that make them.",
       "breakpoints save night.loop", &Console::do_breakpoints, true},
      {"enable", "", "enable ID… | all | fault KIND",
       "Switch breakpoints on, or pauses at a kind of fault (`show faults`).", "enable 2",
       &Console::do_enable, true},
      {"disable", "", "disable ID… | all | fault KIND",
       "Switch breakpoints off, keeping them, or pass a kind of fault over.", "disable 2 3",
       &Console::do_disable, true},
      {"rearm", "", "rearm ID… | all", "Count a breakpoint's passes from nought again.", "rearm 1",
       &Console::do_rearm, true},
      {"remove", "", "remove ID… | all", "Take breakpoints and watches away.", "remove 1",
       &Console::do_remove, true},
      {"show", "s",
       "show registers | flags | source [PLACE] | disassembly [PLACE] | mixed [PLACE] |\n"
       "       ram|flash|eeprom [FROM [for N]] | stack | callers | variables |\n"
       "       globals [TEXT] | io [NAME] | pins | parts | serial | time |\n"
       "       watches | faults",
       "Look at something. Looking changes nothing. * marks what changed since the last pause.",
       "show ram 0x1a0 for 32", &Console::do_show, true},
      {"=", "", "= EXPR [as FORMAT]",
       "Work out a C expression. Formats: dec unsigned hex bin char text real q8.8 time raw, and\n"
       "`depth N` for how far structures are opened.",
       "= ramp.target - setpoint as hex", &Console::do_evaluate, true},
      {"let", "", "let OBJECT = EXPR [with effects]",
       "Change a variable, register, flag, I/O register or field, byte of memory or pin. An I/O\n"
       "register comes to hold the value; with effects it is written as the firmware would: bytes\n"
       "are sent, flags cleared by a one.",
       "let chip.PORTB.5 = 1", &Console::do_let, true},
      {"explain", "", "explain [PLACE]",
       "Say in words what an instruction does, with its operands as they are now.", "explain here",
       &Console::do_explain, true},
      {"macros", "", "macros [PLACE]",
       "A line of source with its macros opened, one level after the other (images built with "
       "-g3).",
       "macros kiln.c:141", &Console::do_macros, true},
      {"follow", "", "follow EXPR [into FILE]",
       "A list, ring or tree of structures, from a node or a pointer to one; into a file as a "
       "drawing\nin the DOT language.",
       "follow first into nodes.dot", &Console::do_follow, true},
      {"level", "", "level N",
       "Select a call level: expressions and `show variables` mean that one until the program "
       "moves.",
       "level 1", &Console::do_level, true},
      {"find", "", "find TEXT",
       "Functions, inlined calls, variables, types, enumerators and files whose names contain a "
       "text.",
       "find tick", &Console::do_find, true},
      {"drive", "", "drive PIN low|high|open|VOLTS [for TIME]",
       "Drive a pin from outside, or let go of it; with `for`, let go of it that much later.",
       "drive PD2 low for 5ms", &Console::do_drive, true},
      {"press", "", "press PART", "Press a button of the bench.", "press door", &Console::do_press,
       true},
      {"release", "", "release PART", "Let go of a button.", "release door", &Console::do_release,
       true},
      {"turn", "", "turn PART on|off|PERCENT%|VOLTS", "Turn a switch, potentiometer or voltage.",
       "turn knob 40%", &Console::do_turn, true},
      {"attach", "", "attach PORT terminal | socket NUMBER | files IN [OUT] | nothing",
       "Put something at the other end of a serial port: a pseudo-terminal or a socket of this\n"
       "machine, for other programs; time then passes as on a clock. Or files: all of one "
       "arrives,\n"
       "what is sent goes into the other.",
       "attach USART0 socket 5555", &Console::do_attach, true},
      {"feed", "", "feed PORT \"TEXT\" | feed PORT frame DATA [wrong-parity] [no-stop-bit]",
       "Let bytes arrive at a serial port, back to back. \\n \\r \\t \\\\ \\\" \\xNN are known. A "
       "frame "
       "has up\nto 9 data bits and may be wrong.",
       "feed USART0 \"G\\n\"", &Console::do_feed, true},
      {"transfer", "", "transfer ADDRESS [write BYTES] [read COUNT]",
       "What a controller outside does on the two-wire bus; what it reads is shown as bytes of "
       "TWI.",
       "transfer 0x29 write 01 02 read 2", &Console::do_transfer, true},
      {"inputs", "", "inputs [save FILE]",
       "What has come from outside so far; saved, with the bench at hand, as a bench file that "
       "repeats it\nto the tick.",
       "inputs save night.bench.toml", &Console::do_inputs, true},
      {"expect", "", "expect EXPR | pause at PLACE | pause fault | serial \"TEXT\"",
       "Say what must be so; a script that is wrong about it fails.", "expect heater_ms == 0",
       &Console::do_expect, true},
      {"note", "", "note \"TEXT\"", "Write a remark into the output.",
       "note \"now the door opens\"", &Console::do_note, false},
      {"play", "", "play FILE", "Carry out the commands of a script.", "play overshoot.loop",
       &Console::do_play, false},
      {"help", "", "help [COMMAND]", "List the commands, or explain one.", "help pause at",
       &Console::do_help, false},
      {"quit", "", "quit", "Leave.", "quit", &Console::do_quit, false},
  };
  return kCommands;
}

const Command* find_command(const std::string& line, std::size_t& rest) {
  const Command* best = nullptr;
  for (const Command& c : commands()) {
    for (const char* name : {c.name, c.brief}) {
      const std::size_t length = std::strlen(name);
      if (length == 0 || line.compare(0, length, name) != 0) continue;
      const bool ends = line.size() == length || line[length] == ' ' || *name == '=';
      if (!ends || (best != nullptr && length <= rest)) continue;
      best = &c;
      rest = length;
    }
  }
  if (best != nullptr) rest = std::min(line.find_first_not_of(' ', rest), line.size());
  return best;
}

}  // namespace lucid::app
