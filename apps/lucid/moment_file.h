// SPDX-License-Identifier: MIT
// A file that leads to a moment of a session: what was opened, and all that was done since.
#ifndef LUCID_APP_MOMENT_FILE_H
#define LUCID_APP_MOMENT_FILE_H

#include <string>

#include "lucid/error.h"

namespace lucid::app {

struct MomentFile {
  std::string image, bench, on, chip;
  std::uint64_t clock_hz = 0;
  std::string more_bench;  ///< further tables of the bench
  std::string timeline;    ///< Session::timeline_text()
};

/// Paths are noted as seen from the file. Error: kIo.
Result<void> write_moment(const std::string& path, const MomentFile& moment);
/// Errors: kNotFound; kUsage for another kind of file.
Result<MomentFile> read_moment(const std::string& path);

}  // namespace lucid::app

#endif  // LUCID_APP_MOMENT_FILE_H
