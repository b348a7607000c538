// SPDX-License-Identifier: MIT
// The list of families: the one place that knows them all.
#include "avr/chip/family.h"
#include "machine/family.h"

namespace lucid {

const std::vector<const machine::Family*>& machine::families() {
  static const std::vector<const Family*> kFamilies{&avr::family()};
  return kFamilies;
}

}  // namespace lucid
