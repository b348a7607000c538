// SPDX-License-Identifier: MIT
#include "lucid/expectation.h"

#include <fmt/format.h>

#include <algorithm>

namespace lucid {

std::string Expectation::text() const {
  return held ? expected : "expected " + expected + ", but " + instead;
}

Result<Expectation> Expectations::verdict(bool held, std::string expected,
                                          std::string instead) const {
  const Pause& pause = session_->pause();
  return Expectation{held, std::move(expected), held ? "" : std::move(instead), pause.time,
                     pause.where};
}

/// Both sides of a comparison tell more than that it does not hold.
std::string Expectations::instead_of(const std::string& expression) const {
  const bool several =
      expression.find("&&") != std::string::npos || expression.find("||") != std::string::npos;
  if (several) return "it does not hold";
  for (const char* op : {"==", "!=", "<=", ">=", "<", ">", " in "}) {
    const std::size_t at = expression.find(op);
    if (at == std::string::npos) continue;
    const auto left = session_->evaluate(expression.substr(0, at));
    if (op == std::string(" in ")) {
      if (left) return "it is " + left->text;
      break;
    }
    const auto right = session_->evaluate(expression.substr(at + std::string(op).size()));
    if (left && right) return fmt::format("it is {} {} {}", left->text, op, right->text);
    break;
  }
  return "it does not hold";
}

/// Runs on for a span at most, over pauses that are not looked for. nullopt: what is looked for is
/// there, or the time is up, as the pause says; else what has ended it before.
template <class Go>
Result<std::optional<Expectation>> Expectations::run(Picoseconds span, const std::string& expected,
                                                     Go go) {
  const std::uint64_t begin = session_->chip().time().count;
  for (;;) {
    const std::uint64_t gone = session_->chip().time().count - begin;
    const Result<Pause> pause = go(Picoseconds{span.count > gone ? span.count - gone : 0});
    if (!pause) return fail(pause.error());
    if (auto armed = broken()) return armed;
    if (pause->found) return std::optional<Expectation>{};
    using Cause = Pause::Cause;
    switch (pause->cause) {
      case Cause::kTimeUp: return std::optional<Expectation>{};
      case Cause::kFault:
      case Cause::kBreakInstruction: {
        auto out = verdict(false, expected,
                           pause->detail.empty() ? "a BREAK instruction came first"
                                                 : pause->detail + " came first");
        return std::optional<Expectation>{*out};
      }
      case Cause::kLimit:
        return fail(ErrorCode::kOutOfRange, "the limit of a run came first: " + pause->detail,
                    "give it more: --limit 2h");
      case Cause::kRequested:
        return fail(ErrorCode::kUsage, "paused before it could be told whether " + expected);
      case Cause::kCannotTell: return fail(ErrorCode::kUsage, pause->detail);
      default: break;
    }
    if (session_->chip().time().count - begin >= span.count) return std::optional<Expectation>{};
  }
}

Result<Expectation> Expectations::that(const std::string& expression) {
  const auto holds = session_->holds(expression);
  if (!holds) return fail(holds.error());
  return verdict(*holds, expression, *holds ? "" : instead_of(expression));
}

Result<Expectation> Expectations::within(const std::string& expression, Picoseconds span) {
  const std::string expected = fmt::format("{} within {}", expression, to_text(span));
  const auto holds = session_->holds(expression);
  if (!holds) return fail(holds.error());
  if (*holds) return verdict(true, expected, "");
  auto ended =
      run(span, expected, [&](Picoseconds most) { return session_->go_until(expression, most); });
  if (!ended) return fail(ended.error());
  if (*ended) return **ended;
  return verdict(session_->pause().found, expected,
                 fmt::format("after {} {}", to_text(span), instead_of(expression)));
}

Result<Expectation> Expectations::throughout(const std::string& expression, Picoseconds span) {
  const std::string expected = fmt::format("{} for {}", expression, to_text(span));
  const auto holds = session_->holds(expression);
  if (!holds) return fail(holds.error());
  if (!*holds) return verdict(false, expected, instead_of(expression));
  const std::uint64_t begin = session_->chip().time().count;
  auto ended = run(span, expected, [&](Picoseconds most) {
    return session_->go_until("!(" + expression + ")", most);
  });
  if (!ended) return fail(ended.error());
  if (*ended) return **ended;
  return verdict(!session_->pause().found, expected,
                 fmt::format("after {} {}", to_text({session_->chip().time().count - begin}),
                             instead_of(expression)));
}

Result<Expectation> Expectations::heard(const std::string& port, const std::string& text,
                                        Picoseconds span) {
  const std::string expected = fmt::format("\"{}\" from {} within {}", text, port, to_text(span));
  auto ended = run(span, expected,
                   [&](Picoseconds most) { return session_->go_until_sent(port, text, most); });
  if (!ended) return fail(ended.error());
  if (*ended) return **ended;
  return verdict(session_->pause().found, expected, "it was not sent");
}

bool Expectations::stands_at(const Location& place) const {
  const Location& here = session_->pause().where;
  return place.address == here.address ||
         (place.line != 0 && place.line == here.line && place.file_index == here.file_index);
}

Result<Expectation> Expectations::at(const std::string& place) {
  const auto location = session_->locate(place);
  if (!location) return fail(location.error());
  const Location& here = session_->pause().where;
  return verdict(stands_at(*location), "pause at " + place,
                 here.file.empty() ? fmt::format("it is at {:#06x}", here.address)
                                   : fmt::format("it is at {}:{}", here.file, here.line));
}

Result<Expectation> Expectations::reaches(const std::string& place, Picoseconds span) {
  const std::string expected = fmt::format("pause at {} within {}", place, to_text(span));
  auto ended = run(span, expected, [&](Picoseconds most) { return session_->go_to(place, most); });
  if (!ended) return fail(ended.error());
  if (*ended) return **ended;
  return verdict(session_->pause().found, expected, "it was not reached");
}

Result<Expectation> Expectations::fault(std::optional<Picoseconds> span) {
  using Cause = Pause::Cause;
  if (!span)
    return verdict(session_->pause().cause == Cause::kFault, "pause fault", "there was none");
  const std::string expected = "pause fault within " + to_text(*span);
  auto ended = run(*span, expected, [&](Picoseconds most) -> Result<Pause> {
    Pause pause = session_->go_for(most);
    pause.found = pause.cause == Cause::kFault;
    return pause;
  });
  if (!ended) return fail(ended.error());
  if (*ended) return **ended;
  return verdict(session_->pause().cause == Cause::kFault, expected, "there was none");
}

namespace {

constexpr const char* kTestPrefix = "lucid_test_";
constexpr const char* kFailed = "lucid_check_failed";
constexpr const char* kUnequal = "lucid_check_unequal";
constexpr const char* kDone = "lucid_tests_done";

bool is_test(const std::string& function) { return function.rfind(kTestPrefix, 0) == 0; }

}  // namespace

/// It stands in what a check has called: the line of the check, and what it has compared.
void Expectations::note_test_failure() {
  const auto levels = session_->callers();  // outermost first
  std::string text;
  if (levels.size() >= 2) {
    const Location& where = levels[levels.size() - 2].where;
    if (where.line != 0) {
      text = fmt::format("{}:{}", where.file, where.line);
      const auto source = session_->source(text, 0);
      if (source && !source->lines.empty()) {
        const std::string& line = source->lines[0].text;
        const std::size_t begin = line.find_first_not_of(" \t");
        const std::size_t end = line.find_last_not_of("; \t\r") + 1;
        if (begin < end) text += ": " + line.substr(begin, end - begin);
      }
    } else {
      text = where.function;
    }
  }
  if (session_->pause().where.function == kUnequal) {
    const auto left = session_->evaluate("left");
    const auto right = session_->evaluate("right");
    if (left && right) text += fmt::format(": {} and {}", left->text, right->text);
  }
  if (tests_.empty() || tests_.back().took.count != 0)
    tests_.push_back({"(outside of a test)", {}, session_->chip().time(), {}});
  tests_.back().failures.push_back(text);
}

Result<Expectation> Expectations::tests_hold(Picoseconds span) {
  tests_.clear();
  // At their first instructions: where a body begins is told wrongly of relaxed code, and may be
  // within a loop. Only arguments are looked at behind the prologue.
  std::vector<std::string> marks;
  bool tests = false, done = false;
  for (const Function& function : session_->program().functions()) {
    const bool part =
        function.symbol().find('.') != std::string::npos;  // split off by the compiler
    const bool test = is_test(function.name) && !part;
    tests = tests || test;
    done = done || function.name == kDone;
    if (test || function.name == kDone || function.name == kFailed)
      marks.push_back(fmt::format("{:#x}", function.begin));
  }
  if (session_->locate(kUnequal)) marks.emplace_back(kUnequal);
  if (!tests || !done)
    return fail(ErrorCode::kNotFound, "this program has no tests",
                "include lucid/test.h, and mark them with LUCID_TEST");
  std::pair<std::uint32_t, std::uint32_t> call;  // of the test under way: from where, and its frame
  const std::string expected = "tests within " + to_text(span);
  const std::uint64_t begin = session_->chip().time().count;
  const auto close = [&] {
    if (!tests_.empty())
      tests_.back().took = {session_->chip().time().count - tests_.back().began.count};
  };
  for (;;) {
    const std::uint64_t gone = session_->chip().time().count - begin;
    if (gone >= span.count) return verdict(false, expected, "they had not ended");
    auto ended = run({span.count - gone}, expected,
                     [&](Picoseconds most) { return session_->go_to_any(marks, most); });
    if (!ended) return fail(ended.error());
    if (*ended && !tests_.empty()) (*ended)->instead += ", in " + tests_.back().name;
    if (*ended) return **ended;
    if (!session_->pause().found) continue;
    const std::string& function = session_->pause().where.function;
    if (function == kDone) break;
    if (is_test(function)) {
      const auto levels = session_->callers();
      const std::pair now{levels.size() < 2 ? 0 : levels[levels.size() - 2].where.address,
                          levels.empty() ? 0 : levels.back().cfa};
      const std::string name = function.substr(std::string(kTestPrefix).size());
      // A loop may lead back to the first instruction.
      if (!tests_.empty() && tests_.back().name == name && now == call) continue;
      call = now;
      close();
      tests_.push_back({name, {}, session_->chip().time(), {}});
    } else {
      note_test_failure();
    }
  }
  close();
  std::size_t failed = 0;
  std::string first;
  for (const Test& test : tests_) {
    failed += test.failures.empty() ? 0 : 1;
    if (failed == 1 && first.empty()) first = test.name + ": " + test.failures[0];
  }
  if (tests_.empty()) return verdict(false, expected, "none was run");
  return verdict(failed == 0, expected,
                 fmt::format("{} of {} failed: {}", failed, tests_.size(), first));
}

Result<unsigned> Expectations::never(const std::string& expression) {
  const auto holds = session_->holds(expression);
  if (!holds) return fail(holds.error());
  Armed armed{"never " + expression, "", "", 0, {}, {}, session_->chip().time()};
  if (!*holds) {
    BreakpointSpec spec;
    spec.kind = BreakpointSpec::Kind::kWhen;
    spec.place = expression;
    const auto point = session_->pause_at(spec);
    if (!point) return fail(point.error());
    armed.id = point->id;
  }
  armed_.push_back(armed);
  return armed.id;
}

Result<void> Expectations::every(const std::string& signal, Picoseconds least, Picoseconds most) {
  if (least.count > most.count)
    return fail(ErrorCode::kUsage, "the least time is more than the most",
                "write the shorter one first");
  Session::TraceSpec spec;
  spec.signal = signal;
  spec.name =
      fmt::format("every {}{}", signal, armed_.empty() ? "" : fmt::format(" ({})", armed_.size()));
  const auto trace = session_->trace(spec);
  if (!trace) return fail(trace.error());
  armed_.push_back({fmt::format("{} every {}..{}", signal, to_text(least), to_text(most)), signal,
                    spec.name, 0, least, most, session_->chip().time()});
  return {};
}

std::optional<Expectations::Break> Expectations::break_of(const Armed& armed) const {
  if (armed.signal.empty()) {
    const Picoseconds now = session_->chip().time();
    const std::vector<unsigned>& met = session_->pause().breakpoints;
    if (armed.id == 0 || std::find(met.begin(), met.end(), armed.id) != met.end())
      return Break{now, "it holds"};
    const auto points = session_->breakpoints();
    const bool watched = std::any_of(points.begin(), points.end(), [&](const Breakpoint& point) {
      return point.id == armed.id && point.enabled && point.waits_because.empty();
    });
    if (watched && session_->all_breakpoints_on()) return std::nullopt;
    return Break{
        now, fmt::format("breakpoint {}, which looks for it, is off: it cannot be told", armed.id)};
  }
  const auto signal = session_->signal(armed.trace);
  if (!signal) return Break{session_->chip().time(), "nobody traces it any more"};
  if (signal->discarded() != 0)
    return Break{session_->chip().time(), "its trace had no room for all: it cannot be told"};
  std::optional<Picoseconds> last;
  // A trace that has been cleared was judged up to there.
  const Picoseconds from{std::max(armed.from.count, signal->time(signal->begin()).count)};
  const auto late = [&](Picoseconds now) {
    return now.count > last.value_or(from).count + armed.most.count;
  };
  const auto too_late = [&] {
    return Break{{last.value_or(from).count + armed.most.count},
                 fmt::format("since {} nothing has come", to_text(last.value_or(from)))};
  };
  bool was = true;
  bool first = true;
  auto samples = signal->samples();
  while (const auto sample = samples.next()) {
    const bool moment = signal->facts().kind == Signal::Kind::kMoment;
    const bool is = moment || (sample->known() && sample->value != 0);
    const bool comes = moment || (is && !was && !first);
    was = is;
    first = false;
    const Picoseconds now = signal->time(sample->tick);
    if (!comes || now.count < from.count) continue;
    if (late(now)) return too_late();
    if (last && now.count - last->count < armed.least.count)
      return Break{now, fmt::format("after {} it came after {}", to_text(*last),
                                    to_text({now.count - last->count}))};
    last = now;
  }
  if (late(session_->chip().time())) return too_late();
  return std::nullopt;
}

std::optional<Expectation> Expectations::broken() {
  const Armed* first = nullptr;
  std::optional<Break> earliest;
  for (const Armed& armed : armed_)
    if (auto broke = break_of(armed);
        broke && (!earliest || broke->time.count < earliest->time.count)) {
      first = &armed;
      earliest = std::move(broke);
    }
  if (first == nullptr) return std::nullopt;
  const std::string expected = first->text;
  armed_.erase(armed_.begin() + (first - armed_.data()));
  if (earliest->time.count < session_->chip().time().count)
    (void)session_->go_to_time(earliest->time).has_value();
  const Pause& pause = session_->pause();
  return Expectation{false, expected, earliest->instead, earliest->time, pause.where};
}

std::vector<Expectation> Expectations::armed() const {
  std::vector<Expectation> out;
  for (const Armed& armed : armed_) {
    const auto broke = break_of(armed);
    out.push_back({!broke, armed.text, broke ? broke->instead : "",
                   broke ? broke->time : session_->chip().time(), session_->pause().where});
  }
  return out;
}

}  // namespace lucid
