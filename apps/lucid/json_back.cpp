// SPDX-License-Identifier: MIT
#include <nlohmann/json.hpp>

#include "json_views.h"

namespace lucid::app {

namespace {

Json rows_of(const std::vector<Difference>& differences) {
  Json out = Json::array();
  for (const Difference& d : differences)
    out.push_back({{"kind", d.kind}, {"name", d.name}, {"then", d.then}, {"now", d.now}});
  return out;
}

}  // namespace

Json BackJson::operator()(const Marks& m) const {
  Json out{{"view", "marks"}, {"marks", Json::array()}};
  for (const Session::MarkView& mark : m.list)
    out["marks"].push_back({{"name", mark.name},
                            {"picoseconds", mark.time.count},
                            {"where", json(mark.where)},
                            {"other_future", mark.other_future},
                            {"image_gone", mark.image_gone}});
  return out;
}

Json BackJson::operator()(const ComparisonView& c) const {
  return {{"view", "comparison"},
          {"picoseconds_then", c.then.count},
          {"picoseconds_now", c.now.count},
          {"differences", rows_of(c.differences)}};
}

Json BackJson::operator()(const SuppositionView& s) const {
  Json out{{"view", "supposition"},
           {"same", s.same},
           {"only_shifted", s.only_shifted},
           {"picoseconds_until", s.until.count},
           {"at_end", rows_of(s.at_end)}};
  const auto happening = [](const SuppositionView::Happening& h) -> Json {
    return {{"picoseconds", h.time.count}, {"what", h.what}, {"where", json(h.where)}};
  };
  if (s.as_is) out["as_is"] = happening(*s.as_is);
  if (s.supposed) out["supposed"] = happening(*s.supposed);
  if (s.call_as_is) out["call_as_is"] = happening(*s.call_as_is);
  if (s.call_supposed) out["call_supposed"] = happening(*s.call_supposed);
  if (!s.place.empty()) out["place"] = s.place;
  if (s.supposed_until) out["picoseconds_supposed_until"] = s.supposed_until->count;
  return out;
}

Json BackJson::operator()(const Writes& h) const {
  Json out{{"view", "history"}, {"object", h.object}, {"writes", Json::array()}};
  for (const Session::Write& row : h.rows)
    out["writes"].push_back({{"picoseconds", row.time.count},
                             {"before", row.access.before},
                             {"after", row.access.after},
                             {"by", json(row.access.by)},
                             {"instruction", row.access.instruction}});
  return out;
}

Json BackJson::operator()(const OriginView& v) const {
  static constexpr const char* kHow[] = {"worked",   "constant",  "flash",  "input",
                                         "hardware", "interrupt", "edit",   "outside",
                                         "start",    "moved",     "unknown"};
  Json out{{"view", "origin"}, {"nodes", Json::array()}};
  for (const OriginNode& node : v.nodes) {
    Json row{{"depth", node.depth},
             {"object", node.object},
             {"value", node.value},
             {"how", kHow[static_cast<unsigned>(node.how)]},
             {"picoseconds", node.time.count},
             {"where", json(node.where)},
             {"from", Json::array()}};
    if (!node.instruction.empty()) row["instruction"] = node.instruction;
    if (node.called_from) row["called_from"] = json(*node.called_from);
    for (const OriginNode::From& from : node.from)
      row["from"].push_back({{"name", from.name}, {"value", from.value}});
    out["nodes"].push_back(std::move(row));
  }
  if (v.cut) out["more"] = true;
  if (v.interrupted) out["interrupted"] = true;
  return out;
}

Json BackJson::operator()(const MissedView& m) const {
  Json out{{"view", "missed"}, {"place", m.place}, {"not_called", Json::array()}};
  if (!m.since.empty()) out["since"] = m.since;
  if (m.executed_at) out["picoseconds_executed"] = m.executed_at->count;
  for (const MissedView::NotCalled& none : m.not_called) {
    Json row{{"function", none.function}, {"calls", Json::array()}};
    for (const Location& call : none.calls) row["calls"].push_back(json(call));
    if (!none.interrupt.empty()) row["interrupt"] = none.interrupt;
    out["not_called"].push_back(std::move(row));
  }
  if (m.turn)
    out["turn"] = {{"where", json(m.turn->where)},  // without an instruction: it stands there
                   {"instruction", m.turn->instruction},
                   {"picoseconds", m.turn->time.count},
                   {"went", json(m.turn->went)}};
  out["origin"] = (*this)(m.origins);
  return out;
}

Json BackJson::operator()(const Parting& p) const {
  const Divergence& d = p.divergence;
  Json out{{"view", "divergence"},  {"same", d.same}, {"last_same", d.last_same},
           {"handler", d.handler},  {"in", d.in},     {"picoseconds_until", d.until.count},
           {"sides", Json::array()}};
  for (std::size_t i = 0; i < p.images.size(); ++i) {
    Json row{{"image", p.images[i]}};
    if (const auto& side = i == 0 ? d.a : d.b) {
      row["picoseconds"] = side->time.count;
      row["event"] = side->event;
      row["where"] = json(side->where);
    }
    if (i < p.files.size()) row["file"] = p.files[i];
    out["sides"].push_back(std::move(row));
  }
  return out;
}

Json BackJson::operator()(const Session::TimelineView& t) const {
  return {{"view", "timeline"},
          {"on", t.on},
          {"copies", t.copies},
          {"bytes", t.bytes},
          {"picoseconds_first", t.first.count},
          {"picoseconds_end", t.end.count}};
}

}  // namespace lucid::app
