// SPDX-License-Identifier: MIT
// What has been counted of whole runs, as text.
#ifndef LUCID_APP_TEXT_SURVEY_H
#define LUCID_APP_TEXT_SURVEY_H

#include <string>
#include <vector>

#include "reply.h"
#include "style.h"

namespace lucid::app {

/// 1,234,567
std::string grouped(std::uint64_t number);

/// Which interrupt comes where.
std::string race_words(const RaceView::Finding& finding);

/// off, list, pause
const char* mode_name(Session::CheckMode mode);

class SurveyViews {
 public:
  explicit SurveyViews(const Style& style) : style_(style) {}

  [[nodiscard]] std::string operator()(const Profile&) const;
  [[nodiscard]] std::string operator()(const Coverage&) const;
  [[nodiscard]] std::string operator()(const CoverageDifference&) const;
  [[nodiscard]] std::string operator()(const InterruptList&) const;
  [[nodiscard]] std::string operator()(const StackBoundView&) const;
  [[nodiscard]] std::string operator()(const RaceView&) const;
  [[nodiscard]] std::string operator()(const RaceOverview&) const;
  [[nodiscard]] std::string operator()(const Checks&) const;
  [[nodiscard]] std::string operator()(const Findings&) const;
  [[nodiscard]] std::string operator()(const WearTable&) const;
  [[nodiscard]] std::string operator()(const Watchdog&) const;
  [[nodiscard]] std::string operator()(const HeapTable&) const;

 private:
  [[nodiscard]] std::string tree(const Profile& profile, std::vector<std::size_t> here,
                                 const std::vector<std::vector<std::size_t>>& below,
                                 std::size_t depth) const;
  [[nodiscard]] std::string listing(const Coverage& coverage) const;
  [[nodiscard]] std::string lines_of(const CoverageView& view) const;
  [[nodiscard]] std::string held(const InterruptView& interrupt) const;
  [[nodiscard]] std::string waits(const Profile& p) const;

  const Style& style_;
};

}  // namespace lucid::app

#endif  // LUCID_APP_TEXT_SURVEY_H
