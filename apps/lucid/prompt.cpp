// SPDX-License-Identifier: MIT
#include "prompt.h"

#include <editline/readline.h>
#include <signal.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cstdlib>
#include <cstring>
#include <iostream>

namespace lucid::app {
namespace {

// libedit and signal handlers call back without a context.
Console* current = nullptr;  // NOLINT(cppcoreguidelines-avoid-non-const-global-variables)

void on_interrupt(int /*signal*/) {
  if (current != nullptr && current->session() != nullptr) current->session()->request_pause();
}

/// $XDG_STATE_HOME/lucid/history, made if it is not there; empty if there is no home.
std::string history_path() {
  std::string folder;
  if (const char* state = std::getenv("XDG_STATE_HOME"); state != nullptr && *state != '\0')
    folder = state;
  else if (const char* home = std::getenv("HOME"); home != nullptr && *home != '\0')
    folder = std::string(home) + "/.local/state";
  if (folder.empty()) return {};
  folder += "/lucid";
  for (std::size_t at = 1; at != std::string::npos;) {
    at = folder.find('/', at + 1);
    mkdir(folder.substr(0, at).c_str(), 0700);
  }
  return folder + "/history";
}

char** complete(const char* /*text*/, int start, int end) {
  const std::string line(rl_line_buffer, static_cast<std::size_t>(end));
  const std::vector<std::string> found = current->completions(line);
  rl_attempted_completion_over = 1;
  if (found.empty()) return nullptr;
  // The first entry is what all have in common, then all of them.
  std::string common = found[0];
  for (const std::string& word : found)
    while (word.compare(0, common.size(), common) != 0) common.pop_back();
  const auto word = line.substr(static_cast<std::size_t>(start));
  if (common.size() < word.size()) common = word;
  auto** out = static_cast<char**>(std::malloc((found.size() + 2) * sizeof(char*)));
  std::size_t n = 0;
  out[n++] = strdup(common.c_str());
  if (found.size() > 1)
    for (const std::string& name : found) out[n++] = strdup(name.c_str());
  out[n] = nullptr;
  return out;
}

void report(Console& console, const Error& error) {
  if (console.options().json)
    std::cout << error_to_json(error) << std::flush;
  else
    std::cout << console.style().bad(error.text()) << std::endl;
}

}  // namespace

void catch_interrupts(Console& console) {
  current = &console;
  struct sigaction action {};
  action.sa_handler = on_interrupt;
  sigaction(SIGINT, &action, nullptr);
}

void run_prompt(Console& console) {
  catch_interrupts(console);
  if (isatty(STDIN_FILENO) == 0) {
    std::string line;
    while (!console.finished() && std::getline(std::cin, line))
      if (auto done = console.execute(line); !done) report(console, done.error());
    return;
  }
  static char kName[] = "lucid";
  static char kBreaks[] = " ";
  rl_readline_name = kName;
  rl_completer_word_break_characters = kBreaks;
  rl_attempted_completion_function = complete;
  rl_completion_append_character = '\0';
  const std::string history = history_path();
  if (!history.empty()) read_history(history.c_str());
  while (!console.finished()) {
    char* raw = readline(console.prompt().c_str());
    if (raw == nullptr) {
      std::cout << std::endl;
      break;
    }
    const std::string line = raw;
    std::free(raw);
    if (!line.empty()) {
      add_history(line.c_str());
      if (!history.empty()) write_history(history.c_str());
    }
    if (auto done = console.execute(line); !done) report(console, done.error());
  }
}

}  // namespace lucid::app
