// SPDX-License-Identifier: MIT
// Field: one line of text that is being typed.
#ifndef LUCID_APP_SCREEN_FIELD_H
#define LUCID_APP_SCREEN_FIELD_H

#include <string>

#include "screen/keys.h"

namespace lucid::app {

class Field {
 public:
  [[nodiscard]] const std::string& text() const { return text_; }
  void set(std::string text);
  /// False for a key that it has no use for.
  bool key(Key key);
  /// What of it can be seen in so many cells, and where in that the caret stands.
  struct Part {
    std::string text;
    int caret = 0;
  };
  [[nodiscard]] Part visible_part(int cells) const;
  [[nodiscard]] std::size_t caret() const { return caret_; }  ///< in bytes

 private:
  [[nodiscard]] std::size_t before(std::size_t at) const;
  [[nodiscard]] std::size_t behind(std::size_t at) const;
  std::string text_;
  std::size_t caret_ = 0;
};

}  // namespace lucid::app

#endif  // LUCID_APP_SCREEN_FIELD_H
