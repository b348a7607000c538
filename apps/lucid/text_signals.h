// SPDX-License-Identifier: MIT
// Views of signals as text.
#ifndef LUCID_APP_TEXT_SIGNALS_H
#define LUCID_APP_TEXT_SIGNALS_H

#include <string>

#include "reply.h"
#include "style.h"

namespace lucid::app {

/// How wide the names beside lanes are drawn; the lanes begin 4 columns behind that.
std::size_t drawn_names(const std::vector<Signal>& signals, const Style& style);

class SignalViews {
 public:
  explicit SignalViews(const Style& style) : style_(style) {}

  [[nodiscard]] std::string operator()(const Traces&) const;
  [[nodiscard]] std::string operator()(const Measured&) const;
  [[nodiscard]] std::string operator()(const MeasuredSpans&) const;
  [[nodiscard]] std::string operator()(const DecodedWires&) const;
  [[nodiscard]] std::string operator()(const Matched&) const;
  [[nodiscard]] std::string operator()(const Drawing&) const;

 private:
  [[nodiscard]] std::string bar(double share) const;
  [[nodiscard]] std::string histogram(const Spans& spans) const;
  [[nodiscard]] std::string spans_head() const;
  [[nodiscard]] std::string spans_row(const char* name, const Spans& spans) const;

  const Style& style_;
};

}  // namespace lucid::app

#endif  // LUCID_APP_TEXT_SIGNALS_H
