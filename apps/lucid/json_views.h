// SPDX-License-Identifier: MIT
// Views as JSON, by what they are about; all others in json.cpp.
#ifndef LUCID_APP_JSON_VIEWS_H
#define LUCID_APP_JSON_VIEWS_H

#include <nlohmann/json_fwd.hpp>

#include "reply.h"

namespace lucid::app {

using Json = nlohmann::ordered_json;

[[nodiscard]] Json json(const Location& where);
[[nodiscard]] Json json(const SpreadView& spread);

/// What the past says.
struct BackJson {
  Json operator()(const Marks&) const;
  Json operator()(const ComparisonView&) const;
  Json operator()(const SuppositionView&) const;
  Json operator()(const Writes&) const;
  Json operator()(const OriginView&) const;
  Json operator()(const MissedView&) const;
  Json operator()(const Parting&) const;
  Json operator()(const Session::TimelineView&) const;
};

/// Signals, and what is measured of them.
struct SignalJson {
  Json operator()(const Traces&) const;
  Json operator()(const MeasuredSpans&) const;
  Json operator()(const Matched&) const;
  Json operator()(const DecodedWires&) const;
  Json operator()(const Drawing&) const;
  Json operator()(const Measured&) const;
};

/// What has been counted or searched of whole runs.
struct SurveyJson {
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

#endif  // LUCID_APP_JSON_VIEWS_H
