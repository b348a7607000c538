// SPDX-License-Identifier: MIT
// Where instructions begin, in all of an image's code.
#ifndef LUCID_APP_CODE_MAP_H
#define LUCID_APP_CODE_MAP_H

#include <cstdint>
#include <vector>

#include "lucid/session.h"

namespace lucid::app {

/// Ascending byte addresses. Each function begins anew: data between functions lead nobody astray.
std::vector<std::uint32_t> instruction_starts(const Session& session);

}  // namespace lucid::app

#endif  // LUCID_APP_CODE_MAP_H
