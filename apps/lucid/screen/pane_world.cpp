// SPDX-License-Identifier: MIT
// What is outside the program: pins, the parts on them, and what serial ports say.
#include <fmt/format.h>

#include <algorithm>

#include "grammar.h"
#include "output.h"
#include "screen/field.h"
#include "screen/pane.h"
#include "text.h"

namespace lucid::app {
namespace {

constexpr int kPinName = 1, kPinLevel = 2, kPinDrivers = 3;

class PinsPane final : public ListPane {
 public:
  PinsPane() : ListPane("pins") {}
  [[nodiscard]] Least least() const override { return {4, 28}; }
  [[nodiscard]] const char* help() const override {
    return "The chip's pins: direction, level, and who determines it. A level that has changed "
           "stands out.\n"
           "Enter drives a pin to the other level from outside, Delete lets go of it, a right "
           "click offers all there is. {view}: all pins, or those that somebody uses.\n"
           "{trace} records a pin over time.";
  }
  std::string title(Desk& /*desk*/) override { return all_ ? "pins" : "pins in use"; }
  std::string object(Desk& /*desk*/) override {
    return count() != 0 ? "pin." + pins_[cursor()].pin.name : std::string();
  }
  void next_view(Desk& /*desk*/) override { all_ = !all_; }
  std::string explanation(Desk& /*desk*/) override {
    if (count() == 0) return {};
    const PinState& pin = pins_[cursor()].pin;
    return fmt::format("{} is an {}, {}: {}", pin.name, pin.output ? "output" : "input",
                       pin.level ? "high" : "low", drivers_of(pin));
  }

 protected:
  std::size_t gather(Desk& desk, int /*columns*/, std::string& problem) override {
    pins_ = desk.session().pins();
    if (!all_)
      pins_.erase(std::remove_if(pins_.begin(), pins_.end(),
                                 [](const PinView& v) {
                                   return v.pin.floating && v.pin.taken_by.empty() && !v.pin.output;
                                 }),
                  pins_.end());
    problem =
        "nobody uses a pin yet; " + name_of(desk.settings().keys.at(Action::kView)) + " shows all";
    return pins_.size();
  }
  std::string key_of_row(std::size_t index) const override {
    return index < pins_.size() ? pins_[index].pin.name : std::string();
  }
  Line row(Desk& desk, std::size_t index, int /*columns*/) override {
    const PinState& pin = pins_[index].pin;
    Line out;
    out.add(fmt::format(" {:<4}", pin.name), Look::kPlain, kPinName);
    out.add(pin.output ? " out " : " in  ", Look::kDim);
    const std::string level = pin.level ? "high" : "low";
    const std::string mark = desk.utf8() ? pin.level ? "▀ " : "▁ " : pin.level ? "\" " : "_ ";
    out.add(mark + fmt::format("{:<5}", level),
            ages_.look(pin.name, level, desk.pauses(), pin.floating ? Look::kDim : Look::kPlain),
            kPinLevel);
    return out.add(drivers_of(pin),
                   pin.contention ? Look::kBad
                   : pin.floating ? Look::kDim
                                  : Look::kPlain,
                   kPinDrivers);
  }
  void enter(Desk& desk, std::size_t index, int part) override {
    if (part == kPinDrivers) return offer(desk, index, part);
    const PinState& pin = pins_[index].pin;
    desk.command(fmt::format("drive {} {}", pin.name, pin.level ? "low" : "high"));
  }
  void offer(Desk& desk, std::size_t index, int /*part*/) override {
    const std::string name = pins_[index].pin.name;
    Menu menu{name, {}};
    for (const auto& [what, words] :
         {std::pair{"high", "from outside"}, std::pair{"low", "from outside"},
          std::pair{"open", "let go of it"}, std::pair{"high for 5ms", "then let go"},
          std::pair{"low for 5ms", "then let go"}})
      menu.choices.push_back(
          {what, words, [&desk, line = "drive " + name + " " + what] { desk.command(line); }});
    menu.choices.push_back(
        {"trace", "record it over time", [&desk, name] { desk.command("trace pin." + name); }});
    menu.choices.push_back({"pause on edge", "whenever it changes",
                            [&desk, name] { desk.command("pause on edge " + name); }});
    menu.choices.push_back({"origin", "where its level has come from",
                            [&desk, name] { desk.command("origin pin." + name); }});
    desk.choose(std::move(menu));
  }
  void remove(Desk& desk, std::size_t index) override {
    desk.command("drive " + pins_[index].pin.name + " open");
  }

 private:
  std::vector<PinView> pins_;
  bool all_ = false;
  Ages ages_;
};

class PartsPane final : public ListPane {
 public:
  PartsPane() : ListPane("parts") {}
  [[nodiscard]] Least least() const override { return {3, 26}; }
  [[nodiscard]] const char* help() const override {
    return "Parts on the bench, and how they are. What a hand can do to one stands behind it: "
           "press, release, turn.\n"
           "Left and Right choose an action, Enter or a click carries it out. {trace} records what "
           "can be measured of a part.";
  }
  std::string signal(Desk& /*desk*/) override {
    return count() != 0 ? "part " + parts_[cursor()].name : std::string();
  }

 protected:
  std::size_t gather(Desk& desk, int /*columns*/, std::string& problem) override {
    parts_ = desk.session().chip().parts();
    problem = "no parts on the pins: open the image with --bench FILE";
    return parts_.size();
  }
  std::string key_of_row(std::size_t index) const override {
    return index < parts_.size() ? parts_[index].name : std::string();
  }
  Line row(Desk& desk, std::size_t index, int columns) override {
    const PartState& part = parts_[index];
    Line out;
    out.add(" " + part.name, Look::kPlain, 1).add("  ");
    int used = cells_of(part.name, desk.utf8()) + 3;
    Line actions;
    int width = 0;
    for (std::size_t i = 0; i < part.actions.size(); ++i) {
      const PartState::Action& a = part.actions[i];
      const std::string text = a.any_value || a.value.empty() ? a.action : a.value;
      actions.add("  ").add("[" + text + "]", Look::kKey, static_cast<int>(i) + 2);
      width += 2 + cells_of("[" + text + "]", desk.utf8());
    }
    std::string state = part.state;
    const int room = std::max(columns - used - width, 4);
    if (cells_of(state, desk.utf8()) > room && width != 0) state = fitted(state, room, desk.utf8());
    out.add(state, part.failed ? Look::kBad : ages_.look(part.name, part.state, desk.pauses()));
    for (Piece& piece : actions.pieces) out.pieces.push_back(std::move(piece));
    return out;
  }
  void enter(Desk& desk, std::size_t index, int part) override { act(desk, index, part); }
  bool touch(Desk& desk, std::size_t index, int part) override {
    if (part < 2) return false;
    set_cursor(index, part);
    act(desk, index, part);
    return true;
  }
  void offer(Desk& desk, std::size_t index, int /*part*/) override {
    const PartState& part = parts_[index];
    if (part.actions.empty()) return desk.say("nobody can do anything to " + part.name, Look::kDim);
    Menu menu{part.name, {}};
    for (std::size_t i = 0; i < part.actions.size(); ++i)
      menu.choices.push_back(
          {part.actions[i].action + " " + part.actions[i].value, "",
           [this, &desk, index, i] { act(desk, index, static_cast<int>(i) + 2); }});
    desk.choose(std::move(menu));
  }

 private:
  void act(Desk& desk, std::size_t index, int part) {
    if (index >= parts_.size()) return;
    const PartState& p = parts_[index];
    const auto action = static_cast<std::size_t>(part) - 2;
    if (part < 2 || action >= p.actions.size())
      return p.actions.empty() ? desk.say("nobody can do anything to " + p.name, Look::kDim)
                               : offer(desk, index, part);
    const PartState::Action a = p.actions[action];
    if (a.any_value) return desk.edit("turn " + p.name + " ", a.value);
    desk.command(a.value.empty() ? a.action + " " + p.name
                                 : a.action + " " + p.name + " " + a.value);
  }
  std::vector<PartState> parts_;
  Ages ages_;
};

class SerialPane final : public Pane {
 public:
  SerialPane() : Pane("serial") {}
  [[nodiscard]] Least least() const override { return {4, 24}; }
  std::string title(Desk& desk) override {
    const std::string port = port_of(desk);
    std::string out = port.empty() ? "serial" : "serial: " + port;
    if (raw_) out += ", all characters";
    if (typing_) out += ": typing";
    return out;
  }
  [[nodiscard]] const char* help() const override {
    return "What the firmware has sent. Bytes that are no printable characters are written as "
           "\\x07; {view} shows the ends of lines, too, and the next port.\n"
           "Enter begins typing: a line is sent with Enter, with escapes such as \\x03 and \\n in "
           "it; Up and Down are the lines before. Tab changes what ends a line.";
  }

  void look(Desk& desk, int rows, int columns) override {
    utf8_ = desk.utf8();
    height_ = rows;
    lines_.clear();
    const std::string port = port_of(desk);
    const int room = std::max(rows - 1, 1);
    if (port.empty()) {
      lines_.emplace_back().add(" this chip has no serial port", Look::kDim);
      return;
    }
    std::vector<Line> all = wrapped(desk.serial_text(port), columns);
    most_ = std::max(static_cast<int>(all.size()) - room, 0);
    const int end = static_cast<int>(all.size()) - std::clamp(scroll_, 0, most_);
    for (int i = std::max(end - room, 0); i < end; ++i)
      lines_.push_back(std::move(all[static_cast<std::size_t>(i)]));
    while (static_cast<int>(lines_.size()) < room) lines_.emplace_back();
    Line line;
    const std::string mark = typing_ ? "> " : "  ";
    line.add(mark, Look::kAccent, 1);
    const std::string tail = " " + desk.settings().line_end;
    const int width = std::max(columns - 2 - cells_of(tail, utf8_), 1);
    const Field::Part part = field_.visible_part(width);
    if (typing_) {
      line.add(fitted(part.text, width, utf8_), Look::kField, 1);
      line.add(tail, Look::kDim, 1);
      caret_ = std::pair{static_cast<int>(lines_.size()), 2 + part.caret};
    } else {
      line.add("Enter: type to the firmware", Look::kDim, 1);
    }
    lines_.push_back(std::move(line));
  }
  [[nodiscard]] const std::vector<Line>& lines() const override { return lines_; }
  [[nodiscard]] std::optional<std::pair<int, int>> caret() const override {
    return typing_ ? caret_ : std::nullopt;
  }
  bool key(Desk& desk, Key key) override {
    if (!typing_) {
      switch (key) {
        case kEnter: typing_ = true; return true;
        case kUp: scroll(1); return true;
        case kDown: scroll(-1); return true;
        case kPageUp: scroll(height_ - 2); return true;
        case kPageDown: scroll(2 - height_); return true;
        case kHome: scroll_ = most_; return true;
        case kEnd: scroll_ = 0; return true;
        default: return false;
      }
    }
    if (key == kEnter) {
      send(desk);
    } else if (key == kTab) {
      std::string& end = desk.settings().line_end;
      end = end == "\\n" ? "\\r" : end == "\\r" ? "\\r\\n" : end.empty() ? "\\n" : "";
    } else if (key == kUp || key == kDown) {
      recall(key == kUp ? -1 : 1);
    } else {
      field_.key(key);
    }
    return true;
  }
  void press(Desk& desk, int row, int /*column*/) override {
    if (row + 1 == static_cast<int>(lines_.size()) && !port_of(desk).empty()) typing_ = true;
  }
  void wheel(Desk& /*desk*/, int lines) override { scroll(-lines); }
  [[nodiscard]] bool typing() const override { return typing_; }
  void stop_typing() override { typing_ = false; }
  void next_view(Desk& desk) override {
    raw_ = !raw_;
    if (!raw_) port_ = (port_ + 1) % std::max<std::size_t>(ports_of(desk).size(), 1);
  }

 private:
  static const std::vector<std::string>& ports_of(Desk& desk) {
    return desk.session().chip().info().serial_ports;
  }
  /// The one that is shown and typed to; empty: the chip has none.
  [[nodiscard]] std::string port_of(Desk& desk) const {
    const auto& ports = ports_of(desk);
    return ports.empty() ? "" : ports[std::min(port_, ports.size() - 1)];
  }
  void scroll(int by) { scroll_ = std::clamp(std::clamp(scroll_, 0, most_) + by, 0, most_); }
  void send(Desk& desk) {
    if (port_of(desk).empty()) return;
    std::string text;
    for (const char c : field_.text()) text += c == '"' ? std::string("\\\"") : std::string(1, c);
    desk.command(fmt::format("feed {} \"{}{}\"", port_of(desk), text, desk.settings().line_end));
    if (!field_.text().empty()) sent_.push_back(field_.text());
    at_ = sent_.size();
    field_.set("");
  }
  void recall(int by) {
    if (by < 0 && at_ > 0) --at_;
    if (by > 0 && at_ < sent_.size()) ++at_;
    field_.set(at_ < sent_.size() ? sent_[at_] : "");
  }

  [[nodiscard]] std::vector<Line> wrapped(const std::string& text, int columns) const {
    std::vector<Line> out;
    Line line;
    int used = 0;
    const auto put = [&](const std::string& shown, Look look) {
      const int width = cells_of(shown, utf8_);
      if (used + width > columns - 1) {
        out.push_back(std::move(line));
        line = {};
        used = 0;
      }
      if (used == 0) line.add(" ");
      if (!line.pieces.empty() && line.pieces.back().look == look && used != 0)
        line.pieces.back().text += shown;
      else
        line.add(shown, look);
      used += width;
    };
    for (std::size_t i = 0; i < text.size();) {
      const char c = text[i];
      if (c == '\n') {
        if (raw_) put("\\n", Look::kDim);
        out.push_back(std::move(line));
        line = {};
        used = 0;
        ++i;
      } else if (c == '\r' && !raw_ && i + 1 < text.size() && text[i + 1] == '\n') {
        ++i;
      } else if (c == '\r') {
        put("\\r", Look::kDim);
        ++i;
      } else {
        std::size_t end = i + 1;
        while (end < text.size() && (text[end] & 0xc0) == 0x80 && end - i < 4) ++end;
        const std::string one = text.substr(i, end - i);
        if (is_utf8(one) && static_cast<unsigned char>(c) >= 0x20 && c != 0x7f) {
          put(one, Look::kPlain);
          i = end;
        } else {
          put(fmt::format("\\x{:02x}", static_cast<unsigned char>(c)), Look::kDim);
          ++i;
        }
      }
    }
    if (used != 0) out.push_back(std::move(line));
    return out;
  }

  std::vector<Line> lines_;
  Field field_;
  std::vector<std::string> sent_;
  std::size_t at_ = 0;
  std::optional<std::pair<int, int>> caret_;
  int scroll_ = 0, most_ = 0, height_ = 1;
  std::size_t port_ = 0;  ///< of the chip's
  bool typing_ = false, raw_ = false, utf8_ = true;
};

}  // namespace

std::unique_ptr<Pane> make_pins_pane() { return std::make_unique<PinsPane>(); }
std::unique_ptr<Pane> make_parts_pane() { return std::make_unique<PartsPane>(); }
std::unique_ptr<Pane> make_serial_pane() { return std::make_unique<SerialPane>(); }

}  // namespace lucid::app
