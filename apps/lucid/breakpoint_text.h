// SPDX-License-Identifier: MIT
// Breakpoints as the lines that make them: parsed, listed and saved in one form.
#ifndef LUCID_APP_BREAKPOINT_TEXT_H
#define LUCID_APP_BREAKPOINT_TEXT_H

#include <string>

#include "grammar.h"
#include "lucid/session.h"

namespace lucid::app {

/// Of a `pause` command. Error: kUsage.
Result<BreakpointSpec> breakpoint_of(const Words& words);
/// The same text again, without `pause`: what, and the clauses behind it.
std::string subject_text(const BreakpointSpec& spec);
std::string clauses_text(const BreakpointSpec& spec);

}  // namespace lucid::app

#endif  // LUCID_APP_BREAKPOINT_TEXT_H
