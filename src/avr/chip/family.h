// SPDX-License-Identifier: MIT
// The 8-bit AVRs, for the list of families.
#ifndef LUCID_AVR_CHIP_FAMILY_H
#define LUCID_AVR_CHIP_FAMILY_H

#include "machine/family.h"

namespace lucid::avr {

const machine::Family& family();

}  // namespace lucid::avr

#endif  // LUCID_AVR_CHIP_FAMILY_H
