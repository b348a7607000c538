// SPDX-License-Identifier: MIT
#include "lucid/error.h"

namespace lucid {

std::string Error::text() const {
  std::string out = where.empty() ? what : where + ": " + what;
  if (!hint.empty()) out += " (" + hint + ")";
  return out;
}

std::string unknown_word(Unknown why) {
  switch (why) {
    case Unknown::kNone: break;
    case Unknown::kNotInScope: return "not in scope";
    case Unknown::kNoPlace: return "no place";
    case Unknown::kNotSet: return "not set";
    case Unknown::kOverwritten: return "overwritten";
    case Unknown::kNoFrame: return "no frame";
    case Unknown::kSharedPlace: return "shared place";
    case Unknown::kNoMemory: return "no memory";
  }
  return {};
}

}  // namespace lucid
