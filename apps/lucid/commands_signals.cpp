// SPDX-License-Identifier: MIT
// Commands about signals over time.
#include <fmt/format.h>

#include <charconv>

#include "console.h"
#include "lucid/waveform.h"
#include "output.h"

namespace lucid::app {

Result<Picoseconds> Console::when(const std::string& text) const {
  if (text == "start") return Picoseconds{};
  if (text == "now") return session_->chip().time();
  if (const auto time = time_of(text)) return *time;
  std::vector<std::string> names{"start", "now"};
  for (const Session::MarkView& mark : session_->marks()) {
    if (mark.name == text) return mark.time;
    names.push_back(mark.name);
  }
  return fail(ErrorCode::kNotFound, fmt::format("'{}' is no moment", text),
              names.size() > 2 ? did_you_mean(text, names) : "a time, `start`, `now`, or a mark");
}

Result<std::pair<Picoseconds, Picoseconds>> Console::window(const Words& words) const {
  const auto moments = words.texts("WHEN");
  if (moments.empty()) return std::pair{Picoseconds{}, Picoseconds{UINT64_MAX}};
  const auto from = when(moments[0]);
  if (!from) return fail(from.error());
  const auto to = when(moments[1]);
  if (!to) return fail(to.error());
  if (from->count > to->count)
    return fail(ErrorCode::kUsage, fmt::format("{} comes before {}", moments[1], moments[0]));
  return std::pair{*from, *to};
}

Result<void> Console::do_trace(const Words& words) {
  Session::TraceSpec spec;
  spec.signal = words.text("SIGNAL");
  spec.format = words.text("FORMAT");
  spec.name = words.text("WORD");
  spec.from_start = words.has("start");
  auto trace = session_->trace(spec);
  if (!trace) return fail(trace.error());
  show(Traces{{std::move(*trace)}});
  return {};
}

Result<void> Console::do_traces(const Words& /*words*/) {
  show(Traces{session_->traces()});
  return {};
}

Result<void> Console::do_untrace(const Words& words) {
  if (words.text("SIGNAL") != "all") return session_->untrace(words.text("SIGNAL"));
  for (const Session::TraceView& trace : session_->traces())
    if (auto gone = session_->untrace(std::to_string(trace.id)); !gone) return gone;
  return {};
}

Result<void> Console::do_clear_traces(const Words& /*words*/) {
  session_->clear_traces();
  return {};
}

namespace {

Result<std::pair<double, double>> limits_of(const std::string& text) {
  const std::size_t dots = text.find("..");
  double least = 0, most = 0;
  const auto number = [](std::string_view part, double& out) {
    const auto [end, error] = std::from_chars(part.data(), part.data() + part.size(), out);
    return error == std::errc{} && end == part.data() + part.size();
  };
  const std::string_view all = text;
  if (dots == std::string::npos || !number(all.substr(0, dots), least) ||
      !number(all.substr(dots + 2), most))
    return fail(ErrorCode::kUsage, fmt::format("'{}' are no limits", text),
                "two numbers: 190..210");
  if (least > most) return fail(ErrorCode::kUsage, "the first limit is the smaller one");
  return std::pair{least, most};
}

}  // namespace

Result<void> Console::do_measure(const Words& words) {
  const auto stretch = window(words);
  if (!stretch) return fail(stretch.error());
  const auto [from, to] = *stretch;
  const auto names = words.texts("SIGNAL");
  const auto signal = session_->signal(names[0]);
  if (!signal) return fail(signal.error());
  if (names.size() == 2) {
    const auto other = session_->signal(names[1]);
    if (!other) return fail(other.error());
    Edge edges[2] = {Edge::kAny, Edge::kAny};
    std::string what;
    std::size_t place = 0;
    for (const Words::Item& item : words.items()) {
      if (item.kind == nullptr && item.text == "from") break;
      if (item.kind == nullptr && item.text == "to") place = 1;
      if (item.kind == nullptr && item.text == "rising") edges[place] = Edge::kRising;
      if (item.kind == nullptr && item.text == "falling") edges[place] = Edge::kFalling;
      if (item.text != "measure") what += (what.empty() ? "" : " ") + item.text;
    }
    auto spans = measure_delays(*signal, edges[0], *other, edges[1], from, to);
    if (!spans) return fail(spans.error());
    show(MeasuredSpans{what, *spans});
    return {};
  }
  if (words.has("in")) {
    const auto limits = limits_of(words.text("LIMITS"));
    if (!limits) return fail(limits.error());
    auto spans = measure_within(*signal, limits->first, limits->second, from, to);
    if (!spans) return fail(spans.error());
    show(MeasuredSpans{names[0] + " in " + words.text("LIMITS"), *spans});
    return {};
  }
  auto measurement = measure(*signal, from, to);
  if (!measurement) return fail(measurement.error());
  show(Measured{signal->name(), std::move(*measurement)});
  return {};
}

Result<void> Console::do_export(const Words& words) {
  const auto stretch = window(words);
  if (!stretch) return fail(stretch.error());
  const std::vector<Signal> signals = session_->signals();
  if (signals.empty())
    return fail(ErrorCode::kUsage, "nothing is traced", "`trace pin.PB5 from start`");
  const std::string path = file(words);
  const auto kind = waveform_kind(path);
  if (!kind) return fail(kind.error());
  std::uint64_t changes = 0;
  auto written = write_file(path, [&](std::ostream& out) -> Result<void> {
    auto count = write_waveforms(out, *kind, signals, stretch->first, stretch->second);
    if (!count) return fail(count.error());
    changes = *count;
    return {};
  });
  if (!written) return written;
  show(Message{fmt::format("{} signal{} with {} changes written into {}", signals.size(),
                           signals.size() == 1 ? "" : "s", changes, path)});
  return {};
}

}  // namespace lucid::app
