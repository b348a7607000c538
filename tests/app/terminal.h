// SPDX-License-Identifier: MIT
// A terminal with the program in it: a pseudo-terminal, and libvterm as what a person would see.
#ifndef LUCID_TESTS_APP_TERMINAL_H
#define LUCID_TESTS_APP_TERMINAL_H

#include <fcntl.h>
#include <poll.h>
#include <pty.h>
#include <signal.h>
#include <sys/ioctl.h>
#include <sys/wait.h>
#include <unistd.h>
#include <vterm.h>

#include <chrono>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "tools.h"

namespace test {

class Window {
 public:
  /// Starts `lucid ARGUMENTS...` in a folder that is also its home.
  Window(int rows, int columns, std::vector<std::string> arguments, const std::string& folder,
         const std::vector<std::string>& settings = {"TERM=xterm-256color", "LC_ALL=C.UTF-8"})
      : rows_(rows), columns_(columns), vterm_(vterm_new(rows, columns)) {
    vterm_set_utf8(vterm_, 1);
    screen_ = vterm_obtain_screen(vterm_);
    vterm_screen_enable_altscreen(screen_, 1);
    vterm_screen_reset(screen_, 1);
    winsize size{};
    size.ws_row = static_cast<unsigned short>(rows);
    size.ws_col = static_cast<unsigned short>(columns);
    child_ = forkpty(&master_, nullptr, nullptr, &size);
    if (child_ == 0) {
      if (chdir(folder.c_str()) != 0) _exit(99);
      std::vector<std::string> environment = settings;
      environment.push_back("HOME=" + folder);
      environment.push_back("XDG_STATE_HOME=" + folder);
      environment.push_back("PATH=/usr/bin:/bin");
      std::vector<char*> env, argv;
      for (std::string& s : environment) env.push_back(s.data());
      env.push_back(nullptr);
      static std::string program = LUCID_PROGRAM;
      argv.push_back(program.data());
      for (std::string& a : arguments) argv.push_back(a.data());
      argv.push_back(nullptr);
      execve(program.c_str(), argv.data(), env.data());
      _exit(98);
    }
    fcntl(master_, F_SETFL, O_NONBLOCK);
  }
  Window(const Window&) = delete;
  Window& operator=(const Window&) = delete;
  ~Window() {
    if (master_ >= 0) close(master_);
    if (child_ > 0) {
      kill(child_, SIGKILL);
      waitpid(child_, nullptr, 0);
    }
    vterm_free(vterm_);
  }

  void type(const std::string& text) {
    (void)!::write(master_, text.data(), text.size());
    // A busy machine takes its time to begin: nearly everything that is typed draws something.
    pollfd wait{master_, POLLIN, 0};
    (void)poll(&wait, 1, 1000);
    settle();
  }
  /// The left button on a cell, counted from 0.
  void click(int row, int column) {
    const std::string at = std::to_string(column + 1) + ";" + std::to_string(row + 1);
    type("\x1b[<0;" + at + "M\x1b[<0;" + at + "m");
  }
  void click(std::pair<int, int> at) { click(at.first, at.second); }
  void resize(int rows, int columns) {
    rows_ = rows;
    columns_ = columns;
    vterm_set_size(vterm_, rows, columns);
    winsize size{};
    size.ws_row = static_cast<unsigned short>(rows);
    size.ws_col = static_cast<unsigned short>(columns);
    ioctl(master_, TIOCSWINSZ, &size);
    settle();
  }

  /// Takes what the program draws until it has been quiet for a while.
  void settle(int quiet = 120) {
    char buffer[65536];
    const auto end = std::chrono::steady_clock::now() + std::chrono::milliseconds(4 * quiet);
    while (std::chrono::steady_clock::now() < end) {  // while the chip runs it never is
      pollfd wait{master_, POLLIN, 0};
      if (poll(&wait, 1, quiet) <= 0) return;
      const ssize_t n = ::read(master_, buffer, sizeof buffer);
      if (n <= 0) return;
      bytes_ += static_cast<std::size_t>(n);
      raw_.append(buffer, static_cast<std::size_t>(n));
      vterm_input_write(vterm_, buffer, static_cast<std::size_t>(n));
    }
  }
  /// Waits for a text. False after ten seconds.
  bool wait_for(const std::string& text) {
    const auto end = std::chrono::steady_clock::now() + std::chrono::seconds(kSanitized ? 60 : 15);
    for (;;) {
      settle(50);
      if (all().find(text) != std::string::npos) {
        settle();
        return true;
      }
      if (std::chrono::steady_clock::now() > end) return false;
    }
  }
  [[nodiscard]] std::string row(int r) const {
    std::string out;
    for (int c = 0; c < columns_; ++c) {
      VTermScreenCell cell;
      vterm_screen_get_cell(screen_, {r, c}, &cell);
      if (cell.chars[0] == 0 || cell.chars[0] == 0xffffffff) {
        out += ' ';
        continue;
      }
      for (int i = 0; i < VTERM_MAX_CHARS_PER_CELL && cell.chars[i] != 0; ++i) {
        const std::uint32_t code = cell.chars[i];
        if (code < 0x80)
          out += static_cast<char>(code);
        else if (code < 0x800)
          (out += static_cast<char>(0xc0 | code >> 6)) += static_cast<char>(0x80 | (code & 0x3f));
        else
          ((out += static_cast<char>(0xe0 | code >> 12)) +=
           static_cast<char>(0x80 | (code >> 6 & 0x3f))) += static_cast<char>(0x80 | (code & 0x3f));
      }
    }
    out.erase(out.find_last_not_of(' ') + 1);
    return out;
  }
  [[nodiscard]] std::string all() const {
    std::string out;
    for (int r = 0; r < rows_; ++r) out += row(r) + "\n";
    return out;
  }
  /// Where a text of one row begins: row and column in cells.
  [[nodiscard]] std::optional<std::pair<int, int>> find(const std::string& text,
                                                        int from_row = 0) const {
    for (int r = from_row; r < rows_; ++r) {
      const std::string line = row(r);
      const std::size_t at = line.find(text);
      if (at == std::string::npos) continue;
      int cells = 0;
      for (std::size_t i = 0; i < at; ++i) cells += (line[i] & 0xc0) != 0x80 ? 1 : 0;
      return std::pair{r, cells};
    }
    return {};
  }
  /// The line above or below has gone: the modem hangs up.
  void hang_up() {
    close(master_);
    master_ = -1;
  }
  /// The exit code; nothing if it does not end.
  std::optional<int> ended() {
    for (int i = 0; i < 200; ++i) {
      int status = 0;
      if (waitpid(child_, &status, WNOHANG) == child_) {
        child_ = -1;
        return WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
      }
      if (master_ >= 0) settle(20);
      usleep(50'000);
    }
    return {};
  }
  [[nodiscard]] std::size_t bytes() const { return bytes_; }  ///< drawn so far
  [[nodiscard]] const std::string& raw() const { return raw_; }
  [[nodiscard]] pid_t pid() const { return child_; }

 private:
  int rows_, columns_, master_ = -1;
  pid_t child_ = -1;
  std::size_t bytes_ = 0;
  std::string raw_;
  VTerm* vterm_;
  VTermScreen* screen_ = nullptr;
};

}  // namespace test

#endif  // LUCID_TESTS_APP_TERMINAL_H
