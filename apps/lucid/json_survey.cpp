// SPDX-License-Identifier: MIT
#include "json_views.h"

#include <nlohmann/json.hpp>

#include "text_survey.h"

namespace lucid::app {

namespace {

Json json(const CoverageView& view) {
  Json out = Json::array();
  for (const CoverageView::File& f : view.files) {
    Json file{{"path", f.path}, {"lines", Json::array()}, {"functions", Json::array()}};
    for (const CoverageView::Line& l : f.lines)
      file["lines"].push_back({{"line", l.line}, {"passes", l.passes}, {"executed", l.executed}});
    for (const CoverageView::Function& fn : f.functions)
      file["functions"].push_back({{"name", fn.name}, {"line", fn.line}, {"calls", fn.calls}});
    out.push_back(std::move(file));
  }
  return out;
}

}  // namespace

Json json(const SpreadView& s) {
  Json out{{"count", s.count}};
  if (s.count != 0)
    out.update({{"least", s.least.count},
                {"mean", s.mean.count},
                {"most", s.most.count},
                {"most_at", s.most_at.count}});
  return out;
}

Json SurveyJson::operator()(const Profile& p) const {
  const ProfileView& v = p.view;
  Json out{{"view", "profile"},          {"cycles", v.cycles},   {"asleep", v.asleep},
           {"entering", v.entering},     {"unknown", v.unknown}, {"waiting", v.waiting},
           {"picoseconds", v.span.count}};
  out["functions"] = Json::array();
  for (const ProfileView::Function& f : v.functions) {
    Json row{{"name", f.name},
             {"calls", f.calls},
             {"cycles", f.self},
             {"instructions", f.instructions},
             {"where", json(f.where)}};
    if (!f.inlined_in.empty()) row["inlined_in"] = f.inlined_in;
    if (f.handler) row["handler"] = true;
    if (f.total) row["cycles_with_calls"] = *f.total;
    if (f.stack) row["stack"] = *f.stack;
    out["functions"].push_back(std::move(row));
  }
  out["calls"] = Json::array();
  for (const ProfileView::Call& c : v.calls) {
    Json row{{"function", c.function}, {"calls", c.calls}, {"cycles", c.cycles}, {"self", c.self}};
    if (c.caller) row["caller"] = *c.caller;
    if (c.handler) row["handler"] = true;
    out["calls"].push_back(std::move(row));
  }
  out["lines"] = Json::array();
  for (const ProfileView::Line& l : v.lines)
    out["lines"].push_back({{"file", l.where.file},
                            {"line", l.where.line},
                            {"passes", l.passes},
                            {"cycles", l.cycles}});
  out["waits"] = Json::array();
  for (const ProfileView::Wait& w : v.waits)
    out["waits"].push_back({{"function", w.function},
                            {"rounds", w.rounds},
                            {"cycles", w.cycles},
                            {"looks", w.looks},
                            {"counts", w.counts},
                            {"where", json(w.where)}});
  return out;
}

Json SurveyJson::operator()(const Coverage& c) const {
  return {{"view", "coverage"}, {"files", json(c.view)}};
}

Json SurveyJson::operator()(const CoverageDifference& d) const {
  return {{"view", "coverage difference"},
          {"other", d.other},
          {"only_here", json(d.here)},
          {"only_there", json(d.there)}};
}

Json SurveyJson::operator()(const InterruptList& list) const {
  constexpr const char* kHeldBy[] = {"instruction", "interrupts off", "handler", "waking up"};
  Json out{{"view", "interrupts"}, {"interrupts", Json::array()}};
  for (const InterruptView& i : list.interrupts) {
    Json row{{"name", i.name},
             {"number", i.number},
             {"picoseconds_waited", json(i.wait)},
             {"picoseconds_inside", json(i.inside)},
             {"picoseconds_whole", json(i.whole)},
             {"load", i.load},
             {"nested", i.nested},
             {"withdrawn", i.withdrawn},
             {"missed", i.missed}};
    if (i.wait.count != 0) {
      row["held_by"] = kHeldBy[static_cast<unsigned>(i.held_by)];
      if (!i.held_by_handler.empty()) row["held_by_handler"] = i.held_by_handler;
      if (i.off_since) row["off_since"] = json(*i.off_since);
      row["asked_for_at"] = json(i.requested_at);
      row["entered_at"] = json(i.entered_at);
    }
    out["interrupts"].push_back(std::move(row));
  }
  return out;
}

Json SurveyJson::operator()(const StackBoundView& v) const {
  const auto function = [](const StackBoundView::Function& f) {
    Json row{{"name", f.name}, {"own", f.own}, {"chain", f.chain}};
    if (f.bytes) row["bytes"] = *f.bytes;
    if (!f.why.empty()) row["why"] = f.why;
    return row;
  };
  Json out{{"view", "stack bound"},
           {"functions", Json::array()},
           {"handlers", v.handlers},
           {"handlers_nest", v.handlers_nest}};
  for (const StackBoundView::Function& f : v.functions) out["functions"].push_back(function(f));
  if (v.program) out["program"] = function(*v.program);
  if (v.handler) out["handler"] = function(*v.handler);
  if (v.total) out["total"] = *v.total;
  if (v.room) out["room"] = *v.room;
  return out;
}

namespace {

Json race_row(const RaceView::Finding& f) {
  constexpr const char* kKinds[] = {"broken", "fault", "stuck", "neither", "mixed"};
  Json row{{"kind", kKinds[static_cast<unsigned>(f.kind)]},
           {"interrupt", f.interrupt},
           {"where", app::json(f.where)},
           {"cycles", f.cycles},
           {"picoseconds", f.at.count},
           {"times", f.times},
           {"objects", Json::array()}};
  if (!f.first.empty()) {
    row["first"] = f.first;
    row["first_where"] = app::json(f.first_where);
  }
  if (f.forced) row["forced"] = true;
  if (!f.with.empty()) row["with"] = f.with;
  if (!f.detail.empty()) row["detail"] = f.detail;
  for (const RaceView::Finding::Object& o : f.objects)
    row["objects"].push_back({{"name", o.name},
                              {"value", o.value},
                              {"if_before", o.if_before},
                              {"if_behind", o.if_behind}});
  return row;
}

}  // namespace

Json SurveyJson::operator()(const RaceView& v) const {
  Json out{{"view", "races"},
           {"function", v.function},
           {"where", json(v.where)},
           {"picoseconds_entered", v.entered.count},
           {"boundaries", v.boundaries},
           {"left_out", v.left_out},
           {"interrupted", v.interrupted},
           {"also_with", v.also_with},
           {"interrupts", Json::array()},
           {"findings", Json::array()}};
  if (!v.expectation.empty()) {
    out["expectation"] = v.expectation;
    out["broken_before"] = v.broken_before;
    out["broken_behind"] = v.broken_behind;
  }
  for (const RaceView::Interrupt& i : v.interrupts)
    out["interrupts"].push_back({{"name", i.name},
                                 {"placements", i.placements},
                                 {"masked", i.masked},
                                 {"compared", i.compared},
                                 {"not_enabled", i.not_enabled}});
  for (const RaceView::Finding& f : v.findings) out["findings"].push_back(race_row(f));
  return out;
}

Json SurveyJson::operator()(const RaceOverview& v) const {
  constexpr const char* kHow[] = {"reads", "writes", "changes"};
  constexpr const char* kVerdicts[] = {"race", "none", "waits", "not come to", "read again"};
  Json out{{"view", "race overview"},
           {"picoseconds_until", v.until.count},
           {"interrupted", v.interrupted},
           {"possible", Json::array()},
           {"findings", Json::array()}};
  for (const PossibleRace& p : v.possible)
    out["possible"].push_back({{"object", p.object},
                               {"how", kHow[static_cast<unsigned>(p.how)]},
                               {"interrupt", p.interrupt},
                               {"interrupt_changes", p.interrupt_changes},
                               {"where", json(p.where)},
                               {"other", json(p.other)},
                               {"verdict", kVerdicts[static_cast<unsigned>(p.verdict)]},
                               {"placements", p.placements},
                               {"races", p.races}});
  for (const RaceView::Finding& f : v.findings) out["findings"].push_back(race_row(f));
  return out;
}

Json SurveyJson::operator()(const Checks& checks) const {
  Json out{{"view", "checks"}, {"list", Json::array()}};
  for (const Session::Check& c : checks.list) {
    Json row{{"name", c.name}, {"words", c.words}, {"mode", mode_name(c.mode)}};
    if (c.over) row["picoseconds_over"] = c.over->count;
    if (c.follows_values) row["follows_values"] = true;
    out["list"].push_back(std::move(row));
  }
  return out;
}

Json SurveyJson::operator()(const Findings& findings) const {
  Json out{{"view", "findings"}, {"list", Json::array()}};
  for (const FindingView& f : findings.list) {
    Json row{{"check", f.check},
             {"text", f.text},
             {"picoseconds", f.at.count},
             {"times", f.times},
             {"harmless", f.harmless}};
    if (f.where) row["where"] = json(*f.where);
    if (f.other) row["other"] = json(*f.other);
    out["list"].push_back(std::move(row));
  }
  return out;
}

Json SurveyJson::operator()(const WearTable& table) const {
  Json out{{"view", "wear"}, {"rows", Json::array()}};
  for (const WearView& w : table.rows) {
    Json row{{"memory", w.memory}, {"begin", w.begin},         {"end", w.end},
             {"times", w.times},   {"endurance", w.endurance}, {"by", json(w.by)}};
    if (w.lasts) row["picoseconds_lasts"] = w.lasts->count;
    out["rows"].push_back(std::move(row));
  }
  return out;
}

Json SurveyJson::operator()(const Watchdog& watchdog) const {
  Json out{{"view", "watchdog"}, {"times", watchdog.view ? watchdog.view->times : 0}};
  if (const auto& w = watchdog.view) {
    out["picoseconds_after"] = w->after.count;
    out["picoseconds_period"] = w->period.count;
    out["picoseconds_at"] = w->at.count;
    out["by"] = json(w->by);
  }
  return out;
}

Json SurveyJson::operator()(const HeapTable& heap) const {
  Json out{{"view", "heap"}, {"followed", heap.view.has_value()}};
  if (const auto& h = heap.view) {
    out["used"] = h->used;
    out["most"] = h->most;
    out["picoseconds_most_at"] = h->most_at.count;
    out["given"] = h->given;
    out["refused"] = h->refused;
    out["holders"] = Json::array();
    for (const HeapView::Holder& holder : h->holders)
      out["holders"].push_back({{"by", json(holder.by)},
                                {"blocks", holder.blocks},
                                {"bytes", holder.bytes},
                                {"picoseconds_since", holder.since.count}});
  }
  return out;
}

}  // namespace lucid::app
