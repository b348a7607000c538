// SPDX-License-Identifier: MIT
#include "screen/log.h"

#include <array>
#include <utility>
#include <variant>

#include "text.h"

namespace lucid::app {
namespace {

/// The looks that a style's sequences stand for, found by asking it: it says what is what.
class Looks {
 public:
  explicit Looks(const Style& style) {
    const auto learn = [&](const std::string& sample, Look look) {
      const std::string text = sample.substr(0, sample.find('m') + 1);
      if (!text.empty() && text[0] == '\x1b') known_.emplace_back(text, look);
    };
    learn(style.bold("m"), Look::kStrong);
    learn(style.dim("m"), Look::kDim);
    learn(style.accent("m"), Look::kAccent);
    learn(style.typed("m"), Look::kAccent);
    learn(style.warn("m"), Look::kWarn);
    learn(style.bad("m"), Look::kBad);
    learn(style.changed("m"), Look::kFresh);
  }
  [[nodiscard]] Look of(const std::string& sequence) const {
    for (const auto& [text, look] : known_)
      if (text == sequence) return look;
    return Look::kPlain;
  }

 private:
  std::vector<std::pair<std::string, Look>> known_;
};

class LogWriter final : public Writer {
 public:
  LogWriter(Log& log, TextStyle style)
      : log_(log), looks_(Style(in_colour(style).palette, style.utf8, 80)) {
    style = in_colour(style);
    inner_ = text_writer(out_, style);
  }

  void begin(const std::string& id, const std::string& prompt,
             const std::string& command) override {
    inner_->begin(id, prompt, command);
    take();
  }
  void reply(const Reply& reply) override {
    if (const auto* standing = std::get_if<Standing>(&reply); standing != nullptr) {
      Standing bare;
      bare.pause = standing->pause;
      ++log_.pauses;
      const std::string text = to_text(bare, Style(Palette::kNone, true, 1000));
      log_.headline = text.substr(0, text.find('\n'));
      inner_->reply(bare);
    } else {
      inner_->reply(reply);
    }
    take();
  }
  void error(const Error& error) override {
    inner_->error(error);
    take();
  }
  void serial(const std::string& port, bool first, const std::string& bytes) override {
    if (!log_.serial) return;
    inner_->serial(port, first, bytes);
    take();
  }
  void pause_serial() override {
    inner_->pause_serial();
    take();
  }
  void progress(const std::string& now) override {
    if (log_.on_progress) log_.on_progress(now);
  }
  void end(const Result<void>& result) override {
    inner_->end(result);
    take();
  }

 private:
  /// Looks are told apart by colours, whether or not the terminal has any.
  static TextStyle in_colour(TextStyle style) {
    if (style.palette == Palette::kNone) style.palette = Palette::kDark;
    style.terminal = false;
    style.echo = true;
    style.plain_serial = false;
    return style;
  }

  /// What has been written, as lines; a line that has not ended yet is one.
  void take() {
    const std::string text = out_.str();
    if (text.empty()) return;
    out_.str("");
    constexpr std::size_t kMost = 20000;
    Look look = Look::kPlain;
    std::string plain;
    Line line;
    const auto flush = [&] {
      if (!plain.empty()) line.add(std::exchange(plain, {}), look);
    };
    for (std::size_t i = 0; i < text.size();) {
      if (text[i] == '\x1b') {
        flush();
        const std::size_t end = std::min(text.find('m', i), text.size() - 1);
        look = looks_.of(text.substr(i, end + 1 - i));
        i = end + 1;
      } else if (text[i] == '\n') {
        flush();
        log_.lines.push_back(std::exchange(line, {}));
        ++i;
      } else {
        plain += text[i++];
      }
    }
    flush();
    if (!line.pieces.empty()) log_.lines.push_back(std::move(line));
    if (log_.lines.size() > 2 * kMost)
      log_.lines.erase(log_.lines.begin(), log_.lines.end() - static_cast<std::ptrdiff_t>(kMost));
  }

  Log& log_;
  Looks looks_;
  std::ostringstream out_;
  std::unique_ptr<Writer> inner_;
};

}  // namespace

std::unique_ptr<Writer> log_writer(Log& log, const TextStyle& style) {
  return std::make_unique<LogWriter>(log, style);
}

}  // namespace lucid::app
