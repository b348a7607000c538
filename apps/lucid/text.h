// SPDX-License-Identifier: MIT
// Replies as text for people.
#ifndef LUCID_APP_TEXT_H
#define LUCID_APP_TEXT_H

#include <string>

#include "reply.h"
#include "style.h"

namespace lucid::app {

/// Lines, each ended by a line feed.
std::string to_text(const Reply& reply, const Style& style);
/// Who determines a pin's level, in a few words.
std::string drivers_of(const PinState& pin);

}  // namespace lucid::app

#endif  // LUCID_APP_TEXT_H
