// SPDX-License-Identifier: MIT
#include "prompt.h"

#include <editline/readline.h>
#include <signal.h>
#include <unistd.h>

#include <csignal>
#include <cstdlib>
#include <cstring>
#include <iostream>
#include <utility>

#include "history.h"
#include "screen/run_screen.h"

namespace lucid::app {
namespace {

// libedit and signal handlers call back without a context.
Console* current = nullptr;  // NOLINT(cppcoreguidelines-avoid-non-const-global-variables)

volatile std::sig_atomic_t interrupts =
    0;  // NOLINT(cppcoreguidelines-avoid-non-const-global-variables)

/// Ends the command under way; between commands it only ends the line.
void on_interrupt(int /*signal*/) {
  interrupts = interrupts + 1;
  if (current != nullptr && current->busy()) current->interrupt();
}

char** complete(const char* /*text*/, int start, int end) {
  const std::string line(rl_line_buffer, static_cast<std::size_t>(end));
  const auto found = current->completions(line);
  rl_attempted_completion_over = 1;
  if (found.empty()) return nullptr;
  // The first entry is what all have in common, then all of them.
  std::string common = found.begin()->first;
  for (const auto& [word, ends] : found)
    while (word.compare(0, common.size(), common) != 0) common.pop_back();
  const auto word = line.substr(static_cast<std::size_t>(start));
  if (common.size() < word.size()) common = word;
  if (found.size() == 1 && found.begin()->second) common += ' ';
  auto** out = static_cast<char**>(std::malloc((found.size() + 2) * sizeof(char*)));
  std::size_t n = 0;
  out[n++] = strdup(common.c_str());
  if (found.size() > 1)
    for (const auto& [name, ends] : found) out[n++] = strdup(name.c_str());
  out[n] = nullptr;
  return out;
}

}  // namespace

void catch_interrupts(Console& console) {
  current = &console;
  struct sigaction action {};
  action.sa_handler = on_interrupt;
  sigaction(SIGINT, &action, nullptr);
}

namespace {

/// Lines of a program, or of a file: commands, or JSON objects with one.
int run_lines(Console& console) {
  int code = kExitGood;
  std::string line;
  while (!console.finished() && !console.interrupted() && std::getline(std::cin, line)) {
    if (line.empty()) continue;
    const bool json = console.options().output == Output::kJson;
    const auto command = json ? json_command(line) : std::nullopt;
    auto done = command ? console.execute(command->command, command->id) : console.execute(line);
    if (done) continue;
    console.show_error(done.error());
    if (code == kExitGood)
      code = console.expectation_failed() ? kExitExpectation : exit_code(done.error().code);
  }
  return code;
}

}  // namespace

int run_prompt(Console& console, bool screen) {
  catch_interrupts(console);
  if (isatty(STDIN_FILENO) == 0) return run_lines(console);
  static char kName[] = "lucid";
  static char kBreaks[] = " ";
  rl_readline_name = kName;
  rl_completer_word_break_characters = kBreaks;
  rl_attempted_completion_function = complete;
  rl_completion_append_character = '\0';
  History history;
  Log log;  // of the screen
  for (const std::string& line : history.lines()) add_history(line.c_str());
  while (!console.finished()) {
    if (std::exchange(screen, false) || console.take_wish_for_screen()) {
      const std::size_t known = history.lines().size();
      if (auto left = run_screen(console, history, log); !left)
        console.show_error(left.error());
      else if (!*left)
        break;
      for (std::size_t i = known; i < history.lines().size(); ++i)
        add_history(history.lines()[i].c_str());
      continue;
    }
    const int before = interrupts;
    char* raw = readline(drawn_prompt(console.prompt(), console.options().style).c_str());
    std::cout << prompt_end(console.options().style) << std::flush;
    if (raw == nullptr) {
      std::cout << std::endl;
      if (interrupts != before) continue;
      break;
    }
    std::string line = raw;
    std::free(raw);
    line.erase(line.find_last_not_of(' ') + 1);
    if (!line.empty()) {
      history.add(line);
      add_history(line.c_str());
    }
    if (auto done = console.execute(line); !done) console.show_error(done.error());
    console.forget_interrupt();
  }
  return kExitGood;
}

}  // namespace lucid::app
