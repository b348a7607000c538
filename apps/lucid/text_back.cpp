// SPDX-License-Identifier: MIT
#include "text_back.h"

#include <fmt/format.h>

#include <algorithm>

#include "output.h"

namespace lucid::app {

std::string place(const Location& where) {
  std::string out;
  if (!where.file.empty()) out = fmt::format("{}:{}", where.file, where.line);
  if (!where.vector.empty()) return "vector " + where.vector;
  if (!where.inlined.empty()) out += (out.empty() ? "" : " ") + where.inlined + " in";
  if (!where.function.empty()) out += (out.empty() ? "" : " ") + where.function;
  if (where.file.empty() && where.offset != 0) out += fmt::format("+{:#x}", where.offset);
  return out.empty() ? fmt::format("{:#06x}", where.address) : out;
}

std::string BackViews::operator()(const Armed& a) const {
  std::string out;
  for (const Expectation& e : a.list)
    out += e.expected + (e.held ? ": not broken so far" : ": broken, " + e.instead) + "\n";
  return out.empty() ? "nothing is expected from here on\n" : out;
}

std::string BackViews::operator()(const Tested& t) const {
  std::size_t widest = 0;
  for (const Expectations::Test& test : t.tests) widest = std::max(widest, test.name.size());
  std::string out;
  for (const Expectations::Test& test : t.tests) {
    out += fmt::format("  {:<7}{:<{}}  {}\n", test.failures.empty() ? "held" : "failed", test.name,
                       widest, to_text(test.took));
    for (const std::string& failure : test.failures) out += "         " + failure + "\n";
  }
  return out;
}

std::string BackViews::operator()(const Marks& m) const {
  std::string out;
  for (const Session::MarkView& mark : m.list) {
    std::string line =
        fmt::format("  {:<12} {:>14}  {}", mark.name, to_text(mark.time), place(mark.where));
    if (mark.other_future) line += ", in another future";
    if (mark.image_gone) line += ", of an image that is gone";
    out += mark.image_gone ? style_.dim(line) + "\n" : line + "\n";
  }
  return out.empty() ? "no moment is marked; `mark NAME` does that\n" : out;
}
std::string BackViews::operator()(const Writes& h) const {
  if (h.rows.empty()) return "nothing has written " + h.object + " before this moment\n";
  std::size_t widest = 0;
  for (const Session::Write& row : h.rows)
    widest = std::max(widest, style_.columns(row.access.before) + style_.columns(row.access.after));
  std::string out;
  for (std::size_t i = 0; i < h.rows.size(); ++i) {
    const DataAccess& d = h.rows[i].access;
    const std::string values = d.before + " → " + d.after;
    const std::size_t blank = widest + 3 - std::min(widest + 3, style_.columns(values));
    out += fmt::format("{:>4}  {:>14}  {}{}  {}\n", i + 1, to_text(h.rows[i].time), values,
                       std::string(blank, ' '), place(d.by));
  }
  return out;
}

std::string BackViews::rows(const std::vector<Difference>& differences) const {
  std::string out;
  for (const Difference& d : differences) {
    const bool own = d.kind == "variable" || d.kind == "callers";
    std::string line =
        "  " + (own && !d.name.empty() ? style_.bold(d.name)
                                       : d.kind + (d.name.empty() ? "" : " ") + d.name);
    line += d.then.empty() ? "  " + d.now : "  " + d.then + " → " + d.now;
    out += style_.wrapped(line, 6) + "\n";
  }
  return out;
}
std::string BackViews::operator()(const ComparisonView& c) const {
  if (c.differences.empty()) return "nothing differs\n";
  return style_.dim(to_text(c.then) + " → " + to_text(c.now)) + "\n" + rows(c.differences);
}
std::string BackViews::operator()(const SuppositionView& s) const {
  const auto told = [&](const char* when, const std::optional<SuppositionView::Happening>& h) {
    return "  " +
           style_.wrapped(fmt::format("{:<12}{}", when,
                                      h ? fmt::format("{} at {}, {}", h->what, to_text(h->time),
                                                      place(h->where))
                                        : "nothing more happens"),
                          14) +
           "\n";
  };
  const std::string before = s.same == 0 ? "" : fmt::format(" after {} that are the same", s.same);
  std::string out;
  if (!s.as_is && !s.supposed)
    out = fmt::format("up to {} the same happens, at the same times{}\n", to_text(s.until),
                      s.same == 0 ? ": nothing" : "");
  else if (s.only_shifted)
    out = "the same happens at other times; the first of them:\n";
  else
    out = "the first happening that differs" + before + ":\n";
  if (s.as_is || s.supposed) out += told("as it is", s.as_is) + told("supposed", s.supposed);
  if (s.call_as_is || s.call_supposed)
    out += "the first call that differs:\n" + told("as it is", s.call_as_is) +
           told("supposed", s.call_supposed);
  if (!s.place.empty())
    out += fmt::format("{} is reached at {}; supposed, {}\n", s.place, to_text(s.until),
                       s.supposed_until ? "at " + to_text(*s.supposed_until) : "not at all");
  if (!s.at_end.empty())
    out += (s.place.empty() ? "at " + to_text(s.until) : "then") + ", as it is → supposed:\n" +
           rows(s.at_end);
  return out;
}

/// One sentence a node.
std::string BackViews::operator()(const OriginView& v) const {
  std::string out;
  for (std::size_t i = 0; i < v.nodes.size(); ++i) {
    const OriginNode& n = v.nodes[i];
    const std::string indent(2 * std::size_t{n.depth}, ' ');
    std::string line = fmt::format("{:>3}  {}", i + 1, indent);
    const std::size_t hang = 5 + indent.size();
    line += style_.bold(n.object);
    if (!n.value.empty()) line += " = " + n.value;
    line += ": " + made(n);
    out += style_.wrapped(line, static_cast<unsigned>(hang + 2)) + "\n";
  }
  if (v.cut) out += style_.dim("     there would be more") + "\n";
  if (v.interrupted) out += style_.warn("     interrupted: this is what was found") + "\n";
  return out;
}
std::string BackViews::made(const OriginNode& n) const {
  const std::string at = to_text(n.time);
  std::string where = place(n.where);
  if (n.called_from) where += ", called in " + place(*n.called_from);
  const auto by = [&](const char* verb) {
    return fmt::format("{} `{}` in {} at {}", verb, n.instruction, where, at);
  };
  std::string from;
  for (const OriginNode::From& f : n.from) {
    from += from.empty() ? "" : &f == &n.from.back() ? " and " : ", ";
    from += f.name + (f.value.empty() ? "" : " (" + f.value + ")");
  }
  switch (n.how) {
    case OriginNode::How::kWorked: return by("set by") + (from.empty() ? "" : " from " + from);
    case OriginNode::How::kConstant: return by("a constant, set by");
    case OriginNode::How::kFlash: return by("set by") + ", from " + from;
    case OriginNode::How::kInput: return by("read by") + " from " + from;
    case OriginNode::How::kHardware:
      return "changed by the chip itself, during " + by("").substr(1);
    case OriginNode::How::kInterrupt:
      return fmt::format("stored as an interrupt was entered in {} at {}", where, at);
    case OriginNode::How::kEdit: return fmt::format("changed by hand at {}, in {}", at, where);
    case OriginNode::How::kOutside:
      return fmt::format("driven from outside at {}, in {}", at, where);
    case OriginNode::How::kStart: return "as it was at the start: nothing has written it since";
    case OriginNode::How::kMoved:
    case OriginNode::How::kUnknown: return "followed through too many moves";
  }
  return {};
}

std::string BackViews::operator()(const MissedView& m) const {
  if (m.executed_at)
    return style_.wrapped(fmt::format("{} was executed, last at {}: `back to {}` goes there; "
                                      "`missed {} from MARK` looks only at what came since",
                                      m.place, to_text(*m.executed_at), m.place, m.place),
                          2) +
           "\n";
  const std::string never = m.since.empty() ? "never" : "not";
  const std::string since = m.since.empty() ? "" : " since mark '" + m.since + "'";
  std::string out = fmt::format("{} was {} executed{}\n", m.place, never, since);
  const auto say = [&](const std::string& line) { out += "  " + style_.wrapped(line, 4) + "\n"; };
  for (const MissedView::NotCalled& none : m.not_called) {
    std::string line = fmt::format("{} was {} entered: ", style_.bold(none.function), never);
    std::string from;
    for (const Location& call : none.calls)
      from += (from.empty() ? "" : &call == &none.calls.back() ? " and " : ", ") + place(call);
    if (!none.interrupt.empty())
      line += fmt::format(
          "it handles {}, which has not been taken; `show io` tells whether that is "
          "enabled",
          none.interrupt);
    else if (from.empty())
      line += "nothing calls it by its name; perhaps a pointer does";
    else
      line += "it is called in " + from;
    say(line);
  }
  if (!m.turn) {
    if (m.not_called.empty()) say("no way that the code shows leads there");
    return out;
  }
  const MissedView::Turn& turn = *m.turn;
  if (turn.instruction.empty()) {
    say("execution is on the way there, at " + place(turn.where));
    return out;
  }
  const std::string by =
      fmt::format("`{}` in {} at {}", turn.instruction, place(turn.where), to_text(turn.time));
  if (turn.flow == Flow::kCall || turn.flow == Flow::kIndirectCall)
    say("the call before it has not returned: " + by);
  else if (turn.flow == Flow::kBranch || turn.flow == Flow::kSkip ||
           turn.flow == Flow::kIndirectJump)
    say(fmt::format("turned away last by {}, to {}", by, place(turn.went)));
  else
    say("that far it went: " + by);
  return out + (*this)(m.origins);
}

std::string BackViews::operator()(const Parting& p) const {
  const Divergence& d = p.divergence;
  if (!d.a && !d.b)
    return fmt::format("they do not part within {}: {} events are the same\n", to_text(d.until),
                       d.same);
  std::string out = style_.accent("they part") + fmt::format(" behind {} events", d.same) +
                    (d.handler.empty() ? "" : " in " + d.handler);
  if (!d.in.empty()) {
    std::string names;
    for (const std::string& name : d.in)
      names += (names.empty() ? "" : ", ") + (name.empty() ? "its value" : name);
    out += ", in " + style_.bold(names);
  }
  out += "\n";
  if (!d.last_same.empty())
    out += "  " + style_.wrapped("the last that is the same: " + d.last_same, 4) + "\n";
  for (std::size_t i = 0; i < 2; ++i) {
    const auto& side = i == 0 ? d.a : d.b;
    out += style_.bold(p.images[i]) + "\n";
    if (!side) {
      out += "  nothing more happens\n";
      continue;
    }
    out += "  " + style_.wrapped(style_.changed(side->event), 4) + "\n";
    out += "  " +
           style_.wrapped(fmt::format("at {}, {}", to_text(side->time), place(side->where)), 4) +
           "\n";
    std::string chain;
    for (auto level = side->callers.rbegin(); level != side->callers.rend(); ++level)
      if (level != side->callers.rbegin() && !level->where.function.empty())
        chain += (chain.empty() ? "called in " : ", ") + place(level->where);
    if (!chain.empty()) out += "  " + style_.dim(style_.wrapped(chain, 4)) + "\n";
    if (i < p.files.size()) out += "  lucid open --at " + p.files[i] + "\n";
  }
  return out;
}

std::string BackViews::operator()(const Session::TimelineView& t) const {
  if (!t.on) return "the timeline is off: nothing of the past is kept\n";
  return fmt::format("the timeline begins at {} and ends at {}: {} {} of the chip, {:.1f} MiB\n",
                     to_text(t.first), to_text(t.end), t.copies, t.copies == 1 ? "copy" : "copies",
                     static_cast<double>(t.bytes) / (1 << 20));
}

}  // namespace lucid::app
