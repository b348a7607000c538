// SPDX-License-Identifier: MIT
// The writer for people: commands, views and serial text, in lines that do not get into each
// other's way.
#include <fmt/format.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <algorithm>
#include <cctype>
#include <chrono>
#include <map>
#include <utility>

#include "output.h"
#include "text.h"
#include "writer.h"

namespace lucid::app {

std::size_t Style::columns(std::string_view text) const { return app::columns(text, utf8_); }

std::string Style::padded(std::string text, std::size_t width) const {
  const std::size_t now = columns(text);
  if (now < width) text.append(width - now, ' ');
  return text;
}

std::string Style::clipped(const std::string& text, std::size_t width) const {
  if (columns(text) <= width) return text;
  const std::size_t mark = columns("…");
  std::string out;
  for (std::size_t i = 0; i < text.size();) {
    std::size_t end = i + 1;
    while (end < text.size() && (text[end] & 0xc0) == 0x80) ++end;
    if (columns(text.substr(0, end)) + mark > width) break;
    out += text.substr(i, end - i);
    i = end;
  }
  return out + "…";
}

namespace {

bool is_number(const std::string& text, std::size_t end) {
  return end != 0 && text[end - 1] >= '0' && text[end - 1] <= '9';
}
bool is_unit(const std::string& text, std::size_t begin) {
  const std::size_t end = std::min(text.find_first_of(" ,;:.", begin), text.size());
  const std::string_view word = std::string_view(text).substr(begin, end - begin);
  constexpr std::string_view kUnits[] = {"h", "min", "s", "ms", "us", "ns", "ps"};
  return std::find(std::begin(kUnits), std::end(kUnits), word) != std::end(kUnits);
}

}  // namespace

std::string Style::wrapped(const std::string& text, std::size_t indent) const {
  std::string out;
  std::size_t used = 0;
  std::size_t at = 0;
  while (at < text.size()) {
    std::size_t end = std::min(text.find(' ', at), text.size());
    while (end + 1 < text.size() && is_number(text, end) && is_unit(text, end + 1))
      end = std::min(text.find(' ', end + 1), text.size());  // "4.000 s" stays together
    const std::string word = text.substr(at, end - at);
    if (used != 0 && indent + used + 1 + columns(word) > width_) {
      out += "\n" + std::string(indent, ' ');
      used = 0;
    }
    out += (used == 0 ? "" : " ") + word;
    used += columns(word) + (used == 0 ? 0 : 1);
    at = end + 1;
  }
  return out;
}

namespace {

constexpr std::size_t kLeastWidth = 80;

std::size_t terminal_width(bool terminal) {
  winsize size{};
  if (!terminal || ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) != 0) return kLeastWidth;
  return std::max<std::size_t>(size.ws_col, kLeastWidth);
}

class TextWriter final : public Writer {
 public:
  TextWriter(std::ostream& out, const TextStyle& style)
      : out_(out), options_(style), style_(style.palette, style.utf8, kLeastWidth) {}

  void begin(const std::string& id, const std::string& prompt,
             const std::string& command) override {
    style_ = Style(options_.palette, options_.utf8, terminal_width(options_.terminal));
    if (!id.empty()) began_ = std::chrono::steady_clock::now();
    if (options_.echo && !prompt.empty()) write(style_.typed(prompt + command) + "\n");
  }

  void reply(const Reply& reply) override {
    end_plain_line();
    write(to_text(reply, style_));
  }

  void error(const Error& error) override {
    end_plain_line();
    write(style_.bad(options_.terminal ? style_.wrapped(error.text(), 2) : error.text()) + "\n");
  }

  void end(const Result<void>& /*result*/) override {}

  /// The first port's bytes as they come, where that is wanted; else whole lines, with their port
  /// if it is another one.
  void serial(const std::string& port, bool first, const std::string& bytes) override {
    if (first) first_port_ = port;
    if (options_.plain_serial && first) return plain(bytes);
    for (const char c : bytes) {
      Line& line = lines_[port];
      if (c == '\n')
        write_line(port, true);
      else if (c != '\r')
        line.text += std::isprint(static_cast<unsigned char>(c)) != 0
                         ? std::string(1, c)
                         : fmt::format("\\x{:02x}", static_cast<unsigned char>(c));
    }
  }

  void pause_serial() override {
    end_plain_line();
    for (auto& [port, line] : lines_) write_line(port, false);
  }

  void progress(const std::string& now) override {
    if (!options_.terminal) return;
    const auto clock = std::chrono::steady_clock::now();
    if (clock - began_ < std::chrono::seconds(1) ||
        clock - progress_at_ < std::chrono::milliseconds(100))
      return;
    progress_at_ = clock;
    out_ << "\r\x1b[K" << style_.dim("  running: " + now + " (Ctrl-C pauses)") << std::flush;
    progress_drawn_ = true;
  }

 private:
  /// What a port has sent of a line, and whether its beginning has been shown.
  struct Line {
    std::string text;
    bool goes_on = false;
  };

  void write(const std::string& text) {
    if (std::exchange(progress_drawn_, false)) out_ << "\r\x1b[K";
    out_ << visible(text, style_.colours(), options_.utf8) << std::flush;
  }

  void write_line(const std::string& port, bool complete) {
    Line& line = lines_[port];
    if (line.text.empty() && !complete) return;
    std::string text = std::exchange(line.text, {});
    const bool goes_on = std::exchange(line.goes_on, !complete);
    if (text.empty()) return;
    if (goes_on) text = "…" + text;
    if (!complete) text += "…";
    const std::string owner = port == first_port_ ? "" : port + ": ";
    if (!options_.plain_serial)
      write(style_.dim("  serial: ") + owner + text + "\n");
    else if (plain_line_open_)
      waiting_ += style_.dim(owner) + text + "\n";
    else
      write(style_.dim(owner) + text + "\n");
  }

  /// Raw into files and pipes; on a terminal nothing acts.
  void plain(const std::string& bytes) {
    const auto shown = [&](std::string text) {
      if (!options_.terminal) return text;
      text.erase(std::remove(text.begin(), text.end(), '\r'), text.end());
      return visible(text, false, options_.utf8);
    };
    if (std::exchange(progress_drawn_, false)) out_ << "\r\x1b[K";
    const std::size_t end = bytes.rfind('\n');
    if (end != std::string::npos) {
      out_ << shown(bytes.substr(0, end + 1));
      plain_line_open_ = false;
      out_ << visible(std::exchange(waiting_, {}), style_.colours(), options_.utf8);
    }
    const std::string rest = bytes.substr(end + 1);
    plain_line_open_ = plain_line_open_ || !rest.empty();
    out_ << shown(rest) << std::flush;
  }

  void end_plain_line() {
    if (std::exchange(plain_line_open_, false)) out_ << "\n";
    if (!waiting_.empty()) write(std::exchange(waiting_, {}));
  }

  std::ostream& out_;
  TextStyle options_;
  Style style_;
  std::map<std::string, Line> lines_;
  std::string first_port_;
  std::string waiting_;  ///< lines of other ports, until the first one's has ended
  bool plain_line_open_ = false;
  bool progress_drawn_ = false;
  std::chrono::steady_clock::time_point began_, progress_at_;
};

}  // namespace

std::unique_ptr<Writer> text_writer(std::ostream& out, const TextStyle& style) {
  return std::make_unique<TextWriter>(out, style);
}

std::string drawn_prompt(const std::string& prompt, const TextStyle& style) {
  if (style.palette == Palette::kNone) return prompt;
  const std::string text = Style(style.palette, style.utf8, kLeastWidth).typed(prompt);
  // What is typed behind it looks the same: nothing ends it yet.
  return "\1" + text.substr(0, text.find(prompt)) + "\1" + prompt;
}

std::string prompt_end(const TextStyle& style) {
  return style.palette == Palette::kNone ? "" : "\x1b[0m";
}

}  // namespace lucid::app
