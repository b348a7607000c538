// SPDX-License-Identifier: MIT
#include <cctype>

#include "expression/expression.h"

namespace lucid::expression {
namespace {

class LineReader {
 public:
  explicit LineReader(const std::string& line) : line_(line) {}

  std::vector<std::string> read() {
    while (at_ < line_.size()) {
      const char c = line_[at_];
      if (line_.compare(at_, 2, "//") == 0) break;
      if (line_.compare(at_, 2, "/*") == 0) {
        at_ = std::min(line_.find("*/", at_ + 2), line_.size() - 2) + 2;
      } else if (c == '"' || c == '\'') {
        skip_quoted(c);
      } else if (std::isdigit(static_cast<unsigned char>(c)) != 0) {
        word();
      } else if (in_word(c)) {
        chain();
      } else {
        ++at_;
      }
    }
    return std::move(out_);
  }

 private:
  static bool in_word(char c) {
    return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '_';
  }
  std::string word() {
    const std::size_t begin = at_;
    while (at_ < line_.size() && in_word(line_[at_])) ++at_;
    return line_.substr(begin, at_ - begin);
  }
  void skip_quoted(char quote) {
    for (++at_; at_ < line_.size() && line_[at_] != quote; ++at_)
      if (line_[at_] == '\\') ++at_;
    ++at_;
  }
  /// A name with the members and simple elements behind it.
  void chain() {
    std::string name = word();
    for (;;) {
      if (line_.compare(at_, 2, "->") == 0 || line_.compare(at_, 1, ".") == 0) {
        const std::size_t length = line_[at_] == '.' ? 1 : 2;
        name += line_.substr(at_, length);
        at_ += length;
        name += word();
      } else if (line_.compare(at_, 1, "[") == 0) {
        const std::size_t begin = ++at_;
        const std::string index = word();
        if (line_.compare(at_, 1, "]") != 0) {
          at_ = begin;  // what is inside has names of its own
          return;
        }
        if (std::isdigit(static_cast<unsigned char>(index[0])) == 0) out_.push_back(index);
        ++at_;
        name += "[" + index + "]";
      } else {
        break;
      }
    }
    if (line_.compare(at_, 1, "(") != 0) out_.push_back(std::move(name));
  }

  const std::string& line_;
  std::size_t at_ = 0;
  std::vector<std::string> out_;
};

}  // namespace

std::vector<std::string> names_in(const std::string& line) { return LineReader(line).read(); }

}  // namespace lucid::expression
