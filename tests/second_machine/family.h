// SPDX-License-Identifier: MIT
#ifndef LUCID_TESTS_SECOND_MACHINE_FAMILY_H
#define LUCID_TESTS_SECOND_MACHINE_FAMILY_H

#include "machine/family.h"

namespace lucid::rv32 {

const machine::Family& family();

}  // namespace lucid::rv32

#endif  // LUCID_TESTS_SECOND_MACHINE_FAMILY_H
