// SPDX-License-Identifier: MIT
// Cases: what one script is carried out with, case by case: inputs, values, an image.
#ifndef LUCID_APP_CASES_H
#define LUCID_APP_CASES_H

#include <string>
#include <vector>

#include "lucid/error.h"

namespace lucid::app {

struct Case {
  std::string name;
  std::string image;                ///< empty: the one that there is anyway
  std::vector<std::string> inputs;  ///< each a table of inputs, as a bench file holds them
  std::vector<std::string> values;  ///< each `OBJECT = EXPR`, set where main begins

  /// Its inputs behind a bench.
  [[nodiscard]] std::string bench() const;
};

/// A file of `[[case]]` tables. Images are looked for beside it. Errors: kIo; kUsage, with file and
/// line.
Result<std::vector<Case>> read_cases(const std::string& path);

}  // namespace lucid::app

#endif  // LUCID_APP_CASES_H
