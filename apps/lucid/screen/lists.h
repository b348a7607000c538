// SPDX-License-Identifier: MIT
// What lies over the panes: a menu, the list of everything, help.
#ifndef LUCID_APP_SCREEN_LISTS_H
#define LUCID_APP_SCREEN_LISTS_H

#include <string>
#include <vector>

#include "screen/field.h"
#include "screen/pane.h"
#include "screen/screen.h"

namespace lucid::app {

struct Screen::List {
  std::string title;
  std::vector<Menu::Choice> choices;
  std::vector<std::size_t> shown;  ///< those that the filter lets through, the best first
  bool filtered = false;           ///< letters narrow it down
  bool reading = false;            ///< a text: there is nothing to choose
  Field filter;
  std::size_t chosen = 0, top = 0;
  Area area;  ///< of the choices, as drawn last

  /// Finds out which choices contain what was typed.
  void narrow();
};

/// Everything that has a name: commands, functions, files, variables, registers, settings.
std::vector<Menu::Choice> everything(Screen& screen);

}  // namespace lucid::app

#endif  // LUCID_APP_SCREEN_LISTS_H
