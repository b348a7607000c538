// SPDX-License-Identifier: MIT
// Commands about signals over time.
#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "console.h"
#include "lucid/waveform.h"
#include "output.h"
#include "picture.h"

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
  std::pair<Picoseconds, Picoseconds> out{{}, Picoseconds{UINT64_MAX}};
  const std::string first = words.behind("from", "WHEN"), last = words.behind("to", "WHEN");
  if (first.empty()) return out;
  const auto from = when(first);
  if (!from) return fail(from.error());
  out.first = *from;
  if (last.empty()) return out;
  const auto to = when(last);
  if (!to) return fail(to.error());
  out.second = *to;
  if (from->count > to->count)
    return fail(ErrorCode::kUsage, fmt::format("{} comes before {}", last, first));
  return out;
}

Result<void> Console::do_trace(const Words& words) {
  if (const std::string file = words.text("FILE"); !file.empty())
    return session_->put_traces_into(file);
  Session::TraceSpec spec;
  spec.signal = words.text("SIGNAL");
  spec.format = words.text("FORMAT");
  spec.name = words.text("WORD");
  spec.from_start = words.has("start");
  spec.with_places = words.has("places");
  if (words.has("around")) {
    const auto before = parse_time(words.behind("for", "TIME"));
    if (!before) return fail(before.error());
    const auto after = parse_time(words.behind("and", "TIME"));
    if (!after) return fail(after.error());
    spec.around = static_cast<unsigned>(std::min<std::uint64_t>(words.number("ID", 0), UINT32_MAX));
    spec.before = *before;
    spec.after = *after;
  }
  auto trace = session_->trace(spec);
  if (!trace) {
    Error error = trace.error();
    if (spec.signal.find(" around ") != std::string::npos)
      error.hint = "`around 3 for 5ms before and 1ms after`";
    return fail(std::move(error));
  }
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

/// Beside a line in a picture.
std::string words_of(const Session::PausedView& pause) {
  if (!pause.breakpoints.empty()) return fmt::format("breakpoint {}", pause.breakpoints.front());
  switch (pause.cause) {
    case Pause::Cause::kFault: return "fault";
    case Pause::Cause::kBreakInstruction: return "break";
    default: return "paused";
  }
}

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

void Console::tell_times(const Spans& spans) {
  if (spans.count == 0) return;
  for (const Picoseconds at : {spans.last_at, spans.most_at, spans.least_at}) session_->told(at);
}

Result<void> Console::do_measure(const Words& words) {
  const auto stretch = window(words);
  if (!stretch) return fail(stretch.error());
  const auto [from, to] = *stretch;
  if (const auto places = words.texts("PLACE"); !places.empty()) {
    const auto executed = session_->executed(places);
    if (!executed) return fail(executed.error());
    auto spans = measure_delays((*executed)[0], Edge::kAny, (*executed)[1], Edge::kAny, from, to);
    if (!spans) return fail(spans.error());
    tell_times(*spans);
    show(MeasuredSpans{places[0] + " to " + places[1], *spans});
    return {};
  }
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
    tell_times(*spans);
    show(MeasuredSpans{what, *spans});
    return {};
  }
  if (words.has("in")) {
    const auto limits = limits_of(words.text("LIMITS"));
    if (!limits) return fail(limits.error());
    auto spans = measure_within(*signal, limits->first, limits->second, from, to);
    if (!spans) return fail(spans.error());
    tell_times(*spans);
    show(MeasuredSpans{names[0] + " in " + words.text("LIMITS"), *spans});
    return {};
  }
  auto measurement = measure(*signal, from, to);
  if (!measurement) return fail(measurement.error());
  for (const Spans* spans :
       {&measurement->gaps, &measurement->period, &measurement->low, &measurement->high})
    tell_times(*spans);
  if (measurement->values)
    for (const Picoseconds at : {measurement->values->least_at, measurement->values->most_at})
      session_->told(at);
  show(Measured{signal->name(), std::move(*measurement)});
  return {};
}

Result<void> Console::do_match(const Words& words) {
  const auto names = words.texts("SIGNAL");
  const auto one = session_->signal(names[0]);
  if (!one) return fail(one.error());
  const auto other = session_->signal(names[1]);
  if (!other) return fail(other.error());
  const auto tolerance = parse_time(words.text("TIME"));
  if (!tolerance) return fail(tolerance.error());
  const Edge edge = words.has("rising")    ? Edge::kRising
                    : words.has("falling") ? Edge::kFalling
                                           : Edge::kAny;
  const auto found = match(*one, *other, edge, *tolerance);
  if (!found) return fail(found.error());
  session_->told(found->worst_at);
  if (found->difference) session_->told(found->difference->at);
  show(Matched{names[0], names[1], *tolerance, *found});
  return {};
}

Result<void> Console::do_decode(const Words& words) {
  using Kind = Session::DecodeSpec::Kind;
  Session::DecodeSpec spec{Kind::kSerial, words.texts("SIGNAL")};
  for (const auto& [word, kind] :
       {std::pair{"two-wire", Kind::kTwoWire}, std::pair{"spi", Kind::kSpi},
        std::pair{"one-wire", Kind::kOneWire}, std::pair{"duty", Kind::kDuty},
        std::pair{"widths", Kind::kWidths}})
    if (words.items()[1].text == word) spec.kind = kind;
  const auto& items = words.items();
  for (std::size_t i = 0; i + 1 < items.size(); ++i) {
    if (items[i].kind != nullptr) continue;
    const auto number = static_cast<unsigned>(
        std::min<std::uint64_t>(parse_number(items[i + 1].text).value_or(0), UINT32_MAX));
    if (items[i].text == "at") spec.serial.rate = number;
    if (items[i].text == "with") spec.serial.bits = number;
    if (items[i].text == "mode") spec.mode = number;
  }
  if (words.has("even")) spec.serial.parity = SerialForm::Parity::kEven;
  if (words.has("odd")) spec.serial.parity = SerialForm::Parity::kOdd;
  if (!words.text("TIME").empty()) {
    const auto time = parse_time(words.text("TIME"));
    if (!time) return fail(time.error());
    spec.glitches = *time;
  }
  spec.name = words.text("WORD");
  auto decoded = session_->decode(spec);
  if (!decoded) return fail(decoded.error());
  constexpr std::size_t kShown = 128;
  for (std::size_t i = 0; i < std::min(decoded->data.size(), kShown); ++i)
    session_->told(decoded->data[i].at);
  show(DecodedWires{std::move(*decoded)});
  return {};
}

Result<void> Console::do_import(const Words& words) {
  const std::string path = file(words);
  Picoseconds start;
  if (!words.text("WHEN").empty()) {
    const auto moment = when(words.text("WHEN"));
    if (!moment) return fail(moment.error());
    start = *moment;
  }
  const auto signals = open_waveforms(path);
  if (!signals) return fail(signals.error());
  std::string prefix = words.text("WORD");
  if (prefix.empty()) {
    prefix = path.substr(path.find_last_of('/') + 1);
    prefix.resize(prefix.rfind('.'));
  }
  auto traces = session_->add_signals(*signals, prefix, start);
  if (!traces) return fail(traces.error());
  show(Traces{std::move(*traces)});
  return {};
}

Result<std::vector<Signal>> Console::signals_of(const std::string& names) const {
  if (names.empty()) {
    auto all = session_->signals();
    if (all.empty())
      return fail(ErrorCode::kUsage, "nothing is traced", "`trace pin.PB5 from start`");
    return all;
  }
  std::vector<Signal> out;
  for (const std::string& name : names_in(names)) {
    auto signal = session_->signal(name);
    if (!signal) return fail(signal.error());
    out.push_back(std::move(*signal));
  }
  return out;
}

Result<void> Console::do_plot(const Words& words) {
  auto signals = signals_of(words.text("SIGNALS"));
  if (!signals) return fail(signals.error());
  const auto all = extent(*signals);
  PlotOptions options;
  options.from = all.first;
  options.to = all.second;
  if (words.has("from")) {
    const auto stretch = window(words);
    if (!stretch) return fail(stretch.error());
    options.from = stretch->first;
    options.to = words.behind("to", "WHEN").empty() ? all.second : stretch->second;
  }
  if (words.has("cursors")) {
    const auto a = when(words.behind("cursors", "WHEN"));
    if (!a) return fail(a.error());
    const auto b = when(words.behind("and", "WHEN"));
    if (!b) return fail(b.error());
    options.cursors = std::pair{*a, *b};
  }
  if (auto some = check_extent(*signals, options); !some) return some;
  if (words.text("FILE").empty()) {
    show(Drawing{std::move(*signals), options.from, options.to});
    return {};
  }
  const std::string path = file(words);
  options.dark = words.has("dark");
  if (words.has("sized")) {
    const auto sizes = words.texts("N");
    options.width = static_cast<unsigned>(
        std::min<std::uint64_t>(parse_number(sizes[0]).value_or(UINT32_MAX), UINT32_MAX));
    options.height = static_cast<unsigned>(
        std::min<std::uint64_t>(parse_number(sizes[1]).value_or(UINT32_MAX), UINT32_MAX));
  }
  const std::string& image = session_->image_path();
  options.title = image.substr(image.find_last_of('/') + 1);
  options.detail = fmt::format("{} to {} · {}", to_text(options.from), to_text(options.to),
                               session_->chip().info().name);
  const Picoseconds now = session_->chip().time();
  options.lines.push_back({now, "now"});
  // A line for each pause says nothing where there are many.
  auto pauses = session_->pauses();
  pauses.erase(std::remove_if(pauses.begin(), pauses.end(),
                              [&](const Session::PausedView& pause) {
                                return pause.time.count < options.from.count ||
                                       pause.time.count > options.to.count ||
                                       pause.time.count == now.count;
                              }),
               pauses.end());
  constexpr std::size_t kMostPauses = 40;
  if (pauses.size() <= kMostPauses)
    for (const Session::PausedView& pause : pauses)
      options.lines.push_back({pause.time, words_of(pause)});
  for (const Session::MarkView& mark : session_->marks())
    if (!mark.other_future && !mark.image_gone) options.lines.push_back({mark.time, mark.name});
  std::sort(options.lines.begin(), options.lines.end(),
            [](const auto& a, const auto& b) { return a.at.count < b.at.count; });
  if (auto drawn = draw_into(path, *signals, options); !drawn) return drawn;
  show(Message{fmt::format(
      "{} signal{} drawn into {}{}", signals->size(), signals->size() == 1 ? "" : "s", path,
      pauses.size() <= kMostPauses ? ""
                                   : fmt::format(", without lines for {} pauses", pauses.size()))});
  return {};
}

Result<void> Console::do_tabulate(const Words& words) {
  const auto id = static_cast<unsigned>(std::min<std::uint64_t>(words.number("ID", 0), UINT32_MAX));
  if (words.has("nothing")) {
    tables_.erase(id);
    return session_->tabulate(id, {});
  }
  const auto columns = expressions_in(words.text("EXPR"));
  const std::string path = file(words);
  Table table(path, columns);
  for (const auto& [other, one] : tables_)
    if (other != id && one.path() == path)
      return fail(ErrorCode::kUsage, fmt::format("breakpoint {} is tabulated into {}", other, path),
                  "choose another file");
  if (auto known = session_->tabulate(id, columns); !known) return known;
  if (auto written = table.write(); !written) {
    (void)session_->tabulate(id, {}).has_value();
    return written;
  }
  tables_.insert_or_assign(id, std::move(table));
  show(Message{
      fmt::format("breakpoint {} does not pause any more: each pass is a row of {}", id, path)});
  return {};
}

void Console::on_row(unsigned id, Picoseconds now, const std::vector<Value>& values) {
  const auto table = tables_.find(id);
  if (table != tables_.end()) table->second.add(now, values);
}

Result<void> Console::write_tables() {
  for (auto& [id, table] : tables_)
    if (auto written = table.write(); !written) return written;
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
