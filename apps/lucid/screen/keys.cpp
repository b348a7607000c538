// SPDX-License-Identifier: MIT
#include "screen/keys.h"

#include <array>

namespace lucid::app {
namespace {

struct NamedKey {
  Key key;
  std::string_view name;
};
constexpr std::array<NamedKey, 16> kNamed{{{kEscape, "Escape"},
                                           {kEnter, "Enter"},
                                           {kTab, "Tab"},
                                           {kSpace, "Space"},
                                           {kUp, "Up"},
                                           {kDown, "Down"},
                                           {kLeft, "Left"},
                                           {kRight, "Right"},
                                           {kPageUp, "PageUp"},
                                           {kPageDown, "PageDown"},
                                           {kHome, "Home"},
                                           {kEnd, "End"},
                                           {kInsert, "Insert"},
                                           {kDelete, "Delete"},
                                           {kBackspace, "Backspace"},
                                           {kBackTab, "Shift-Tab"}}};

}  // namespace

std::string name_of(Key key) {
  for (const NamedKey& named : kNamed)
    if (named.key == key) return std::string(named.name);
  if (key < 0x20) return std::string("Ctrl-") + static_cast<char>('A' + key - 1);
  if (key < 0x7f) return std::string(1, static_cast<char>(key));
  return "?";
}

std::optional<Key> key_of(std::string_view name) {
  for (const NamedKey& named : kNamed)
    if (named.name == name) return named.key;
  if (name.size() == 6 && name.substr(0, 5) == "Ctrl-" && name[5] >= 'A' && name[5] <= 'Z')
    return control(name[5]);
  if (name.size() == 1 && name[0] > 0x20 && name[0] < 0x7f) return static_cast<Key>(name[0]);
  return {};
}

const std::vector<ActionFacts>& actions() {
  static const std::vector<ActionFacts> kActions{
      {Action::kGo, "go", 'g', "go", "run on"},
      {Action::kInto, "into", 'i', "into", "step into; by instruction in a pane of instructions"},
      {Action::kOver, "over", 'o', "over", "step over"},
      {Action::kOut, "out", 'u', "out", "step out"},
      {Action::kBack, "back", 'b', "back", "back to the latest breakpoint or fault"},
      {Action::kPause, "pause", kSpace, "pause", "pause the program that runs"},
      {Action::kBackInto, "back-into", 'I', "back into", "step back, into what was called"},
      {Action::kBackOver, "back-over", 'O', "back over", "step back"},
      {Action::kBackOut, "back-out", 'U', "back out", "back to before the call"},
      {Action::kBreakpoint, "breakpoint", 'p', "breakpoint",
       "set or remove a breakpoint at the cursor"},
      {Action::kHere, "here", 'h', "go here", "run on to the cursor"},
      {Action::kWatch, "watch", 'w', "watch", "keep in sight what is under the cursor"},
      {Action::kTrace, "trace", 't', "trace", "record what is under the cursor over time"},
      {Action::kOrigin, "origin", 'a', "origin", "where its value has come from"},
      {Action::kFind, "find", 'f', "find", "everything, by any part of its name"},
      {Action::kCommand, "command", 'c', "command", "type a command"},
      {Action::kView, "view", 'v', "view", "the pane's next way of showing"},
      {Action::kFollow, "follow", '.', "follow", "to where the program stands, and stay with it"},
      {Action::kHelp, "help", '?', "help", "about the pane in use"},
      {Action::kNextPane, "next-pane", kTab, "pane", "use the next pane"},
      {Action::kPreviousPane, "previous-pane", kBackTab, "previous pane", "use the previous pane"},
      {Action::kAlone, "alone", 'z', "alone", "the pane alone on the screen, and back"},
      {Action::kWider, "wider", '>', "wider", "make the pane wider"},
      {Action::kNarrower, "narrower", '<', "narrower", "make the pane narrower"},
      {Action::kTaller, "taller", '+', "taller", "make the pane taller"},
      {Action::kLower, "lower", '-', "lower", "make the pane lower"},
      {Action::kHide, "hide", 'x', "hide", "hide the pane"},
      {Action::kSwap, "swap", 's', "swap", "change places with the next pane"},
      {Action::kReplace, "replace", 'r', "replace", "have another pane in this one's place"},
      {Action::kLayout1, "layout-1", '1', "source", "the first layout"},
      {Action::kLayout2, "layout-2", '2', "instructions", "the second layout"},
      {Action::kLayout3, "layout-3", '3', "memory", "the third layout"},
      {Action::kLayout4, "layout-4", '4', "pins", "the fourth layout"},
      {Action::kLayout5, "layout-5", '5', "serial", "the fifth layout"},
      {Action::kRedraw, "redraw", control('L'), "redraw", "draw everything anew"},
      {Action::kPrompt, "prompt", 'q', "prompt", "back to the prompt"},
  };
  return kActions;
}

const ActionFacts& facts_of(Action action) {
  for (const ActionFacts& facts : actions())
    if (facts.action == action) return facts;
  return actions().front();
}

}  // namespace lucid::app
