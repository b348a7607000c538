// SPDX-License-Identifier: MIT
// Pause: why and where a program stands still. It says everything a view needs.
#ifndef LUCID_PAUSE_H
#define LUCID_PAUSE_H

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "lucid/time.h"

namespace lucid {

/// A place in the program, as well as it is known.
struct Location {
  std::uint32_t address = 0;
  std::string function;      ///< empty if no function is known there
  std::uint32_t offset = 0;  ///< bytes behind the function's start
  std::string vector;        ///< the interrupt whose vector it is
  std::string inlined;       ///< the function whose body stands there instead of a call, if any
  std::string file;          ///< name without directories; empty if there is no line
  unsigned file_index = 0;   ///< in Program::files()
  unsigned line = 0;
  bool line_begins = false;  ///< the address is where the line's code begins
};

/// An access to an object that somebody watches.
struct DataAccess {
  enum class How : std::uint8_t { kRead, kWritten, kChanged } how = How::kChanged;
  std::string object;         ///< as it was named
  std::string before, after;  ///< its values, as text
  Location by;                ///< the instruction that did it
  std::string instruction;
  std::vector<std::uint32_t> stores;  ///< addresses of the instructions that stored its bytes
  std::string interrupt;              ///< one that came between them
};

struct Pause {
  enum class Cause : std::uint8_t {
    kReady,       ///< loaded or reset; nothing has executed
    kBreakpoint,  ///< the marked instruction has not executed
    kStep,
    kArrived,    ///< `go to`
    kTimeUp,     ///< `go for`
    kHolds,      ///< `go until`
    kRequested,  ///< somebody asked
    kFault,      ///< the program misbehaved
    kBreakInstruction,
    kMoved,       ///< `move to`
    kCannotTell,  ///< a condition could not be evaluated
    kData,        ///< a watched object has been read or written
    kEvent,       ///< one that was asked for, in `detail`
    kLimit,       ///< nothing else has ended the run within Session::set_limit()
  } cause = Cause::kReady;
  bool found = false;  ///< what go_to(), go_until() or go_until_sent() look for is there
  Location where;
  std::vector<unsigned> breakpoints;  ///< IDs, if any asked to pause here
  std::uint64_t passes = 0;           ///< of the first of them
  std::uint64_t reached = 0;          ///< how often it was reached, condition or not
  std::uint64_t cycles = 0;           ///< since power-on
  std::uint64_t cycles_since = 0;     ///< since the last pause
  Picoseconds time;                   ///< simulated
  Picoseconds since;
  std::optional<DataAccess> data;   ///< for kData
  std::string interrupt;            ///< the vector that has just been entered, if that is the event
  std::optional<Location> handler;  ///< where its vector leads to
  std::optional<Location> interrupted;  ///< … and what it has interrupted
  /// What functions that a step went over or out of have returned: the first four.
  struct Returned {
    std::string function;
    std::string value;  ///< as text
  };
  std::vector<Returned> returned;
  std::vector<std::string> then;     ///< commands of the breakpoints, for the interface
  bool backwards = false;            ///< it was gone back to: `since` is how far
  std::string detail;                ///< in words: the fault, the expression, the interrupt
  std::vector<std::string> remarks;  ///< what was run through, what ended early
};

}  // namespace lucid

#endif  // LUCID_PAUSE_H
