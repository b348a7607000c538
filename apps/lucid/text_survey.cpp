// SPDX-License-Identifier: MIT
#include "text_survey.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "output.h"

namespace lucid::app {

std::string grouped(std::uint64_t number) {
  std::string out = std::to_string(number);
  for (std::size_t at = out.size(); at > 3; at -= 3) out.insert(at - 3, ",");
  return out;
}

namespace {

std::string share(std::uint64_t part, std::uint64_t whole) {
  return fmt::format(
      "{:.1f} %",
      whole == 0 ? 0.0 : 100.0 * static_cast<double>(part) / static_cast<double>(whole));
}
std::string line_at(const Location& where) {
  return where.line == 0 ? "" : fmt::format("{}:{}", where.file, where.line);
}
std::string plain(const std::string& text) { return visible(text, false, true); }
std::string short_path(const std::string& path) { return path.substr(path.find_last_of('/') + 1); }

/// 3-9, 12, 40-41
std::string ranges(const std::vector<unsigned>& lines, const std::vector<unsigned>& with_code) {
  std::string out;
  for (std::size_t i = 0; i < lines.size();) {
    std::size_t last = i;
    // Lines without code between do not part what belongs together.
    while (last + 1 < lines.size() &&
           std::upper_bound(with_code.begin(), with_code.end(), lines[last]) != with_code.end() &&
           *std::upper_bound(with_code.begin(), with_code.end(), lines[last]) == lines[last + 1])
      ++last;
    out += out.empty() ? "" : ", ";
    out += last == i ? std::to_string(lines[i]) : fmt::format("{}-{}", lines[i], lines[last]);
    i = last + 1;
  }
  return out;
}

}  // namespace

/// Calls, those that took longest first, each with those below it.
std::string SurveyViews::tree(const Profile& p, std::vector<std::size_t> here,
                              const std::vector<std::vector<std::size_t>>& below,
                              std::size_t depth) const {
  const ProfileView& v = p.view;
  std::stable_sort(here.begin(), here.end(), [&](std::size_t a, std::size_t b) {
    return v.calls[a].cycles > v.calls[b].cycles;
  });
  std::string out;
  std::uint64_t rest = 0, rest_cycles = 0;
  for (const std::size_t i : here) {
    const ProfileView::Call& call = v.calls[i];
    // What takes less than a thousandth is summed up.
    if (call.cycles * 1000 < v.cycles - v.asleep && !p.all) {
      ++rest;
      rest_cycles += call.cycles;
      continue;
    }
    out += fmt::format("{:>8}{:>16}{:>16}{:>14}  {}{}", share(call.cycles, v.cycles),
                       grouped(call.self), grouped(call.cycles), grouped(call.calls),
                       std::string(2 * depth, ' '), style_.bold(plain(call.function)));
    out += (call.handler ? style_.dim(" handler") : std::string()) + "\n";
    out += tree(p, below[i], below, depth + 1);
  }
  if (rest != 0)
    out +=
        style_.dim(fmt::format("{:>8}{:>16}{:>16}{:>14}  {}{} more\n", share(rest_cycles, v.cycles),
                               "", grouped(rest_cycles), "", std::string(2 * depth, ' '), rest));
  return out;
}

std::string SurveyViews::operator()(const Profile& p) const {
  const ProfileView& v = p.view;
  std::string out = fmt::format("{} cycles in {}", grouped(v.cycles), to_text(v.span));
  for (const auto& [words, part] :
       {std::pair{"asleep", v.asleep}, std::pair{"waiting in loops", v.waiting},
        std::pair{"entering interrupts", v.entering}, std::pair{"in no function", v.unknown}})
    if (part * 2000 >= v.cycles && part != 0)  // less would be shown as 0.0 %
      out += fmt::format(" · {} {}", words, share(part, v.cycles));
  out += "\n";
  if (p.calls) {
    out += style_.dim(fmt::format("{:>8}{:>16}{:>16}{:>14}  {}\n", "share", "own cycles",
                                  "with calls", "calls", "function"));
    std::vector<std::size_t> roots;
    std::vector<std::vector<std::size_t>> below(v.calls.size());
    for (std::size_t i = 0; i < v.calls.size(); ++i)
      (v.calls[i].caller ? below[*v.calls[i].caller] : roots).push_back(i);
    return out + tree(p, roots, below, 0);
  }
  if (p.lines) {
    out += style_.dim(fmt::format("{:>8}{:>16}{:>14}  {}\n", "share", "cycles", "passes", "line"));
    for (std::size_t i = 0; i < std::min(p.most, v.lines.size()); ++i) {
      const ProfileView::Line& l = v.lines[i];
      out += fmt::format("{:>8}{:>16}{:>14}  {}", share(l.cycles, v.cycles), grouped(l.cycles),
                         grouped(l.passes), line_at(l.where));
      out += style_.dim("  " + plain(l.where.function)) + "\n";
    }
    if (v.lines.size() > p.most)
      out += style_.dim(fmt::format("  {} more lines\n", v.lines.size() - p.most));
    return out;
  }
  const auto with_calls = [&](const std::string& total, const std::string& stack) {
    return v.calls.empty() ? std::string() : fmt::format("{:>16}{:>7}", total, stack);
  };
  out += style_.dim(fmt::format("{:>8}{:>16}{}{:>14}  {}\n", "share", "own cycles",
                                with_calls("with calls", "stack"), "calls", "function"));
  for (std::size_t i = 0; i < std::min(p.most, v.functions.size()); ++i) {
    const ProfileView::Function& f = v.functions[i];
    std::string line =
        fmt::format("{:>8}{:>16}{}{:>14}  ", share(f.self, v.cycles), grouped(f.self),
                    with_calls(f.total ? grouped(*f.total) : "", f.stack ? grouped(*f.stack) : ""),
                    grouped(f.calls));
    std::string more;
    if (!f.inlined_in.empty()) more = " inlined in " + plain(f.inlined_in);
    if (f.handler) more = " handler";
    const std::string where = line_at(f.where).empty() ? "" : "  " + line_at(f.where);
    const std::string name = plain(f.name);
    if (style_.columns(line + name + more + where) <= style_.width()) more += where;
    out += line + style_.bold(name) + style_.dim(more) + "\n";
  }
  if (v.functions.size() > p.most)
    out += style_.dim(fmt::format("  {} more functions\n", v.functions.size() - p.most));
  return out + waits(p);
}

/// Loops that do nothing else: they are in their functions' cycles, too.
std::string SurveyViews::waits(const Profile& p) const {
  const ProfileView& v = p.view;
  if (v.waits.empty()) return "";
  std::string out = style_.dim(
      fmt::format("{:>8}{:>16}{:>14}  {}\n", "share", "cycles", "rounds", "loop that waits"));
  for (std::size_t i = 0; i < std::min(p.most, v.waits.size()); ++i) {
    const ProfileView::Wait& w = v.waits[i];
    const char* const what = w.looks && w.counts ? "looks, and counts how often"
                             : w.looks           ? "looks until something changes"
                             : w.counts          ? "counts"
                                                 : "until an interrupt leads out of it";
    out += fmt::format("{:>8}{:>16}{:>14}  {}", share(w.cycles, v.cycles), grouped(w.cycles),
                       grouped(w.rounds), style_.bold(plain(w.function)));
    out +=
        style_.dim((line_at(w.where).empty() ? "" : "  " + line_at(w.where)) + "  " + what) + "\n";
  }
  if (v.waits.size() > p.most)
    out += style_.dim(fmt::format("  {} more loops\n", v.waits.size() - p.most));
  return out;
}

std::string SurveyViews::operator()(const Coverage& c) const {
  if (!c.source.empty()) return listing(c);
  std::string out =
      style_.dim(fmt::format("{:>10}{:>14}{:>14}  {}\n", "", "lines", "functions", "file"));
  std::size_t lines = 0, hit = 0, functions = 0, called = 0;
  for (const CoverageView::File& file : c.view.files) {
    lines += file.lines.size();
    hit += file.lines_executed();
    functions += file.functions.size();
    called += file.functions_executed();
    out += fmt::format("{:>10}{:>14}{:>14}  {}\n", share(file.lines_executed(), file.lines.size()),
                       fmt::format("{} of {}", file.lines_executed(), file.lines.size()),
                       fmt::format("{} of {}", file.functions_executed(), file.functions.size()),
                       plain(short_path(file.path)));
  }
  out += style_.bold(fmt::format("{:>10}{:>14}{:>14}  in all\n", share(hit, lines),
                                 fmt::format("{} of {}", hit, lines),
                                 fmt::format("{} of {}", called, functions)));
  std::string never;
  for (const CoverageView::File& file : c.view.files)
    for (const CoverageView::Function& f : file.functions)
      if (f.calls == 0) never += (never.empty() ? "" : ", ") + plain(f.name);
  if (!never.empty()) out += style_.wrapped("never called: " + never, 2) + "\n";
  return out;
}

std::string SurveyViews::listing(const Coverage& c) const {
  const CoverageView::File& file = c.view.files.front();
  std::map<unsigned, const CoverageView::Line*> lines;
  for (const CoverageView::Line& line : file.lines) lines[line.line] = &line;
  std::string out = fmt::format(
      "{}: {} of {} lines, {} of {} functions\n", plain(short_path(file.path)),
      file.lines_executed(), file.lines.size(), file.functions_executed(), file.functions.size());
  for (const auto& [number, text] : c.source) {
    const auto at = lines.find(number);
    std::string count;
    if (at != lines.end())
      count = at->second->passes != 0 ? grouped(at->second->passes)
              : at->second->executed  ? "in part"
                                      : "never";
    const bool never = count == "never";
    const std::string shown = style_.clipped(plain(text), style_.width() - 21);
    out += (never ? style_.bad(fmt::format("{:>12}", count)) : fmt::format("{:>12}", count)) +
           style_.dim(fmt::format(" {:>5} ", number)) + (never ? style_.bad(shown) : shown);
    while (!out.empty() && out.back() == ' ') out.pop_back();
    out += "\n";
  }
  return out;
}

std::string SurveyViews::lines_of(const CoverageView& view) const {
  std::string out;
  for (const CoverageView::File& file : view.files) {
    std::vector<unsigned> lines;
    for (const CoverageView::Line& line : file.lines) lines.push_back(line.line);
    std::string text = "  " + plain(short_path(file.path));
    if (!lines.empty()) text += " " + ranges(lines, lines);
    for (const CoverageView::Function& f : file.functions)
      text += (&f == file.functions.data() ? "; calls " : ", ") + plain(f.name);
    out += style_.wrapped(text, 4) + "\n";
  }
  return out.empty() ? "  nothing\n" : out;
}

std::string SurveyViews::operator()(const CoverageDifference& d) const {
  return style_.bold("only here") + " (executed in this run, not in " + plain(d.other) + ")\n" +
         lines_of(d.here) + style_.bold("only there") + "\n" + lines_of(d.there);
}

std::string SurveyViews::held(const InterruptView& i) const {
  const auto at = [](const Location& where) {
    std::string out =
        where.function.empty() ? fmt::format("{:#06x}", where.address) : plain(where.function);
    if (where.line != 0) out += fmt::format(" ({}:{})", where.file, where.line);
    return out;
  };
  using By = InterruptView::HeldBy;
  switch (i.held_by) {
    case By::kOff:
      if (i.off_since)
        return fmt::format("interrupts were off from {} on, until before {}", at(*i.off_since),
                           at(i.entered_at));
      return fmt::format("interrupts were off; asked for in {}, entered before {}",
                         at(i.requested_at), at(i.entered_at));
    case By::kHandler: return "the handler of " + i.held_by_handler + " was under way";
    case By::kSleep: return "the processor had to wake up";
    case By::kInstruction: break;
  }
  return "the instruction before " + at(i.entered_at) + " was under way";
}

std::string SurveyViews::operator()(const InterruptList& list) const {
  if (list.interrupts.empty()) return "no interrupt has been asked for\n";
  std::size_t width = 9;
  for (const InterruptView& i : list.interrupts) width = std::max(width, i.name.size());
  std::string out = style_.dim(fmt::format("  {:<{}}{:>10}{:>12}{:>12}{:>12}{:>14}{:>14}{:>9}\n",
                                           "interrupt", width, "entered", "least wait", "mean",
                                           "most", "mean inside", "most", "load"));
  for (const InterruptView& i : list.interrupts) {
    out += fmt::format("  {}{:>10}", style_.bold(fmt::format("{:<{}}", i.name, width)),
                       grouped(i.wait.count));
    if (i.wait.count != 0)
      out += fmt::format("{:>12}{:>12}{:>12}", to_text(i.wait.least), to_text(i.wait.mean),
                         to_text(i.wait.most));
    if (i.inside.count != 0)
      out += fmt::format("{:>14}{:>14}{:>9}", to_text(i.inside.mean), to_text(i.inside.most),
                         fmt::format("{:.2f} %", 100 * i.load));
    out += "\n";
    std::string more;
    if (i.wait.count != 0)
      more = fmt::format("the longest wait, until {}: {}", to_text(i.wait.most_at), held(i));
    if (i.nested != 0) more += fmt::format("; {} times within another handler", grouped(i.nested));
    if (i.withdrawn != 0)
      more += fmt::format("{}{} requests ended without it", more.empty() ? "" : "; ",
                          grouped(i.withdrawn));
    out += style_.dim("      " + style_.wrapped(more, 6)) + "\n";
    if (i.missed != 0)
      out += style_.bad(fmt::format("      {} missed: they came while the one before still waited",
                                    grouped(i.missed))) +
             "\n";
  }
  return out;
}

std::string SurveyViews::operator()(const StackBoundView& v) const {
  const auto row = [&](const StackBoundView::Function& f) {
    std::string line =
        fmt::format("{:>8}{:>12}  ", f.own, f.bytes ? std::to_string(*f.bytes) : std::string("?"));
    std::string words = plain(f.name);
    for (std::size_t i = 1; f.bytes && i < f.chain.size(); ++i)
      words += (style_.utf8() ? " → " : " > ") + plain(f.chain[i]);
    if (!f.bytes) words += ": " + plain(f.why);
    return line + style_.clipped(words, style_.width() - 22) + "\n";
  };
  std::string out = style_.dim(fmt::format("{:>8}{:>12}  {}\n", "own", "with calls", "function"));
  constexpr std::size_t kMost = 15;
  for (std::size_t i = 0; i < std::min(kMost, v.functions.size()); ++i) out += row(v.functions[i]);
  if (v.functions.size() > kMost)
    out += style_.dim(fmt::format("  {} more functions\n", v.functions.size() - kMost));
  if (v.handler) {
    out += style_.bold(v.handlers_nest ? "the handlers, as some let others come"
                                       : "the deepest handler");
    out += fmt::format(": {} bytes with where it returns to ({})\n", v.handlers,
                       plain(v.handler->name));
  }
  if (!v.program) return out;
  out += style_.bold("the program") + ": ";
  if (v.total) {
    out += fmt::format("at most {} bytes", *v.total);
    if (v.room)
      out += *v.total > *v.room ? style_.bad(fmt::format(", and there is room for {}", *v.room))
                                : fmt::format(" of {}", *v.room);
    return out + "\n";
  }
  const std::string why = v.program->bytes ? v.handler->why : v.program->why;
  return out + "no bound: " + plain(why) + "\n";
}

namespace {

std::string before(const std::string& interrupt, const Location& where) {
  std::string out = fmt::format("{} before {}", interrupt, where.function);
  if (where.offset != 0) out += fmt::format("+{:#x}", where.offset);
  if (where.line != 0) out += fmt::format(" ({})", line_at(where));
  return out;
}

/// What it has left behind.
std::string race_objects(const RaceView::Finding& f, const Style& style) {
  using Kind = RaceView::Finding::Kind;
  std::string out;
  if (f.kind == Kind::kFault) out += "        " + style.bad(plain(f.detail)) + "\n";
  if (f.kind == Kind::kStuck) out += "        " + style.bad("it does not return") + "\n";
  if (f.kind == Kind::kMixed) out += "        part is as in one order, part as in the other:\n";
  for (const RaceView::Finding::Object& o : f.objects) {
    const bool returns = o.name == "returns";
    out += fmt::format("        {} {}; ", returns ? "returns" : plain(o.name) + " is",
                       style.bold(plain(o.value)));
    out += o.if_before == o.if_behind ? fmt::format("in either order {}\n", plain(o.if_before))
                                      : fmt::format("{} if it comes before, {} behind\n",
                                                    plain(o.if_before), plain(o.if_behind));
  }
  return out;
}

}  // namespace

std::string race_words(const RaceView::Finding& f) {
  std::string words = f.first.empty() ? "" : before(f.first, f.first_where) + ", ";
  words += before(f.interrupt, f.where) + fmt::format(", {} cycles in", f.cycles);
  if (!f.with.empty()) words += ", with " + f.with;
  if (f.forced) words += ", forced";
  if (f.times > 1) words += fmt::format(", {} times", grouped(f.times));
  return words;
}

std::string SurveyViews::operator()(const RaceView& v) const {
  using Kind = RaceView::Finding::Kind;
  std::string out = fmt::format("{}, entered at {}, {} instructions {}\n",
                                style_.bold(plain(v.function)), to_text(v.entered),
                                grouped(v.boundaries), v.interrupted ? "so far" : "to its return");
  for (const RaceView::Interrupt& i : v.interrupts) {
    out += fmt::format("  {}: {} runs with it in the middle", style_.bold(i.name),
                       grouped(i.placements));
    if (i.masked != 0) out += fmt::format(", {} places where it has to wait", grouped(i.masked));
    if (i.not_enabled != 0)
      out += fmt::format(", {} where it cannot be asked for", grouped(i.not_enabled));
    if (!i.compared && i.placements != 0)
      out += style_.dim("; not compared: it cannot come before the entry, or behind the return");
    out += "\n";
  }
  for (const std::string& with : v.also_with)
    out += style_.dim("  also with " + plain(with)) + "\n";
  if (v.left_out != 0)
    out += style_.bad(
        fmt::format("  {} places were left out: they are too many\n", grouped(v.left_out)));
  if (v.broken_before || v.broken_behind)
    out += style_.bad(fmt::format(
        "  `{}` does not hold without a race either: with the interrupt {}\n", plain(v.expectation),
        v.broken_before && v.broken_behind ? "before the entry, and behind the return"
        : v.broken_before                  ? "before the entry"
                                           : "behind the return"));
  if (v.interrupted) out += style_.bad("  interrupted: this is not all") + "\n";
  if (v.findings.empty() && v.interrupted) return out;
  if (v.findings.empty()) {
    std::uint64_t placements = 0;
    for (const RaceView::Interrupt& i : v.interrupts) placements += i.placements;
    return out + (placements == 0 ? "nothing to find: none of these can come in the middle of it\n"
                                  : "nothing found: each run ends as one without a race does\n");
  }
  std::size_t number = 0;
  constexpr std::size_t kMost = 20;
  for (const RaceView::Finding& f : v.findings) {
    if (number == kMost) {
      out += style_.dim(fmt::format("  {} more\n", v.findings.size() - kMost));
      break;
    }
    out += style_.bold(fmt::format("race {}", ++number)) + "  " + plain(race_words(f)) + "\n";
    if (f.kind == Kind::kBroken)
      out += "        " + style_.bad("not " + plain(v.expectation)) + "\n";
    out += race_objects(f, style_);
  }
  return out + style_.dim("`go to race N` stands there, with the interrupt raised") + "\n";
}

std::string SurveyViews::operator()(const RaceOverview& v) const {
  using Verdict = PossibleRace::Verdict;
  constexpr const char* kHow[] = {"read", "written", "changed"};
  if (v.possible.empty())
    return "no place in the code where an interrupt could tear what its handler accesses\n";
  std::string out;
  for (const PossibleRace& p : v.possible) {
    out += fmt::format("{} {}\n", style_.bold(line_at(p.where)), plain(p.where.function));
    out += fmt::format("    {} is {}; {} {} it ({})\n", style_.bold(plain(p.object)),
                       kHow[static_cast<unsigned>(p.how)], p.interrupt,
                       p.interrupt_changes ? "changes" : "reads", line_at(p.other));
    switch (p.verdict) {
      case Verdict::kRace: break;
      case Verdict::kNone:
        out += fmt::format("    nothing found in {} runs with it in the middle\n",
                           grouped(p.placements));
        break;
      case Verdict::kWaits:
        out += style_.dim("    nothing tried: it was not enabled there, or had to wait") + "\n";
        break;
      case Verdict::kNotCome:
        out +=
            style_.dim(fmt::format("    nothing tried: not come to until {}", to_text(v.until))) +
            "\n";
        break;
      case Verdict::kReadAgain:
        out += style_.dim("    read again until it is the same: not tried") + "\n";
        break;
    }
    for (const std::size_t number : p.races) {
      const RaceView::Finding& f = v.findings[number - 1];
      out += fmt::format("    {}  {}\n", style_.bold(fmt::format("race {}", number)),
                         plain(race_words(f)));
      out += race_objects(f, style_);
    }
  }
  if (v.interrupted) out += style_.bad("interrupted: this is not all") + "\n";
  return v.findings.empty()
             ? out
             : out + style_.dim("`go to race N` stands there, with the interrupt raised") + "\n";
}

const char* mode_name(Session::CheckMode mode) {
  constexpr const char* kModes[] = {"off", "list", "pause"};
  return kModes[static_cast<unsigned>(mode)];
}

std::string SurveyViews::operator()(const Checks& checks) const {
  std::string out;
  for (const Session::Check& check : checks.list)
    out += fmt::format(
        "  {:<16}{:<7}{}\n", check.name, mode_name(check.mode),
        style_.wrapped(check.words + (check.over ? ": " + to_text(*check.over) : ""), 25));
  return out;
}

std::string SurveyViews::operator()(const Findings& findings) const {
  if (findings.list.empty())
    return "nothing has been found; `show checks` tells what is looked for\n";
  std::string out;
  for (const FindingView& f : findings.list) {
    out += fmt::format("  {}  {}", style_.bold(f.check), style_.dim(to_text(f.at)));
    if (f.times > 1) out += style_.dim(fmt::format(", {} times", grouped(f.times)));
    if (f.harmless) out += style_.dim(", harmless");
    out += "\n      " + style_.wrapped(plain(f.text), 6) + "\n";
    if (f.where && f.where->line != 0)
      out += style_.dim(fmt::format("      {} {}\n", line_at(*f.where), plain(f.where->function)));
  }
  return out;
}

namespace {

/// How long it lasts, as one says it.
std::string long_time(const std::optional<Picoseconds>& span) {
  if (!span) return "?";
  const double hours = static_cast<double>(span->count) / 3.6e15;
  constexpr double kDay = 24, kYear = 365.25 * 24, kMost = 100;
  if (hours >= kMost * kYear) return "for over 100 years";
  if (hours >= kYear) return fmt::format("{:.1f} years", hours / kYear);
  if (hours >= 2 * kDay) return fmt::format("{:.1f} days", hours / kDay);
  return hours >= 2 ? fmt::format("{:.1f} hours", hours)
                    : fmt::format("{:.1f} minutes", 60 * hours);
}

}  // namespace

std::string SurveyViews::operator()(const WearTable& table) const {
  if (table.rows.empty()) return "nothing has been programmed since power-on\n";
  std::string out = style_.dim(
      fmt::format("  {:<22}{:>12}{:>12}{:>20}  {}\n", "cells", "programmed", "of", "lasts", "by"));
  constexpr std::size_t kMost = 30;
  for (std::size_t i = 0; i < std::min(kMost, table.rows.size()); ++i) {
    const WearView& w = table.rows[i];
    const std::string cells =
        w.end == w.begin + 1 ? fmt::format("{} {:#06x}", w.memory, w.begin)
                             : fmt::format("{} {:#06x}..{:#06x}", w.memory, w.begin, w.end - 1);
    const std::string where = line_at(w.by);
    out += fmt::format("  {:<22}{:>12}{:>12}{:>20}  {}{}\n", cells, grouped(w.times),
                       grouped(w.endurance), long_time(w.lasts),
                       where.empty() ? where : where + " ", plain(w.by.function));
  }
  if (table.rows.size() > kMost)
    out += style_.dim(fmt::format("  {} more\n", table.rows.size() - kMost));
  return out;
}

std::string SurveyViews::operator()(const Watchdog& watchdog) const {
  if (!watchdog.view) return "the watchdog has not been reset while it ran\n";
  const WatchdogView& w = *watchdog.view;
  const Picoseconds left{w.period.count - std::min(w.after.count, w.period.count)};
  std::string out = fmt::format(
      "  reset {} times; at the latest {} after the last time, of {}: {} were left\n",
      grouped(w.times), style_.bold(to_text(w.after)), to_text(w.period), to_text(left));
  const std::string where = line_at(w.by);
  return out + style_.dim(fmt::format("      {}  {}{}\n", to_text(w.at),
                                      where.empty() ? where : where + " ", plain(w.by.function)));
}

std::string SurveyViews::operator()(const HeapTable& heap) const {
  if (!heap.view) return "the heap is not followed: `check heap list`, and run from the start\n";
  const HeapView& h = *heap.view;
  if (h.given == 0 && h.refused == 0) return "nothing has come from the heap\n";
  std::string out = fmt::format(
      "  {} bytes are in use, {} at the most ({}); {} blocks in all{}\n",
      style_.bold(grouped(h.used)), grouped(h.most), to_text(h.most_at), grouped(h.given),
      h.refused == 0 ? "" : fmt::format(", {} refused", grouped(h.refused)));
  if (h.holders.empty()) return out + style_.dim("  all of it has been given back\n");
  out += style_.dim(fmt::format("{:>10}{:>10}  {:<14}asked for by\n", "bytes", "blocks", "since"));
  for (const HeapView::Holder& holder : h.holders) {
    const std::string where = line_at(holder.by);
    out += fmt::format("{:>10}{:>10}  {:<14}{}{}\n", grouped(holder.bytes), grouped(holder.blocks),
                       to_text(holder.since), where.empty() ? where : where + " ",
                       plain(holder.by.function));
  }
  return out;
}

}  // namespace lucid::app
