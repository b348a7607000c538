// SPDX-License-Identifier: MIT
// What expressions can ask of recorded signals and of whole runs: width(pin.PB5, high),
// delay(PB5 rising, PB0), coverage(control.c).
#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/text.h"
#include "lucid/measurement.h"
#include "session/core.h"

namespace lucid {

const std::vector<std::pair<std::string, std::string>>& frames::Measures::functions() {
  static const std::vector<std::pair<std::string, std::string>> kFunctions{
      {"width", "width(SIGNAL, high|low)"},
      {"period", "period(SIGNAL)"},
      {"gap", "gap(SIGNAL)"},
      {"delay", "delay(SIGNAL [rising|falling], SIGNAL [rising|falling])"},
      {"frequency", "frequency(SIGNAL)"},
      {"duty", "duty(SIGNAL)"},
      {"edges", "edges(SIGNAL [rising|falling])"},
      {"least", "least(SIGNAL)"},
      {"most", "most(SIGNAL)"},
      {"mean", "mean(SIGNAL)"},
      {"coverage", "coverage(FILE), or coverage(all)"},
      {"latency", "latency(INTERRUPT)"},
      {"inside", "inside(INTERRUPT)"}};
  return kFunctions;
}

class Session::Core::Measuring final : public frames::Measures {
 public:
  explicit Measuring(const Core& core) : core_(core) {}

  [[nodiscard]] Result<Measured> measure(const std::string& function,
                                         const std::vector<std::string>& arguments) const override {
    const std::size_t wanted = function == "width" || function == "delay" ? 2 : 1;
    if (arguments.size() != wanted || arguments[0].empty()) return usage(function);
    if (function == "coverage") return share_executed(arguments[0]);
    if (function == "latency") return spread(arguments[0], &machine::InterruptCounts::wait);
    if (function == "inside") return spread(arguments[0], &machine::InterruptCounts::whole);
    std::array<Edge, 2> edges{Edge::kAny, Edge::kAny};
    std::vector<Signal> signals;
    for (std::size_t i = 0; i < arguments.size(); ++i) {
      if (function == "width" && i == 1) break;
      std::string name = arguments[i];
      for (const auto& [word, edge] :
           {std::pair{" rising", Edge::kRising}, std::pair{" falling", Edge::kFalling}})
        if (const std::size_t at = name.rfind(word);
            at != std::string::npos && at + std::string(word).size() == name.size()) {
          if (function != "delay" && function != "edges") return usage(function);
          edges[i] = edge;
          name = std::string(base::trim(name.substr(0, at)));
        }
      auto signal = core_.signal(name);
      if (!signal) return fail(signal.error());
      signals.push_back(std::move(*signal));
    }
    const Picoseconds all{UINT64_MAX};
    if (function == "delay") {
      const auto spans = measure_delays(signals[0], edges[0], signals[1], edges[1], {}, all);
      if (!spans) return fail(spans.error());
      return of(*spans, function, arguments[0]);
    }
    const auto m = lucid::measure(signals[0], {}, all);
    if (!m) return fail(m.error());
    if (function == "edges") {
      const std::uint64_t rising = m->kind == Signal::Kind::kLevel ? m->rising : m->changes;
      const std::uint64_t falling = m->kind == Signal::Kind::kLevel ? m->falling : 0;
      return whole(edges[0] == Edge::kRising    ? rising
                   : edges[0] == Edge::kFalling ? falling
                                                : rising + falling);
    }
    if (function == "least" || function == "most" || function == "mean") {
      if (!m->values)
        return fail(ErrorCode::kUsage, fmt::format("'{}' is no number", arguments[0]));
      return real(function == "least"  ? m->values->least
                  : function == "most" ? m->values->most
                                       : m->values->mean);
    }
    if (m->kind != Signal::Kind::kLevel && (m->kind != Signal::Kind::kMoment || function != "gap"))
      return fail(ErrorCode::kUsage, fmt::format("'{}' is neither high nor low", arguments[0]),
                  "there is least(), most(), mean()");
    if (function == "width") {
      if (arguments[1] != "high" && arguments[1] != "low") return usage(function);
      return of(arguments[1] == "high" ? m->high : m->low, function, arguments[0]);
    }
    if (function == "period") return of(m->period, function, arguments[0]);
    if (function == "gap") return of(m->gaps, function, arguments[0]);
    const auto& value = function == "frequency" ? m->hertz : m->duty;
    if (!value) return none(function, arguments[0]);
    return real(*value);
  }

 private:
  /// The part of a file's lines that has executed, 0 to 1.
  [[nodiscard]] Result<Measured> share_executed(const std::string& name) const {
    const auto coverage = core_.coverage();
    if (!coverage) return fail(coverage.error());
    std::size_t all = 0, executed = 0;
    const auto count = [&](const CoverageView::File& file) {
      all += file.lines.size();
      executed += file.lines_executed();
    };
    if (name == "all")
      std::for_each(coverage->files.begin(), coverage->files.end(), count);
    else
      for (const CoverageView::File* file : coverage->named(name)) count(*file);
    if (all == 0)
      return fail(ErrorCode::kNotFound, fmt::format("no code is from a file '{}'", name),
                  did_you_mean(name, coverage->names()));
    return real(static_cast<double>(executed) / static_cast<double>(all));
  }
  /// From the request to the handler's first instruction, or from there to its return.
  [[nodiscard]] Result<Measured> spread(const std::string& name,
                                        machine::Spread machine::InterruptCounts::*which) const {
    const auto counts = core_.counts();
    if (!counts) return fail(counts.error());
    std::vector<std::string> names;
    for (const InterruptVector& vector : core_.machine().info().vectors) {
      names.push_back(vector.name);
      if (vector.name != name || vector.number >= counts->interrupts.size()) continue;
      const machine::Spread& spread = counts->interrupts[vector.number].*which;
      if (spread.count == 0)
        return fail(ErrorCode::kNotFound, name + " has not been entered", "run on");
      const std::uint64_t hz = core_.machine().info().clock_hz;
      const Value most = time(to_time(spread.most, hz));
      return Measured{most, time(to_time(spread.least, hz)), most};
    }
    return fail(ErrorCode::kNotFound, "there is no interrupt '" + name + "'",
                did_you_mean(name, names));
  }
  static tl::unexpected<Error> usage(const std::string& function) {
    for (const auto& [name, form] : functions())
      if (name == function) return fail(ErrorCode::kUsage, fmt::format("it is {}", form));
    return fail(ErrorCode::kUsage, fmt::format("'{}' measures nothing", function));
  }
  static tl::unexpected<Error> none(const std::string& function, const std::string& signal) {
    return fail(ErrorCode::kNotFound,
                fmt::format("there is no complete {} of {} yet", function, signal), "run on");
  }
  static Value time(Picoseconds span) {
    Value out;
    out.kind = Value::Kind::kTime;
    out.integer = static_cast<std::int64_t>(span.count);
    out.bits = 64;
    return out;
  }
  static Result<Measured> of(const Spans& spans, const std::string& function,
                             const std::string& signal) {
    if (spans.count == 0) return none(function, signal);
    return Measured{time(spans.last), time(spans.least), time(spans.most)};
  }
  static Result<Measured> real(double value) {
    Value out;
    out.kind = Value::Kind::kReal;
    out.real = value;
    return Measured{out, out, out};
  }
  static Result<Measured> whole(std::uint64_t value) {
    Value out;
    out.integer = static_cast<std::int64_t>(value);
    out.bits = 64;
    return Measured{out, out, out};
  }

  const Core& core_;
};

std::unique_ptr<const frames::Measures> Session::Core::measuring() const {
  return std::make_unique<Measuring>(*this);
}

}  // namespace lucid
