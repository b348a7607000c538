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
#include <utility>
#include <vector>

#include "commands.h"
#include "lucid/bench.h"
#include "lucid/expectation.h"
#include "lucid/measurement.h"
#include "lucid/race.h"
#include "lucid/session.h"
#include "lucid/survey.h"
#include "serial_end.h"
#include "serial_log.h"
#include "table.h"
#include "writer.h"

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

/// What stands for a place may be a time: 12.5ms, 2 min 05.100 s.
std::optional<Picoseconds> time_of(const std::string& text);

class Console final : public Listener {
 public:
  struct Options {
    std::string chip;                       ///< empty: what the image says
    std::optional<std::uint64_t> clock_hz;  ///< else of the bench, else 16 MHz
    std::string bench;                      ///< a bench file, or empty
    std::string more_bench;                 ///< further tables of a bench, behind the file's
    std::vector<std::string> values;        ///< each `OBJECT = EXPR`, set where main begins
    std::string on;                         ///< the chip on it that is meant, or empty: the first
    std::vector<std::string> source_folders;
    Output output = Output::kText;
    TextStyle style;
    bool pace = false;     ///< no faster than real time
    bool timeline = true;  ///< what was can be gone back to
    bool renew = false;    ///< what is expected to be the same is written, not compared
    bool screen = false;   ///< there is a terminal that the screen can be shown in
    Picoseconds limit;     ///< the longest that a command runs, in simulated time; 0: no matter
  };

  Console(Options options, std::ostream& out);

  /// Makes a session for the image's chip and loads it.
  Result<void> open(const std::string& path);
  /// One command line. An empty line repeats the last step or go. Errors leave the session as it
  /// was. `id` marks its answer, as JSON; empty: a running number.
  Result<void> execute(const std::string& line, const std::string& id = {});
  /// The same for something that is no command of a session but has an answer.
  Result<void> answer(const std::string& name, const std::function<Result<void>()>& act);
  /// To the moment of a saved timeline, of the image that is open.
  Result<void> follow(const std::string& timeline);
  /// A file that leads to this moment, and all before it.
  Result<void> save_moment(const std::string& path) const;
  /// For a span, as `go for` does. REQUIRES: an image is open.
  Pause run_for(Picoseconds span);
  /// Every line of a file; stops at the first error, which then names file and line.
  /// Errors: also kIo for a file that cannot be read.
  Result<void> play(const std::string& path);

  [[nodiscard]] Session* session() { return session_.get(); }
  /// A session over a copy of a chip beside it, as it is now. Errors: kNotFound; those of its
  /// image.
  [[nodiscard]] Result<std::unique_ptr<Session>> companion(const std::string& name) const;
  [[nodiscard]] bool finished() const { return finished_; }
  [[nodiscard]] bool expectation_failed() const { return expectation_failed_; }
  [[nodiscard]] unsigned expectations() const { return expectations_; }
  [[nodiscard]] const std::vector<Expectations::Test>& tests() const { return tests_; }
  [[nodiscard]] std::string prompt() const;
  /// What the last word of a line can go on to: words in its place, each with whether it ends
  /// there.
  [[nodiscard]] std::map<std::string, bool> completions(const std::string& line) const;
  [[nodiscard]] const Options& options() const { return options_; }
  /// For the next open().
  void set_options(Options options) { options_ = std::move(options); }
  /// Is the first word of a line a whole word that begins a command, or a short form? And is it one
  /// that moves the program, or takes another image?
  [[nodiscard]] static bool is_command(const std::string& line);
  [[nodiscard]] bool is_mover(const std::string& line) const;
  void show(const Reply& reply) { writer_->reply(reply); }
  void show_error(const Error& error) { writer_->error(error); }
  /// Puts something at the other end of a serial port: `USART0 socket 5555`, or `USART0 nothing`.
  Result<void> attach(const std::string& phrase);
  /// Says what the other ends of serial ports have not taken.
  void tell_lost();
  /// Answers go to another writer from now on. Result: the one before.
  std::unique_ptr<Writer> write_with(std::unique_ptr<Writer> writer) {
    return std::exchange(writer_, std::move(writer));
  }
  /// All that serial ports have sent up to now.
  [[nodiscard]] const SerialLog& sent() const { return sent_; }
  /// Has `screen` been said since the last time?
  bool take_wish_for_screen() { return std::exchange(wants_screen_, false); }
  /// Serial text that stands in an unfinished line is shown.
  void pause_serial() { writer_->pause_serial(); }
  /// A command is being carried out. From any thread, and in a signal handler.
  [[nodiscard]] bool busy() const { return busy_; }
  /// Ends the command under way, and the script that it is of.
  void interrupt();
  [[nodiscard]] bool interrupted() const { return interrupted_; }
  void forget_interrupt() { interrupted_ = false; }

  // Listener
  void on_serial(const std::string& port, const std::string& bytes) override;
  void on_serial_again(const std::string& port, const std::string& bytes) override;
  void on_note(const std::string& text) override { show(Warning{text}); }
  void on_message(const std::string& text) override { show(Logged{text}); }
  void on_row(unsigned id, Picoseconds now, const std::vector<Value>& values) override;
  void on_progress(Picoseconds now) override { writer_->progress(to_text(now)); }
  std::vector<SerialText> on_pace(Picoseconds now) override;

  // Commands, each with what its line says. They are listed in commands.cpp.
  Result<void> do_go(const Words& words);
  Result<void> do_go_to(const Words& words);
  Result<void> do_go_for(const Words& words);
  Result<void> do_go_until(const Words& words);
  Result<void> do_step_into(const Words& words);
  Result<void> do_step_over(const Words& words);
  Result<void> do_step_out(const Words& words);
  Result<void> do_back(const Words& words);
  Result<void> do_back_to(const Words& words);
  Result<void> do_back_for(const Words& words);
  Result<void> do_back_until(const Words& words);
  Result<void> do_back_into(const Words& words);
  Result<void> do_back_over(const Words& words);
  Result<void> do_back_out(const Words& words);
  Result<void> do_history(const Words& words);
  Result<void> do_origin(const Words& words);
  Result<void> do_missed(const Words& words);
  Result<void> do_compare(const Words& words);
  Result<void> do_suppose(const Words& words);
  Result<void> do_mark(const Words& words);
  Result<void> do_marks(const Words& words);
  Result<void> do_revert(const Words& words);
  Result<void> do_timeline(const Words& words);
  Result<void> do_stay_in(const Words& words);
  Result<void> do_run_through(const Words& words);
  Result<void> do_move_to(const Words& words);
  Result<void> do_reset(const Words& words);
  Result<void> do_pause(const Words& words);
  Result<void> do_breakpoints(const Words& words);
  Result<void> do_enable(const Words& words);
  Result<void> do_disable(const Words& words);
  Result<void> do_rearm(const Words& words);
  Result<void> do_remove(const Words& words);
  Result<void> do_evaluate(const Words& words);
  Result<void> do_watch(const Words& words);
  Result<void> do_show(const Words& words);
  Result<void> do_level(const Words& words);
  Result<void> do_explain(const Words& words);
  Result<void> do_macros(const Words& words);
  Result<void> do_follow(const Words& words);
  Result<void> do_find(const Words& words);
  Result<void> do_trace(const Words& words);
  Result<void> do_traces(const Words& words);
  Result<void> do_untrace(const Words& words);
  Result<void> do_clear_traces(const Words& words);
  Result<void> do_measure(const Words& words);
  Result<void> do_match(const Words& words);
  Result<void> do_decode(const Words& words);
  Result<void> do_import(const Words& words);
  Result<void> do_tabulate(const Words& words);
  Result<void> do_plot(const Words& words);
  Result<void> do_export(const Words& words);
  Result<void> do_survey(const Words& words);
  Result<void> do_export_coverage(const Words& words);
  Result<void> do_race_search(const Words& words);
  Result<void> do_raise(const Words& words);
  Result<void> do_check(const Words& words);
  Result<void> do_let(const Words& words);
  Result<void> do_drive(const Words& words);
  Result<void> do_press(const Words& words);
  Result<void> do_release(const Words& words);
  Result<void> do_turn(const Words& words);
  Result<void> do_feed(const Words& words);
  Result<void> do_attach(const Words& words);
  Result<void> do_transfer(const Words& words);
  Result<void> do_inputs(const Words& words);
  Result<void> do_open(const Words& words);
  Result<void> do_reload(const Words& words);
  Result<void> do_play(const Words& words);
  Result<void> do_expect(const Words& words);
  Result<void> do_note(const Words& words);
  Result<void> do_abbreviate(const Words& words);
  Result<void> do_complete(const Words& words);
  Result<void> do_help(const Words& words);
  Result<void> do_screen(const Words& words);
  Result<void> do_quit(const Words& words);

 private:
  Result<void> answer(const std::string& name, const std::string& id, const std::string& prompt,
                      const std::function<Result<void>()>& act);
  Result<void> carry_out(const std::string& line);
  /// A line with its short words in full.
  [[nodiscard]] std::string lengthened(const std::string& line) const;
  [[nodiscard]] std::vector<std::string> values(const ArgumentKind& kind,
                                                const std::string& start) const;
  void set_pace();
  Result<void> set_values();
  /// Of a line's `from WHEN to WHEN`; else all there is.
  Result<std::pair<Picoseconds, Picoseconds>> window(const Words& words) const;
  /// The signals that are named, or all.
  Result<std::vector<Signal>> signals_of(const std::string& names) const;
  [[nodiscard]] Result<Picoseconds> when(const std::string& text) const;
  /// What is shown of them can be given back: back to 512.142 ms.
  void tell_times(const Spans& spans);
  Result<void> step(StepKind kind, const Words& words);
  Result<void> step_back(StepKind kind, const Words& words);
  /// After going back: what was sent since has not been sent.
  Result<void> stand_back(const Result<Pause>& pause);
  void hear(const std::string& port, const std::string& bytes);
  /// Error: kOutOfRange if it is the limit that has paused it.
  Result<void> stand(const Pause& pause);
  Result<void> stand(const Result<Pause>& pause);
  Result<void> each_id(const Words& words, Result<void> (*act)(Session&, unsigned));
  Result<void> write_tables();
  Result<void> set_fault(const std::string& kind, bool on);
  Result<void> save_breakpoints(const std::string& path);
  Result<void> show_memory(const std::string& area, const std::string& range);
  Result<void> show_code(const Words& words);
  Result<void> decide(const Result<Expectation>& expectation);
  Result<void> missed(const Expectation& expectation);
  Result<void> stand_decided(const Result<Expectation>& expectation);
  Result<void> expect_same(const std::string& what, const std::string& now,
                           const std::string& path);
  Result<RaceView> race_search(const Words& words);
  Result<RaceOverview> race_overview(const Words& words);
  Result<void> expect_no_race(const Words& words);
  Result<void> expect_no_findings();
  Result<void> back_to_worst(const std::string& name);
  Result<void> show_profile(const Words& words);
  Result<void> show_coverage(const Words& words);
  Result<void> show_interrupts();
  Result<void> export_profile(const Words& words);
  Result<void> expect_same_serial(const Words& words);
  Result<void> expect_same_value(const std::string& expression, const std::string& path);
  [[nodiscard]] std::string file(const Words& words, std::size_t index = 0) const;
  [[nodiscard]] std::string beside(const std::string& path) const;

  Options options_;
  std::unique_ptr<Writer> writer_;
  std::unique_ptr<Session> session_;
  std::map<std::string, std::string> companion_images_;  ///< their paths, by name
  std::unique_ptr<Expectations> expectations_of_;        ///< of the session
  StepUnit unit_ = StepUnit::kLine;
  std::string repeat_;
  std::map<unsigned, Table> tables_;          ///< by breakpoint
  std::map<std::string, std::string> short_;  ///< the user's own short words
  SerialLog sent_;
  std::uint64_t not_sent_ = 0;  ///< bytes that who is attached has had before
  std::vector<std::string> stay_in_, run_through_;
  std::vector<std::unique_ptr<SerialEnd>> ends_;  ///< what listens to serial ports
  std::atomic<bool> busy_{false}, interrupted_{false};
  std::uint64_t began_at_ = 0;  ///< of the command under way: its simulated time
  unsigned answers_ = 0;
  bool finished_ = false;
  bool wants_screen_ = false;
  bool expectation_failed_ = false;
  unsigned expectations_ = 0;
  std::vector<Expectations::Test> tests_;  ///< on the target, of the whole script
  unsigned play_depth_ = 0;
  unsigned then_depth_ = 0;
  std::string script_folder_;
  std::chrono::steady_clock::time_point command_began_;
};

/// A file of coverage that some run has left. Errors: kNotFound, those of read_lcov().
Result<CoverageView> coverage_in(const std::string& path);

}  // namespace lucid::app

#endif  // LUCID_APP_CONSOLE_H
