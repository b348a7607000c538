// SPDX-License-Identifier: MIT
// What keys and the mouse do.
#include "screen/screen.h"

#include <fmt/format.h>

#include <algorithm>
#include <fstream>
#include <sstream>
#include <utility>

#include "output.h"
#include "screen/lists.h"

namespace lucid::app {
namespace {

constexpr const char* kKeptFile = "lucid.kept.loop";
constexpr std::chrono::milliseconds kRefresh{50};

}  // namespace

Screen::Screen(Console& console, Terminal& terminal, History& history, Log& log,
               std::string settings)
    : console_(console),
      terminal_(terminal),
      history_(history),
      log_(log),
      settings_path_(std::move(settings)),
      settings_(first_settings()),
      utf8_(console.options().style.utf8) {
  for (auto& pane : make_panes()) {
    const std::string name = pane->name();
    panes_[name] = std::move(pane);
  }
  writer_before_ = console_.write_with(log_writer(log_, console.options().style));
  log_.on_progress = [this](const std::string& now) { tick(now); };
  if (!settings_path_.empty()) {
    std::ifstream in(settings_path_, std::ios::binary);
    std::ostringstream text;
    if (in) text << in.rdbuf();
    if (in && !text.str().empty()) {
      auto read = read_settings(text.str(), settings_path_);
      if (read) {
        settings_ = std::move(*read);
      } else {
        may_write_settings_ = false;
        say(read.error().text() + "; the first layouts are used", Look::kBad);
      }
    }
  }
  kept_settings_ = settings_text(settings_);
  if (message_.empty() && std::ifstream(kKeptFile))
    say(std::string("a session was cut off here: `breakpoints load ") + kKeptFile +
            "` brings its breakpoints and watches back",
        Look::kWarn);
  if (message_.empty() && log_.lines.empty())
    say(name_of(settings_.keys.at(Action::kHelp)) + " tells about the pane in use, " +
            name_of(settings_.keys.at(Action::kFind)) + " finds everything by its name, " +
            name_of(settings_.keys.at(Action::kPrompt)) + " leads back to the prompt",
        Look::kDim);
  in_use_ = arrangement().panes().front();
}

Screen::~Screen() {
  log_.on_progress = nullptr;
  console_.write_with(std::move(writer_before_));
  const std::string text = settings_text(settings_);
  if (!settings_path_.empty() && may_write_settings_ && text != kept_settings_)
    if (auto written = write_file(settings_path_, text); !written)
      console_.show(Warning{"the layout is not kept: " + written.error().text()});
}

bool Screen::running() const { return console_.session()->running(); }
bool Screen::narrow() const { return columns_ < 100; }
Arrangement& Screen::arrangement() {
  Layout& layout = settings_.layouts[settings_.layout];
  return narrow() ? layout.narrow : layout.wide;
}
Pane& Screen::pane(const std::string& name) { return *panes_.at(name); }
bool Screen::typing() const { return edit_ || panes_.at(in_use())->typing(); }

std::string Screen::serial_text(const std::string& port) const {
  constexpr std::size_t kMost = 16384;
  const std::string all = console_.sent().text_of(port);
  return all.size() > kMost ? all.substr(all.size() - kMost) : all;
}

// The loop ----------------------------------------------------------------------------------------

Screen::Left Screen::run() {
  std::tie(rows_, columns_) = terminal_.size();
  draw();
  while (!left_) {
    constexpr int kIdle = 500;  // milliseconds, after which signals are seen
    const Event event = terminal_.next(kIdle);
    if (event.kind == Event::Kind::kNone) continue;
    // What has been typed by then is one picture.
    handle_all(event);
    if (!left_) draw();
  }
  if (*left_ == Left::kGone) keep();
  return *left_;
}

/// While the program runs, on its thread: keys are read and panes drawn anew between instructions.
/// A request that comes too late, when the program has paused or the screen is gone, does nothing.
void Screen::tick(const std::string& now) {
  const auto clock = std::chrono::steady_clock::now();
  if (clock - drawn_at_ < kRefresh) return;
  drawn_at_ = clock;
  if (tick_posted_) return hear_in_passing(now);
  tick_posted_ = true;
  session().post([this, here = std::weak_ptr<bool>(here_)] {
    if (here.expired() || !running()) return;
    if (!left_) handle_all(terminal_.next(0));
    draw();
    tick_posted_ = false;
  });
}

/// What was posted is not done: a command looks through a run of its own (the past again, what
/// would be), of which there is nothing to be seen. It can be ended; all else that is typed is for
/// when one stands again.
void Screen::hear_in_passing(const std::string& now) {
  const Key pause = settings_.keys.at(Action::kPause);
  for (Event event = terminal_.next(0); event.kind != Event::Kind::kNone;
       event = terminal_.next(0)) {
    if (event.kind == Event::Kind::kKey && event.key == pause && !typing()) {
      console_.interrupt();
      continue;
    }
    waiting_.push_back(event);
    if (event.kind != Event::Kind::kGone) continue;
    console_.interrupt();
    return;
  }
  if (!drawn_ || left_ || too_small()) return;
  Frame frame = *drawn_;
  frame.put(rows_ - 2, 0, columns_,
            Line{}.add(" looking through a run, at " + now + ": " +
                           (typing() ? "Ctrl-C" : name_of(pause)) + " ends it",
                       Look::kFresh));
  terminal_.draw(frame);
}

/// What is typed behind the key that leaves is for who comes then.
void Screen::handle_all(Event event) {
  while (event.kind != Event::Kind::kNone) {
    handle(event);
    if (left_) break;
    event = terminal_.next(0);
  }
}

void Screen::draw() {
  drawn_ = frame();
  terminal_.draw(*drawn_);
  drawn_at_ = std::chrono::steady_clock::now();
}

void Screen::leave(Left how) {
  if (console_.busy()) console_.interrupt();
  left_ = how;
}

void Screen::keep() {
  std::ostringstream none;
  const auto before = console_.write_with(text_writer(none, {}));
  if (!session().breakpoints().empty() || !session().watches().empty())
    (void)console_.execute(std::string("breakpoints save ") + kKeptFile).has_value();
}

// The desk ----------------------------------------------------------------------------------------

void Screen::command(const std::string& line) {
  message_.clear();
  const bool outermost = !console_.busy();
  const unsigned pauses = log_.pauses;
  if (outermost) drawn_at_ = std::chrono::steady_clock::now();
  if (auto done = console_.execute(line); !done) {
    console_.show_error(done.error());
    say(done.error().text(), Look::kBad);
  } else if (log_.pauses != pauses && outermost && !in_sight("prompt")) {
    say(log_.headline, Look::kPlain);
  }
  if (!outermost) return;
  console_.forget_interrupt();
  tick_posted_ = false;
  if (console_.take_wish_for_screen()) leave(Left::kPrompt);
  if (console_.finished()) leave(Left::kQuit);
}

void Screen::say(const std::string& text, Look look) {
  message_ = text;
  message_look_ = look;
}

void Screen::edit(const std::string& before, const std::string& text) {
  edit_ = Edit{before, {}, in_use_};
  edit_->field.set(text);
}

void Screen::choose(Menu menu) {
  if (menu.choices.empty()) return;
  list_ = std::make_unique<List>();
  list_->title = std::move(menu.title);
  list_->choices = std::move(menu.choices);
  list_->narrow();
}

void Screen::show_code(const std::string& place) {
  const auto shown = arrangement().panes();
  const auto has = [&](const char* name) {
    return std::find(shown.begin(), shown.end(), name) != shown.end();
  };
  const std::string name = !has("code") && has("instructions") ? "instructions" : "code";
  dynamic_cast<CodeView&>(pane(name)).show(*this, place);
  use(name);
}

void Screen::show_memory(const std::string& area, std::uint32_t address) {
  dynamic_cast<MemoryDisplay&>(pane("memory")).show(*this, area, address);
  use("memory");
}

// Keys --------------------------------------------------------------------------------------------

void Screen::handle(const Event& event) {
  handle_one(event);
  while (!waiting_.empty() && !console_.busy()) {
    const Event waited = waiting_.front();
    waiting_.pop_front();
    if (!left_ || waited.kind == Event::Kind::kResize) handle_one(waited);
  }
}

void Screen::handle_one(const Event& event) {
  if (stale_) (void)frame();  // what an event means is said by what is seen
  stale_ = true;
  const bool seen = event.kind == Event::Kind::kResize || event.kind == Event::Kind::kGone;
  if (!seen && too_small()) return;  // nothing is seen that it could mean
  if (event.kind != Event::Kind::kResize) in_use_ = std::string(in_use());
  switch (event.kind) {
    case Event::Kind::kNone: break;
    case Event::Kind::kKey: key(event.key); break;
    case Event::Kind::kPress: press(event); break;
    case Event::Kind::kRelease: release(event); break;
    case Event::Kind::kMenu: press(event); break;
    case Event::Kind::kWheelUp:
    case Event::Kind::kWheelDown: {
      constexpr int kLines = 3;
      const int by = event.kind == Event::Kind::kWheelUp ? -kLines : kLines;
      if (list_ != nullptr) {
        for (int i = 0; i < kLines; ++i) list_key(by < 0 ? kUp : kDown);
        break;
      }
      for (const Placed& placed : placement_.panes)
        if (placed.area.holds(event.row, event.column)) pane(placed.pane).wheel(*this, by);
      break;
    }
    case Event::Kind::kResize:
      std::tie(rows_, columns_) = terminal_.size();
      arrange();
      if (!in_sight(in_use_)) {  // nobody types where nothing is seen
        pane(in_use_).stop_typing();
        edit_.reset();
      }
      break;
    case Event::Kind::kGone: leave(Left::kGone); break;
  }
}

void Screen::key(Key key) {
  if (key == control('L')) return terminal_.redraw();
  if (list_ != nullptr) return list_key(key);
  if (edit_) return edit_key(key);
  Pane& used = pane(in_use_);
  if (used.typing()) {
    if (key == kEscape)
      used.stop_typing();
    else
      used.key(*this, key);
    return;
  }
  message_.clear();
  if (key == kEscape) {
    alone_.clear();
    return;
  }
  if (used.key(*this, key)) return;
  for (const auto& [action, bound] : settings_.keys)
    if (bound == key) return act(action);
  say(name_of(key) + " does nothing here: " + name_of(settings_.keys.at(Action::kHelp)) +
          " tells about the pane, " + name_of(settings_.keys.at(Action::kFind)) +
          " finds everything",
      Look::kDim);
}

void Screen::edit_key(Key key) {
  if (key == kEscape) {
    edit_.reset();
  } else if (key == kEnter) {
    const Edit done = *std::exchange(edit_, std::nullopt);
    if (!done.field.text().empty()) command(done.before + done.field.text());
  } else {
    edit_->field.key(key);
  }
}

/// By what the pane in use shows; of others, by the code that is in sight.
void Screen::step(const std::string& words) {
  const bool is_code = in_use_ == "code" || in_use_ == "instructions";
  const bool instructions =
      is_code ? pane(in_use_).by_instruction() : in_sight("instructions") && !in_sight("code");
  command(words + (instructions ? " instruction" : " line"));
}

void Screen::act(Action action) {
  Pane& used = pane(in_use_);
  const auto about = [&](const std::string& object, const char* word) {
    if (object.empty())
      say(std::string("nothing under the cursor to ") + word, Look::kDim);
    else
      command(word + (" " + object));
  };
  switch (action) {
    case Action::kNone: break;
    case Action::kGo: command("go"); break;
    case Action::kInto: step("step into"); break;
    case Action::kOver: step("step over"); break;
    case Action::kOut: step("step out"); break;
    case Action::kBack: command("back"); break;
    case Action::kBackInto: step("back into"); break;
    case Action::kBackOver: step("back over"); break;
    case Action::kBackOut: step("back out"); break;
    case Action::kPause:
      if (running())
        console_.interrupt();
      else
        say("the program is paused", Look::kDim);
      break;
    case Action::kHere: about(used.place(*this), "go to"); break;
    case Action::kBreakpoint: {
      const std::string place = used.place(*this);
      if (place.empty()) return say("no place under the cursor to pause at", Look::kDim);
      std::string line;
      // Those that are there already go.
      if (auto at = session().locate(place))
        for (const Breakpoint& p : session().breakpoints())
          if (p.spec.kind == BreakpointSpec::Kind::kPlace &&
              (std::find(p.addresses.begin(), p.addresses.end(), at->address) !=
                   p.addresses.end() ||
               p.spec.place == place))
            line += " " + std::to_string(p.id);
      command(line.empty() ? "pause at " + place : "remove" + line);
      break;
    }
    case Action::kWatch: about(used.object(*this), "watch"); break;
    case Action::kTrace: about(used.signal(*this), "trace"); break;
    case Action::kOrigin: about(used.object(*this), "origin"); break;
    case Action::kView: used.next_view(*this); break;
    case Action::kFollow: used.follow(*this); break;
    case Action::kFind: find(); break;
    case Action::kCommand: type_command(""); break;
    case Action::kHelp: help(); break;
    case Action::kNextPane: use_next(1); break;
    case Action::kPreviousPane: use_next(-1); break;
    case Action::kAlone: alone_ = alone_.empty() ? in_use_ : ""; break;
    case Action::kWider:
    case Action::kNarrower:
    case Action::kTaller:
    case Action::kLower: {
      const bool wide = action == Action::kWider || action == Action::kNarrower;
      const int by = action == Action::kWider || action == Action::kTaller ? 1 : -1;
      if (!resize(arrangement(), in_use_, wide, by * (wide ? 2 : 1), placement_))
        say("there is no room to take or give", Look::kDim);
      break;
    }
    case Action::kHide:
      if (!alone_.empty()) {
        alone_.clear();
      } else if (const std::string gone = in_use_; arrangement().remove(gone)) {
        in_use_ = arrangement().panes().front();
        say(gone + " is hidden: " + name_of(settings_.keys.at(Action::kReplace)) +
                " puts a pane in the place of another",
            Look::kDim);
      } else {
        say("it is the last pane", Look::kDim);
      }
      break;
    case Action::kSwap: swap_with_next(); break;
    case Action::kReplace: replace(); break;
    case Action::kLayout1:
    case Action::kLayout2:
    case Action::kLayout3:
    case Action::kLayout4:
    case Action::kLayout5:
      settings_.layout = static_cast<unsigned>(action) - static_cast<unsigned>(Action::kLayout1);
      alone_.clear();
      in_use_ = arrangement().panes().front();
      break;
    case Action::kRedraw: terminal_.redraw(); break;
    case Action::kPrompt: leave(Left::kPrompt); break;
  }
}

void Screen::type_command(const std::string& beginning) {
  use("prompt");
  dynamic_cast<TypingPane&>(pane("prompt")).start_typing(beginning);
}

// Panes -------------------------------------------------------------------------------------------

void Screen::use(std::string name) {
  if (in_use_ != name) pane(in_use_).stop_typing();
  in_use_ = std::move(name);
  if (!alone_.empty() && alone_ != in_use_) alone_.clear();
  arrange();
  if (!in_sight(in_use_)) {
    alone_ = in_use_;  // there is no place for it: it gets the whole screen
    arrange();
  }
}

void Screen::use_next(int by) {
  const auto& panes = placement_.panes;
  if (panes.empty()) return;
  std::size_t at = 0;
  for (std::size_t i = 0; i < panes.size(); ++i)
    if (panes[i].pane == in_use_) at = i;
  const auto count = static_cast<int>(panes.size());
  const int next = (static_cast<int>(at) + by + count) % count;
  use(panes[static_cast<std::size_t>(next)].pane);
}

void Screen::swap_with_next() {
  const auto& panes = placement_.panes;
  if (!alone_.empty() || panes.size() < 2) return say("there is no other pane", Look::kDim);
  std::size_t at = 0;
  for (std::size_t i = 0; i < panes.size(); ++i)
    if (panes[i].pane == in_use_) at = i;
  Arrangement* one = arrangement().find(in_use_);
  Arrangement* other = arrangement().find(panes[(at + 1) % panes.size()].pane);
  if (one != nullptr && other != nullptr) std::swap(one->pane, other->pane);
}

void Screen::replace() {
  Menu menu{"in the place of " + in_use_, {}};
  for (const std::string& name : pane_names()) {
    if (name == in_use_) continue;
    menu.choices.push_back({name, "", [this, name] {
                              Arrangement* one = arrangement().find(in_use_);
                              if (one == nullptr) return;
                              if (Arrangement* other = arrangement().find(name); other != nullptr)
                                other->pane = in_use_;
                              one->pane = name;
                              alone_.clear();
                              in_use_ = name;
                            }});
  }
  choose(std::move(menu));
}

// The mouse ---------------------------------------------------------------------------------------

void Screen::press(const Event& event) {
  if (list_ != nullptr) {
    const Area& area = list_->area;
    const std::size_t index =
        list_->top + static_cast<std::size_t>(std::max(event.row - area.row, 0));
    if (!area.holds(event.row, event.column)) return close_list();
    if (list_->reading || index >= list_->shown.size()) return;
    list_->chosen = index;
    return list_key(kEnter);
  }
  message_.clear();
  if (edit_) edit_.reset();
  pressed_ = event;
  for (const Hint& hint : hints_)
    if (hint.area.holds(event.row, event.column)) {
      pressed_.reset();
      if (hint.action != Action::kNone)
        act(hint.action);
      else
        key(hint.key);
      return;
    }
  const auto placed_now = placement_.panes;  // using a pane arranges them anew
  for (const Placed& placed : placed_now) {
    const Area& area = placed.area;
    if (!area.holds(event.row, event.column)) continue;
    const bool again = in_use_ == placed.pane;
    use(placed.pane);
    if (event.row != area.row) {
      const int row = event.row - area.row - 1;
      const auto& lines = pane(placed.pane).lines();
      if (row >= static_cast<int>(lines.size())) return;
      if (event.kind == Event::Kind::kMenu)
        pane(placed.pane).menu(*this, row, event.column - area.column);
      else
        pane(placed.pane).press(*this, row, event.column - area.column);
    } else if (again && event.kind == Event::Kind::kMenu) {
      replace();
    }
    return;
  }
}

void Screen::release(const Event& event) {
  if (!pressed_) return;
  const Event from = *std::exchange(pressed_, std::nullopt);
  const int rows = event.row - from.row;
  const int columns = event.column - from.column;
  for (const Divider& divider : placement_.dividers)
    if (divider.area.holds(from.row, from.column) && (divider.upright ? columns : rows) != 0) {
      resize(arrangement(), divider.before, divider.upright, divider.upright ? columns : rows,
             placement_);
      return;
    }
  for (const Placed& placed : placement_.panes) {
    if (!placed.area.holds(from.row, from.column)) continue;
    if (from.row != placed.area.row) {
      if (rows != 0 || columns != 0) pane(placed.pane).drag(*this, rows, columns);
    }
    return;
  }
}

}  // namespace lucid::app
