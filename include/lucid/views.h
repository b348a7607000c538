// SPDX-License-Identifier: MIT
// Views: what a paused program looks like, as data. Interfaces write them as text or JSON.
// "Changed" always means: since the last pause.
#ifndef LUCID_VIEWS_H
#define LUCID_VIEWS_H

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "lucid/chip.h"
#include "lucid/instruction.h"
#include "lucid/pause.h"
#include "lucid/value.h"

namespace lucid {

struct SourceView {
  struct Line {
    unsigned number = 0;
    std::string text;
    bool has_code = false;
    bool never_run = false;  ///< it has code that has not executed since survey() began to count
    bool current = false;    ///< about to execute
    bool selected = false;   ///< of a caller: its call stands here (select_level)
    std::vector<unsigned> breakpoints;  ///< IDs
    std::vector<std::string> values;    ///< of the variables in the current line: `error = -3`
  };
  std::string file;
  std::string path;     ///< where the text was found; empty if it was not
  std::string problem;  ///< why there is no text
  std::vector<Line> lines;
};

struct DisassemblyView {
  struct Row {
    Instruction instruction;
    std::string function;              ///< where one begins, and in the first row; else empty
    std::uint32_t offset = 0;          ///< bytes from its begin
    std::uint32_t function_bytes = 0;  ///< its size
    std::string target;                ///< name of the place a jump or call goes to
    std::string file;                  ///< the line it belongs to, where that begins
    unsigned line = 0;
    std::string source;  ///< its text, in the mixed view
    bool current = false;
    bool selected = false;  ///< of a caller: the call that has not returned
    std::vector<unsigned> breakpoints;
    /// While a survey counts: how often it has executed, and, of a branch or skip, was taken.
    std::optional<std::uint64_t> executed, taken;
  };
  std::vector<Row> rows;
};

struct RegisterView {
  std::string name;
  std::uint8_t bits = 8;
  std::uint64_t value = 0;
  std::uint64_t before = 0;  ///< at the last pause; of a caller's: the same
  bool known = true;         ///< false: overwritten since the selected level made its call
  [[nodiscard]] bool changed() const { return known && value != before; }
};

struct FlagView {
  char letter = '?';
  bool value = false;
  bool before = false;
};

struct MemoryView {
  struct Row {
    std::uint32_t address = 0;
    std::vector<std::uint8_t> bytes;
    std::vector<bool> changed;
    std::string names;  ///< variables that begin here
  };
  std::string area;
  Space space = Space::kData;
  std::vector<Row> rows;
};

struct IoView {
  IoRegister io;
  std::uint32_t value = 0;
  std::uint32_t before = 0;
  std::vector<Value::Field> fields;  ///< now
};

struct PinView {
  PinState pin;
  bool level_before = false;
};

/// Why the list of callers has no further level.
enum class CallersEnd : std::uint8_t {
  kNone,           ///< it has one
  kStart,          ///< the program's first function
  kTaskBegins,     ///< this function was not called: it is where a task begins
  kNoCall,         ///< no call stands before the return address
  kOtherCall,      ///< the call before the return address leads elsewhere
  kNoFunction,     ///< the address is in no function
  kNoInstruction,  ///< no instruction begins at the address that was interrupted
  kNoFrame,        ///< where its return address lies cannot be told
  kNotOnStack,     ///< where its return address would lie is no stack
  kTooMany,
};
/// The same in words, as the end of "the list ends here: ".
[[nodiscard]] LUCID_API std::string callers_end_text(CallersEnd end);

/// A call level. Level 1 is the outermost, so a number stays with its call.
struct CallLevel {
  unsigned level = 0;
  Location where;                      ///< for a caller: the call that has not returned
  std::string signature;               ///< of the function, in C++
  std::uint32_t cfa = 0;               ///< canonical frame address: the caller's stack pointer
  bool interrupt = false;              ///< entered by an interrupt
  CallersEnd end = CallersEnd::kNone;  ///< of level 1: why it is the outermost
  bool left = false;     ///< by a tail call: its frame is gone, its variables are not known
  bool inlined = false;  ///< its body stands in the level below, which it has not left
};

struct StackView {
  struct Slot {
    enum class Kind : std::uint8_t {
      kTemporary,  ///< pushed by an expression under way, or room without a name here
      kReturn,     ///< address of a call, or of the instruction that was interrupted
      kSaved,      ///< a register of `owner`'s caller
      kLocal,
      kArgument,  ///< passed to `owner` on the stack
      kUnknown,   ///< no frame information
    } kind = Kind::kUnknown;
    std::uint32_t address = 0;
    std::vector<std::uint8_t> bytes;
    std::string name;   ///< of the register or variable
    std::string owner;  ///< the function whose frame it is in
    std::string value;  ///< of a variable
    std::string meaning;
  };
  std::uint32_t sp = 0;
  std::uint32_t top = 0;                 ///< highest address a stack can use
  std::uint32_t used = 0;                ///< bytes
  std::optional<std::uint32_t> deepest;  ///< bytes ever used since reset
  std::vector<std::string>
      deepest_chain;                  ///< the functions that were at work then, outermost first
  std::optional<std::uint32_t> free;  ///< bytes between the stack and static data
  std::vector<Slot> slots;            ///< from the stack pointer upwards
};

/// How deep the stack can become, by the code: whether or not it has run.
struct StackBoundView {
  struct Function {
    std::string name;
    std::uint32_t own = 0;               ///< bytes, without what it calls
    std::optional<std::uint32_t> bytes;  ///< with it, and the return addresses between
    std::string why;                     ///< `bytes` is not known: recursion, calls by pointer, …
    std::vector<std::string> chain;      ///< of calls that takes so many, outermost first
  };
  std::vector<Function> functions;  ///< deepest first, those that are not known before
  std::optional<Function> program;  ///< main
  std::optional<Function> handler;  ///< the deepest
  bool handlers_nest = false;       ///< one lets others interrupt it: all count, each once
  std::uint32_t handlers = 0;       ///< bytes of handlers, with where they return to
  std::optional<std::uint32_t> total;
  std::optional<std::uint32_t> room;  ///< bytes from static data to the end of RAM
};

struct TimeView {
  std::uint64_t cycles = 0;
  std::uint64_t cycles_since = 0;
  Picoseconds time;
  Picoseconds since;
  Picoseconds asleep;  ///< of `time`
  std::uint64_t clock_hz = 0;
  unsigned divided_by = 1;  ///< the oscillator, for a cycle
  Picoseconds behind;       ///< how far the timeline goes beyond this moment
  /// Of `time`, in loops that only wait (for a pin, a flag, a count), which are gone through at
  /// once as far as nothing is due. How much depends on where runs have ended; nothing else does.
  Picoseconds skipped = {};
};

struct VariableView {
  std::string name;
  std::string expression;      ///< what evaluate() and children() take for it
  std::uint64_t children = 0;  ///< members, elements, or what a pointer leads to
  std::string type;
  std::string value;
  std::string before;
  std::string file;
  std::string function;
  Address address;
  std::string which;                 ///< as in Value, if there are several of this name
  Unknown unknown = Unknown::kNone;  ///< why it has no value, if it has none
};

/// Something that is not the same at two moments.
struct Difference {
  std::string kind;  ///< variable, callers, register, io, ram, eeprom, pin, part, sent
  std::string name;
  std::string then, now;
};
struct ComparisonView {
  Picoseconds then, now;
  std::vector<Difference> differences;  ///< the program's own things first
};

/// What would be otherwise after a change: what a person would see first.
struct SuppositionView {
  struct Happening {
    Picoseconds time;
    std::string what;
    Location where;
  };
  std::size_t same = 0;                                ///< happenings before it that are the same
  std::optional<Happening> call_as_is, call_supposed;  ///< the first call that differs
  std::optional<Happening> as_is, supposed;            ///< neither: all is the same
  bool only_shifted = false;                           ///< the same things happen, at other times
  Picoseconds until;                                   ///< so far it was looked
  std::string place;                                   ///< or until it was executed
  std::optional<Picoseconds> supposed_until;  ///< then; nothing: it was not reached, or no place
  std::vector<Difference> at_end;             ///< `then` as it is, `now` as supposed
};

/// Where a value has come from: what made it, and what fed that.
struct OriginNode {
  unsigned depth = 0;  ///< 0: what was asked for, or one of its bytes
  std::string object, value;
  enum class How : std::uint8_t {
    kWorked,     ///< worked out by an instruction, from `from`
    kConstant,   ///< it stands in the instruction
    kFlash,      ///< read from flash
    kInput,      ///< read from an I/O register
    kHardware,   ///< changed by a peripheral
    kInterrupt,  ///< by the entry of one
    kEdit,       ///< by a person, with the debugger
    kOutside,    ///< a pin, by what is done to it from outside
    kStart,      ///< nothing has written it since the start
    kMoved,      ///< only moved: not given for a whole way
    kUnknown,    ///< it was followed too far
  } how = How::kUnknown;
  std::string instruction;
  Location where;
  std::optional<Location> called_from;  ///< the line, if that instruction has none
  Picoseconds time;
  struct From {
    std::string name, value;
  };
  std::vector<From> from;
};
struct OriginView {
  std::vector<OriginNode> nodes;  ///< each before what fed it
  bool cut = false;               ///< there would be more
  bool interrupted = false;       ///< somebody asked for a pause
};

/// Why a place was not reached.
struct MissedView {
  std::string place;
  std::string since;                       ///< the mark from which on was looked; empty: the start
  std::optional<Picoseconds> executed_at;  ///< it was: that is when, the last time
  /// Functions on the way to it that were never entered, its own first.
  struct NotCalled {
    std::string function;
    std::vector<Location> calls;  ///< that would have led into it
    std::string interrupt;        ///< it handles this one
  };
  std::vector<NotCalled> not_called;
  /// Where execution turned away from the way to it, the last time.
  struct Turn {
    Location where;
    std::string instruction;    ///< empty: it is on the way, and stands here now
    Flow flow = Flow::kBranch;  ///< a branch, skip or jump has chosen; a call has not returned
    Picoseconds time;
    Location went;
  };
  std::optional<Turn> turn;  ///< nothing: no way leads to it from anything that was executed
  OriginView origins;        ///< of what the turn looked at
};

/// Structures that point at each other.
struct GraphView {
  struct Node {
    Address address;
    std::string name;   ///< of the variable it is or lies in, if there is one
    std::string value;  ///< its members but those that point on
  };
  struct Edge {
    unsigned from = 0;  ///< index into nodes
    std::string member;
    std::optional<unsigned> to;  ///< nothing if it leads out of memory, or the view ends there
    std::string text;            ///< the pointer's value
  };
  std::string type;
  std::vector<Node> nodes;  ///< as they are met, first members first
  std::vector<Edge> edges;  ///< null pointers are left out
  bool circle = false;      ///< somewhere it leads back to itself
  bool cut = false;         ///< there are more
  /// As text in the DOT language, which describes drawings of graphs.
  [[nodiscard]] LUCID_API std::string dot() const;
};

/// An expression kept in sight.
struct WatchView {
  unsigned id = 0;
  std::string expression;
  std::string format;                ///< as `as` takes it; empty: by its type
  std::string value;                 ///< now, or as last known
  std::string before;                ///< at the pause before; empty if it was not known
  std::string problem;               ///< why it cannot be told here; empty if it can
  Unknown unknown = Unknown::kNone;  ///< the same as data
  Picoseconds known_at;
  Location known_in;     ///< where it was last known
  std::string function;  ///< whose local it is for; empty if it is for no local
  std::string which;     ///< as in Value, if there are several of this name
};

}  // namespace lucid

#endif  // LUCID_VIEWS_H
