// SPDX-License-Identifier: MIT
// The demonstration: a kiln controller and six faults people really meet.
#ifndef LUCID_APP_DEMO_H
#define LUCID_APP_DEMO_H

#include <string>
#include <vector>

#include "lucid/error.h"

namespace lucid::app {

struct Demo {
  const char* name;
  const char* summary;
};
/// The tour first, then the six faults.
const std::vector<Demo>& demos();
/// The folder with images, sources and scripts: beside an installed program, or in a checkout.
Result<std::string> demo_folder();

}  // namespace lucid::app

#endif  // LUCID_APP_DEMO_H
