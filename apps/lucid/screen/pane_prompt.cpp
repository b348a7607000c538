// SPDX-License-Identifier: MIT
// The prompt within the screen: the whole command language, with history and completion.
#include <fmt/format.h>

#include <algorithm>

#include "screen/field.h"
#include "screen/pane.h"

namespace lucid::app {
namespace {

class PromptPane final : public Pane, public TypingPane {
 public:
  PromptPane() : Pane("prompt") {}
  [[nodiscard]] Least least() const override { return {3, 24}; }
  std::string title(Desk& /*desk*/) override { return typing_ ? "prompt: typing" : "prompt"; }
  [[nodiscard]] const char* help() const override {
    return "What commands have answered, and a line to type them: everything that there is at the "
           "prompt. `help` lists the commands.\n"
           "Enter or {command} begins typing. Tab completes, Up and Down are the commands before; "
           "an empty line repeats the last step or go. PageUp, PageDown and the wheel scroll.";
  }
  void start_typing(const std::string& text) override {
    typing_ = true;
    if (!text.empty()) field_.set(text);
  }

  void look(Desk& desk, int rows, int columns) override {
    utf8_ = desk.utf8();
    height_ = rows;
    lines_.clear();
    std::vector<Line> below;
    if (!offered_.empty() && typing_) {  // what the line could go on to
      std::string text = " ";
      for (const std::string& word : offered_) {
        std::string next = text;
        next.append(" ").append(word);
        if (cells_of(next, utf8_) > columns - 2) {
          text += utf8_ ? " …" : " ..";
          break;
        }
        text = next;
      }
      below.emplace_back().add(text, Look::kDim);
    }
    const std::string prompt = desk.running() ? "runs> " : desk.prompt();
    Line line;
    line.add(" ").add(prompt, Look::kAccent, 1);
    const int before = cells_of(prompt, utf8_) + 1;
    const int width = std::max(columns - before - 1, 1);
    const Field::Part part = field_.visible_part(width);
    line.add(typing_ ? fitted(part.text, width, utf8_) : part.text,
             typing_ ? Look::kField : Look::kDim, 1);
    below.push_back(std::move(line));
    const int room = std::max(rows - static_cast<int>(below.size()), 0);
    // From the last line upwards as far as is seen.
    const std::vector<Line>& log = desk.log();
    std::vector<Line> shown;
    const int wanted = room + std::max(scroll_, 0) + height_;
    for (std::size_t i = log.size(); i-- > 0 && static_cast<int>(shown.size()) < wanted;) {
      auto pieces = wrapped(log[i], columns - 1);
      for (std::size_t n = pieces.size(); n-- > 0;) shown.push_back(std::move(pieces[n]));
    }
    most_ = std::max(static_cast<int>(shown.size()) - room, 0);
    const auto begin = static_cast<std::size_t>(std::clamp(scroll_, 0, most_));
    const std::size_t end = std::min(shown.size(), begin + static_cast<std::size_t>(room));
    for (std::size_t i = end; i-- > begin;) lines_.push_back(std::move(shown[i]));
    for (Line& one : below) {
      if (&one == &below.back())
        caret_ = std::pair{static_cast<int>(lines_.size()), before + part.caret};
      lines_.push_back(std::move(one));
    }
  }
  [[nodiscard]] const std::vector<Line>& lines() const override { return lines_; }
  [[nodiscard]] std::optional<std::pair<int, int>> caret() const override {
    return typing_ ? caret_ : std::nullopt;
  }

  bool key(Desk& desk, Key key) override {
    if (key == kPageUp || key == kPageDown) {
      scroll((key == kPageUp ? 1 : -1) * std::max(height_ - 2, 1));
      return true;
    }
    if (!typing_) {
      if (key == kEnter) return typing_ = true;
      if (key == kUp || key == kDown) return scroll(key == kUp ? 1 : -1), true;
      if (key == kEnd) return scroll_ = 0, true;
      return false;
    }
    if (key != kTab) offered_.clear();
    if (key == kEnter) {
      const std::string line = field_.text();
      field_.set("");
      scroll_ = 0;
      back_ = 0;
      if (!line.empty()) desk.remember(line);
      desk.command(line);
    } else if (key == kTab) {
      complete(desk);
    } else if (key == kUp || key == kDown) {
      recall(desk, key == kUp ? 1 : -1);
    } else {
      field_.key(key);
    }
    return true;
  }
  void press(Desk& /*desk*/, int row, int /*column*/) override {
    if (row + 1 == static_cast<int>(lines_.size())) typing_ = true;
  }
  void wheel(Desk& /*desk*/, int lines) override { scroll(-lines); }
  [[nodiscard]] bool typing() const override { return typing_; }
  void stop_typing() override {
    typing_ = false;
    offered_.clear();
  }

 private:
  /// Lines upwards from the end of the log.
  void scroll(int by) { scroll_ = std::clamp(std::clamp(scroll_, 0, most_) + by, 0, most_); }
  void complete(Desk& desk) {
    const std::string line = field_.text().substr(0, field_.caret());
    const auto found = desk.completions(line);
    offered_.clear();
    if (found.empty()) return;
    std::string common = found.begin()->first;
    for (const auto& [word, ends] : found) {
      while (word.compare(0, common.size(), common) != 0) common.pop_back();
      if (found.size() > 1) offered_.push_back(word);
    }
    const std::size_t blank = line.rfind(' ');
    const std::size_t start = blank == std::string::npos ? 0 : blank + 1;
    if (common.size() < line.size() - start) return;
    if (found.size() == 1 && found.begin()->second) common += ' ';
    const std::string behind = field_.text().substr(field_.caret());
    field_.set(line.substr(0, start) + common + behind);
    for (std::size_t i = 0; i < behind.size(); ++i)
      if ((behind[i] & 0xc0) != 0x80) field_.key(kLeft);
  }
  void recall(Desk& desk, int by) {
    const auto& history = desk.history();
    back_ = std::clamp<long>(back_ + by, 0, static_cast<long>(history.size()));
    field_.set(back_ == 0 ? "" : history[history.size() - static_cast<std::size_t>(back_)]);
  }
  /// A line of the log in as many as it takes.
  [[nodiscard]] std::vector<Line> wrapped(const Line& line, int columns) const {
    std::vector<Line> out(1);
    out.back().add(" ");
    int used = 1;
    for (const Piece& piece : line.pieces) {
      std::string_view rest = piece.text;
      while (!rest.empty()) {
        std::size_t take = bytes_in_cells(rest, columns - used);
        if (take < rest.size())  // between words, if there are some
          if (const std::size_t blank = rest.rfind(' ', take);
              blank != std::string_view::npos && blank > 0)
            take = blank + 1;
        if (take > 0) out.back().add(std::string(rest.substr(0, take)), piece.look);
        used += cells_of(rest.substr(0, take), utf8_);
        rest.remove_prefix(take);
        if (!rest.empty()) {
          out.emplace_back().add("    ");
          used = 4;
        }
      }
    }
    return out;
  }

  std::vector<Line> lines_;
  std::vector<std::string> offered_;
  Field field_;
  std::optional<std::pair<int, int>> caret_;
  int scroll_ = 0, most_ = 0, height_ = 1;
  long back_ = 0;
  bool typing_ = false, utf8_ = true;
};

}  // namespace

std::unique_ptr<Pane> make_prompt_pane() { return std::make_unique<PromptPane>(); }

}  // namespace lucid::app
