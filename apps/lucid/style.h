// SPDX-License-Identifier: MIT
// Style: how text looks on a terminal. Colours and weights, or nothing; and how much fits.
#ifndef LUCID_APP_STYLE_H
#define LUCID_APP_STYLE_H

#include <cstdint>
#include <string>
#include <string_view>

namespace lucid::app {

/// None, or colours that can be read on a dark or a light ground.
enum class Palette : std::uint8_t { kNone, kDark, kLight };

class Style {
 public:
  Style(Palette palette, bool utf8, std::size_t width)
      : palette_(palette), utf8_(utf8), width_(width) {}

  [[nodiscard]] std::string bold(const std::string& s) const { return in("1", "1", s); }
  [[nodiscard]] std::string dim(const std::string& s) const {
    return in("38;5;247", "38;5;241", s);
  }
  [[nodiscard]] std::string accent(const std::string& s) const {
    return in("38;5;80", "38;5;25", s);
  }
  /// What somebody has typed, with the prompt before it.
  [[nodiscard]] std::string typed(const std::string& s) const {
    return in("1;38;5;80", "1;38;5;25", s);
  }
  [[nodiscard]] std::string warn(const std::string& s) const {
    return in("38;5;179", "38;5;130", s);
  }
  [[nodiscard]] std::string bad(const std::string& s) const {
    return in("38;5;210", "38;5;124", s);
  }
  [[nodiscard]] std::string changed(const std::string& s) const {
    return in("1;38;5;221", "1;38;5;127", s);
  }
  [[nodiscard]] bool colours() const { return palette_ != Palette::kNone; }
  [[nodiscard]] bool utf8() const { return utf8_; }
  [[nodiscard]] std::size_t width() const { return width_; }

  /// How many columns UTF-8 text without colours takes, as long as no character is wide.
  [[nodiscard]] std::size_t columns(std::string_view text) const;
  /// With blanks behind it, up to a width.
  [[nodiscard]] std::string padded(std::string text, std::size_t width) const;
  /// Its beginning, with a mark where it is cut.
  [[nodiscard]] std::string clipped(const std::string& text, std::size_t width) const;
  /// In lines of at most width(), all but the first behind `indent` blanks.
  [[nodiscard]] std::string wrapped(const std::string& text, std::size_t indent) const;

 private:
  [[nodiscard]] std::string in(const char* dark, const char* light, const std::string& s) const {
    if (!colours() || s.empty()) return s;
    return "\x1b[" + std::string(palette_ == Palette::kDark ? dark : light) + "m" + s + "\x1b[0m";
  }

  Palette palette_;
  bool utf8_;
  std::size_t width_;
};

}  // namespace lucid::app

#endif  // LUCID_APP_STYLE_H
