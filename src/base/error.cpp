// SPDX-License-Identifier: MIT
#include "lucid/error.h"

namespace lucid {

std::string Error::text() const {
  std::string out = where.empty() ? what : where + ": " + what;
  if (!hint.empty()) out += " (" + hint + ")";
  return out;
}

}  // namespace lucid
