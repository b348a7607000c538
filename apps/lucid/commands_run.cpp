// SPDX-License-Identifier: MIT
// Commands that move the program, its breakpoints and the world around it.
#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <filesystem>

#include "breakpoint_text.h"
#include "console.h"
#include "lucid/bench.h"
#include "output.h"
#include "words.h"

namespace lucid::app {
namespace {

tl::unexpected<Error> usage(const char* synopsis) {
  return fail(ErrorCode::kUsage, std::string("this is written: ") + synopsis);
}

}  // namespace

Result<void> Console::do_go(const std::string& rest) {
  if (!rest.empty()) return usage("go, go to PLACE, go for SPAN or go until EXPR");
  return stand(session_->go());
}

Result<void> Console::do_go_to(const std::string& rest) {
  if (rest.empty()) return usage("go to PLACE");
  auto pause = session_->go_to(rest);
  if (!pause) return fail(pause.error());
  return stand(*pause);
}

Result<void> Console::do_go_for(const std::string& rest) {
  const auto words = split(rest);
  const bool in_cycles = words.size() == 2 && (words[1] == "cycles" || words[1] == "cycle");
  if (const auto count = in_cycles ? parse_number(words[0]) : std::nullopt) {
    return stand(session_->go_for(*count));
  } else if (const auto time = parse_time(rest)) {
    return stand(session_->go_for(*time));
  } else {
    return fail(ErrorCode::kUsage, "'" + rest + "' is not a span", "write 20ms, 2 s or 500 cycles");
  }
  return {};
}

Result<void> Console::do_go_until(const std::string& rest) {
  if (rest.empty()) return usage("go until EXPR");
  auto pause = session_->go_until(rest);
  if (!pause) return fail(pause.error());
  return stand(*pause);
}

Result<void> Console::step(StepKind kind, const std::string& rest) {
  StepUnit unit = unit_;
  std::uint64_t count = 1;
  for (const std::string& word : split(rest)) {
    if (word == "line") {
      unit = StepUnit::kLine;
    } else if (word == "instruction") {
      unit = StepUnit::kInstruction;
    } else if (const auto number = parse_number(word)) {
      count = *number;
    } else {
      return usage("step into|over|out [line|instruction] [N]");
    }
  }
  auto pause = session_->step(kind, unit, count);
  if (!pause) return fail(pause.error());
  const StepUnit view = unit_;
  unit_ = unit;
  auto stood = stand(*pause);
  unit_ = view;
  return stood;
}

Result<void> Console::do_step(const std::string& rest) { return step(StepKind::kInto, rest); }
Result<void> Console::do_step_into(const std::string& rest) { return step(StepKind::kInto, rest); }
Result<void> Console::do_step_over(const std::string& rest) { return step(StepKind::kOver, rest); }
Result<void> Console::do_step_out(const std::string& rest) { return step(StepKind::kOut, rest); }

Result<void> Console::do_move_to(const std::string& rest) {
  if (rest.empty()) return usage("move to PLACE");
  auto pause = session_->move_to(rest);
  if (!pause) return fail(pause.error());
  return stand(*pause);
}

Result<void> Console::do_reset(const std::string& rest) {
  if (!rest.empty()) return usage("reset");
  return stand(session_->reset());
}

Result<void> Console::do_reload(const std::string& rest) {
  if (session_ == nullptr) {
    if (rest.empty()) return usage("open IMAGE [with BENCH [on CHIP]]");
    const std::size_t with = rest.rfind(" with ");
    if (with != std::string::npos) {
      const std::string bench = rest.substr(with + 6);
      const std::size_t on = bench.rfind(" on ");
      options_.bench = beside(bench.substr(0, on));
      if (on != std::string::npos) options_.on = bench.substr(on + 4);
    }
    if (auto opened = open(beside(rest.substr(0, with))); !opened) return opened;
  } else {
    auto warnings = session_->reload(rest.empty() ? rest : beside(rest));
    if (!warnings) return fail(warnings.error());
    for (const std::string& warning : *warnings) show(Warning{warning});
  }
  return stand(session_->pause());
}

Result<void> Console::do_pause(const std::string& rest) {
  auto spec = parse_breakpoint(rest);
  if (!spec) return fail(spec.error());
  auto point = session_->pause_at(*spec);
  if (!point) return fail(point.error());
  show(Breakpoints{{*point}, true});
  return {};
}
Result<void> Console::do_pause_at(const std::string& rest) { return do_pause("at " + rest); }
Result<void> Console::do_pause_on(const std::string& rest) {
  if (rest == "fault") {  // every kind
    for (const Session::Fault& fault : session_->faults())
      if (auto done = session_->set_fault(fault.name, true); !done) return done;
    return do_show("faults");
  }
  if (auto set = set_fault(rest, true)) return *set;
  return do_pause("on " + rest);
}
Result<void> Console::do_pause_when(const std::string& rest) { return do_pause("when " + rest); }

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

Result<void> Console::do_breakpoints(const std::string& rest) {
  if (rest == "on" || rest == "off") {
    session_->all_breakpoints(rest == "on");
    show(Message{rest == "on" ? "all breakpoints are on again, each as it was"
                              : "all breakpoints are off; `breakpoints on` brings them back"});
    return {};
  }
  Breakpoints list{session_->breakpoints(), session_->all_breakpoints_on()};
  if (rest.rfind("like ", 0) == 0) {
    const std::string text = rest.substr(5);
    const auto other = [&](const Breakpoint& p) {
      return (subject_text(p.spec) + clauses_text(p.spec)).find(text) == std::string::npos &&
             p.where.function.find(text) == std::string::npos;
    };
    list.points.erase(std::remove_if(list.points.begin(), list.points.end(), other),
                      list.points.end());
  } else if (rest.rfind("save ", 0) == 0) {
    return save_breakpoints(beside(rest.substr(5)));
  } else if (rest.rfind("load ", 0) == 0) {
    return play(beside(rest.substr(5)));
  } else if (!rest.empty()) {
    return usage("breakpoints [like TEXT | on | off | save FILE | load FILE]");
  }
  show(list);
  return {};
}

Result<void> Console::each_id(const std::string& rest, Result<void> (*act)(Session&, unsigned)) {
  std::vector<unsigned> ids;
  for (const std::string& word : split(rest)) {
    if (word == "all") {
      for (const Breakpoint& p : session_->breakpoints()) ids.push_back(p.id);
      for (const WatchView& w : session_->watches()) ids.push_back(w.id);
    } else if (word == "last") {
      if (!session_->breakpoints().empty()) ids.push_back(session_->breakpoints().back().id);
    } else if (const auto number = parse_number(word); number && *number <= UINT32_MAX) {
      ids.push_back(static_cast<unsigned>(*number));
    } else {
      return fail(ErrorCode::kUsage, "'" + word + "' is not the number of a breakpoint",
                  "`breakpoints` lists them");
    }
  }
  if (ids.empty()) return fail(ErrorCode::kUsage, "name breakpoints by number, or all");
  for (const unsigned id : ids)
    if (auto done = act(*session_, id); !done) return done;
  show(Breakpoints{session_->breakpoints(), session_->all_breakpoints_on()});
  return {};
}

/// `fault KIND` behind enable and disable; nullopt if it is not that.
std::optional<Result<void>> Console::set_fault(const std::string& rest, bool on) {
  if (rest.rfind("fault ", 0) != 0) return std::nullopt;
  auto set = session_->set_fault(rest.substr(6), on);
  if (set) show(Message{fmt::format("{} {}", rest.substr(6), on ? "pauses" : "is passed over")});
  return set;
}

Result<void> Console::do_enable(const std::string& rest) {
  if (auto set = set_fault(rest, true)) return *set;
  return each_id(rest, [](Session& s, unsigned id) { return s.enable(id, true); });
}
Result<void> Console::do_disable(const std::string& rest) {
  if (auto set = set_fault(rest, false)) return *set;
  return each_id(rest, [](Session& s, unsigned id) { return s.enable(id, false); });
}
Result<void> Console::do_rearm(const std::string& rest) {
  return each_id(rest, [](Session& s, unsigned id) { return s.rearm(id); });
}
Result<void> Console::do_remove(const std::string& rest) {
  return each_id(rest, [](Session& s, unsigned id) { return s.remove(id); });
}

Result<void> Console::do_watch(const std::string& rest) {
  std::string expression = rest;
  std::string format;
  if (const std::size_t as = rest.rfind(" as "); as != std::string::npos) {
    format = rest.substr(as + 4);
    expression.resize(as);
  }
  if (expression.empty()) return usage("watch EXPR [as FORMAT]");
  auto view = session_->watch(expression, format);
  if (!view) return fail(view.error());
  show(Watches{{*view}});
  return {};
}

Result<void> Console::do_let(const std::string& rest) {
  // The assignment is the first '=' that is not part of ==, <=, >= or !=.
  std::size_t at = std::string::npos;
  for (std::size_t i = 0; i < rest.size(); ++i) {
    if (rest[i] != '=') continue;
    if (i + 1 < rest.size() && rest[i + 1] == '=') {
      ++i;
      continue;
    }
    if (i > 0 && std::string("<>!").find(rest[i - 1]) != std::string::npos) continue;
    at = i;
    break;
  }
  if (at == std::string::npos) return usage("let OBJECT = EXPR");
  std::string object = rest.substr(0, at);
  while (!object.empty() && object.back() == ' ') object.pop_back();
  std::string expression = rest.substr(at + 1);
  constexpr std::string_view kEffects = " with effects";
  const bool with_effects =
      expression.size() > kEffects.size() &&
      expression.compare(expression.size() - kEffects.size(), kEffects.size(), kEffects) == 0;
  if (with_effects) expression.resize(expression.size() - kEffects.size());
  auto value = session_->let(object, expression, with_effects);
  if (!value) return fail(value.error());
  show(Evaluated{object, *value});
  return {};
}

Result<void> Console::do_drive(const std::string& rest) {
  const auto words = split(rest);
  const bool timed = words.size() == 4 && words[2] == "for";
  if (words.size() != 2 && !timed) return usage("drive PIN low|high|open|VOLTS [for TIME]");
  std::string pin = words[0];
  if (pin.rfind("pin.", 0) == 0) pin = pin.substr(4);
  Picoseconds span;
  if (timed) {
    const auto time = parse_time(words[3]);
    if (!time) return fail(time.error());
    span = *time;
  }
  if (const auto microvolts = parse_voltage(words[1])) {
    const double volts = *microvolts / 1e6;
    return timed ? session_->apply_voltage_for(pin, volts, span)
                 : session_->apply_voltage(pin, volts);
  }
  if (words[1] == "open" && !timed) return session_->drive(pin, std::nullopt);
  if (words[1] != "high" && words[1] != "low")
    return fail(
        ErrorCode::kUsage, "'" + words[1] + "' is not a level",
        "levels are low, high, open and voltages such as 2.5V or 300mV; `for` goes with all "
        "but open");
  const bool level = words[1] == "high";
  return timed ? session_->drive_for(pin, level, span) : session_->drive(pin, level);
}

Result<void> Console::do_inputs(const std::string& rest) {
  const auto& inputs = session_->inputs();
  std::string text;
  for (const Input& input : inputs) text += "\n" + Bench::table(input, options_.on);
  if (rest.empty()) {
    show(Inputs{inputs});
    return {};
  }
  if (rest.rfind("save ", 0) != 0) return usage("inputs [save FILE]");
  const std::string path = beside(rest.substr(5));
  std::string head;
  if (!options_.bench.empty()) {  // as its neighbour sees it
    namespace fs = std::filesystem;
    std::error_code unknown;
    const fs::path folder = fs::absolute(path, unknown).parent_path();
    const fs::path bench = fs::proximate(fs::absolute(options_.bench, unknown), folder, unknown);
    std::string name;
    for (const char c : bench.string())
      name += (c == '"' || c == '\\' ? "\\" : "") + std::string(1, c);
    head = "include = [\"" + name + "\"]\n";
  }
  if (auto written = write_file(path, head + text); !written) return written;
  show(Message{fmt::format("{} input{} written into {}", inputs.size(),
                           inputs.size() == 1 ? "" : "s", path)});
  return {};
}

Result<void> Console::do_stay_in(const std::string& rest) {
  if (rest.empty()) return usage("stay in FILE… | everywhere");
  const auto files = rest == "everywhere" ? std::vector<std::string>() : split(rest);
  auto done = session_->filter_steps(files, run_through_);
  if (done) stay_in_ = files;
  return done;
}

Result<void> Console::do_run_through(const std::string& rest) {
  if (rest.empty()) return usage("run through FILE|FUNCTION… | nothing");
  const auto names = rest == "nothing" ? std::vector<std::string>() : split(rest);
  auto done = session_->filter_steps(stay_in_, names);
  if (done) run_through_ = names;
  return done;
}

Result<void> Console::do_press(const std::string& rest) {
  if (split(rest).size() != 1) return usage("press PART");
  return session_->act(split(rest)[0], "press");
}

Result<void> Console::do_release(const std::string& rest) {
  if (split(rest).size() != 1) return usage("release PART");
  return session_->act(split(rest)[0], "release");
}

Result<void> Console::do_turn(const std::string& rest) {
  const auto words = split(rest);
  if (words.size() != 2) return usage("turn PART on|off|PERCENT%|VOLTS");
  return session_->act(words[0], "turn", words[1]);
}

Result<void> Console::do_transfer(const std::string& rest) {
  if (rest.empty()) return usage("transfer ADDRESS [write BYTES] [read COUNT]");
  const auto transfer = parse_two_wire_transfer(rest);
  return transfer ? session_->transfer(*transfer) : fail(transfer.error());
}

Result<void> Console::do_attach(const std::string& rest) {
  if (rest.empty()) return usage("attach PORT terminal | socket NUMBER | files IN [OUT] | nothing");
  return attach(rest);
}

Result<void> Console::do_feed(const std::string& rest) {
  const auto words = split_quoted(rest);
  if (words.size() >= 2 && words[1] == "frame") {
    const auto frame = parse_serial_frame(rest.substr(rest.find("frame") + 5));
    return frame ? session_->feed_frame(words[0], *frame) : fail(frame.error());
  }
  if (words.size() != 2)
    return usage("feed PORT \"TEXT\" | feed PORT frame DATA [wrong-parity] [no-stop-bit]");
  auto text = unquoted(words[1]);
  if (!text) return fail(text.error());
  return session_->feed(words[0], *text);
}

Result<void> Console::do_note(const std::string& rest) {
  auto text = unquoted(rest);
  if (!text) return fail(text.error());
  show(Message{style_.accent("── " + *text)});
  return {};
}

Result<void> Console::do_expect(const std::string& rest) {
  if (rest.empty()) return usage("expect EXPR | pause at PLACE | pause fault | serial \"TEXT\"");
  ++expectations_;
  const auto missed = [&](const std::string& instead) {
    expectation_failed_ = true;
    return fail(ErrorCode::kUsage, "expected " + rest + ", but " + instead);
  };
  const Pause& pause = session_->pause();
  if (rest == "pause fault")
    return pause.cause == Pause::Cause::kFault ? Result<void>{} : missed("there was no fault");
  if (rest.rfind("pause at ", 0) == 0) {
    auto place = session_->locate(rest.substr(9));
    if (!place) return fail(place.error());
    const bool same_line = place->line != 0 && place->line == pause.where.line &&
                           place->file_index == pause.where.file_index;
    if (place->address == pause.where.address || same_line) return {};
    return missed(pause.where.file.empty()
                      ? fmt::format("it is at {:#06x}", pause.where.address)
                      : fmt::format("it is at {}:{}", pause.where.file, pause.where.line));
  }
  if (rest.rfind("serial ", 0) == 0) {
    auto text = unquoted(rest.substr(7));
    if (!text) return fail(text.error());
    return serial_.find(*text) != std::string::npos ? Result<void>{} : missed("it was not sent");
  }
  auto holds = session_->holds(rest);
  if (!holds) return fail(holds.error());
  if (*holds) return {};
  // Both sides of a comparison tell more than that it failed.
  for (const char* op : {"==", "!=", "<=", ">=", "<", ">"}) {
    const std::size_t at = rest.find(op);
    if (at == std::string::npos) continue;
    auto left = session_->evaluate(rest.substr(0, at));
    auto right = session_->evaluate(rest.substr(at + std::string(op).size()));
    if (left && right) return missed(fmt::format("it is {} {} {}", left->text, op, right->text));
    break;
  }
  return missed("it does not hold");
}

Result<void> Console::do_play(const std::string& rest) {
  if (rest.empty()) return usage("play FILE");
  return play(beside(rest));
}

Result<void> Console::do_quit(const std::string& rest) {
  if (!rest.empty()) return usage("quit");
  finished_ = true;
  return {};
}

}  // namespace lucid::app
