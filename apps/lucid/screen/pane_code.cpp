// SPDX-License-Identifier: MIT
// The code: source, instructions or both.
#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <set>
#include <utility>

#include "code_map.h"
#include "lucid/program.h"
#include "screen/pane.h"

namespace lucid::app {
namespace {

constexpr int kMargin = 1;      // parts of a row: the margin, then the names in its text
constexpr int kFirstName = 10;  // of source; of instructions the mnemonic
constexpr unsigned kWholeFile = 1'000'000;

bool begins_name(char c) { return std::isalpha(static_cast<unsigned char>(c)) != 0 || c == '_'; }
bool in_name(char c) { return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '_'; }

/// The end of a name with the members behind it, from where one begins.
std::size_t name_end(const std::string& text, std::size_t at) {
  for (;;) {
    while (at < text.size() && in_name(text[at])) ++at;
    const std::size_t dot = text.compare(at, 2, "->") == 0        ? 2
                            : at < text.size() && text[at] == '.' ? 1
                                                                  : 0;
    if (dot == 0 || at + dot >= text.size() || !begins_name(text[at + dot])) return at;
    at += dot;
  }
}

bool is_keyword(const std::string& name) {
  static const std::set<std::string> kWords{
      "if",        "else",     "for",     "while",   "do",       "return",   "switch", "case",
      "break",     "static",   "const",   "struct",  "volatile", "sizeof",   "void",   "int",
      "char",      "unsigned", "signed",  "short",   "long",     "enum",     "union",  "typedef",
      "extern",    "inline",   "default", "goto",    "continue", "register", "float",  "double",
      "bool",      "true",     "false",   "include", "define",   "class",    "public", "private",
      "namespace", "template", "using",   "auto"};
  return kWords.count(name) != 0;
}

class CodePane final : public ListPane, public CodeView {
 public:
  CodePane(const std::string& name, bool instructions)
      : ListPane(name), view_(instructions ? View::kBoth : View::kSource) {
    allow_blank_above();
  }

  std::string title(Desk& /*desk*/) override {
    std::string out = name();
    if (!shown_.empty()) out += ": " + shown_;
    if (!function_.empty()) out += ", " + function_;
    if (no_source_) out += " (no source)";
    if (held_) out += " (held)";
    return out;
  }
  [[nodiscard]] Least least() const override { return {5, 40}; }
  [[nodiscard]] const char* help() const override {
    return "The program. A bar marks the line or instruction about to execute, a dot a line that "
           "has code; the margin holds breakpoints by their numbers, with their passes behind.\n"
           "Up, Down: a row; Left, Right: a name in it. Enter works out that name, {watch} keeps "
           "it "
           "in sight.\n"
           "{breakpoint} sets or removes a breakpoint, {here} goes there. A click on the margin "
           "does the former.\n"
           "{view}: source, both, instructions. [ and ] move long lines. {follow}: back to where "
           "the program stands.";
  }

  bool key(Desk& desk, Key key) override {
    if (key == '[' || key == ']') {
      constexpr std::size_t kStep = 8;
      shift_ = key == ']' ? shift_ + kStep : shift_ - std::min(shift_, kStep);
      return true;
    }
    const std::size_t before = cursor();
    const bool used = ListPane::key(desk, key);
    if (cursor() != before) set_cursor(cursor());  // no name is chosen in another line
    return used;
  }
  [[nodiscard]] bool by_instruction() const override { return shows_instructions(); }
  void next_view(Desk& /*desk*/) override {
    view_ = view_ == View::kSource ? View::kBoth
            : view_ == View::kBoth ? View::kInstructions
                                   : View::kSource;
    anew_ = true;
  }
  void follow(Desk& desk) override {
    const bool there = count() != 0 && lines_current(desk);
    held_ = !held_ && there;
    anew_ = !held_;
    place_.clear();
  }
  void show(Desk& /*desk*/, const std::string& place) override {
    place_ = place;
    anew_ = true;
  }
  std::string place(Desk& desk) override {
    if (count() == 0) return {};
    if (shows_instructions()) return fmt::format("{:#x}", rows_[cursor()].address);
    return fmt::format("{}:{}", desk.session().program().files()[file_].name,
                       source_.lines[cursor()].number);
  }
  std::string object(Desk& /*desk*/) override { return name_at(cursor(), cursor_part()); }
  std::string explanation(Desk& desk) override {
    if (count() == 0) return {};
    if (shows_instructions()) {
      const Row& row = rows_[cursor()];
      if (row.kind != Row::kInstruction) return {};
      const auto told = desk.session().explain(fmt::format("{:#x}", row.address));
      if (!told) return told.error().text();
      std::string out = fmt::format("{} {}: {}", told->instruction.mnemonic,
                                    told->instruction.operands, told->words);
      out += told->cycles == "1" ? "; 1 cycle" : "; cycles: " + told->cycles;
      for (const std::string& fact : told->now) out += "; " + fact;
      return out;
    }
    if (const std::string name = object(desk); !name.empty()) {
      const auto value = desk.session().evaluate(name);
      if (!value) return name + ": " + value.error().text();
      return name + " = " + value->text + (value->type.empty() ? "" : ", " + value->type);
    }
    const SourceView::Line& line = source_.lines[cursor()];
    if (!line.has_code) return {};
    const auto opened = desk.session().macros(place(desk));
    if (!opened || opened->size() < 2) return {};
    const std::string& last = opened->back();
    return "macros opened: " + last.substr(std::min(last.find_first_not_of(' '), last.size()));
  }

 protected:
  std::size_t gather(Desk& desk, int /*columns*/, std::string& problem) override {
    const Session& session = desk.session();
    points_ = session.breakpoints();
    const std::uint64_t stands = session.chip().cycles();
    const bool moved = !seen_ || stands_ != stands || standing_ != desk.standing() ||
                       level_ != session.level() || image_ != session.image_path();
    seen_ = true;
    stands_ = stands;
    standing_ = desk.standing();
    level_ = session.level();
    image_ = session.image_path();
    if (moved && !desk.running() && !held_) anew_ = true;
    no_source_ = false;
    if (view_ == View::kSource) {
      const std::size_t count = gather_source(desk, problem);
      if (count != 0) return count;
      no_source_ = true;  // where there is none, instructions tell more
    }
    return gather_instructions(session, problem);
  }

  Line row(Desk& desk, std::size_t index, int columns) override {
    return shows_instructions() ? instruction_row(desk, index) : source_row(desk, index, columns);
  }

  void enter(Desk& desk, std::size_t index, int part) override {
    const std::string name = name_at(index, part);
    if (!name.empty())
      desk.command("= " + name);
    else if (shows_instructions())
      desk.command("explain " + place(desk));
  }
  void offer(Desk& desk, std::size_t index, int part) override {
    const std::string where = place(desk);
    Menu menu{where, {}};
    const std::string name = name_at(index, part);
    if (!name.empty()) {
      menu.choices.push_back(
          {"= " + name, "work it out", [&desk, name] { desk.command("= " + name); }});
      menu.choices.push_back(
          {"watch " + name, "keep it in sight", [&desk, name] { desk.command("watch " + name); }});
      menu.choices.push_back({"origin " + name, "where its value has come from",
                              [&desk, name] { desk.command("origin " + name); }});
      menu.choices.push_back({"pause on change " + name, "whenever it changes",
                              [&desk, name] { desk.command("pause on change " + name); }});
    }
    menu.choices.push_back({"pause at " + where, "a breakpoint",
                            [&desk, where] { desk.command("pause at " + where); }});
    menu.choices.push_back(
        {"go to " + where, "run on to it", [&desk, where] { desk.command("go to " + where); }});
    menu.choices.push_back({"back to " + where, "where it was executed last",
                            [&desk, where] { desk.command("back to " + where); }});
    menu.choices.push_back({"missed " + where, "why it was not reached",
                            [&desk, where] { desk.command("missed " + where); }});
    menu.choices.push_back({"move to " + where, "go on there, running nothing",
                            [&desk, where] { desk.command("move to " + where); }});
    desk.choose(std::move(menu));
  }
  [[nodiscard]] bool can_choose(int part) const override { return part >= kFirstName; }
  [[nodiscard]] int first_part(const std::vector<int>& /*parts*/) const override { return 0; }
  bool touch(Desk& desk, std::size_t index, int part) override {
    if (part != kMargin) return false;
    set_cursor(index, part);
    toggle(desk, index);
    return true;
  }

 public:
  /// Sets a breakpoint on a row, or removes those there.
  void toggle(Desk& desk, std::size_t index) {
    const std::vector<unsigned> ids = ids_at(index);
    if (ids.empty()) {
      desk.command("pause at " + place(desk));
      return;
    }
    std::string line = "remove";
    for (const unsigned id : ids) line += " " + std::to_string(id);
    desk.command(line);
  }

 private:
  enum class View : std::uint8_t { kSource, kBoth, kInstructions };
  struct Row {
    enum Kind : std::uint8_t { kInstruction, kSource, kFunction } kind = kInstruction;
    std::uint32_t address = 0;
  };

  [[nodiscard]] bool shows_instructions() const { return view_ != View::kSource || no_source_; }

  /// Is the cursor where the program stands?
  [[nodiscard]] bool lines_current(Desk& desk) const {
    if (!shows_instructions()) return source_.lines[cursor()].current;
    return rows_[cursor()].kind == Row::kInstruction &&
           rows_[cursor()].address == desk.session().chip().pc();
  }

  // Source ----------------------------------------------------------------------------------------

  std::size_t gather_source(Desk& desk, std::string& problem) {
    const Session& session = desk.session();
    if (source_.file.empty() && desk.running()) return 0;  // once it pauses
    const Program& program = session.program();
    std::optional<unsigned> line;
    Result<Location> where = session.locate(place_.empty() ? "here" : place_);
    if (!where) {
      problem = where.error().text();
      place_.clear();
      return 0;
    }
    if (anew_ || source_.file.empty()) {
      if (place_.empty()) {
        const auto here = session.source("here", 0);
        if (here && !here->lines.empty()) line = here->lines[0].number;
        if (here && !here->problem.empty()) problem = here->problem;
        where = location_here(session);
      } else {
        line = where->line;
        place_.clear();
      }
      if (where->file.empty()) {
        problem = problem.empty() ? "no source is known here" : problem;
        source_ = {};
        function_.clear();
        shown_.clear();
        return 0;
      }
      file_ = where->file_index;
    }
    if (file_ >= program.files().size()) file_ = 0, anew_ = true;
    const SourceFile& file = program.files()[file_];
    if (file.lines_with_code.empty()) return 0;
    auto view = session.source(
        fmt::format("{}:{}", file.path, line.value_or(file.lines_with_code.front())), kWholeFile);
    if (!view)
      view =
          session.source(fmt::format("{}:{}", file.path, file.lines_with_code.front()), kWholeFile);
    if (!view) {
      problem = view.error().text();
      return 0;
    }
    if (!view->problem.empty()) {
      problem = view->problem;
      source_ = {};
      return 0;
    }
    source_ = std::move(*view);
    shown_ = source_.file;
    if (anew_ && line && *line <= source_.lines.size()) {
      set_cursor(*line - 1);
      centre();
      function_ = where->function;
    }
    anew_ = false;
    return source_.lines.size();
  }

  static Result<Location> location_here(const Session& session) {
    for (const CallLevel& level : session.callers())
      if (level.level == session.level()) return level.where;
    return session.locate("here");
  }

  Line source_row(Desk& desk, std::size_t index, int columns) {
    const SourceView::Line& line = source_.lines[index];
    Line out;
    margin(out, line.breakpoints);
    out.add(fmt::format("{:>4} ", line.number), Look::kDim, kMargin);
    out.add(line.never_run  ? "○"
            : line.has_code ? "·"
                            : " ",
            line.never_run ? Look::kBad : Look::kDim, kMargin);
    out.add(line.current ? "▌" : line.selected ? "│" : " ", Look::kAccent, kMargin);
    out.add(" ");
    if (line.current || line.selected) out.ground = Ground::kCurrent;
    std::string text;
    for (const char c : line.text) {
      if (c == '\t')
        text.append(8 - text.size() % 8, ' ');
      else
        text += c;
    }
    if (shift_ != 0) text.erase(0, shift_);
    names_into(out, text, line.current ? Look::kStrong : Look::kPlain);
    if (line.values.empty()) return out;
    // As many values as there is room for; all are among the variables.
    int used = 0;
    for (const Piece& piece : out.pieces) used += cells_of(piece.text, desk.utf8());
    std::string values;
    for (const std::string& value : line.values) {
      std::string next = values;
      next.append(values.empty() ? "   " : "  ").append(value);
      if (used + cells_of(next, desk.utf8()) > columns) break;
      values = std::move(next);
    }
    out.add(values, Look::kDim);
    return out;
  }

  void margin(Line& out, const std::vector<unsigned>& ids) const {
    std::string text;
    bool enabled = true;
    for (const Breakpoint& point : points_)
      if (!ids.empty() && point.id == ids.front()) {
        enabled = point.enabled;
        text = fmt::format("({}){}", point.id, ids.size() > 1 ? "+" : "");
        if (point.passes != 0 && text.size() < 6)
          text += point.passes < 100 ? fmt::format("×{}", point.passes) : "×…";
      }
    constexpr int kWidth = 6;
    const int blanks = std::max(kWidth - cells_of(text, true), 0);
    out.add(std::string(static_cast<std::size_t>(blanks), ' ') + text,
            enabled ? Look::kAccent : Look::kDim, kMargin);
  }

  /// Text in pieces, so that each name in it can be chosen.
  static void names_into(Line& out, const std::string& text, Look look) {
    std::string plain;
    int part = kFirstName;
    const auto flush = [&] {
      if (!plain.empty()) out.add(std::move(plain), look);
      plain.clear();
    };
    for (std::size_t i = 0; i < text.size();) {
      if (text.compare(i, 2, "//") == 0 || text.compare(i, 2, "/*") == 0 ||
          (text[i] == '#' && text.find_first_not_of(' ') == i)) {
        flush();
        const std::size_t end =
            text[i] == '#' || text[i + 1] == '/' ? std::string::npos : text.find("*/", i + 2);
        const std::size_t stop = end == std::string::npos ? text.size() : end + 2;
        out.add(text.substr(i, stop - i), look == Look::kPlain ? Look::kDim : look);
        i = stop;
      } else if (text[i] == '"' || text[i] == '\'') {
        std::size_t end = i + 1;
        while (end < text.size() && text[end] != text[i]) end += text[end] == '\\' ? 2 : 1;
        end = std::min(end + 1, text.size());
        plain += text.substr(i, end - i);
        i = end;
      } else if (begins_name(text[i])) {
        const std::size_t end = name_end(text, i);
        const std::string name = text.substr(i, end - i);
        if (is_keyword(name)) {
          plain += name;
        } else {
          flush();
          out.add(name, look, part++);
        }
        i = end;
      } else if (in_name(text[i])) {
        while (i < text.size() && in_name(text[i])) plain += text[i++];
      } else {
        plain += text[i++];
      }
    }
    flush();
  }

  /// The name that a part of a row of source stands for.
  [[nodiscard]] std::string name_at(std::size_t index, int part) const {
    if (shows_instructions() || part < kFirstName || index >= source_.lines.size()) return {};
    Line line;
    std::string text = source_.lines[index].text;
    if (shift_ != 0) text.erase(0, shift_);
    names_into(line, text, Look::kPlain);
    for (const Piece& piece : line.pieces)
      if (piece.part == part) return piece.text;
    return {};
  }

  // Instructions ----------------------------------------------------------------------------------

  std::size_t gather_instructions(const Session& session, std::string& problem) {
    if (const std::uint64_t now = code_hash(session);
        now != code_ || rows_.empty() || rows_view_ != view_) {
      code_ = now;
      rows_view_ = view_;
      find_rows(session);
    }
    if (rows_.empty()) {
      problem = "there is no code in this image";
      return 0;
    }
    if (anew_) {
      const auto where = place_.empty() ? location_here(session) : session.locate(place_);
      place_.clear();
      anew_ = false;
      if (!where) return rows_.size();
      function_ = where->function;
      shown_ = view_ == View::kInstructions ? "" : where->file;
      const auto row =
          std::lower_bound(rows_.begin(), rows_.end(), where->address,
                           [](const Row& r, std::uint32_t address) { return r.address < address; });
      std::size_t index = static_cast<std::size_t>(row - rows_.begin());
      while (index + 1 < rows_.size() && rows_[index].kind != Row::kInstruction) ++index;
      index = std::min(index, rows_.size() - 1);
      set_cursor(index);
      centre();
    }
    return rows_.size();
  }

  /// Cheap, and another one after any other image has been loaded.
  static std::uint64_t code_hash(const Session& session) {
    std::uint64_t out = session.program().functions().size();
    for (const MemoryArea& area : session.chip().info().memories)
      if (area.space == Space::kCode && area.end - area.begin > 1024)
        for (std::uint32_t at = area.begin; at < area.end; at += 62)
          out = out * 1099511628211U ^ session.chip().peek({Space::kCode, at}).value_or(0);
    return out;
  }

  void find_rows(const Session& session) {
    rows_.clear();
    const Program& program = session.program();
    for (const std::uint32_t pc : instruction_starts(session)) {
      if (const Function* f = program.function_at(pc); f != nullptr && f->begin == pc)
        rows_.push_back({Row::kFunction, pc});
      if (view_ == View::kBoth || no_source_)
        if (const auto line = program.line_at(pc); line && line->begin == pc && line->line != 0)
          rows_.push_back({Row::kSource, pc});
      rows_.push_back({Row::kInstruction, pc});
    }
  }

  Line instruction_row(Desk& desk, std::size_t index) {
    const Row& row = rows_[index];
    const Session& session = desk.session();
    Line out;
    const std::string place = fmt::format("{:#x}", row.address);
    if (row.kind == Row::kFunction) {
      const Function* f = session.program().function_at(row.address);
      out.add(std::string(14, ' ')).add(f != nullptr ? f->name : "", Look::kStrong);
      return out;
    }
    const auto view = session.disassembly(place, 1, row.kind == Row::kSource);
    if (!view || view->rows.empty()) return out.add("  " + place);
    const DisassemblyView::Row& r = view->rows[0];
    if (row.kind == Row::kSource) {
      out.add(fmt::format("{:>14} ", fmt::format("{}:{}", r.file, r.line)), Look::kDim);
      std::string text = r.source;
      text.erase(0, std::min(text.find_first_not_of(" \t"), text.size()));
      return out.add(text, Look::kDim);
    }
    margin(out, r.breakpoints);
    out.add(fmt::format(" {:05x} ", row.address), Look::kDim, kMargin);
    out.add(r.current ? "▌" : r.selected ? "│" : " ", Look::kAccent, kMargin);
    out.add(" ");
    if (r.current || r.selected) out.ground = Ground::kCurrent;
    const std::string text =
        fmt::format("{:<6} {:<16}", r.instruction.mnemonic, r.instruction.operands);
    out.add(text, r.current ? Look::kStrong : Look::kPlain, kFirstName);
    if (!r.target.empty()) out.add(" " + r.target, Look::kDim);
    return out;
  }

  [[nodiscard]] std::vector<unsigned> ids_at(std::size_t index) const {
    if (!shows_instructions()) return source_.lines[index].breakpoints;
    std::vector<unsigned> out;
    for (const Breakpoint& point : points_)
      if (std::find(point.addresses.begin(), point.addresses.end(), rows_[index].address) !=
          point.addresses.end())
        out.push_back(point.id);
    return out;
  }

  View view_;
  bool held_ = false;
  bool anew_ = true;        ///< the cursor goes to where one stands, or to place_
  bool no_source_ = false;  ///< instructions are shown for that reason
  std::string place_;       ///< to be shown
  SourceView source_;
  unsigned file_ = 0;
  std::vector<Row> rows_;
  View rows_view_ = View::kSource;
  std::uint64_t code_ = 0;
  std::vector<Breakpoint> points_;
  std::string shown_, function_;
  std::size_t shift_ = 0;
  bool seen_ = false;
  std::uint64_t stands_ = 0;
  unsigned standing_ = 0, level_ = 0;
  std::string image_;
};

}  // namespace

std::unique_ptr<Pane> make_code_pane(const std::string& name, bool instructions) {
  return std::make_unique<CodePane>(name, instructions);
}

}  // namespace lucid::app
