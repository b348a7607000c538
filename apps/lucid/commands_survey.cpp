// SPDX-License-Identifier: MIT
// Commands for whole runs: what has executed, what has not, how long interrupts waited.
#include <fmt/format.h>

#include <filesystem>
#include <fstream>
#include <iterator>

#include "console.h"
#include "lucid/plot.h"
#include "output.h"
#include "text_survey.h"

namespace lucid::app {
Result<void> Console::do_survey(const Words& words) {
  using Survey = Session::Survey;
  if (words.has("off")) return session_->survey(Survey::kOff);
  const bool again = session_->surveys();
  if (auto begun = session_->survey(words.has("calls") ? Survey::kWithCalls : Survey::kCounts);
      !begun)
    return begun;
  show(Message{again
                   ? "counting from here on, and from nought again"
                   : "counting from here on: `show profile`, `show coverage`, `show interrupts`"});
  return {};
}

Result<void> Console::show_profile(const Words& words) {
  auto view = session_->profile();
  if (!view) return fail(view.error());
  if (words.has("calls") && view->calls.empty())
    return fail(ErrorCode::kUsage, "who calls whom has not been told",
                "`survey with calls` does that from here on");
  constexpr std::size_t kMost = 20;
  const std::uint64_t most = words.number("N", kMost);
  show(Profile{std::move(*view), words.has("lines"), words.has("calls"), words.has("all"),
               static_cast<std::size_t>(most)});
  return {};
}

Result<CoverageView> coverage_in(const std::string& path) {
  std::error_code unknown;
  std::ifstream in(path, std::ios::binary);
  if (!in || std::filesystem::is_directory(path, unknown))
    return fail(ErrorCode::kNotFound, "cannot read '" + path + "'",
                "`export coverage into FILE` writes one");
  return read_lcov({std::istreambuf_iterator<char>(in), {}}, path);
}

Result<void> Console::show_coverage(const Words& words) {
  auto view = session_->coverage();
  if (!view) return fail(view.error());
  if (words.has("against")) {
    const std::string path = file(words);
    const auto other = coverage_in(path);
    if (!other) return fail(other.error());
    show(CoverageDifference{only_in(*view, *other), only_in(*other, *view), path});
    return {};
  }
  Coverage out{std::move(*view), {}};
  if (const std::string name = words.text("SOURCE"); !name.empty()) {
    const auto named = out.view.named(name);
    if (named.empty())
      return fail(ErrorCode::kNotFound, "no code is from a file '" + name + "'",
                  did_you_mean(name, out.view.names()));
    out.view.files = {CoverageView::File(*named.front())};
    constexpr unsigned kAll = 1'000'000;
    const auto source = session_->source(
        fmt::format("{}:{}", name, out.view.files.front().lines.front().line), kAll);
    if (!source) return fail(source.error());
    if (!source->problem.empty()) return fail(ErrorCode::kIo, source->problem);
    for (const SourceView::Line& line : source->lines)
      out.source.emplace_back(line.number, line.text);
  }
  show(out);
  return {};
}

Result<void> Console::show_interrupts() {
  auto list = session_->interrupts();
  if (!list) return fail(list.error());
  show(InterruptList{std::move(*list)});
  return {};
}

namespace {

/// What arrives for a receiver.
Result<std::optional<std::uint8_t>> byte_in(const Words& words) {
  if (!words.has("byte")) return std::nullopt;
  constexpr std::uint64_t kLargest = 0xff;
  const std::uint64_t value = words.number("DATA", 0);
  if (value > kLargest)
    return fail(ErrorCode::kOutOfRange, fmt::format("{} is more than a byte", value));
  return static_cast<std::uint8_t>(value);
}

}  // namespace

Result<RaceView> Console::race_search(const Words& words) {
  RaceSpec spec;
  spec.function = words.text("FUNCTION");
  spec.interrupts = words.texts("INTERRUPT");
  spec.pair = spec.interrupts.size() == 2;
  const auto byte = byte_in(words);
  if (!byte) return fail(byte.error());
  spec.byte = *byte;
  spec.from = words.text("PLACE");
  spec.expectation = words.text("EXPR");
  return session_->race_search(spec);
}

Result<RaceOverview> Console::race_overview(const Words& words) {
  RaceOverviewSpec spec;
  spec.interrupts = words.texts("INTERRUPT");
  if (const std::string text = words.text("TIME"); !text.empty()) {
    const auto time = parse_time(text);
    if (!time) return fail(time.error());
    spec.within = *time;
  }
  return session_->race_overview(spec);
}

Result<void> Console::do_race_search(const Words& words) {
  if (words.text("FUNCTION").empty()) {
    const auto overview = race_overview(words);
    if (!overview) return fail(overview.error());
    show(*overview);
    return {};
  }
  const auto view = race_search(words);
  if (!view) return fail(view.error());
  show(*view);
  return {};
}

/// A race is stood at.
Result<void> Console::expect_no_race(const Words& words) {
  const auto decide_on = [&](const std::string& expected, const auto& view) -> Result<void> {
    if (view.findings.empty())
      return decide(Expectation{true, expected, "", session_->chip().time(), {}});
    show(view);
    if (const auto pause = session_->go_to_race(1); !pause) return fail(pause.error());
    const RaceView::Finding& first = view.findings.front();
    return stand_decided(
        Expectation{false, expected, race_words(first), session_->chip().time(), first.where});
  };
  if (words.text("FUNCTION").empty()) {
    const auto overview = race_overview(words);
    if (!overview) return fail(overview.error());
    if (overview->findings.empty() && overview->interrupted)
      return fail(ErrorCode::kUsage, "interrupted: not all places were tried");
    return decide_on("no race", *overview);
  }
  const auto view = race_search(words);
  if (!view) return fail(view.error());
  const std::string expected = "no race in " + view->function;
  if (view->findings.empty() && (view->interrupted || view->left_out != 0))
    return fail(ErrorCode::kUsage, "not all of " + view->function + " was searched",
                "name one interrupt, or a function that it calls");
  return decide_on(expected, *view);
}

Result<void> Console::do_raise(const Words& words) {
  const auto byte = byte_in(words);
  if (!byte) return fail(byte.error());
  return session_->raise(words.text("INTERRUPT"), *byte);
}

Result<void> Console::do_check(const Words& words) {
  using Mode = Session::CheckMode;
  if (words.has("over")) {
    const auto over = parse_time(words.text("TIME"));
    if (!over) return fail(over.error());
    session_->set_slow_handler(*over);
    return session_->set_check("slow-handler", Mode::kList);
  }
  const Mode mode = words.has("pause")  ? Mode::kPause
                    : words.has("list") ? Mode::kList
                                        : Mode::kOff;
  const std::string name = words.text("CHECK");
  const bool all = words.has("all");
  if (!all && !words.has("values")) {
    auto set = session_->set_check(name, mode);
    if (set || set.error().code != ErrorCode::kNotFound) return set;
    std::vector<std::string> names{"all", "values"};
    for (const Session::Check& check : session_->checks()) names.push_back(check.name);
    Error error = set.error();
    error.hint = did_you_mean(name, names);
    if (error.hint.empty()) error.hint = "`show checks` has their names";
    return fail(error);
  }
  std::string cannot;
  for (const Session::Check& check : session_->checks()) {
    if (!all && !check.follows_values) continue;
    auto set = session_->set_check(check.name, mode);
    if (!set && set.error().code != ErrorCode::kUnsupported) return set;
    if (!set) cannot += (cannot.empty() ? "" : ", ") + check.name;
  }
  if (!cannot.empty() && !all)
    return fail(ErrorCode::kUnsupported, session_->chip().info().name + " cannot follow values");
  if (!cannot.empty()) show(Message{"not on this chip: " + cannot});
  return {};
}

Result<void> Console::expect_no_findings() {
  std::vector<FindingView> faults;
  for (const FindingView& finding : session_->findings())
    if (!finding.harmless) faults.push_back(finding);
  std::string instead;
  if (!faults.empty()) {
    instead = faults.front().text;
    if (faults.size() > 1) instead += fmt::format(", and {} more", faults.size() - 1);
    show(Findings{faults});
  }
  return decide(
      Expectation{faults.empty(), "no findings", instead, session_->chip().time(),
                  faults.empty() || !faults.front().where ? Location{} : *faults.front().where});
}

Result<void> Console::export_profile(const Words& words) {
  const auto view = session_->profile();
  if (!view) return fail(view.error());
  const std::string path = file(words);
  const auto page =
      profile_page(*view,
                   "Where the cycles of " +
                       std::filesystem::path(session_->image_path()).filename().string() + " went",
                   fmt::format("{} cycles in {}", grouped(view->cycles), to_text(view->span)));
  if (!page) return fail(page.error());
  if (auto written = write_file(path, *page); !written) return written;
  show(Message{"written into " + path + ": open it in a browser"});
  return {};
}

Result<void> Console::do_export_coverage(const Words& words) {
  if (words.has("profile")) return export_profile(words);
  const auto view = session_->coverage();
  if (!view) return fail(view.error());
  if (view->files.empty())
    return fail(ErrorCode::kUnsupported, "the image knows no lines of source", "build it with -g");
  const std::string path = file(words);
  if (auto written = write_file(path, lcov_text(*view)); !written) return written;
  std::size_t lines = 0;
  for (const CoverageView::File& f : view->files) lines += f.lines.size();
  show(Message{
      fmt::format("{} files with {} lines written into {}", view->files.size(), lines, path)});
  return {};
}

}  // namespace lucid::app
