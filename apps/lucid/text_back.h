// SPDX-License-Identifier: MIT
// Views of the past as text.
#ifndef LUCID_APP_TEXT_BACK_H
#define LUCID_APP_TEXT_BACK_H

#include <string>
#include <vector>

#include "reply.h"
#include "style.h"

namespace lucid::app {

/// `kiln.c:42 main`, or what else is known of a place.
std::string place(const Location& where);

class BackViews {
 public:
  explicit BackViews(const Style& style) : style_(style) {}

  [[nodiscard]] std::string operator()(const Marks&) const;
  [[nodiscard]] std::string operator()(const Armed&) const;
  [[nodiscard]] std::string operator()(const Tested&) const;
  [[nodiscard]] std::string operator()(const Writes&) const;
  [[nodiscard]] std::string operator()(const ComparisonView&) const;
  [[nodiscard]] std::string operator()(const SuppositionView&) const;
  [[nodiscard]] std::string operator()(const OriginView&) const;
  [[nodiscard]] std::string operator()(const Session::TimelineView&) const;
  [[nodiscard]] std::string operator()(const MissedView&) const;
  [[nodiscard]] std::string operator()(const Parting&) const;

 private:
  [[nodiscard]] std::string rows(const std::vector<Difference>& differences) const;
  [[nodiscard]] std::string made(const OriginNode& n) const;

  const Style& style_;
};

}  // namespace lucid::app

#endif  // LUCID_APP_TEXT_BACK_H
