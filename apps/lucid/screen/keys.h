// SPDX-License-Identifier: MIT
// Keys and the mouse, as the screen understands them, and the names that settings have for them.
#ifndef LUCID_APP_SCREEN_KEYS_H
#define LUCID_APP_SCREEN_KEYS_H

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace lucid::app {

/// A character that was typed, or one of these.
using Key = char32_t;
enum : Key {
  kEscape = 0x1b,
  kEnter = 0x0d,
  kTab = 0x09,
  kSpace = 0x20,
  kUp = 0x110000,  // behind all characters
  kDown,
  kLeft,
  kRight,
  kPageUp,
  kPageDown,
  kHome,
  kEnd,
  kInsert,
  kDelete,
  kBackspace,
  kBackTab,
};
constexpr Key control(char letter) { return static_cast<Key>(letter - 'A' + 1); }

/// `g`, `Space`, `Ctrl-L`, `PageUp`.
std::string name_of(Key key);
std::optional<Key> key_of(std::string_view name);

struct Event {
  enum class Kind : std::uint8_t {
    kNone,
    kKey,
    kPress,    ///< of the left button, at row and column
    kRelease,  ///< of it: elsewhere than it was pressed, it was dragged
    kMenu,     ///< the right button was pressed
    kWheelUp,
    kWheelDown,
    kResize,
    kGone,  ///< nobody is there any more
  } kind = Kind::kNone;
  Key key = 0;
  int row = 0, column = 0;
};

/// Something that a key does, wherever it is pressed outside text entry.
enum class Action : std::uint8_t {
  kNone,
  kGo,
  kInto,
  kOver,
  kOut,
  kBack,
  kBackInto,
  kBackOver,
  kBackOut,
  kHere,
  kPause,
  kBreakpoint,
  kWatch,
  kTrace,
  kOrigin,
  kView,
  kFollow,
  kFind,
  kCommand,
  kHelp,
  kNextPane,
  kPreviousPane,
  kAlone,
  kWider,
  kNarrower,
  kTaller,
  kLower,
  kHide,
  kSwap,
  kReplace,
  kLayout1,
  kLayout2,
  kLayout3,
  kLayout4,
  kLayout5,
  kRedraw,
  kPrompt,
};
struct ActionFacts {
  Action action;
  const char* name;   ///< in the settings
  Key key;            ///< at first
  const char* brief;  ///< on the screen
  const char* words;  ///< in the help and the list of everything
};
const std::vector<ActionFacts>& actions();
const ActionFacts& facts_of(Action action);

}  // namespace lucid::app

#endif  // LUCID_APP_SCREEN_KEYS_H
