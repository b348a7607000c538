// SPDX-License-Identifier: MIT
#include <nlohmann/json.hpp>

#include "json_views.h"

namespace lucid::app {

namespace {

constexpr const char* kSignalKinds[] = {"level", "number", "real", "moment"};

Json json(const Spans& s) {
  Json out{{"count", s.count}};
  if (s.count == 0) return out;
  out["least"] = s.least.count;
  out["least_at"] = s.least_at.count;
  out["mean"] = s.mean.count;
  out["most"] = s.most.count;
  out["most_at"] = s.most_at.count;
  out["last"] = s.last.count;
  out["last_at"] = s.last_at.count;
  out["deviation"] = s.deviation.count;
  for (const Spans::Length& one : s.lengths)
    out["lengths"].push_back({{"length", one.length.count}, {"times", one.times}});
  return out;
}

}  // namespace

Json SignalJson::operator()(const Traces& t) const {
  Json out{{"view", "traces"}, {"list", Json::array()}};
  for (const Session::TraceView& v : t.list)
    out["list"].push_back({{"id", v.id},
                           {"signal", v.signal},
                           {"name", v.name},
                           {"kind", kSignalKinds[static_cast<unsigned>(v.kind)]},
                           {"picoseconds_from", v.from.count},
                           {"picoseconds_to", v.to.count},
                           {"changes", v.changes},
                           {"discarded", v.discarded},
                           {"bytes", v.bytes},
                           {"bytes_in_file", v.bytes_in_file},
                           {"value", v.value},
                           {"place", v.place},
                           {"around", v.around},
                           {"picoseconds_before", v.before.count},
                           {"picoseconds_after", v.after.count},
                           {"windows", v.windows},
                           {"around_gone", v.around_gone}});
  return out;
}

Json SignalJson::operator()(const MeasuredSpans& m) const {
  return {{"view", "measured spans"}, {"what", m.what}, {"picoseconds", json(m.spans)}};
}

Json SignalJson::operator()(const Matched& m) const {
  Json out{{"view", "match"},
           {"one", m.one},
           {"other", m.other},
           {"edges", m.match.edges},
           {"picoseconds_later", m.match.offset},
           {"ppm_slower", m.match.ppm},
           {"picoseconds_worst", m.match.worst.count},
           {"picoseconds_worst_at", m.match.worst_at.count},
           {"same", !m.match.difference}};
  if (const auto& d = m.match.difference) {
    out["difference"] = {{"picoseconds", d->at.count}, {"rises", d->rises}, {"extra", d->extra}};
    if (d->other_at) {
      out["difference"]["picoseconds_other"] = d->other_at->count;
      out["difference"]["other_rises"] = d->other_rises;
    }
  }
  return out;
}

Json SignalJson::operator()(const DecodedWires& w) const {
  const Decoded& d = w.decoded;
  Json out{{"view", "decoded"},    {"name", d.signal.name()}, {"bytes", d.bytes},
           {"faults", d.faults},   {"glitches", d.glitches},  {"baud", d.rate},
           {"data", Json::array()}};
  for (const Decoded::Byte& byte : d.data) {
    Json item{{"picoseconds", byte.at.count}, {"value", byte.value}};
    if (byte.fault) item["fault"] = true;
    out["data"].push_back(std::move(item));
  }
  return out;
}

Json SignalJson::operator()(const Drawing& d) const {
  Json out{{"view", "drawing"},
           {"picoseconds_from", d.from.count},
           {"picoseconds_to", d.to.count},
           {"signals", Json::array()}};
  for (const Signal& signal : d.signals) {
    Json item{{"name", signal.name()},
              {"kind", kSignalKinds[static_cast<unsigned>(signal.facts().kind)]},
              {"samples", Json::array()}};
    constexpr std::size_t kMost = 10'000;
    auto samples = signal.samples(to_ticks(d.from, signal.hz()), to_ticks(d.to, signal.hz()));
    while (const auto sample = samples.next()) {
      if (item["samples"].size() == kMost) {
        item["more"] = true;
        break;
      }
      item["samples"].push_back(
          {{"picoseconds", signal.time(sample->tick).count}, {"value", signal.text(*sample)}});
    }
    out["signals"].push_back(std::move(item));
  }
  return out;
}

Json SignalJson::operator()(const Measured& measured) const {
  const Measurement& m = measured.measurement;
  Json out{{"view", "measurement"},
           {"signal", measured.signal},
           {"kind", kSignalKinds[static_cast<unsigned>(m.kind)]},
           {"picoseconds_from", m.from.count},
           {"picoseconds_to", m.to.count},
           {"picoseconds_unknown", m.unknown.count},
           {"changes", m.changes}};
  if (m.kind == Signal::Kind::kLevel) {
    out["rising"] = m.rising;
    out["falling"] = m.falling;
    out["picoseconds"] = {{"high", json(m.high)}, {"low", json(m.low)}, {"period", json(m.period)}};
  }
  if (m.kind == Signal::Kind::kLevel || m.kind == Signal::Kind::kMoment)
    out["picoseconds"]["gap"] = json(m.gaps);
  if (m.duty) out["duty"] = *m.duty;
  if (m.hertz) out["hertz"] = *m.hertz;
  if (!m.values) return out;
  out["values"] = {{"least", m.values->least},
                   {"picoseconds_least_at", m.values->least_at.count},
                   {"mean", m.values->mean},
                   {"most", m.values->most},
                   {"picoseconds_most_at", m.values->most_at.count},
                   {"unit", m.values->unit}};
  out["different"] = m.different;
  out["held"] = Json::array();
  for (const Measurement::Held& h : m.held)
    out["held"].push_back({{"value", h.text}, {"picoseconds", h.time.count}, {"times", h.times}});
  return out;
}

}  // namespace lucid::app
