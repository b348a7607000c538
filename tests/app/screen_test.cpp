// SPDX-License-Identifier: MIT
// The screen without a terminal: what it shows is held against what the session says, in every
// layout, size and state; and a monkey at the keys.
#include <sys/stat.h>
#include <unistd.h>

#include <catch2/catch.hpp>
#include <clocale>
#include <filesystem>
#include <random>
#include <set>

#include "lucid/finding.h"
#include "screen/lists.h"
#include "screen/screen.h"
#include "text.h"
#include "tools.h"

using namespace lucid;
using namespace lucid::app;

namespace {

/// A terminal that nobody sees. While the program runs it gives what `meanwhile` says.
std::string whole(const Frame& frame) {
  std::string out;
  for (int r = 0; r < frame.rows(); ++r) out += frame.text(r) + "\n";
  return out;
}

class Paper final : public Terminal {
 public:
  Event next(int /*milliseconds*/) override {
    return meanwhile ? meanwhile() : Event{Event::Kind::kGone};
  }
  void draw(const Frame& frame) override {
    ++drawn;
    last = whole(frame);
  }
  [[nodiscard]] std::pair<int, int> size() override { return {rows, columns}; }

  std::function<Event()> meanwhile;
  int rows = 36, columns = 120;
  unsigned drawn = 0;
  std::string last;
};

const std::string kImages = LUCID_KILN "/images/";

struct Desktop {
  explicit Desktop(const std::string& image = kImages + "overshoot.elf", bool bench = true,
                   bool utf8 = true)
      : console(options(bench, utf8), out) {
    std::setlocale(LC_CTYPE, "C.UTF-8");  // how wide characters are
    const auto opened = console.open(image);
    if (!opened) throw std::runtime_error(opened.error().text());
    screen = std::make_unique<Screen>(console, paper, history, log, "");
    resize(36, 120);
  }
  static Console::Options options(bool bench, bool utf8) {
    Console::Options o;
    if (bench) o.bench = LUCID_KILN "/kiln.bench.toml";
    o.style.utf8 = utf8;
    o.limit = {200'000'000'000'000};  // 200 s
    o.screen = true;
    return o;
  }
  void resize(int rows, int columns) {
    paper.rows = rows;
    paper.columns = columns;
    screen->handle({Event::Kind::kResize});
    (void)screen->frame();
  }
  void keys(const std::string& text) {
    for (const char c : text) key(static_cast<Key>(c));
  }
  void key(Key k) {
    Event event{Event::Kind::kKey};
    event.key = k;
    screen->handle(event);
    (void)screen->frame();
  }
  void command(const std::string& line) {
    keys("c" + line);
    key(kEnter);
    key(kEscape);
  }
  [[nodiscard]] Area area(const std::string& pane) {
    (void)screen->frame();
    for (const Placed& placed : screen->placement().panes)
      if (placed.pane == pane) return placed.area;
    return {};
  }
  [[nodiscard]] std::string text(const std::string& pane) {
    const Area a = area(pane);
    return screen->frame().text(a);
  }
  [[nodiscard]] Session& session() { return *console.session(); }
  void use(const std::string& pane) {
    screen->use_pane(pane);
    (void)screen->frame();
  }

  std::ostringstream out;
  Paper paper;
  History history;
  Log log;
  Console console;
  std::unique_ptr<Screen> screen;
};

bool has(const std::string& text, const std::string& part) {
  return text.find(part) != std::string::npos;
}

/// What holds of every picture.
void check_frame(Desktop& d) {
  const Frame frame = d.screen->frame();
  REQUIRE(frame.rows() == d.paper.rows);
  REQUIRE(frame.columns() == d.paper.columns);
  for (int r = 0; r < frame.rows(); ++r)
    for (int c = 0; c < frame.columns(); ++c) {
      const char32_t code = frame.at(r, c).code;
      REQUIRE((code == 0 || (code >= 0x20 && code != 0x7f && (code < 0x80 || code >= 0xa0))));
    }
  if (frame.caret) {
    CHECK((frame.caret->first >= 0 && frame.caret->first < frame.rows()));
    CHECK((frame.caret->second >= 0 && frame.caret->second < frame.columns()));
  }
  if (frame.rows() < 8 || frame.columns() < 40) return;
  // Panes cover all between the bars, each cell once; lines between columns do not belong to any.
  std::vector<int> covered(static_cast<std::size_t>(frame.rows() * frame.columns()), 0);
  const auto cover = [&](const Area& a) {
    for (int r = a.row; r < a.row + a.rows; ++r)
      for (int c = a.column; c < a.column + a.columns; ++c)
        ++covered.at(static_cast<std::size_t>(r * frame.columns() + c));
  };
  for (const Placed& placed : d.screen->placement().panes) {
    INFO(placed.pane);
    CHECK(placed.area.rows >= 2);
    CHECK(placed.area.columns >= 8);
    cover(placed.area);
  }
  for (const Divider& edge : d.screen->placement().dividers)
    if (edge.upright) cover(edge.area);
  bool once = true;
  for (int r = 1; r < frame.rows() - 2; ++r)
    for (int c = 0; c < frame.columns(); ++c)
      once = once && covered[static_cast<std::size_t>(r * frame.columns() + c)] == 1;
  CHECK(once);
}

/// The panes that are in sight tell what the session does.
void check_truth(Desktop& d) {
  const Session& session = d.session();
  std::set<std::string> seen;
  for (const Placed& placed : d.screen->placement().panes) seen.insert(placed.pane);
  const Frame frame = d.screen->frame();
  CHECK(has(frame.text(0), to_text(session.chip().time())));
  for (const std::string& name : seen) {
    INFO("pane " << name << "\n" << frame.text(d.area(name)));
    const Area area = d.area(name);
    const std::string text = frame.text(area);
    CHECK(has(text.substr(0, text.find('\n')), name));
    const auto room = static_cast<std::size_t>(area.columns);
    if (name == "code") {
      const auto here = session.source("here", 0);
      if (!here || !here->problem.empty() || here->lines.empty()) continue;
      // The current line stands in the middle third, with its number and its text.
      const std::string number = std::to_string(here->lines[0].number);
      int row = -1;
      for (int r = area.row + 1; r < area.row + area.rows; ++r)
        if (frame.at(r, area.column + 15).ground == Ground::kCurrent) row = r - area.row - 1;
      const int height = area.rows - 1;
      CHECK(row >= height / 3);
      CHECK(row < height - height / 3);
      std::string line = frame.text({area.row + 1 + row, area.column, 1, area.columns});
      CHECK(has(line, " " + number + " "));
      std::string source = here->lines[0].text;
      source.erase(0, source.find_first_not_of(' '));
      if (source.size() + 20 < room) CHECK(has(line, source));
    }
    if (name == "registers") {
      for (const RegisterView& r : session.registers()) {
        if (r.name == "sreg") continue;
        char value[32];
        std::snprintf(value, sizeof value, "%s %0*llx", r.name.c_str(), r.bits / 4,
                      static_cast<unsigned long long>(r.value));
        INFO(value);
        const bool shown = has(text, r.known ? std::string(value) : r.name + " --");
        if (area.rows >= 11) CHECK(shown);
      }
    }
    if (name == "variables") {
      for (const VariableView& v : session.variables()) {
        INFO(v.name << "\n" << text);
        const bool fits = 5 + v.name.size() + 3 + v.value.size() <= room;
        const std::string row = v.name + " = " + (fits ? v.value : "");
        if (static_cast<int>(session.variables().size()) + 1 < area.rows) CHECK(has(text, row));
      }
    }
    if (name == "callers") {
      const auto levels = session.callers();
      if (static_cast<int>(levels.size()) < area.rows)
        for (const CallLevel& level : levels) CHECK(has(text, std::to_string(level.level) + " "));
      if (!levels.empty() && !levels.back().where.function.empty())
        CHECK(has(text, levels.back().where.function));
    }
    if (name == "watches")
      for (const WatchView& w : session.watches()) CHECK(has(text, w.expression + " = "));
    if (name == "breakpoints")
      for (const Breakpoint& p : session.breakpoints())
        if (static_cast<int>(session.breakpoints().size()) < area.rows)
          CHECK(has(text, "(" + std::to_string(p.id) + ")"));
    if (name == "pins") {
      std::size_t used = 0;
      for (const PinView& v : session.pins())
        used += v.pin.floating && v.pin.taken_by.empty() && !v.pin.output ? 0 : 1;
      if (static_cast<int>(used) < area.rows)
        for (const PinView& v : session.pins())
          if (!v.pin.floating || !v.pin.taken_by.empty() || v.pin.output) {
            CHECK(has(text, v.pin.name));
            const std::size_t at = text.find(" " + v.pin.name + " ");
            REQUIRE(at != std::string::npos);
            const std::string row = text.substr(at, text.find('\n', at) - at);
            CHECK(has(row, v.pin.level ? "high" : "low"));
            CHECK(has(row, v.pin.output ? " out " : " in "));
          }
    }
    if (name == "parts")
      for (const PartState& part : session.chip().parts())
        if (static_cast<int>(session.chip().parts().size()) < area.rows)
          CHECK(has(text, part.name));
    if (name == "stack") {
      const StackView view = session.stack(1);
      char sp[32];
      std::snprintf(sp, sizeof sp, "sp 0x%04x", view.sp);
      CHECK(has(text, sp));
      CHECK(has(text, std::to_string(view.used) + " in use"));
    }
    if (name == "timeline" && session.timeline().on)
      CHECK(has(text, to_text(session.chip().time())));
    if (name == "findings")
      for (const FindingView& f : session.findings())
        if (static_cast<int>(session.findings().size()) < area.rows)
          CHECK(has(text, f.check + "  " + to_text(f.at)));
    if (name == "traces")
      for (const Session::TraceView& t : session.traces())
        if (static_cast<int>(session.traces().size()) * 3 + 2 < area.rows) CHECK(has(text, t.name));
    if (name == "serial" && !d.console.sent().text().empty()) {
      std::string last = d.console.sent().text();
      while (!last.empty() && (last.back() == '\n' || last.back() == '\r')) last.pop_back();
      last = last.substr(last.rfind('\n') + 1);
      CHECK(has(text, last));
    }
  }
}

using Size = std::pair<int, int>;
constexpr Size kSizes[] = {{24, 80}, {36, 120}, {60, 200}, {25, 99}, {30, 100}};

}  // namespace

TEST_CASE("every layout at every size shows what the session says, in every state") {
  struct State {
    const char* name;
    std::vector<std::string> commands;
    const char* image = "overshoot.elf";
    bool bench = true;
  };
  const State states[] = {
      {"ready", {}},
      {"at a breakpoint, with a watch",
       {"pause at control_step on pass 2", "watch setpoint - measured", "watch error", "go"}},
      {"within a handler",
       {"pause on interrupt TIMER1_COMPA", "go for 5 s", "step instruction", "step line"}},
      {"traced",
       {"trace pin.PB5", "trace part chamber", "trace setpoint", "trace byte out",
        "trace interrupt", "go for 4 s"}},
      {"in the past", {"go for 3 s", "mark door", "go for 2 s", "back for 1500ms", "mark other"}},
      {"a caller is selected", {"pause at control_step", "go", "level 1"}},
      {"after a fault", {"go for 1100ms", "feed USART0 \"P\\n\"", "go"}, "deep-plan.elf", false},
      {"without debug information", {"go for 10ms"}, "kiln-os.hex", false},
      {"optimised", {"pause at control.c:19", "go", "step", "step"}, "kiln-os.elf", true},
      {"all breakpoints off", {"pause at main", "breakpoints off", "pause at 0x100"}},
      {"timeline off", {"timeline off", "go for 1 s"}},
      {"torn", {"go for 1200ms"}, "torn-tick.elf", true},
  };
  const unsigned seed = test::fresh_seed();
  for (const State& state : states) {
    INFO(state.name);
    // Under sanitizers it takes twenty times as long: every third of them.
    if (test::kSanitized && (seed + static_cast<unsigned>(&state - states)) % 3 != 0) continue;
    Desktop d(kImages + state.image, state.bench);
    for (const std::string& line : state.commands) d.command(line);
    for (const char layout : std::string("12345"))
      for (const auto& [rows, columns] : kSizes) {
        INFO("layout " << layout << " at " << columns << "x" << rows);
        d.resize(rows, columns);
        d.keys(std::string(1, layout));
        check_frame(d);
        check_truth(d);
      }
    // Each pane alone, and asked about.
    for (const std::string& pane : pane_names()) {
      INFO(pane);
      d.resize(24, 80);
      d.use(pane);
      d.key(kEscape);
      d.keys("z");
      check_frame(d);
      check_truth(d);
      d.keys("?");
      CHECK(has(whole(d.screen->frame()), "Keys outside of text"));
      d.key(kEscape);
      d.keys("z");
    }
  }
}

TEST_CASE("the same state is drawn the same after any way of resizing") {
  std::mt19937 random(test::fresh_seed());
  for (const char layout : std::string("12345")) {
    Desktop d;
    for (const char* line : {"pause at control_step on pass 2", "watch measured", "trace pin.PB5",
                             "trace setpoint", "go", "step", "step"})
      d.command(line);
    d.keys(std::string(1, layout));
    const unsigned steps = random() % 12;
    for (unsigned i = 0; i < steps; ++i) {
      constexpr Key kMoves[] = {kDown, kDown, kPageDown, kRight, kTab, kLeft, kUp};
      d.key(kMoves[random() % std::size(kMoves)]);
    }
    const std::string before = whole(d.screen->frame());
    for (unsigned way = 0; way < 6; ++way) {
      for (unsigned n = random() % 5; n-- > 0;) {
        const int rows = 24 + static_cast<int>(random() % 40);
        const int columns = 80 + static_cast<int>(random() % 130);
        d.resize(rows, columns);
      }
      d.resize(36, 120);
      INFO("layout " << layout << ", way " << way);
      REQUIRE(whole(d.screen->frame()) == before);
    }
  }
}

TEST_CASE("after a step nothing changes but what the session has changed") {
  Desktop d;
  for (const char* line : {"pause at control_step on pass 2", "watch measured", "go"})
    d.command(line);
  for (const char layout : std::string("12345")) {
    d.keys(std::string(1, layout));
    for (unsigned n = 0; n < 6; ++n) {
      const Frame before = d.screen->frame();
      const auto pins = to_text(Pins{d.session().pins()}, Style(Palette::kNone, true, 200));
      const std::string sent = d.console.sent().text();
      const auto levels =
          to_text(Callers{d.session().callers(), 0, 0}, Style(Palette::kNone, true, 200));
      const auto points = d.session().breakpoints().front().passes;
      d.keys("o");
      const Frame after = d.screen->frame();
      for (const Placed& placed : d.screen->placement().panes) {
        const bool same =
            (placed.pane == "pins" &&
             pins == to_text(Pins{d.session().pins()}, Style(Palette::kNone, true, 200))) ||
            (placed.pane == "serial" && sent == d.console.sent().text()) ||
            (placed.pane == "callers" && levels == to_text(Callers{d.session().callers(), 0, 0},
                                                           Style(Palette::kNone, true, 200))) ||
            (placed.pane == "breakpoints" && points == d.session().breakpoints().front().passes);
        if (!same) continue;
        INFO("layout " << layout << ", pane " << placed.pane);
        CHECK(before.text(placed.area) == after.text(placed.area));
      }
    }
  }
}

TEST_CASE("a screen that is left leaves nothing behind that would be drawn later") {
  for (unsigned i = 0; i < 12; ++i) {
    Desktop d;
    d.command("go for " + std::to_string(5 + 7 * i) + " s");
    const unsigned drawn = d.paper.drawn;
    d.screen.reset();
    CHECK(d.console.execute("go for 5 s").has_value());
    CHECK(d.paper.drawn == drawn);
    CHECK(d.out.str().find("time is up") !=
          std::string::npos);  // answers go where they went before
  }
}

TEST_CASE("while the past is gone through a key ends it, and all else waits") {
  Desktop d(kImages + "overshoot.elf", false);
  d.paper.meanwhile = [] { return Event{}; };
  d.screen->command("pause when chip.r24 == 300");  // never: each instruction is looked at
  d.screen->command("go for 1 s");
  const std::uint64_t stood = d.session().chip().cycles();
  std::vector<Key> typed{'2', kSpace, 'i'};  // the second layout; pause; step into
  std::string shown;
  enum { kBefore, kWithin, kAfter } when = kBefore;
  const auto typed_in_passing = [&] {
    Event event{Event::Kind::kNone};
    if (has(d.paper.last, "looking through")) shown = d.paper.last;
    if (shown.empty() || typed.empty()) return event;
    event.kind = Event::Kind::kKey;
    event.key = typed.front();
    typed.erase(typed.begin());
    return event;
  };
  d.paper.meanwhile = [&] {
    if (when == kWithin && d.screen->running()) return typed_in_passing();
    when = when == kWithin ? kAfter : when;
    if (when == kAfter && d.screen->running()) return Event{};
    if (when == kAfter) {
      CHECK(d.session().remove(1));  // it would be kept for the next time
      return Event{Event::Kind::kGone};
    }
    when = kWithin;
    Event back{Event::Kind::kKey};
    back.key = 'b';
    return back;
  };
  CHECK(d.screen->run() == Screen::Left::kGone);
  CHECK(has(shown, "Space ends it"));
  std::string log;
  for (const Line& line : d.log.lines)
    for (const Piece& piece : line.pieces) log += piece.text;
  CHECK(has(log, "going back was given up: this is where it began"));
  CHECK(d.session().chip().cycles() > stood);
  CHECK(d.screen->placement().panes.front().pane == "instructions");
}

TEST_CASE("settings: what is written is read, what is wrong is told with its line") {
  const std::string text = settings_text(first_settings());
  const auto again = read_settings(text, "f");
  REQUIRE(again);
  CHECK(settings_text(*again) == text);
  struct Case {
    const char *text, *error;
  };
  const Case cases[] = {
      {"layout = \"sauce\"", "f, line 1: there is no layout 'sauce'"},
      {"\nlayouts = 3", "f, line 2: layouts is a table"},
      {"[keys]\ngo = 'xx'", "f, line 2: 'xx' is no key for it"},
      {"[keys]\nfly = 'x'", "f, line 2: 'fly' is no setting of keys"},
      {"[keys]\ngo = 'o'", "f, line 1: o is the key of 'go' and of 'over'"},
      {"[layouts.source]\nwide = \"code / cod\"", "column 8 of the text: there is no pane 'cod'"},
      {"[layouts.source]\nwide = \"code | watches / io\"", "put ( ) around one of | and /"},
      {"[layouts.source]\nwide = \"code / code\"", "'code' stands twice"},
      {"[layouts.source]\nwide = \"(code\"", "a ) is missing"},
      {"[layouts.source]\nwide = \"code 0\"", "a share is 1 to 1000"},
      {"[serial]\nline-end = 'x'", "'x' is no end of a line"},
      {"layout = ", "f, line 1"},
      {"a\xff = 1", "letters beyond ASCII"},
  };
  for (const Case& c : cases) {
    INFO(c.text);
    const auto read = read_settings(c.text, "f");
    REQUIRE_FALSE(read);
    CHECK(has(read.error().text(), c.error));
  }
  // Whatever is done to an arrangement, it can be written, read, and placed without gaps.
  std::mt19937 random(test::fresh_seed());
  Desktop d;
  for (unsigned n = 0; n < 150; ++n) {
    constexpr char kKeys[] = "><+-xsz12345";
    d.key(static_cast<Key>(kKeys[random() % (sizeof kKeys - 1)]));
    if (random() % 3 == 0) d.key(kTab);
    if (random() % 12 == 0) {
      d.keys("r");
      for (unsigned i = random() % 12; i-- > 0;) d.key(kDown);
      d.key(kEnter);
    }
    check_frame(d);
    const std::string now = settings_text(d.screen->settings());
    const auto read = read_settings(now, "f");
    REQUIRE(read);
    CHECK(settings_text(*read) == now);
  }
}

TEST_CASE("a monkey at keys and mouse loses nothing") {
  const std::string folder = test::scratch("monkey");
  std::filesystem::remove_all(folder);
  std::filesystem::create_directory(folder);
  const auto before = std::filesystem::current_path();
  std::filesystem::current_path(folder);
  setenv("HOME", folder.c_str(), 1);
  setenv("XDG_STATE_HOME", folder.c_str(), 1);
  std::mt19937 random(test::fresh_seed());
  const unsigned presses = std::getenv("LUCID_PRESSES") != nullptr
                               ? unsigned(std::atoi(std::getenv("LUCID_PRESSES")))
                           : test::kSanitized ? 600
                                              : 2'000;
  {
    const char* other = std::getenv("LUCID_IMAGE");  // a program of somebody else's
    Desktop d(other != nullptr ? other : kImages + "overshoot.elf", other == nullptr);
    d.console.session()->set_limit({30'000'000'000});  // 30 ms
    const auto event = [&] {
      Event e;
      const unsigned what = random() % 100;
      e.row = static_cast<int>(random() % static_cast<unsigned>(d.paper.rows));
      e.column = static_cast<int>(random() % static_cast<unsigned>(d.paper.columns));
      if (what < 60) {
        e.kind = Event::Kind::kKey;
        constexpr Key kSpecial[] = {kEscape, kEnter,  kTab,       kSpace,   kUp,
                                    kDown,   kLeft,   kRight,     kPageUp,  kHome,
                                    kEnd,    kDelete, kBackspace, kBackTab, kPageDown,
                                    0xe9,    0x4e2d,  0x1f600,    0x0301,   control('W')};
        const bool special = random() % 2 == 0;
        const unsigned which = random();
        e.key =
            special ? kSpecial[which % std::size(kSpecial)] : static_cast<Key>(0x20 + which % 0x5f);
      } else if (what < 75) {
        e.kind = Event::Kind::kPress;
      } else if (what < 82) {
        e.kind = Event::Kind::kRelease;
      } else if (what < 90) {
        e.kind = Event::Kind::kMenu;
      } else if (what < 96) {
        e.kind = what % 2 == 0 ? Event::Kind::kWheelUp : Event::Kind::kWheelDown;
      } else {
        e.kind = Event::Kind::kResize;
        constexpr int kRows[] = {5, 10, 24, 36, 60};
        constexpr int kColumns[] = {20, 41, 80, 120, 200};
        d.paper.rows = kRows[random() % 5];
        d.paper.columns = kColumns[random() % 5];
      }
      return e;
    };
    unsigned meanwhile = 0;
    d.paper.meanwhile = [&] { return ++meanwhile % 4 == 0 ? event() : Event{}; };
    for (unsigned i = 0; i < presses; ++i) {
      const Event e = event();
      INFO("press " << i << ", kind " << int(e.kind) << ", key " << std::uint32_t(e.key));
      d.screen->handle(e);
      if (i % 8 == 0) check_frame(d);
    }
    CHECK(!d.session().running());
    d.console.session()->set_limit({30'000'000'000});
    CHECK(d.console.execute("reset").has_value());
    CHECK(d.console.execute("go for 5ms").has_value());
  }
  for (const auto& entry : std::filesystem::recursive_directory_iterator(folder)) {
    INFO(entry.path());
    const std::string name = entry.path().filename();
    CHECK((name == "lucid" || name == "commands" || name == "lucid.screen.toml"));
  }
  std::filesystem::current_path(before);
}
