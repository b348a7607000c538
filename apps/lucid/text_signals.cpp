// SPDX-License-Identifier: MIT
#include "text_signals.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace lucid::app {
namespace {

std::string count_of(std::uint64_t count, const char* what) {
  return fmt::format("{} {}{}", count, what, count == 1 ? "" : "s");
}

std::string frequency_text(double hertz) {
  if (hertz >= 1e6) return fmt::format("{:.6g} MHz", hertz / 1e6);
  if (hertz >= 1e3) return fmt::format("{:.6g} kHz", hertz / 1e3);
  return fmt::format("{:.6g} Hz", hertz);
}

std::string value_text(double value, const std::string& unit) {
  return fmt::format("{:.6g}{}{}", value, unit.empty() ? "" : " ", unit);
}

}  // namespace

std::string SignalViews::bar(double share) const {
  constexpr unsigned kWidth = 20;
  std::string out;
  for (unsigned i = 0; i < static_cast<unsigned>(std::lround(share * kWidth)); ++i)
    out += style_.utf8() ? "▪" : "#";
  return style_.accent(out);
}

std::string SignalViews::operator()(const Traces& traces) const {
  if (traces.list.empty()) return "nothing is traced; `trace pin.PB5` does that\n";
  std::size_t name = 0, value = 0;
  for (const Session::TraceView& t : traces.list) {
    name = std::max(name, style_.columns(t.name));
    value = std::max(value, style_.columns(t.value));
  }
  std::string out;
  for (const Session::TraceView& t : traces.list) {
    std::string line = fmt::format("{:>4}  {}  {}", t.id, style_.padded(t.name, name),
                                   style_.padded(t.value, value));
    const bool moments = t.kind == Signal::Kind::kMoment;
    line += fmt::format("  {:>18}", count_of(t.changes, moments ? "moment" : "change"));
    line += fmt::format("  {} to {}", to_text(t.from), to_text(t.to));
    if (!t.place.empty()) line += style_.dim("  by " + t.place);
    out += line + "\n";
    if (t.around != 0)
      out += style_.dim(fmt::format("      around {}{}, {} before and {} after: {}\n", t.around,
                                    t.around_gone ? " (removed)" : "", to_text(t.before),
                                    to_text(t.after), count_of(t.windows, "window")));
    if (t.bytes_in_file != 0)
      out +=
          style_.dim(fmt::format("      {} kB of them are in the file\n", t.bytes_in_file / 1024));
    if (t.discarded != 0)
      out += style_.warn(
          fmt::format("      {} before that were given up: memory is bounded\n", t.discarded));
  }
  return out;
}

std::string SignalViews::spans_head() const {
  return style_.dim(fmt::format("  {:<7}{:>8}{:>14}{:>14}{:>14}{:>14}\n", "", "count", "least",
                                "mean", "most", "deviation"));
}

std::string SignalViews::spans_row(const char* name, const Spans& s) const {
  if (s.count == 0) return fmt::format("  {:<7}{:>8}\n", name, 0);
  std::string out =
      fmt::format("  {:<7}{:>8}{:>14}{:>14}{:>14}{:>14}\n", name, s.count, to_text(s.least),
                  to_text(s.mean), to_text(s.most), to_text(s.deviation));
  if (s.least.count != s.most.count)
    out += style_.dim(fmt::format("  {:<7}{:>8}{:>14}{:>14}{:>14}\n", "", "at", to_text(s.least_at),
                                  "", to_text(s.most_at)));
  return out;
}

std::string SignalViews::operator()(const Measured& m) const {
  const Measurement& x = m.measurement;
  std::string out =
      style_.bold(m.signal) + fmt::format("  {} to {}\n", to_text(x.from), to_text(x.to));
  if (x.unknown.count != 0)
    out += style_.warn(fmt::format("  for {} of that nothing determines it, or it is not known\n",
                                   to_text(x.unknown)));
  switch (x.kind) {
    case Signal::Kind::kLevel: {
      std::string line = fmt::format("  {}, {}", count_of(x.rising, "rising edge"),
                                     count_of(x.falling, "falling edge"));
      if (x.hertz) line += ", " + frequency_text(*x.hertz);
      if (x.duty) line += fmt::format(", high for {:.4g} %", *x.duty * 100);
      out += line + "\n";
      if (x.high.count + x.low.count + x.period.count == 0) break;
      out += spans_head() + spans_row("high", x.high) + spans_row("low", x.low) +
             spans_row("period", x.period);
      break;
    }
    case Signal::Kind::kMoment:
      out += "  " + count_of(x.changes, "moment");
      if (x.hertz) out += ", " + frequency_text(*x.hertz);
      out += "\n";
      if (x.gaps.count != 0) out += spans_head() + spans_row("gap", x.gaps);
      break;
    case Signal::Kind::kNumber:
    case Signal::Kind::kReal: {
      out += "  " + count_of(x.changes, "change") + "\n";
      if (!x.values) break;
      const Measurement::Values& v = *x.values;
      if (!x.named)
        out +=
            fmt::format("  least {} at {}, most {} at {}, mean {}\n", value_text(v.least, v.unit),
                        to_text(v.least_at), value_text(v.most, v.unit), to_text(v.most_at),
                        value_text(v.mean, v.unit));
      const double all = static_cast<double>(x.to.count - x.from.count - x.unknown.count);
      std::size_t widest = 0;
      constexpr std::size_t kShown = 8;
      // Where no value held for long, none says anything.
      const bool telling =
          all > 0 && !x.held.empty() && static_cast<double>(x.held[0].time.count) >= all / 50;
      const std::size_t shown = telling ? std::min(x.held.size(), kShown) : 0;
      for (std::size_t i = 0; i < shown; ++i)
        widest = std::max(widest, style_.columns(x.held[i].text));
      for (std::size_t i = 0; i < shown; ++i) {
        const Measurement::Held& h = x.held[i];
        const double share = all > 0 ? static_cast<double>(h.time.count) / all : 0;
        out += fmt::format("  {}  {:>14} {:>6.2f} %  {:>9}  {}\n", style_.padded(h.text, widest),
                           to_text(h.time), 100 * share, count_of(h.times, "time"), bar(share));
      }
      if (telling && x.different > shown)
        out += style_.dim(fmt::format("  and {} other values\n", x.different - shown));
      if (!telling && x.different > 1)
        out += style_.dim(fmt::format("  {} values, none of them for long\n", x.different));
      break;
    }
  }
  return out;
}

std::string SignalViews::operator()(const MeasuredSpans& m) const {
  std::string out = style_.bold(m.what) + "\n";
  if (m.spans.count == 0) return out + "  there is none\n";
  return out + spans_head() + spans_row("", m.spans) + histogram(m.spans);
}

/// How often they were how long: each length by itself, or ten classes of them.
std::string SignalViews::histogram(const Spans& spans) const {
  constexpr std::size_t kRows = 10, kWide = 40;
  if (spans.lengths.size() < 2) return {};
  struct Row {
    std::string text;
    std::uint64_t times = 0;
  };
  std::vector<Row> rows;
  const std::uint64_t least = spans.least.count;
  const std::uint64_t width = (spans.most.count - least) / kRows + 1;
  if (spans.lengths.size() <= kRows)
    for (const Spans::Length& one : spans.lengths) {
      const std::string text = to_text(one.length);
      if (rows.empty() || rows.back().text != text) rows.push_back({text, 0});
      rows.back().times += one.times;
    }
  else
    for (std::size_t i = 0; i < kRows; ++i)
      rows.push_back({to_text(Picoseconds{least + i * width}) + " on", 0});
  if (spans.lengths.size() > kRows)
    for (const Spans::Length& one : spans.lengths)
      rows[(one.length.count - least) / width].times += one.times;
  std::uint64_t most = 1;
  for (const Row& row : rows) most = std::max(most, row.times);
  std::string out;
  for (const Row& row : rows) {
    std::string bar;
    for (std::uint64_t i = 0; i < (row.times * kWide + most - 1) / most; ++i)
      bar += style_.utf8() ? "█" : "#";
    out += fmt::format("  {:>16}{:>10}  {}\n", row.text, row.times, style_.dim(bar));
  }
  return out;
}

std::string SignalViews::operator()(const DecodedWires& w) const {
  const Decoded& d = w.decoded;
  std::string out = style_.bold(d.signal.name());
  const bool bytes = d.signal.facts().kind == Signal::Kind::kNumber;
  out += "  " + (bytes ? count_of(d.bytes, "byte") : count_of(d.signal.changes(), "change"));
  if (d.rate != 0) out += fmt::format(", {:.6g} baud", d.rate);
  if (d.glitches != 0) out += ", " + count_of(d.glitches, "glitch") + " left out";
  if (d.faults != 0) out += ", " + style_.bad(count_of(d.faults, "fault"));
  out += "\n";
  constexpr std::size_t kRow = 16, kRows = 8;
  const std::size_t shown = std::min(d.data.size(), kRow * kRows);
  for (std::size_t row = 0; row < shown; row += kRow) {
    std::string hex, text;
    for (std::size_t i = row; i < std::min(row + kRow, shown); ++i) {
      const std::uint8_t value = d.data[i].value;
      const std::string byte = fmt::format("{:02x}", value);
      hex += (i == row ? "" : " ") + (d.data[i].fault ? style_.bad(byte) : byte);
      text += value >= 0x20 && value < 0x7f ? static_cast<char>(value) : '.';
    }
    const std::size_t missing = row + kRow > shown ? row + kRow - shown : 0;
    out += fmt::format("  {:>14}  {}{}  {}\n", to_text(d.data[row].at), hex,
                       std::string(3 * missing, ' '), text);
  }
  if (shown < d.data.size())
    out += style_.dim(fmt::format("  and {} more; --json has them\n", d.data.size() - shown));
  return out;
}

std::string SignalViews::operator()(const Matched& m) const {
  const Match& x = m.match;
  std::string out = fmt::format("  {} of {} and {} the same within {}\n", count_of(x.edges, "edge"),
                                m.one, m.other, to_text(m.tolerance));
  const bool later = x.offset >= 0;
  const auto distance = static_cast<std::uint64_t>(later ? x.offset : -x.offset);
  if (x.edges != 0)
    out += "  " +
           style_.wrapped(
               fmt::format("{} begins {} {}, its clock is {:.4g} ppm {}; the worst that "
                           "is left is {} at {}",
                           m.other, to_text(Picoseconds{distance}), later ? "later" : "earlier",
                           x.ppm < 0 ? -x.ppm : x.ppm, x.ppm < 0 ? "faster" : "slower",
                           to_text(x.worst), to_text(x.worst_at)),
               2) +
           "\n";
  if (!x.difference) return out;
  const Match::Difference& d = *x.difference;
  const auto word = [](bool rises) { return rises ? "rises" : "falls"; };
  std::string what;
  if (d.extra)
    what = fmt::format("{} {} at {}, about {} here: {} has no such edge", m.other,
                       word(d.other_rises), to_text(*d.other_at), to_text(d.at), m.one);
  else if (d.other_at)
    what = fmt::format("{} {} at {}; {} {} at {}", m.one, word(d.rises), to_text(d.at), m.other,
                       word(d.other_rises), to_text(*d.other_at));
  else
    what = fmt::format("{} {} at {}; {} has no such edge", m.one, word(d.rises), to_text(d.at),
                       m.other);
  return out + "  " + style_.bad(style_.wrapped("then " + what, 2)) + "\n";
}

}  // namespace lucid::app
