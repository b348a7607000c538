// SPDX-License-Identifier: MIT
// Pane: one view of the program on the screen. It says what it shows as lines of text, and what
// keys and clicks on them mean, mostly as commands: what it does is said in the command language
// and decided by the session.
#ifndef LUCID_APP_SCREEN_PANE_H
#define LUCID_APP_SCREEN_PANE_H

#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "lucid/session.h"
#include "screen/frame.h"
#include "screen/keys.h"
#include "screen/layout.h"

namespace lucid::app {

/// A list to choose from, over the panes.
struct Menu {
  struct Choice {
    std::string text, detail;
    std::function<void()> act;
  };
  std::string title;
  std::vector<Choice> choices;
};

/// What there is beside a pane.
class Desk {
 public:
  virtual ~Desk() = default;
  [[nodiscard]] virtual Session& session() = 0;
  [[nodiscard]] virtual bool running() const = 0;
  [[nodiscard]] virtual bool utf8() const = 0;
  /// The pane that keys act on.
  [[nodiscard]] virtual const std::string& in_use() const = 0;
  [[nodiscard]] virtual unsigned pauses() const = 0;  ///< so far; the next one while it runs
  /// Another number after each pause; 0 while it runs.
  [[nodiscard]] virtual unsigned standing() const = 0;
  /// Carries out a command as if it had been typed.
  virtual void command(const std::string& line) = 0;
  /// On the line below the panes, until the next key.
  virtual void say(const std::string& text, Look look) = 0;
  /// Lets a person type in the place of what is under the cursor: `before` + text is carried out.
  virtual void edit(const std::string& before, const std::string& text) = 0;
  virtual void choose(Menu menu) = 0;
  virtual void show_code(const std::string& place) = 0;
  virtual void show_memory(const std::string& area, std::uint32_t address) = 0;
  /// The lines that commands have written, and what serial ports have sent.
  [[nodiscard]] virtual const std::vector<Line>& log() const = 0;
  [[nodiscard]] virtual std::string serial_text(const std::string& port) const = 0;
  [[nodiscard]] virtual Settings& settings() = 0;
  /// The commands of this and earlier sessions, the latest last.
  [[nodiscard]] virtual const std::vector<std::string>& history() const = 0;
  virtual void remember(const std::string& line) = 0;
  [[nodiscard]] virtual std::string prompt() const = 0;
  [[nodiscard]] virtual std::map<std::string, bool> completions(const std::string& line) const = 0;
};

/// Which values have changed with the last steps.
class Ages {
 public:
  /// Fresh, recent, older or plain, of a value that is seen now.
  Look look(const std::string& key, const std::string& value, unsigned pause,
            Look otherwise = Look::kPlain);

 private:
  struct Seen {
    std::string value;
    unsigned changed = 0;
  };
  std::map<std::string, Seen> seen_;
};
Look look_of_age(unsigned pauses_ago, Look otherwise = Look::kPlain);

class Pane {
 public:
  explicit Pane(std::string name) : name_(std::move(name)) {}
  Pane(const Pane&) = delete;
  Pane& operator=(const Pane&) = delete;
  virtual ~Pane() = default;

  [[nodiscard]] const std::string& name() const { return name_; }
  [[nodiscard]] virtual std::string title(Desk& /*desk*/) { return name_; }
  [[nodiscard]] virtual Least least() const { return {}; }
  /// What it is for and what keys do in it, for a person.
  [[nodiscard]] virtual const char* help() const = 0;
  /// Looks at the session anew, for so much room without the title.
  virtual void look(Desk& desk, int rows, int columns) = 0;
  /// As many lines as there is room for at most.
  [[nodiscard]] virtual const std::vector<Line>& lines() const = 0;
  /// The row among lines() that keys act on, and the part in it; -1: none.
  [[nodiscard]] virtual int cursor_row() const { return -1; }
  [[nodiscard]] virtual int cursor_part() const { return 0; }
  /// Where the caret stands while text is typed.
  [[nodiscard]] virtual std::optional<std::pair<int, int>> caret() const { return {}; }
  /// False if it has no use for a key.
  virtual bool key(Desk& desk, Key key) = 0;
  /// The left button on a row and column of its lines.
  virtual void press(Desk& desk, int row, int column) = 0;
  virtual void menu(Desk& /*desk*/, int /*row*/, int /*column*/) {}
  virtual void wheel(Desk& desk, int lines) = 0;
  virtual void drag(Desk& /*desk*/, int /*rows*/, int /*columns*/) {}
  [[nodiscard]] virtual bool typing() const { return false; }
  virtual void stop_typing() {}
  /// What is under the cursor as an expression (to watch) and as a place (to pause at); empty:
  /// none.
  [[nodiscard]] virtual std::string object(Desk& /*desk*/) { return {}; }
  [[nodiscard]] virtual std::string signal(Desk& desk) { return object(desk); }
  [[nodiscard]] virtual std::string place(Desk& /*desk*/) { return {}; }
  /// A line that explains what is under the cursor.
  [[nodiscard]] virtual std::string explanation(Desk& /*desk*/) { return {}; }
  /// Brings something of this name into sight.
  virtual void reveal(Desk& /*desk*/, const std::string& /*name*/) {}
  [[nodiscard]] virtual bool by_instruction() const { return false; }
  virtual void next_view(Desk& desk);
  virtual void follow(Desk& /*desk*/) {}

 private:
  std::string name_;
};

/// Rows one above the other, with a cursor; only those in sight are worked out.
class ListPane : public Pane {
 public:
  using Pane::Pane;
  void look(Desk& desk, int rows, int columns) override;
  [[nodiscard]] const std::vector<Line>& lines() const override { return lines_; }
  [[nodiscard]] int cursor_row() const override;
  [[nodiscard]] int cursor_part() const override { return part_; }
  bool key(Desk& desk, Key key) override;
  void press(Desk& desk, int row, int column) override;
  void menu(Desk& desk, int row, int column) override;
  void wheel(Desk& desk, int lines) override;

 protected:
  /// Before rows are asked for: how many are there, or why are there none?
  virtual std::size_t gather(Desk& desk, int columns, std::string& problem) = 0;
  virtual Line row(Desk& desk, std::size_t index, int columns) = 0;
  /// Enter, or a click on what is under the cursor already.
  virtual void enter(Desk& /*desk*/, std::size_t /*index*/, int /*part*/) {}
  /// Delete.
  virtual void remove(Desk& /*desk*/, std::size_t /*index*/) {}
  /// What a right click lets one choose from.
  virtual void offer(Desk& desk, std::size_t index, int part) { enter(desk, index, part); }
  /// A part of a row that is clicked, at once: a margin. True: that was all.
  virtual bool touch(Desk& /*desk*/, std::size_t /*index*/, int /*part*/) { return false; }
  /// Is a part one that keys act on? And which of a row's at first; 0: none.
  [[nodiscard]] virtual bool can_choose(int /*part*/) const { return true; }
  [[nodiscard]] virtual int first_part(const std::vector<int>& parts) const {
    return parts.empty() ? 0 : parts.back();
  }
  /// Finds a row again, when others have come or gone; the same index by default.
  virtual std::string key_of_row(std::size_t /*index*/) const { return {}; }

  void set_cursor(std::size_t index, int part = 0);
  /// The same by a person: it comes into sight.
  void choose(std::size_t index, int part);
  /// Scrolls so that the cursor is in the middle third.
  void centre();
  [[nodiscard]] std::size_t cursor() const { return cursor_; }
  [[nodiscard]] std::size_t count() const { return count_; }
  /// Rows may be scrolled in from below a blank top, so that the first ones can be in the middle.
  void allow_blank_above() { blank_above_ = true; }
  /// The first row in sight, as somebody has wanted it; a size that does not allow it changes
  /// nothing about that.
  [[nodiscard]] long wanted_top() const { return wanted_; }
  void want_top(long row) { wanted_ = row; }

 private:
  enum class See : std::uint8_t { kNothing, kCursor, kCursorInMiddle };
  void find_top();
  void stay();
  [[nodiscard]] std::vector<int> parts(const Line& line) const;

  std::vector<Line> lines_;
  std::size_t count_ = 0, cursor_ = 0;
  std::string cursor_key_;
  int part_ = 0;
  long wanted_ = 0;
  long top_ = 0;  ///< index of the first line in sight; below 0: blank lines above
  See see_ = See::kCursor;
  bool moved_ = false;  ///< the cursor: what is in sight then is what is wanted
  int height_ = 1;
  bool blank_above_ = false, utf8_ = true;
};

/// All panes, by pane_names().
std::vector<std::unique_ptr<Pane>> make_panes();
// Of the files they are in:
std::unique_ptr<Pane> make_code_pane(const std::string& name, bool instructions);
std::unique_ptr<Pane> make_variables_pane();
std::unique_ptr<Pane> make_watches_pane();
std::unique_ptr<Pane> make_callers_pane();
std::unique_ptr<Pane> make_registers_pane();
std::unique_ptr<Pane> make_io_pane();
std::unique_ptr<Pane> make_memory_pane();
std::unique_ptr<Pane> make_stack_pane();
std::unique_ptr<Pane> make_pins_pane();
std::unique_ptr<Pane> make_parts_pane();
std::unique_ptr<Pane> make_traces_pane();
std::unique_ptr<Pane> make_serial_pane();
std::unique_ptr<Pane> make_breakpoints_pane();
std::unique_ptr<Pane> make_timeline_pane();
std::unique_ptr<Pane> make_findings_pane();
std::unique_ptr<Pane> make_prompt_pane();

/// What the screen asks of two of them.
class CodeView {
 public:
  virtual ~CodeView() = default;
  virtual void show(Desk& desk, const std::string& place) = 0;
};
class MemoryDisplay {
 public:
  virtual ~MemoryDisplay() = default;
  virtual void show(Desk& desk, const std::string& area, std::uint32_t address) = 0;
};
class TypingPane {
 public:
  virtual ~TypingPane() = default;
  virtual void start_typing(const std::string& text) = 0;
};

/// Blanks behind it up to a width, or cut to it.
std::string fitted(const std::string& text, int cells, bool utf8);

}  // namespace lucid::app

#endif  // LUCID_APP_SCREEN_PANE_H
