// SPDX-License-Identifier: MIT
// Commands that move the program, and its breakpoints.
#include <fmt/format.h>

#include <algorithm>

#include "breakpoint_text.h"
#include "console.h"
#include "output.h"

namespace lucid::app {

std::optional<Picoseconds> time_of(const std::string& text) {
  if (text.find_first_not_of("0123456789.") == std::string::npos) return std::nullopt;  // a line
  const auto time = parse_time(text);
  return time ? std::optional<Picoseconds>(*time) : std::nullopt;
}

Result<void> Console::do_go(const Words& /*words*/) { return stand(session_->go()); }

Result<void> Console::do_go_to(const Words& words) {
  if (words.has("race"))
    return stand_back(session_->go_to_race(static_cast<std::size_t>(words.number("N", 0))));
  const std::string where = words.text("WHERE");
  if (const auto time = time_of(where)) {
    const bool back = time->count < session_->chip().time().count;
    const auto pause = session_->go_to_time(session_->meant(*time));
    return back ? stand_back(pause) : stand(pause);
  }
  return stand(session_->go_to(where));
}

Result<void> Console::do_go_for(const Words& words) {
  if (words.has("cycles")) return stand(session_->go_for(words.number("N", 0)));
  const std::string text = words.text("TIME");
  const auto time = parse_time(text);
  if (!time)
    return fail(ErrorCode::kUsage, "'" + text + "' is not a span", "write 20ms, 2 s or 500 cycles");
  return stand(session_->go_for(*time));
}

Result<void> Console::do_go_until(const Words& words) {
  return stand(session_->go_until(words.text("EXPR")));
}

Result<void> Console::step(StepKind kind, const Words& words) {
  StepUnit unit = unit_;
  if (words.has("line")) unit = StepUnit::kLine;
  if (words.has("instruction")) unit = StepUnit::kInstruction;
  auto pause = session_->step(kind, unit, words.number("N", 1));
  if (!pause) return fail(pause.error());
  unit_ = unit;
  return stand(*pause);
}

Result<void> Console::do_step_into(const Words& words) {
  return words.has("call") ? stand(session_->step_into(words.text("FUNCTION")))
                           : step(StepKind::kInto, words);
}
Result<void> Console::do_step_over(const Words& words) { return step(StepKind::kOver, words); }
Result<void> Console::do_step_out(const Words& words) { return step(StepKind::kOut, words); }

Result<void> Console::do_stay_in(const Words& words) {
  const auto files = words.texts("SOURCE");
  auto done = session_->filter_steps(files, run_through_);
  if (done) stay_in_ = files;
  return done;
}

Result<void> Console::do_run_through(const Words& words) {
  auto names = words.texts("SOURCE");
  for (std::string& name : words.texts("FUNCTION")) names.push_back(std::move(name));
  auto done = session_->filter_steps(stay_in_, names);
  if (done) run_through_ = names;
  return done;
}

Result<void> Console::do_move_to(const Words& words) {
  return stand(session_->move_to(words.text("PLACE")));
}

Result<void> Console::do_reset(const Words& /*words*/) { return stand(session_->reset()); }

Result<void> Console::do_pause(const Words& words) {
  if (words.has("fault")) {
    if (const std::string kind = words.text("FAULT"); !kind.empty()) return set_fault(kind, true);
    for (const Session::Fault& fault : session_->faults())
      if (auto done = session_->set_fault(fault.name, true); !done) return done;
    show(Faults{session_->faults()});
    return {};
  }
  const auto spec = breakpoint_of(words);
  if (!spec) return fail(spec.error());
  auto point = session_->pause_at(*spec);
  if (!point) return fail(point.error());
  show(Breakpoints{{*point}, true});
  return {};
}

Result<void> Console::save_breakpoints(const std::string& path) {
  std::string out;
  for (const Breakpoint& p : session_->breakpoints()) {
    out += "pause " + subject_text(p.spec) + clauses_text(p.spec) + "\n";
    if (!p.enabled) out += "disable last\n";
  }
  for (const WatchView& w : session_->watches())
    out += "watch " + w.expression + (w.format.empty() ? "" : " as " + w.format) + "\n";
  if (auto written = write_file(path, out); !written) return written;
  const auto counted = [](std::size_t n, const char* one, const char* many) {
    return fmt::format("{} {}", n, n == 1 ? one : many);
  };
  show(Message{counted(session_->breakpoints().size(), "breakpoint", "breakpoints") + " and " +
               counted(session_->watches().size(), "watch", "watches") + " are in " + path});
  return {};
}

Result<void> Console::do_breakpoints(const Words& words) {
  if (words.has("on") || words.has("off")) {
    session_->all_breakpoints(words.has("on"));
    show(Message{words.has("on") ? "all breakpoints are on again, each as it was"
                                 : "all breakpoints are off; `breakpoints on` brings them back"});
    return {};
  }
  if (words.has("save")) return save_breakpoints(file(words));
  if (words.has("load")) return play(file(words));
  Breakpoints list{session_->breakpoints(), session_->all_breakpoints_on()};
  const std::string text = words.text("NAME");
  const auto other = [&](const Breakpoint& p) {
    return (subject_text(p.spec) + clauses_text(p.spec)).find(text) == std::string::npos &&
           p.where.function.find(text) == std::string::npos;
  };
  list.points.erase(std::remove_if(list.points.begin(), list.points.end(), other),
                    list.points.end());
  show(list);
  return {};
}

Result<void> Console::each_id(const Words& words, Result<void> (*act)(Session&, unsigned)) {
  std::vector<unsigned> ids;
  if (words.has("all")) {
    for (const Breakpoint& p : session_->breakpoints()) ids.push_back(p.id);
    for (const WatchView& w : session_->watches()) ids.push_back(w.id);
  }
  if (words.has("last") && !session_->breakpoints().empty())
    ids.push_back(session_->breakpoints().back().id);
  for (const std::string& word : words.texts("ID"))
    ids.push_back(static_cast<unsigned>(
        std::min<std::uint64_t>(parse_number(word).value_or(UINT32_MAX), UINT32_MAX)));
  if (ids.empty()) return fail(ErrorCode::kUsage, "there are no breakpoints");
  for (const unsigned id : ids)
    if (auto done = act(*session_, id); !done) return done;
  show(Breakpoints{session_->breakpoints(), session_->all_breakpoints_on()});
  return {};
}

Result<void> Console::set_fault(const std::string& kind, bool on) {
  auto set = session_->set_fault(kind, on);
  if (set) show(Message{fmt::format("{} {}", kind, on ? "pauses" : "is passed over")});
  return set;
}

Result<void> Console::do_enable(const Words& words) {
  if (words.has("fault")) return set_fault(words.text("FAULT"), true);
  return each_id(words, [](Session& s, unsigned id) { return s.enable(id, true); });
}
Result<void> Console::do_disable(const Words& words) {
  if (words.has("fault")) return set_fault(words.text("FAULT"), false);
  return each_id(words, [](Session& s, unsigned id) { return s.enable(id, false); });
}
Result<void> Console::do_rearm(const Words& words) {
  return each_id(words, [](Session& s, unsigned id) { return s.rearm(id); });
}
Result<void> Console::do_remove(const Words& words) {
  return each_id(words, [](Session& s, unsigned id) { return s.remove(id); });
}

}  // namespace lucid::app
