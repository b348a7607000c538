// SPDX-License-Identifier: MIT
// Reply: what a command has to show. Commands make it, text.cpp and json.cpp write it.
#ifndef LUCID_APP_REPLY_H
#define LUCID_APP_REPLY_H

#include <string>
#include <variant>
#include <vector>

#include "lucid/session.h"

namespace lucid::app {

struct Message {
  std::string text;
};
struct Warning {
  std::string text;
};
/// A pause with what belongs to it: the lines around and the variables that changed.
struct Standing {
  Pause pause;
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
  std::vector<RegisterView> registers;
  std::vector<FlagView> flags;
};
struct Callers {
  std::vector<CallLevel> levels;
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
  std::vector<VariableView> variables;
};
struct Serial {
  std::string sent;
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
struct Chips {
  std::vector<Chip::Summary> chips;
};

using Reply = std::variant<Message, Warning, Standing, Evaluated, SourceView, DisassemblyView,
                           Registers, MemoryView, StackView, Callers, Breakpoints, Pins, Parts,
                           IoRegisters, Variables, TimeView, Explanation, Serial, Chips, Watches,
                           Faults, GraphView, Found, OpenedLine, Inputs>;

/// Colours and weights, or nothing where they are not wanted.
class Style {
 public:
  explicit Style(bool on) : on_(on) {}
  [[nodiscard]] std::string bold(const std::string& s) const { return wrap("1", s); }
  [[nodiscard]] std::string dim(const std::string& s) const { return wrap("2", s); }
  [[nodiscard]] std::string accent(const std::string& s) const { return wrap("36", s); }
  [[nodiscard]] std::string warn(const std::string& s) const { return wrap("33", s); }
  [[nodiscard]] std::string bad(const std::string& s) const { return wrap("31", s); }
  [[nodiscard]] std::string changed(const std::string& s) const { return wrap("1;33", s); }
  [[nodiscard]] bool on() const { return on_; }

 private:
  [[nodiscard]] std::string wrap(const char* code, const std::string& s) const {
    return on_ && !s.empty() ? "\x1b[" + std::string(code) + "m" + s + "\x1b[0m" : s;
  }
  bool on_;
};

/// Lines, each ended by a line feed.
std::string to_text(const Reply& reply, const Style& style);
/// One JSON object on one line.
std::string to_json(const Reply& reply);
std::string error_to_json(const Error& error);

}  // namespace lucid::app

#endif  // LUCID_APP_REPLY_H
