// SPDX-License-Identifier: MIT
// Log: all that has been done to a machine since its start, as text: with the image and the bench
// it is enough to have any moment of it again.
#ifndef LUCID_RECORD_LOG_H
#define LUCID_RECORD_LOG_H

#include <cstdint>
#include <string>
#include <vector>

#include "lucid/error.h"
#include "record/timeline.h"

namespace lucid::record {

struct Log {
  std::string chip;
  std::uint64_t clock_hz = 0;
  std::uint64_t image = 0;  ///< a hash of what it loads
  std::uint64_t start = 0;  ///< the machine's hash at the beginning
  Moment here, end;         ///< where one stood; where the timeline ended
  std::uint64_t world = 0;  ///< the machine's hash there
  std::vector<Act> acts;
};

/// JSON, an act a line.
[[nodiscard]] std::string written(const Log& log);
/// Error: kUsage, with where it is in the text.
[[nodiscard]] Result<Log> read_log(const std::string& text);

}  // namespace lucid::record

#endif  // LUCID_RECORD_LOG_H
