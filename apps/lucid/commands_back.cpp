// SPDX-License-Identifier: MIT
// Commands that go back in time.
#include <fmt/format.h>

#include <algorithm>

#include "console.h"
#include "moment_file.h"

namespace lucid::app {

Result<void> Console::stand_back(const Result<Pause>& pause) {
  if (!pause) return fail(pause.error());
  sent_.go_back(session_->bytes_sent());
  return stand(*pause);
}

Result<void> Console::save_moment(const std::string& path) const {
  const ChipInfo& info = session_->chip().info();
  return write_moment(path, {session_->image_path(), options_.bench, options_.on, info.name,
                             info.clock_hz, options_.more_bench, session_->timeline_text()});
}

Result<void> Console::follow(const std::string& timeline) {
  return stand_back(session_->follow_timeline(timeline));
}

Result<void> Console::do_back(const Words& words) {
  return stand_back(session_->back(words.has("from")));
}

Result<void> Console::do_back_to(const Words& words) {
  if (words.has("start")) return stand_back(session_->back_to_start());
  const auto number = static_cast<std::size_t>(words.number("N", 0));
  if (words.has("origin")) return stand_back(session_->back_to_origin(number));
  if (words.has("history")) return stand_back(session_->back_to_history(number));
  if (words.has("worst")) return back_to_worst(words.text("INTERRUPT"));
  const std::string where = words.text("WHERE");
  const auto time = time_of(where);
  return stand_back(time ? session_->back_to_time(session_->meant(*time))
                         : session_->back_to(where));
}

/// Where the longest wait of an interrupt has ended: its handler is about to begin.
Result<void> Console::back_to_worst(const std::string& name) {
  const auto list = session_->interrupts();
  if (!list) return fail(list.error());
  std::vector<std::string> names;
  for (const InterruptView& interrupt : *list) {
    if (interrupt.wait.count == 0) continue;
    if (interrupt.name == name) return stand_back(session_->back_to_time(interrupt.wait.most_at));
    names.push_back(interrupt.name);
  }
  return fail(ErrorCode::kNotFound, name + " has not been entered since `survey`",
              did_you_mean(name, names));
}

Result<void> Console::do_back_for(const Words& words) {
  if (words.has("cycles")) return stand_back(session_->back_for(words.number("N", 0)));
  const auto time = parse_time(words.text("TIME"));
  return time ? stand_back(session_->back_for(*time)) : fail(time.error());
}

Result<void> Console::do_back_until(const Words& words) {
  return stand_back(session_->back_until(words.text("EXPR")));
}

Result<void> Console::step_back(StepKind kind, const Words& words) {
  StepUnit unit = unit_;
  if (words.has("line")) unit = StepUnit::kLine;
  if (words.has("instruction")) unit = StepUnit::kInstruction;
  auto pause = session_->step_back(kind, unit, words.number("N", 1));
  if (pause) unit_ = unit;
  return stand_back(pause);
}

Result<void> Console::do_back_into(const Words& words) { return step_back(StepKind::kInto, words); }
Result<void> Console::do_back_over(const Words& words) { return step_back(StepKind::kOver, words); }
Result<void> Console::do_back_out(const Words& words) { return step_back(StepKind::kOut, words); }

Result<void> Console::do_history(const Words& words) {
  const std::string object = words.text("OBJECT");
  const auto most = static_cast<std::size_t>(words.number("N", 20));
  if (most == 0) return fail(ErrorCode::kUsage, "at least one row");
  auto rows = session_->history(object, most);
  if (!rows) return fail(rows.error());
  show(Writes{object, std::move(*rows)});
  return {};
}

Result<void> Console::do_origin(const Words& words) {
  const auto depth = static_cast<unsigned>(std::min<std::uint64_t>(words.number("N", 1), 100));
  auto view = session_->origin(words.text("OBJECT"), depth);
  if (!view) return fail(view.error());
  show(*view);
  return {};
}

Result<void> Console::do_missed(const Words& words) {
  auto view = session_->missed(words.text("PLACE"), words.text("MARK"));
  if (!view) return fail(view.error());
  show(*view);
  return {};
}

Result<void> Console::do_compare(const Words& words) {
  const auto marks = words.texts("MARK");
  auto comparison = session_->compare(marks[0], marks.size() > 1 ? marks[1] : "");
  if (!comparison) return fail(comparison.error());
  show(*comparison);
  return {};
}

Result<void> Console::do_suppose(const Words& words) {
  std::vector<Session::Change> changes;
  std::string until;
  const auto& items = words.items();
  for (std::size_t i = 0; i < items.size(); ++i) {
    if (items[i].kind != nullptr) continue;
    const auto text = [&](std::size_t behind) { return items[i + behind].text; };
    if (items[i].text == "let") changes.push_back({text(1), text(3), {}, {}});
    if (items[i].text == "until") until = text(1);
    if (items[i].text != "instruction") continue;
    const auto instruction = unquoted(text(2));
    if (!instruction) return fail(instruction.error());
    changes.push_back({{}, {}, text(1), *instruction});
  }
  Picoseconds span;
  if (until.empty()) {
    const auto time = parse_time(words.text("TIME"));
    if (!time) return fail(time.error());
    span = *time;
  }
  auto supposition =
      until.empty() ? session_->suppose(changes, span) : session_->suppose_until(changes, until);
  if (!supposition) return fail(supposition.error());
  show(*supposition);
  return {};
}

Result<void> Console::do_mark(const Words& words) {
  const auto mark = session_->mark(words.text("MARK"));
  if (!mark) return fail(mark.error());
  show(Marks{{*mark}});
  return {};
}

Result<void> Console::do_marks(const Words& /*words*/) {
  show(Marks{session_->marks()});
  return {};
}

Result<void> Console::do_revert(const Words& words) {
  return stand_back(session_->revert_to(words.text("MARK")));
}

Result<void> Console::do_timeline(const Words& words) {
  if (words.has("save")) {
    const std::string path = file(words);
    if (auto saved = save_moment(path); !saved) return saved;
    show(Message{"this moment, and all before it, is in " + path + ": lucid open --at " + path});
    return {};
  }
  if (words.has("on") || words.has("off")) session_->set_timeline(words.has("on"));
  show(session_->timeline());
  return {};
}

}  // namespace lucid::app
