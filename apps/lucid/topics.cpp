// SPDX-License-Identifier: MIT
// What `help` tells beside the commands: topics, and words that other people use for what is here.
#include "commands.h"

namespace lucid::app {

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

}  // namespace lucid::app
