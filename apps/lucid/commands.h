// SPDX-License-Identifier: MIT
// The table of commands. Parsing, completion, help, the man page and the shells' completion are
// made from it.
#ifndef LUCID_APP_COMMANDS_H
#define LUCID_APP_COMMANDS_H

#include <string>
#include <vector>

#include "grammar.h"

namespace lucid::app {

class Console;

struct Command {
  enum class Group : std::uint8_t {
    kRun,
    kBack,
    kPause,
    kLook,
    kSignals,
    kSurvey,
    kChange,
    kWorld,
    kScript
  };
  const char* name;
  Group group;
  std::vector<const char*> forms;
  const char* brief;  ///< of help's list: at most 50 columns
  const char* more;   ///< what else there is to say, or ""
  const char* example;
  Result<void> (Console::*run)(const Words& words);
  bool needs_session = true;
  bool repeats = false;  ///< an empty line does it again
};
const std::vector<Command>& commands();
/// What a group's commands are for, in the order of help.
struct CommandGroup {
  Command::Group group;
  const char* words;
};
const std::vector<CommandGroup>& command_groups();

/// Fixed short words for the beginning of a line.
struct ShortWord {
  const char* word;
  const char* means;
};
const std::vector<ShortWord>& short_words();

/// What help tells beside the commands.
struct Topic {
  const char* name;
  const char* brief;
  const char* text;
  const char* also;  ///< other words that people look for, by blanks
};
const std::vector<Topic>& topics();

/// Words that are no command, but for which there is one.
struct Meaning {
  const char* word;
  const char* command;
};
const std::vector<Meaning>& meanings();

/// Null if there is none of this name.
const Command* find_command(const std::string& name);

/// The grammar of all commands, and the command of each of its forms.
const Grammar& command_grammar();
const Command& command_of_form(unsigned form);

}  // namespace lucid::app

#endif  // LUCID_APP_COMMANDS_H
