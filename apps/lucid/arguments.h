// SPDX-License-Identifier: MIT
// The program's command line: what it may say, and what it says. The man page and the completion of
// shells are made from it, too.
#ifndef LUCID_APP_ARGUMENTS_H
#define LUCID_APP_ARGUMENTS_H

#include <string>
#include <vector>

#include "lucid/error.h"

namespace lucid::app {

/// What the command line says, of all commands.
struct Arguments {
  std::string image, at, script, chip, clock, bench, on, limit, span = "1s", name, function;
  std::string colour = "auto";
  std::vector<std::string> commands, sources, attach;
  std::string other, align = "calls", into = ".", at_most = "10s";  ///< of diverge
  std::vector<std::string> benches, chips;
  std::string from, to, size, picture;  ///< of plot
  std::string against, results;         ///< of survey
  bool dark = false;
  bool json = false;
  bool all = false;
  bool pace = false;
  bool no_timeline = false;
  bool screen = false;
  std::vector<std::string> scripts;  ///< of play, and perhaps the image among them
  std::string report, wall, play_image, cases;
  unsigned jobs = 1;
  bool renew = false;
  std::uint16_t port = 0;  ///< of serve; 0: standard input and output
  bool plain_serial = false;
};

/// The command that was chosen, or a text that is the answer: of --help and --version.
struct ParsedArguments {
  std::string command, text;
};
/// Error: kUsage. `a.json` is also set then.
Result<ParsedArguments> parse_arguments(int argc, char** argv, Arguments& a);

struct ExitFact {
  int code;
  const char* words;
};
const std::vector<ExitFact>& exit_facts();

struct OptionFacts {
  std::string name;   ///< --chip
  std::string takes;  ///< NAME, or empty
  std::string words;
  bool required = false;
};
struct CommandFacts {
  std::string name, words, example;
  std::vector<OptionFacts> takes;  ///< by their places
  std::vector<OptionFacts> options;
};
std::vector<CommandFacts> command_facts();

}  // namespace lucid::app

#endif  // LUCID_APP_ARGUMENTS_H
