// SPDX-License-Identifier: MIT
// What has been counted or searched of whole runs, as JSON.
#ifndef LUCID_APP_JSON_SURVEY_H
#define LUCID_APP_JSON_SURVEY_H

#include <nlohmann/json_fwd.hpp>

#include "reply.h"

namespace lucid::app {

[[nodiscard]] nlohmann::ordered_json json(const Location& where);
[[nodiscard]] nlohmann::ordered_json json(const SpreadView& spread);

struct SurveyJson {
  using Json = nlohmann::ordered_json;
  Json operator()(const Profile&) const;
  Json operator()(const Coverage&) const;
  Json operator()(const CoverageDifference&) const;
  Json operator()(const InterruptList&) const;
  Json operator()(const StackBoundView&) const;
  Json operator()(const RaceView&) const;
  Json operator()(const RaceOverview&) const;
  Json operator()(const Checks&) const;
  Json operator()(const Findings&) const;
  Json operator()(const WearTable&) const;
  Json operator()(const Watchdog&) const;
  Json operator()(const HeapTable&) const;
};

}  // namespace lucid::app

#endif  // LUCID_APP_JSON_SURVEY_H
