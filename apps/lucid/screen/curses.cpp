// SPDX-License-Identifier: MIT
// The terminal by ncurses: it draws frames and reads keys, nothing else.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <csignal>
#include <cstdlib>
#include <cwchar>
#include <string>
#include <utility>
#include <vector>

#define NCURSES_WIDECHAR 1
#define NCURSES_NOMACROS 1
#include <curses.h>
#include <poll.h>
#include <unistd.h>

#include "screen/terminal.h"

namespace lucid::app {
namespace {

volatile std::sig_atomic_t gone = 0;  // NOLINT(cppcoreguidelines-avoid-non-const-global-variables)
void on_gone(int /*signal*/) { gone = 1; }

/// Colours of the 256 there are, for a dark and a light ground, and of 8; attributes beside them.
struct LookColours {
  short dark, light, basic;
  short ground_dark = -1, ground_light = -1, ground_basic = -1;
  attr_t attributes = A_NORMAL;  ///< also without colours
  attr_t plain = A_NORMAL;       ///< only without
};

const LookColours& colours_of(Look look) {
  static const std::array<LookColours, static_cast<std::size_t>(Look::kCount)> kColours{{
      {-1, -1, -1},                                                         // plain
      {-1, -1, -1, -1, -1, -1, A_BOLD},                                     // strong
      {247, 241, -1, -1, -1, -1, A_NORMAL, A_DIM},                          // dim
      {80, 25, COLOR_CYAN},                                                 // accent
      {179, 130, COLOR_YELLOW},                                             // warn
      {210, 124, COLOR_RED, -1, -1, -1, A_NORMAL, A_BOLD},                  // bad
      {221, 127, COLOR_YELLOW, -1, -1, -1, A_BOLD, A_UNDERLINE},            // fresh
      {179, 133, COLOR_YELLOW, -1, -1, -1, A_NORMAL, A_UNDERLINE},          // recent
      {143, 139, -1},                                                       // older
      {250, 238, COLOR_WHITE, 237, 252, COLOR_BLUE, A_NORMAL, A_REVERSE},   // title
      {231, 231, COLOR_WHITE, 30, 25, COLOR_CYAN, A_BOLD, A_REVERSE},       // title in use
      {16, 231, COLOR_BLACK, 179, 130, COLOR_YELLOW, A_BOLD, A_REVERSE},    // title typing
      {80, 25, COLOR_CYAN, -1, -1, -1, A_BOLD},                             // key
      {231, 16, COLOR_WHITE, 240, 254, COLOR_BLUE, A_NORMAL, A_UNDERLINE},  // field
      {231, 231, COLOR_WHITE, 30, 25, COLOR_CYAN, A_BOLD, A_REVERSE},       // chosen
      {67, 67, COLOR_CYAN},                                                 // curve
  }};
  return kColours[static_cast<std::size_t>(look)];
}

struct GroundColours {
  short dark, light, basic;
  attr_t plain;
};
constexpr std::array<GroundColours, static_cast<std::size_t>(Ground::kCount)> kGrounds{{
    {-1, -1, -1, A_NORMAL},
    {236, 254, -1, A_BOLD},            // current
    {234, 255, -1, A_NORMAL},          // cursor
    {24, 153, COLOR_BLUE, A_REVERSE},  // part
}};

class Curses final : public Terminal {
 public:
  explicit Curses(Palette palette) : palette_(palette) {}
  ~Curses() override {
    if (window_ == nullptr) return;
    ::endwin();
    ::delscreen(screen_);
    for (std::size_t i = 0; i < before_.size(); ++i) sigaction(kSignals[i], &before_[i], nullptr);
  }

  Result<void> open() {
    const char* name = std::getenv("TERM");
    if (name == nullptr || *name == '\0' || std::string(name) == "dumb")
      return fail(ErrorCode::kIo, "the screen needs a terminal that can place its cursor",
                  "TERM says what it is, such as xterm-256color");
    screen_ = ::newterm(nullptr, stdout, stdin);
    if (screen_ == nullptr)
      return fail(ErrorCode::kIo, fmt::format("the terminal '{}' is not known here", name),
                  "install ncurses-term, or set TERM to xterm-256color");
    ::set_term(screen_);
    window_ = stdscr;
    ::cbreak();  // Ctrl-C and Ctrl-Z stay signals
    ::noecho();
    ::nonl();
    ::keypad(window_, TRUE);
    ::meta(window_, TRUE);
    ::set_escdelay(25);
    ::idlok(window_, FALSE);
    ::leaveok(window_, FALSE);
    ::mousemask(ALL_MOUSE_EVENTS, nullptr);
    ::mouseinterval(0);
    colours();
    struct sigaction action {};
    action.sa_handler = on_gone;
    gone = 0;
    for (std::size_t i = 0; i < before_.size(); ++i) sigaction(kSignals[i], &action, &before_[i]);
    return {};
  }

  Event next(int milliseconds) override {
    if (gone != 0) return Event{Event::Kind::kGone};
    ::wtimeout(window_, milliseconds);
    wint_t code = 0;
    errno = 0;
    const int kind = ::wget_wch(window_, &code);
    if (kind == ERR) return is_gone() ? Event{Event::Kind::kGone} : Event{};
    Event event{Event::Kind::kKey};
    if (kind == OK) {
      event.key = code == '\n'                   ? static_cast<Key>(kEnter)
                  : code == 0x7f || code == 0x08 ? static_cast<Key>(kBackspace)
                                                 : static_cast<Key>(code);
      if (code == 0) return next(0);
      return event;
    }
    switch (code) {
      case KEY_RESIZE: return {Event::Kind::kResize};
      case KEY_MOUSE: return mouse();
      case KEY_UP: event.key = kUp; break;
      case KEY_DOWN: event.key = kDown; break;
      case KEY_LEFT: event.key = kLeft; break;
      case KEY_RIGHT: event.key = kRight; break;
      case KEY_PPAGE: event.key = kPageUp; break;
      case KEY_NPAGE: event.key = kPageDown; break;
      case KEY_HOME: event.key = kHome; break;
      case KEY_END: event.key = kEnd; break;
      case KEY_IC: event.key = kInsert; break;
      case KEY_DC: event.key = kDelete; break;
      case KEY_BACKSPACE: event.key = kBackspace; break;
      case KEY_BTAB: event.key = kBackTab; break;
      case KEY_ENTER: event.key = kEnter; break;
      default: return next(0);
    }
    return event;
  }

  void draw(const Frame& frame) override {
    const int rows = std::min(frame.rows(), getmaxy(window_));
    const int columns = std::min(frame.columns(), getmaxx(window_));
    for (int r = 0; r < rows; ++r)
      for (int c = 0; c < columns; ++c) {
        const Cell& cell = frame.at(r, c);
        if (cell.code == 0) continue;
        const bool wide = c + 1 < frame.columns() && frame.at(r, c + 1).code == 0;
        if (wide && c + 1 >= columns) continue;
        const wchar_t text[2] = {static_cast<wchar_t>(cell.code), 0};
        cchar_t out;
        ::setcchar(&out, text, attributes(cell), pair(cell), nullptr);
        ::mvwadd_wch(window_, r, c, &out);
      }
    ::curs_set(frame.caret ? 1 : 0);
    if (frame.caret)
      ::wmove(window_, std::min(frame.caret->first, rows - 1),
              std::min(frame.caret->second, columns - 1));
    ::wrefresh(window_);
  }

  void redraw() override { ::clearok(window_, TRUE); }
  [[nodiscard]] std::pair<int, int> size() override { return {getmaxy(window_), getmaxx(window_)}; }

 private:
  static constexpr std::array<int, 2> kSignals{SIGHUP, SIGTERM};

  /// Nothing came: is anybody there?
  static bool is_gone() {
    if (gone != 0) return true;
    pollfd input{STDIN_FILENO, POLLIN, 0};
    if (::poll(&input, 1, 0) < 0) return false;
    return (input.revents & (POLLHUP | POLLERR | POLLNVAL)) != 0;
  }

  Event mouse() {
    MEVENT mouse{};
    if (::getmouse(&mouse) != OK) return next(0);
    Event event;
    event.row = mouse.y;
    event.column = mouse.x;
    const auto is = [&](mmask_t mask) { return (mouse.bstate & mask) != 0; };
    if (is(BUTTON1_PRESSED | BUTTON1_CLICKED | BUTTON1_DOUBLE_CLICKED))
      event.kind = Event::Kind::kPress;
    else if (is(BUTTON1_RELEASED))
      event.kind = Event::Kind::kRelease;
    else if (is(BUTTON3_PRESSED | BUTTON3_CLICKED))
      event.kind = Event::Kind::kMenu;
    else if (is(BUTTON4_PRESSED))
      event.kind = Event::Kind::kWheelUp;
    else if (is(BUTTON5_PRESSED))
      event.kind = Event::Kind::kWheelDown;
    else
      return next(0);
    return event;
  }

  /// A pair for each look on each ground; those with the same colours share one.
  void colours() {
    if (palette_ == Palette::kNone || !::has_colors()) return;
    ::start_color();
    if (::use_default_colors() == ERR || COLORS < 8) return;
    many_ = COLORS >= 256;
    const bool dark = palette_ == Palette::kDark;
    std::vector<std::pair<short, short>> pairs{{-1, -1}};
    for (std::size_t l = 0; l < kLooks; ++l)
      for (std::size_t g = 0; g < kGrounds.size(); ++g) {
        const LookColours& look = colours_of(static_cast<Look>(l));
        const GroundColours& ground = kGrounds[g];
        short text = !many_ ? look.basic : dark ? look.dark : look.light;
        short behind = !many_ ? look.ground_basic : dark ? look.ground_dark : look.ground_light;
        if (behind == -1) behind = !many_ ? ground.basic : dark ? ground.dark : ground.light;
        // The terminal may have another ground than was told: what has one of ours is read on it.
        constexpr short kBright = 253, kBlack = 16;
        if (text == -1 && behind != -1) text = !many_ ? COLOR_WHITE : dark ? kBright : kBlack;
        const std::pair both{text, behind};
        const auto known = std::find(pairs.begin(), pairs.end(), both);
        const auto number = static_cast<short>(known - pairs.begin());
        if (known == pairs.end()) {
          if (number >= COLOR_PAIRS) return;
          ::init_pair(number, text, behind);
          pairs.push_back(both);
        }
        pair_[l][g] = number;
      }
    coloured_ = true;
  }
  [[nodiscard]] short pair(const Cell& cell) const {
    return coloured_
               ? pair_[static_cast<std::size_t>(cell.look)][static_cast<std::size_t>(cell.ground)]
               : short{0};
  }
  [[nodiscard]] attr_t attributes(const Cell& cell) const {
    const LookColours& look = colours_of(cell.look);
    attr_t out = look.attributes;
    if (!coloured_ || (!many_ && cell.look == Look::kDim)) out |= look.plain;
    if (!coloured_ || !many_) out |= kGrounds[static_cast<std::size_t>(cell.ground)].plain;
    return out;
  }

  Palette palette_;
  static constexpr std::size_t kLooks = static_cast<std::size_t>(Look::kCount);
  bool coloured_ = false, many_ = false;
  std::array<std::array<short, kGrounds.size()>, kLooks> pair_{};
  SCREEN* screen_ = nullptr;
  WINDOW* window_ = nullptr;
  std::array<struct sigaction, 2> before_{};
};

}  // namespace

Result<std::unique_ptr<Terminal>> open_terminal(Palette palette) {
  auto out = std::make_unique<Curses>(palette);
  if (auto opened = out->open(); !opened) return fail(opened.error());
  return Result<std::unique_ptr<Terminal>>(std::move(out));
}

}  // namespace lucid::app
