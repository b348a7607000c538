// SPDX-License-Identifier: MIT
#include "prompt.h"

#include <editline/readline.h>
#include <fcntl.h>
#include <signal.h>
#include <sys/stat.h>
#include <unistd.h>

#include <csignal>
#include <cstdlib>
#include <cstring>
#include <fstream>
#include <iostream>

#include "output.h"

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

/// The commands of earlier sessions: $XDG_STATE_HOME/lucid/commands, a line each. Sessions append
/// to it side by side. A file of another form is left alone.
class History {
 public:
  History() {
    std::string folder;
    if (const char* state = std::getenv("XDG_STATE_HOME"); state != nullptr && *state != '\0')
      folder = state;
    else if (const char* home = std::getenv("HOME"); home != nullptr && *home != '\0')
      folder = std::string(home) + "/.local/state";
    if (folder.empty()) return;
    folder += "/lucid";
    for (std::size_t at = 1; at != std::string::npos;) {
      at = folder.find('/', at + 1);
      mkdir(folder.substr(0, at).c_str(), 0700);
    }
    read(folder + "/commands");
  }

  void add(const std::string& line) {
    add_history(line.c_str());
    if (path_.empty()) return;
    // One write each: what two sessions append stays apart.
    const std::string text = line + "\n";
    const int file = ::open(path_.c_str(), O_WRONLY | O_APPEND | O_CREAT | O_CLOEXEC, 0600);
    if (file < 0) return;
    const bool complete = ::write(file, text.data(), text.size()) == ssize_t(text.size());
    ::close(file);
    if (!complete) path_.clear();
  }

 private:
  void read(const std::string& path) {
    constexpr std::size_t kMost = 1000;
    std::ifstream in(path, std::ios::binary);
    std::vector<std::string> lines;
    std::string line;
    bool ours = true;
    while (std::getline(in, line)) {
      ours = ours && (!lines.empty() || line == kFirst) && is_utf8(line) &&
             line.find('\0') == std::string::npos;
      lines.push_back(line);
    }
    if (!ours) return;
    path_ = path;
    const bool is_new = lines.empty();
    if (!is_new) lines.erase(lines.begin());
    if (is_new || lines.size() > 2 * kMost) {  // begun, or cut to its end
      if (lines.size() > kMost)
        lines.erase(lines.begin(), lines.end() - static_cast<std::ptrdiff_t>(kMost));
      std::string text = std::string(kFirst) + "\n";
      for (const std::string& l : lines) text += l + "\n";
      if (!write_file(path, text)) path_.clear();
    }
    for (const std::string& l : lines) add_history(l.c_str());
  }

  static constexpr const char* kFirst = "# commands given to lucid, the latest last";
  std::string path_;
};

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

int run_prompt(Console& console) {
  catch_interrupts(console);
  if (isatty(STDIN_FILENO) == 0) return run_lines(console);
  static char kName[] = "lucid";
  static char kBreaks[] = " ";
  rl_readline_name = kName;
  rl_completer_word_break_characters = kBreaks;
  rl_attempted_completion_function = complete;
  rl_completion_append_character = '\0';
  History history;
  while (!console.finished()) {
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
    if (!line.empty()) history.add(line);
    if (auto done = console.execute(line); !done) console.show_error(done.error());
    console.forget_interrupt();
  }
  return kExitGood;
}

}  // namespace lucid::app
