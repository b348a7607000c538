// SPDX-License-Identifier: MIT
#include "screen/lists.h"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <utility>

#include "commands.h"
#include "text_back.h"

namespace lucid::app {
namespace {

std::string lowered(std::string text) {
  for (char& c : text) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  return text;
}

}  // namespace

void Screen::List::narrow() {
  shown.clear();
  const std::string wanted = lowered(filter.text());
  std::vector<std::pair<std::size_t, std::size_t>> found;  // how good, which
  for (std::size_t i = 0; i < choices.size(); ++i) {
    const std::string name = lowered(choices[i].text);
    const std::size_t at = name.find(wanted);
    if (wanted.empty())
      found.emplace_back(0, i);
    else if (at != std::string::npos)
      found.emplace_back(name == wanted ? 0 : at == 0 ? 1 : 2, i);
    else if (lowered(choices[i].detail).find(wanted) != std::string::npos)
      found.emplace_back(3, i);
  }
  std::stable_sort(found.begin(), found.end(),
                   [](const auto& a, const auto& b) { return a.first < b.first; });
  for (const auto& [how, i] : found) shown.push_back(i);
  chosen = top = 0;
}

std::vector<Menu::Choice> everything(Screen& screen) {
  std::vector<Menu::Choice> out;
  const Session& session = screen.session();
  const Program& program = session.program();
  for (const SourceFile& f : program.files()) {
    if (f.lines_with_code.empty()) continue;
    const std::string place = fmt::format("{}:{}", f.path, f.lines_with_code.front());
    out.push_back({f.name, "file: its code", [&screen, place] { screen.show_code(place); }});
  }
  for (const Function& f : program.functions())
    out.push_back({f.name, fmt::format("function at {:#x}: its code", f.begin),
                   [&screen, place = fmt::format("{:#x}", f.begin)] { screen.show_code(place); }});
  for (const VariableView& v : session.globals()) {
    out.push_back({v.expression, "variable: watch it",
                   [&screen, e = v.expression] { screen.command("watch " + e); }});
    if (v.address.space == Space::kData)
      out.push_back(
          {v.expression, fmt::format("variable at {:#06x}: its memory", v.address.offset),
           [&screen, address = v.address.offset] { screen.show_memory("ram", address); }});
  }
  for (const VariableView& v : session.variables())
    out.push_back({v.expression, "variable of this call: watch it",
                   [&screen, e = v.expression] { screen.command("watch " + e); }});
  for (const IoRegister& io : session.chip().info().io)
    out.push_back({io.name, "register of " + io.peripheral,
                   [&screen, name = io.name] { screen.reveal("io", name); }});
  for (const RegisterView& r : session.registers())
    out.push_back({r.name, "register of the processor: watch it",
                   [&screen, name = r.name] { screen.command("watch chip." + name); }});
  for (const PartState& part : session.chip().parts())
    out.push_back({part.name, "part on the bench", [&screen] { screen.use_pane("parts"); }});
  for (const Session::MarkView& m : session.marks())
    out.push_back({m.name, "mark at " + to_text(m.time) + ": go there",
                   [&screen, name = m.name] { screen.command("revert to " + name); }});
  for (const Command& command : commands()) {
    const std::string name = command.name;
    const bool bare = std::any_of(command.forms.begin(), command.forms.end(),
                                  [&](const char* form) { return name == form; });
    out.push_back({name, std::string("command: ") + command.brief, [&screen, name, bare] {
                     if (bare)
                       screen.command(name);
                     else
                       screen.type_command(name + " ");
                   }});
  }
  for (const ActionFacts& facts : actions())
    out.push_back({facts.brief,
                   "key " + name_of(screen.settings().keys.at(facts.action)) + ": " + facts.words,
                   [&screen, action = facts.action] { screen.do_action(action); }});
  for (const char* end : {"\\n", "\\r", "\\r\\n", ""})
    out.push_back({std::string("line end ") + (*end == '\0' ? "none" : end),
                   "setting: behind a line that is typed to a serial port",
                   [&screen, end] { screen.settings().line_end = end; }});
  for (const std::string& name : pane_names())
    out.push_back({name, "pane: use it", [&screen, name] { screen.use_pane(name); }});
  return out;
}

void Screen::find() {
  list_ = std::make_unique<List>();
  list_->title = "find";
  list_->filtered = true;
  list_->choices = everything(*this);
  list_->narrow();
}

void Screen::help() {
  std::string text = pane(in_use_).help();
  // {watch} stands for the key of that action.
  for (const ActionFacts& facts : actions()) {
    const std::string name = std::string("{") + facts.name + "}";
    for (std::size_t at = text.find(name); at != std::string::npos; at = text.find(name))
      text.replace(at, name.size(), name_of(settings_.keys.at(facts.action)));
  }
  list_ = std::make_unique<List>();
  list_->title = in_use_;
  list_->reading = true;
  const auto add = [&](const std::string& line, const std::string& detail = {}) {
    list_->choices.push_back({line, detail, {}});
  };
  constexpr int kWidth = 66;
  for (std::size_t at = 0; at <= text.size();) {
    const std::size_t end = std::min(text.find('\n', at), text.size());
    std::string rest = text.substr(at, end - at);
    while (!rest.empty()) {
      std::size_t take = bytes_in_cells(rest, kWidth);
      if (take < rest.size())
        if (const std::size_t blank = rest.rfind(' ', take); blank != std::string::npos)
          take = blank;
      add(rest.substr(0, take));
      rest.erase(0, take);
      rest.erase(0, rest.find_first_not_of(' '));
    }
    at = end + 1;
  }
  add("");
  add("Keys outside of text that is being typed:");
  for (const ActionFacts& facts : actions())
    add(fmt::format("  {:<10} {}", name_of(settings_.keys.at(facts.action)), facts.words));
  add("  Escape     leave text entry, a list, or a pane that is alone");
  add("  Ctrl-C     pause the program that runs, wherever one is");
  add("With the mouse: titles and lines between panes are dragged, a right click on a title");
  add("puts another pane there; a click chooses, another one changes, a right click offers.");
  list_->narrow();
}

void Screen::close_list() { list_.reset(); }

void Screen::list_key(Key key) {
  List& list = *list_;
  const std::size_t last = list.shown.empty() ? 0 : list.shown.size() - 1;
  const auto page = static_cast<std::size_t>(std::max(list.area.rows - 1, 1));
  if (list.reading) {
    const std::size_t most = list.shown.size() > page + 1 ? list.shown.size() - page - 1 : 0;
    switch (key) {
      case kUp: list.top -= std::min<std::size_t>(list.top, 1); return;
      case kDown: list.top = std::min(list.top + 1, most); return;
      case kPageUp: list.top -= std::min(list.top, page); return;
      case kPageDown: list.top = std::min(list.top + page, most); return;
      default: return close_list();
    }
  }
  switch (key) {
    case kEscape: return close_list();
    case kUp: list.chosen -= std::min<std::size_t>(list.chosen, 1); return;
    case kDown: list.chosen = std::min(list.chosen + 1, last); return;
    case kPageUp: list.chosen -= std::min(list.chosen, page); return;
    case kPageDown: list.chosen = std::min(list.chosen + page, last); return;
    case kHome: list.chosen = 0; return;
    case kEnd: list.chosen = last; return;
    case kEnter: {
      if (list.shown.empty()) return;
      const auto act = list.choices[list.shown[list.chosen]].act;
      close_list();  // what it does may open another one
      if (act) act();
      return;
    }
    default: break;
  }
  if (list.filtered) {
    if (list.filter.key(key)) list.narrow();
    return;
  }
  // A digit, or the beginning of a choice.
  for (std::size_t i = 0; i < list.shown.size(); ++i) {
    const std::string& text = list.choices[list.shown[i]].text;
    if (!text.empty() && key < 0x80 && lowered(text)[0] == static_cast<char>(key)) {
      list.chosen = i;
      return;
    }
  }
}

}  // namespace lucid::app
