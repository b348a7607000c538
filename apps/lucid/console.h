// SPDX-License-Identifier: MIT
// Console: the command language over one session. Prompt, scripts and `--first` all feed it lines.
#ifndef LUCID_APP_CONSOLE_H
#define LUCID_APP_CONSOLE_H

#include <atomic>
#include <chrono>
#include <map>
#include <memory>
#include <optional>
#include <ostream>
#include <string>
#include <vector>

#include "lucid/bench.h"
#include "lucid/session.h"
#include "reply.h"
#include "serial_end.h"

namespace lucid::app {

/// What the program's exit says. The table stands in the man page.
enum ExitCode : int {
  kExitGood = 0,
  kExitExpectation = 1,  ///< an `expect` did not hold
  kExitUsage = 2,
  kExitNotFound = 3,
  kExitBadImage = 4,
  kExitUnsupported = 5,
  kExitOutOfRange = 6,
  kExitIo = 7,
  kExitFault = 8,  ///< `lucid run`: the firmware misbehaved
  kExitInterrupted = 130,
};
int exit_code(ErrorCode code);

class Console final : public Listener {
 public:
  struct Options {
    std::string chip;                       ///< empty: what the image says
    std::optional<std::uint64_t> clock_hz;  ///< else of the bench, else 16 MHz
    std::string bench;                      ///< a bench file, or empty
    std::string on;                         ///< the chip on it that is meant, or empty: the first
    std::vector<std::string> source_folders;
    bool json = false;
    bool colour = false;
    bool terminal = false;  ///< progress may be drawn over
    bool utf8 = true;       ///< the terminal shows more than ASCII
    bool pace = false;      ///< no faster than real time
    Picoseconds limit;      ///< the longest that a command runs, in simulated time; 0: no matter
    bool echo = false;      ///< show each command, as scripts do
  };

  Console(Options options, std::ostream& out);

  /// Makes a session for the image's chip and loads it.
  Result<void> open(const std::string& path);
  /// One command line. An empty line repeats the last step or go. Errors leave the session as it
  /// was.
  Result<void> execute(const std::string& line);
  /// For a span, as `go for` does. REQUIRES: an image is open.
  Pause run_for(Picoseconds span);
  /// Every line of a file; stops at the first error, which then names file and line.
  /// Errors: also kIo for a file that cannot be read.
  Result<void> play(const std::string& path);

  [[nodiscard]] Session* session() { return session_.get(); }
  [[nodiscard]] bool finished() const { return finished_; }
  [[nodiscard]] bool expectation_failed() const { return expectation_failed_; }
  [[nodiscard]] unsigned expectations() const { return expectations_; }
  [[nodiscard]] const std::string& serial() const { return serial_; }
  [[nodiscard]] std::string prompt() const;
  [[nodiscard]] std::vector<std::string> completions(const std::string& line) const;
  [[nodiscard]] const Options& options() const { return options_; }
  [[nodiscard]] const Style& style() const { return style_; }
  /// Serial text in `run` goes out as it is, without a mark.
  void set_plain_serial(bool on) { plain_serial_ = on; }
  /// What follows plain serial output begins a line.
  void end_serial_line();
  /// Puts something at the other end of a serial port: `USART0 socket 5555`, or `USART0 nothing`.
  Result<void> attach(const std::string& phrase);
  /// Says what the other ends of serial ports have not taken.
  void tell_lost();
  /// A command is being carried out. From any thread, and in a signal handler.
  [[nodiscard]] bool busy() const { return busy_; }
  /// Ends the command under way, and the script that it is of.
  void interrupt();
  [[nodiscard]] bool interrupted() const { return interrupted_; }
  void forget_interrupt() { interrupted_ = false; }
  void show_error(const Error& error);
  void set_echo(bool on) { options_.echo = on; }
  void show(const Reply& reply);
  void flush_serial();
  void write_serial_line(const std::string& port);
  [[nodiscard]] std::string first_port() const;

  // Listener
  void on_serial(const std::string& port, const std::string& bytes) override;
  void on_note(const std::string& text) override;
  void on_message(const std::string& text) override;
  void on_progress(Picoseconds now) override;
  std::vector<SerialText> on_pace(Picoseconds now) override;

  // Commands, each with the rest of its line. They are listed in commands.cpp.
  Result<void> do_go(const std::string& rest);
  Result<void> do_go_to(const std::string& rest);
  Result<void> do_go_for(const std::string& rest);
  Result<void> do_go_until(const std::string& rest);
  Result<void> do_step(const std::string& rest);
  Result<void> do_step_into(const std::string& rest);
  Result<void> do_step_over(const std::string& rest);
  Result<void> do_step_out(const std::string& rest);
  Result<void> do_move_to(const std::string& rest);
  Result<void> do_reset(const std::string& rest);
  Result<void> do_reload(const std::string& rest);
  Result<void> do_pause(const std::string& rest);
  Result<void> do_pause_at(const std::string& rest);
  Result<void> do_pause_on(const std::string& rest);
  Result<void> do_pause_when(const std::string& rest);
  Result<void> do_watch(const std::string& rest);
  Result<void> do_breakpoints(const std::string& rest);
  Result<void> do_enable(const std::string& rest);
  Result<void> do_disable(const std::string& rest);
  Result<void> do_rearm(const std::string& rest);
  Result<void> do_remove(const std::string& rest);
  Result<void> do_show(const std::string& rest);
  Result<void> do_evaluate(const std::string& rest);
  Result<void> do_let(const std::string& rest);
  Result<void> do_level(const std::string& rest);
  Result<void> do_explain(const std::string& rest);
  Result<void> do_find(const std::string& rest);
  Result<void> do_drive(const std::string& rest);
  Result<void> do_macros(const std::string& rest);
  Result<void> do_inputs(const std::string& rest);
  Result<void> do_follow(const std::string& rest);
  Result<void> do_stay_in(const std::string& rest);
  Result<void> do_run_through(const std::string& rest);
  Result<void> do_press(const std::string& rest);
  Result<void> do_release(const std::string& rest);
  Result<void> do_turn(const std::string& rest);
  Result<void> do_attach(const std::string& rest);
  Result<void> do_feed(const std::string& rest);
  Result<void> do_transfer(const std::string& rest);
  Result<void> do_expect(const std::string& rest);
  Result<void> do_note(const std::string& rest);
  Result<void> do_play(const std::string& rest);
  Result<void> do_help(const std::string& rest);
  Result<void> do_quit(const std::string& rest);

 private:
  Result<void> need_session() const;
  Result<void> carry_out(const std::string& line);
  void set_pace();
  void write(const std::string& text);
  [[nodiscard]] std::string escaped(const std::string& text) const;
  Result<void> step(StepKind kind, const std::string& rest);
  /// Error: kOutOfRange if it is the limit that has paused it.
  Result<void> stand(const Pause& pause);
  Result<void> each_id(const std::string& rest, Result<void> (*act)(Session&, unsigned));
  Result<void> save_breakpoints(const std::string& path);
  std::optional<Result<void>> set_fault(const std::string& rest, bool on);
  Result<void> show_memory(const std::string& area, const std::string& rest);
  Result<void> show_code(const std::string& what, const std::string& rest);
  std::string beside(const std::string& path) const;

  Options options_;
  std::ostream& out_;
  Style style_;
  std::unique_ptr<Session> session_;
  StepUnit unit_ = StepUnit::kLine;
  std::string repeat_;
  std::string serial_;                               ///< all that was sent
  std::map<std::string, std::string> serial_lines_;  ///< under way, by port
  std::string serial_waiting_;  ///< lines of other ports, until the first one's has ended
  bool plain_serial_ = false;
  bool serial_line_open_ = false;  ///< plain serial output stands behind a line's beginning
  std::vector<std::string> stay_in_, run_through_;
  std::vector<std::unique_ptr<SerialEnd>> ends_;  ///< what listens to serial ports
  std::atomic<bool> busy_{false}, interrupted_{false};
  std::uint64_t began_at_ = 0;  ///< of the command under way: its simulated time
  bool finished_ = false;
  bool expectation_failed_ = false;
  unsigned expectations_ = 0;
  unsigned play_depth_ = 0;
  unsigned then_depth_ = 0;
  std::string script_folder_;
  bool progress_drawn_ = false;
  std::chrono::steady_clock::time_point command_began_, progress_at_;
};

/// A row of the command table.
struct Command {
  const char* name;
  const char* brief;  ///< the fixed short form, or ""
  const char* synopsis;
  const char* help;
  const char* example;
  Result<void> (Console::*run)(const std::string& rest);
  bool needs_session;
};
const std::vector<Command>& commands();
/// The command a line begins with, and where its rest begins; null if there is none.
const Command* find_command(const std::string& line, std::size_t& rest);

}  // namespace lucid::app

#endif  // LUCID_APP_CONSOLE_H
