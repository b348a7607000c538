// SPDX-License-Identifier: MIT
// Values of the program: variables by call level, watches, callers.
#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "screen/pane.h"
#include "text_back.h"

namespace lucid::app {
namespace {

constexpr int kName = 1, kValue = 2;

/// As text to begin with when it is changed: what the expression language takes again.
std::string editable(const std::string& value) {
  return value.find_first_of(" {}\"'") == std::string::npos ? value : "";
}

void offer_value(Desk& desk, const std::string& expression, const std::string& value) {
  Menu menu{expression, {}};
  menu.choices.push_back({"change", "give it another value", [&desk, expression, value] {
                            desk.edit("let " + expression + " = ", editable(value));
                          }});
  for (const auto& [command, words] :
       {std::pair{"watch ", "keep it in sight"}, std::pair{"origin ", "where it has come from"},
        std::pair{"history ", "its last writes"},
        std::pair{"pause on change ", "whenever it changes"},
        std::pair{"trace ", "record it over time"}})
    menu.choices.push_back({command + expression, words,
                            [&desk, line = command + expression] { desk.command(line); }});
  menu.choices.push_back({"memory", "where it lives", [&desk, expression] {
                            if (const auto v = desk.session().evaluate(expression);
                                v && v->address && v->address->space == Space::kData)
                              desk.show_memory("ram", v->address->offset);
                            else
                              desk.say(expression + " lives at no address in RAM", Look::kWarn);
                          }});
  desk.choose(std::move(menu));
}

class VariablesPane final : public ListPane {
 public:
  VariablesPane() : ListPane("variables") {}

  [[nodiscard]] Least least() const override { return {4, 26}; }
  [[nodiscard]] const char* help() const override {
    return "Variables of the selected call level, then those of files. A value that has changed "
           "stands out, and fades with the next steps.\n"
           "Enter on a name opens or closes it: members, elements, what a pointer leads to; on "
           "another level it selects that one. Enter on a value changes it.\n"
           "{watch} keeps it in sight, {trace} records it, {origin} tells where it has come from. "
           "A right click offers all of that.";
  }
  std::string object(Desk& /*desk*/) override {
    return count() != 0 ? rows_[cursor()].expression : std::string();
  }

 protected:
  std::size_t gather(Desk& desk, int /*columns*/, std::string& problem) override {
    rows_.clear();
    const Session& session = desk.session();
    const auto levels = session.callers();
    std::map<std::string, std::vector<VariableView>> files;
    for (VariableView& v : session.globals()) files[v.file].push_back(std::move(v));
    // What is at hand comes first: the selected call level, the statics and globals of its file.
    std::string at_hand;
    for (const CallLevel& level : levels)
      if (level.level == session.level()) {
        add_level(session, level);
        at_hand = level.where.file;
      }
    if (files.count(at_hand) != 0) add_file(session, at_hand, files[at_hand], true);
    for (auto level = levels.rbegin(); level != levels.rend(); ++level)
      if (level->level != session.level()) add_level(session, *level);
    for (const auto& [file, list] : files)
      if (file != at_hand) add_file(session, file, list, false);
    // In another function its variables come first.
    for (std::size_t i = 0; i < rows_.size(); ++i)
      if (rows_[i].level != 0 && rows_[i].open && rows_[i].name != at_hand_) {
        at_hand_ = rows_[i].name;
        set_cursor(i);
        want_top(static_cast<long>(i));
      }
    if (rows_.empty()) problem = "no variables are known: the image has no debug information";
    return rows_.size();
  }

  std::string key_of_row(std::size_t index) const override {
    return index < rows_.size() ? rows_[index].key : std::string();
  }

  Line row(Desk& desk, std::size_t index, int columns) override {
    const Row& r = rows_[index];
    Line out;
    out.add(std::string(1 + 2 * static_cast<std::size_t>(r.depth), ' '));
    if (!r.note.empty()) return out.add(r.note, Look::kDim);
    const bool opens = r.heading || r.view.children != 0;
    out.add(!opens ? "  " : r.open ? "- " : "+ ", Look::kDim, opens ? kName : 0);
    if (r.heading) return out.add(r.name, Look::kAccent, kName);
    out.add(r.name, Look::kPlain, kName);
    out.add(" = ", Look::kDim);
    const VariableView& v = r.view;
    const bool known = v.unknown == Unknown::kNone;
    Look look = ages_.look(r.key, v.value, desk.pauses());
    if (!known) look = Look::kDim;
    out.add(v.value, look, kValue);
    int used = 0;
    for (const Piece& piece : out.pieces) used += cells_of(piece.text, desk.utf8());
    std::string behind;
    if (known && look == Look::kFresh && v.before != v.value && !v.before.empty() &&
        v.before.size() < 24)
      behind = "   was " + v.before;
    if (used + cells_of(behind, desk.utf8()) <= columns) {
      out.add(behind, Look::kDim);
      used += cells_of(behind, desk.utf8());
    }
    if (const std::string type = "   " + v.type;
        used + cells_of(type, desk.utf8()) <= columns && behind.empty())
      out.add(type, Look::kDim);
    return out;
  }

  void enter(Desk& desk, std::size_t index, int part) override {
    const Row& r = rows_[index];
    if (r.level != 0 && r.level != desk.session().level())
      desk.command(fmt::format("level {}", r.level));
    else if (r.level != 0)
      desk.say("this call level is the one that is selected", Look::kDim);
    else if (r.heading || (part != kValue && r.view.children != 0))
      toggle(r.key);
    else if (!r.expression.empty() && r.view.unknown == Unknown::kNone)
      desk.edit("let " + r.expression + " = ", editable(r.view.value));
    else if (!r.expression.empty())
      desk.say(r.name + ": " + r.view.value, Look::kWarn);
  }
  void offer(Desk& desk, std::size_t index, int part) override {
    if (rows_[index].expression.empty()) return enter(desk, index, part);
    offer_value(desk, rows_[index].expression, rows_[index].view.value);
  }

 private:
  struct Row {
    std::string key, name, expression, note;
    int depth = 0;
    unsigned level = 0;
    bool heading = false, open = false;
    VariableView view;
  };
  void add_level(const Session& session, const CallLevel& level) {
    Row head;
    head.key = fmt::format("level {}", level.level);
    head.name =
        fmt::format("{} {}", level.level,
                    !level.where.function.empty() ? level.where.function : app::place(level.where));
    head.level = level.level;
    head.open = level.level == session.level();
    head.heading = true;
    rows_.push_back(head);
    if (!head.open) return;
    const auto locals = session.variables();
    for (const VariableView& v : locals) add(session, v, 1, head.name);
    if (!locals.empty()) return;
    Row none;
    none.key = "none";
    none.note = "no parameters or locals in scope";
    none.depth = 1;
    rows_.push_back(none);
  }
  /// The file at hand is open until somebody closes it, the others are closed.
  void add_file(const Session& session, const std::string& file,
                const std::vector<VariableView>& list, bool at_hand) {
    Row head;
    head.key = "file " + file;
    head.name = file.empty() ? "elsewhere" : file;
    head.heading = true;
    head.open = at_hand != (open_.count(head.key) != 0);
    rows_.push_back(head);
    if (head.open)
      for (const VariableView& v : list) add(session, v, 1, file);
  }
  void toggle(const std::string& key) {
    if (open_.erase(key) == 0) open_.insert(key);
  }
  void add(const Session& session, const VariableView& v, int depth, const std::string& of) {
    constexpr std::size_t kMost = 2000;
    if (rows_.size() > kMost) return;
    Row r;
    r.key = of + " " + v.expression;
    r.name = v.name;
    r.expression = v.expression;
    r.depth = depth;
    r.view = v;
    r.open = v.children != 0 && open_.count(r.key) != 0;
    const bool open = r.open;
    rows_.push_back(std::move(r));
    constexpr int kDeepest = 12;
    if (!open || depth > kDeepest) return;
    const auto parts = session.children(v.expression);
    if (!parts) {
      Row why;
      why.note = parts.error().text();
      why.key = of + " " + v.expression + " why";
      why.depth = depth + 1;
      rows_.push_back(std::move(why));
      return;
    }
    for (const VariableView& part : *parts) add(session, part, depth + 1, of);
    if (parts->size() < v.children) {
      Row more;
      more.key = of + " " + v.expression + " more";
      more.note =
          fmt::format("{} more: = {}[{}]", v.children - parts->size(), v.expression, parts->size());
      more.depth = depth + 1;
      rows_.push_back(std::move(more));
    }
  }

  std::vector<Row> rows_;
  std::set<std::string> open_;
  std::string at_hand_;  ///< the call level that is open
  Ages ages_;
};

class WatchesPane final : public ListPane {
 public:
  WatchesPane() : ListPane("watches") {}
  [[nodiscard]] Least least() const override { return {3, 26}; }
  [[nodiscard]] const char* help() const override {
    return "Expressions that are kept in sight. Out of scope they are dim, with the last value and "
           "when it was known.\n"
           "{watch} on a name in the code or among the variables adds one, Delete removes it, "
           "Enter changes its value.";
  }
  std::string object(Desk& /*desk*/) override {
    return count() != 0 ? list_[cursor()].expression : std::string();
  }

 protected:
  std::size_t gather(Desk& desk, int /*columns*/, std::string& problem) override {
    list_ = desk.session().watches();
    problem = "nothing is watched: choose a name in the code or a variable and press " +
              name_of(desk.settings().keys.at(Action::kWatch));
    return list_.size();
  }
  std::string key_of_row(std::size_t index) const override {
    return index < list_.size() ? std::to_string(list_[index].id) : std::string();
  }
  Line row(Desk& desk, std::size_t index, int columns) override {
    const WatchView& w = list_[index];
    Line out;
    out.add(fmt::format("{:>4} ", fmt::format("({})", w.id)), Look::kDim);
    const bool known = w.problem.empty();
    out.add(w.expression, known ? Look::kPlain : Look::kDim, kName).add(" = ", Look::kDim);
    const Look look = known ? ages_.look(std::to_string(w.id), w.value, desk.pauses()) : Look::kDim;
    out.add(w.value.empty() ? "unknown" : w.value, look, kValue);
    std::string behind;
    if (!known)
      behind = w.value.empty() ? "   " + w.problem
                               : fmt::format("   at {}: {}", to_text(w.known_at), w.problem);
    else if (look == Look::kFresh && !w.before.empty() && w.before != w.value)
      behind = "   was " + w.before;
    int used = 0;
    for (const Piece& piece : out.pieces) used += cells_of(piece.text, desk.utf8());
    if (!known || used + cells_of(behind, desk.utf8()) <= columns) out.add(behind, Look::kDim);
    return out;
  }
  void enter(Desk& desk, std::size_t index, int /*part*/) override {
    const WatchView& w = list_[index];
    if (!w.problem.empty()) return desk.say(w.expression + ": " + w.problem, Look::kWarn);
    desk.edit("let " + w.expression + " = ", editable(w.value));
  }
  void offer(Desk& desk, std::size_t index, int /*part*/) override {
    offer_value(desk, list_[index].expression, list_[index].value);
  }
  void remove(Desk& desk, std::size_t index) override {
    desk.command(fmt::format("remove {}", list_[index].id));
  }

 private:
  std::vector<WatchView> list_;
  Ages ages_;
};

class CallersPane final : public ListPane {
 public:
  CallersPane() : ListPane("callers") {}
  [[nodiscard]] Least least() const override { return {3, 26}; }
  [[nodiscard]] const char* help() const override {
    return "Who has called whom: the outermost first, where the program stands last. A number "
           "stays with its call.\n"
           "Enter selects a level: code, variables and registers are then those of that call.";
  }
  std::string place(Desk& /*desk*/) override {
    return count() != 0 ? fmt::format("{:#x}", list_[cursor()].where.address) : std::string();
  }

 protected:
  std::size_t gather(Desk& desk, int /*columns*/, std::string& /*problem*/) override {
    list_ = desk.session().callers();
    selected_ = desk.session().level();
    const auto stands = std::pair{desk.standing(), selected_};
    if (stands != stands_ && !list_.empty() && !desk.running())
      for (std::size_t i = 0; i < list_.size(); ++i)
        if (list_[i].level == selected_) set_cursor(i), centre();
    stands_ = stands;
    return list_.size();
  }
  std::string key_of_row(std::size_t index) const override {
    return index < list_.size() ? std::to_string(list_[index].level) : std::string();
  }
  Line row(Desk& /*desk*/, std::size_t index, int /*columns*/) override {
    const CallLevel& level = list_[index];
    Line out;
    const bool last = index + 1 == list_.size();
    out.add(fmt::format("{:>3} ", level.level), Look::kDim);
    out.add(last ? "▌" : level.level == selected_ ? "│" : " ", Look::kAccent).add(" ");
    out.add(app::place(level.where), level.level == selected_ ? Look::kStrong : Look::kPlain,
            kName);
    if (level.inlined) out.add("  inlined", Look::kDim);
    if (level.left) out.add("  left by a jump", Look::kDim);
    if (level.interrupt) out.add("  interrupt", Look::kWarn);
    if (level.end != CallersEnd::kNone && level.end != CallersEnd::kStart)
      out.add("  ends here: " + callers_end_text(level.end), Look::kDim);
    return out;
  }
  void enter(Desk& desk, std::size_t index, int /*part*/) override {
    desk.command(fmt::format("level {}", list_[index].level));
  }

 private:
  std::vector<CallLevel> list_;
  unsigned selected_ = 0;
  std::pair<unsigned, unsigned> stands_;
};

}  // namespace

std::unique_ptr<Pane> make_variables_pane() { return std::make_unique<VariablesPane>(); }
std::unique_ptr<Pane> make_watches_pane() { return std::make_unique<WatchesPane>(); }
std::unique_ptr<Pane> make_callers_pane() { return std::make_unique<CallersPane>(); }

}  // namespace lucid::app
