// SPDX-License-Identifier: MIT
// What the chip has sent, by all its ports, along the timeline.
#ifndef LUCID_APP_SERIAL_LOG_H
#define LUCID_APP_SERIAL_LOG_H

#include <algorithm>
#include <cstdint>
#include <string>
#include <vector>

namespace lucid::app {

class SerialLog {
 public:
  /// `before`: how much all ports have sent until then, what was not heard here included.
  void add(const std::string& port, std::uint64_t before, const std::string& bytes) {
    if (parts_.empty() || parts_.back().port != port ||
        before - parts_.back().before != text_.size() - parts_.back().begin)
      parts_.push_back({port, before, text_.size()});
    text_ += bytes;
  }
  /// The program stands where all ports have sent that much: what came later has not been.
  void go_back(std::uint64_t sent) {
    while (!parts_.empty() && parts_.back().before >= sent) {
      text_.resize(parts_.back().begin);
      parts_.pop_back();
    }
    if (!parts_.empty())
      text_.resize(
          std::min<std::size_t>(text_.size(), parts_.back().begin + (sent - parts_.back().before)));
  }
  [[nodiscard]] const std::string& text() const { return text_; }
  [[nodiscard]] std::string text_of(const std::string& port) const {
    std::string out;
    for (std::size_t i = 0; i < parts_.size(); ++i) {
      const std::size_t end = i + 1 < parts_.size() ? parts_[i + 1].begin : text_.size();
      if (parts_[i].port == port) out.append(text_, parts_[i].begin, end - parts_[i].begin);
    }
    return out;
  }

 private:
  /// Sent by one port without a gap.
  struct Part {
    std::string port;
    std::uint64_t before;
    std::size_t begin;  ///< in `text_`
  };
  std::string text_;
  std::vector<Part> parts_;
};

}  // namespace lucid::app

#endif  // LUCID_APP_SERIAL_LOG_H
