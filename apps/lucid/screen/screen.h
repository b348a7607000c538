// SPDX-License-Identifier: MIT
// Screen: the whole of a session in sight: panes, keys, the mouse. A second face of the console,
// beside the prompt; it decides nothing about debugging.
#ifndef LUCID_APP_SCREEN_SCREEN_H
#define LUCID_APP_SCREEN_SCREEN_H

#include <chrono>
#include <deque>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "console.h"
#include "history.h"
#include "screen/field.h"
#include "screen/frame.h"
#include "screen/layout.h"
#include "screen/log.h"
#include "screen/pane.h"
#include "screen/terminal.h"

namespace lucid::app {

class Screen final : public Desk {
 public:
  /// Takes the console's answers into `log` as long as it lives. REQUIRES: an image is open.
  /// `settings`: the file in which layouts are kept; empty: they are not.
  Screen(Console& console, Terminal& terminal, History& history, Log& log, std::string settings);
  ~Screen() override;

  enum class Left : std::uint8_t {
    kPrompt,  ///< back to the prompt
    kQuit,    ///< the program is to end
    kGone,    ///< the terminal is no more
  };
  /// Until somebody leaves it.
  Left run();

  // For tests: what one event does, and what is seen.
  void handle(const Event& event);
  [[nodiscard]] Frame frame();
  [[nodiscard]] const Placement& placement() const { return placement_; }
  [[nodiscard]] Pane& pane(const std::string& name);
  [[nodiscard]] const std::optional<Left>& left() const { return left_; }
  [[nodiscard]] bool typing() const;

  // What the list of everything does.
  void use_pane(const std::string& name) { use(name); }
  void reveal(const std::string& pane_name, const std::string& what) {
    pane(pane_name).reveal(*this, what);
    use(pane_name);
  }
  void do_action(Action action) { act(action); }
  void type_command(const std::string& beginning);

  // Desk
  Session& session() override { return *console_.session(); }
  [[nodiscard]] bool running() const override;
  [[nodiscard]] bool utf8() const override { return utf8_; }
  /// Where the one that was chosen has no room, it is the first that has.
  [[nodiscard]] const std::string& in_use() const override {
    return in_sight(in_use_) || placement_.panes.empty() ? in_use_ : placement_.panes.front().pane;
  }
  [[nodiscard]] unsigned pauses() const override { return log_.pauses + (running() ? 1 : 0); }
  [[nodiscard]] unsigned standing() const override { return running() ? 0 : log_.pauses + 1; }
  void command(const std::string& line) override;
  void say(const std::string& text, Look look) override;
  void edit(const std::string& before, const std::string& text) override;
  void choose(Menu menu) override;
  void show_code(const std::string& place) override;
  void show_memory(const std::string& area, std::uint32_t address) override;
  [[nodiscard]] const std::vector<Line>& log() const override { return log_.lines; }
  [[nodiscard]] std::string serial_text(const std::string& port) const override;
  Settings& settings() override { return settings_; }
  void remember(const std::string& line) override { history_.add(line); }
  [[nodiscard]] const std::vector<std::string>& history() const override {
    return history_.lines();
  }
  [[nodiscard]] std::string prompt() const override { return console_.prompt(); }
  [[nodiscard]] std::map<std::string, bool> completions(const std::string& line) const override {
    return console_.completions(line);
  }

 private:
  struct List;  ///< a menu, the list of everything, or help, over the panes
  struct Hint {
    Area area;
    Action action = Action::kNone;
    Key key = 0;
  };

  void key(Key key);
  void list_key(Key key);
  void edit_key(Key key);
  void press(const Event& event);
  void release(const Event& event);
  void act(Action action);
  void step(const std::string& words);
  void tick(const std::string& now);
  void hear_in_passing(const std::string& now);
  void handle_one(const Event& event);
  void handle_all(Event event);
  void draw();
  void use(std::string name);  // a copy: what it names may go
  void use_next(int by);
  void replace();
  void swap_with_next();
  void find();
  void help();
  void close_list();
  void leave(Left how);
  void keep();  ///< breakpoints and watches, for the next time
  void arrange();
  Arrangement& arrangement();
  [[nodiscard]] bool narrow() const;
  [[nodiscard]] bool too_small() const { return rows_ < 8 || columns_ < 40; }
  [[nodiscard]] bool in_sight(const std::string& name) const;

  void draw_panes(Frame& frame);
  void draw_pane(Frame& frame, const Placed& placed);
  void draw_bars(Frame& frame);
  void draw_edit(Frame& frame);
  void draw_list(Frame& frame);

  Console& console_;
  Terminal& terminal_;
  History& history_;
  Log& log_;
  std::string settings_path_;
  Settings settings_;
  std::string kept_settings_;  ///< as the file says; nothing is written if they are the same
  bool may_write_settings_ = true;
  std::unique_ptr<Writer> writer_before_;
  std::map<std::string, std::unique_ptr<Pane>> panes_;
  Placement placement_;
  std::string in_use_;
  std::string alone_;
  int rows_ = 24, columns_ = 80;
  bool utf8_;
  std::string message_;
  Look message_look_ = Look::kPlain;
  std::vector<Hint> hints_;
  std::unique_ptr<List> list_;
  struct Edit {
    std::string before;
    Field field;
    std::string pane;
  };
  std::optional<Edit> edit_;
  std::optional<Event> pressed_;
  std::optional<Left> left_;
  bool leave_when_paused_ = false;
  std::chrono::steady_clock::time_point drawn_at_;
  bool tick_posted_ = false;
  std::optional<Frame> drawn_;  ///< the last one
  std::deque<Event> waiting_;   ///< what was typed while a command looked through a run
  std::shared_ptr<bool> here_ = std::make_shared<bool>(true);  ///< goes with the screen
  bool stale_ = true;  ///< something has happened since the last frame
};

}  // namespace lucid::app

#endif  // LUCID_APP_SCREEN_SCREEN_H
