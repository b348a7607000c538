// SPDX-License-Identifier: MIT
// Reply: what a command has to show. Commands make it, text.cpp and json.cpp write it.
#ifndef LUCID_APP_REPLY_H
#define LUCID_APP_REPLY_H

#include <string>
#include <variant>
#include <vector>

#include "lucid/divergence.h"
#include "lucid/expectation.h"
#include "lucid/finding.h"
#include "lucid/measurement.h"
#include "lucid/race.h"
#include "lucid/session.h"
#include "lucid/survey.h"

namespace lucid::app {

struct Message {
  std::string text;
};
struct Warning {
  std::string text;
};
/// What a script remarks.
struct Remark {
  std::string text;
};
/// A pause with what belongs to it: the lines around and the variables that changed.
struct Standing {
  Pause pause;
  bool by_instruction = false;  ///< instructions are stepped
  Picoseconds behind;           ///< the end of the timeline
  SourceView source;
  DisassemblyView disassembly;  ///< instead, where there is no source or instructions are stepped
  std::vector<VariableView> changed;
  std::vector<WatchView> watches;
};
struct Evaluated {
  std::string expression;
  Value value;
};
struct Registers {
  const char* view = "registers";
  std::vector<RegisterView> registers;
  std::vector<FlagView> flags;
};
struct Callers {
  std::vector<CallLevel> levels;
  unsigned selected = 0, current = 0;  ///< levels by number
};
struct Breakpoints {
  std::vector<Breakpoint> points;
  bool all_on = true;
};
struct Watches {
  std::vector<WatchView> list;
};
struct Faults {
  std::vector<Session::Fault> list;
};
struct Checks {
  std::vector<Session::Check> list;
};
struct WearTable {
  std::vector<WearView> rows;
};
struct Watchdog {
  std::optional<WatchdogView> view;
};
struct HeapTable {
  std::optional<HeapView> view;
};
struct Findings {
  std::vector<FindingView> list;
};
struct Pins {
  std::vector<PinView> pins;
};
struct Parts {
  std::vector<PartState> parts;
};
struct IoRegisters {
  std::vector<IoView> registers;
};
struct Variables {
  const char* view = "variables";
  std::vector<VariableView> variables;
};
struct Serial {
  std::string sent;
};
/// A line that a `log` breakpoint has written.
struct Logged {
  std::string text;
};
struct Help {
  struct Row {
    std::string word, shorter, words;
  };
  struct Section {
    std::string title;
    std::vector<std::string> lines;  ///< as they are
    std::vector<Row> rows;
    std::string text;  ///< to be wrapped
  };
  std::vector<Section> sections;
};
/// What a line could go on to.
struct Completions {
  std::string line;
  std::vector<std::string> words;
};
/// What `find` has found.
struct Found {
  struct Item {
    std::string kind, name;
    std::optional<std::uint32_t> address;
    std::string detail;
  };
  std::string text;  ///< that was looked for
  std::vector<Item> items;
};
/// A line, and with its macros opened.
struct OpenedLine {
  std::vector<std::string> levels;
};
struct Inputs {
  std::vector<Input> list;
};
struct Marks {
  std::vector<Session::MarkView> list;
};
struct Writes {
  std::string object;
  std::vector<Session::Write> rows;
};
struct Traces {
  std::vector<Session::TraceView> list;
};
struct Measured {
  std::string signal;
  Measurement measurement;
};
/// Delays between two signals, or when one was within limits.
struct MeasuredSpans {
  std::string what;
  Spans spans;
};
struct Matched {
  std::string one, other;
  Picoseconds tolerance;
  Match match;
};
struct DecodedWires {
  Decoded decoded;
};
/// Lanes of text.
struct Drawing {
  std::vector<Signal> signals;
  Picoseconds from, to;
};
/// The first `most` functions or lines.
struct Profile {
  ProfileView view;
  bool lines = false, calls = false, all = false;
  std::size_t most = 0;
};
/// `source`: of the one file there is then, its text by line.
struct Coverage {
  CoverageView view;
  std::vector<std::pair<unsigned, std::string>> source;
};
/// Of this run and the one in a file.
struct CoverageDifference {
  CoverageView here, there;
  std::string other;
};
struct InterruptList {
  std::vector<InterruptView> interrupts;
};
/// Expectations that hold from somewhere on.
struct Armed {
  std::vector<Expectation> list;
};
/// What came of tests on the target.
struct Tested {
  std::vector<Expectations::Test> tests;
};
/// Where two runs part, and the files that lead there.
struct Parting {
  Divergence divergence;
  std::vector<std::string> images, files;
};
struct ChipFacts {
  ChipInfo info;
  std::vector<std::string> modelled, registers_only;  ///< peripherals
};
struct Demos {
  struct Item {
    std::string name, words;
  };
  std::string folder;
  std::vector<Item> list;
};
struct Chips {
  std::vector<Chip::Summary> chips;
};

using Reply = std::variant<
    Message, Warning, Standing, Evaluated, SourceView, DisassemblyView, Registers, MemoryView,
    StackView, Callers, Breakpoints, Pins, Parts, IoRegisters, Variables, TimeView, Explanation,
    Serial, Chips, Watches, Faults, GraphView, Found, OpenedLine, Inputs, Logged, Help, Completions,
    Remark, ChipFacts, Demos, Marks, Session::TimelineView, Writes, OriginView, ComparisonView,
    SuppositionView, MissedView, Parting, Traces, Measured, MeasuredSpans, Drawing, DecodedWires,
    Matched, Armed, Tested, Profile, Coverage, CoverageDifference, InterruptList, StackBoundView,
    RaceView, RaceOverview, Checks, Findings, WearTable, Watchdog, HeapTable>;

}  // namespace lucid::app

#endif  // LUCID_APP_REPLY_H
