// SPDX-License-Identifier: MIT
// What a byte of data space is to an access: one attribute byte each. Plain memory has none.
#ifndef LUCID_AVR_CHIP_ATTRIBUTES_H
#define LUCID_AVR_CHIP_ATTRIBUTES_H

namespace lucid::avr {

enum Attribute : unsigned {
  kIo = 1,            ///< a peripheral may answer
  kUnmapped = 2,      ///< nothing answers
  kNotRam = 4,        ///< a register: no place for a stack
  kGuarded = 8,       ///< static data: no place for a stack either
  kWatchRead = 16,    ///< a debugger wants to know of loads
  kWatchWrite = 32,   ///< and of stores
  kUnwritten = 64,    ///< RAM that has not been written since power-on
  kUnreadable = 128,  ///< the same, and a load of it is a fault

  // What takes the slow way.
  kSlowLoad = kIo | kUnmapped | kWatchRead | kUnreadable,
  kSlowStore = kIo | kUnmapped | kWatchWrite | kUnwritten,
  kNoStack = kIo | kUnmapped | kNotRam,
  kSlowPush = kSlowStore | kNoStack | kGuarded,
  kSlowPop = kSlowLoad | kNoStack,
};

/// Addresses with an attribute: a displacement may reach behind the last one.
constexpr unsigned kAttributes = 0x10000 + 64;

constexpr unsigned kSpl = 0x5d, kSph = 0x5e, kSregAddress = 0x5f;
constexpr unsigned kRampzAddress = 0x5b, kEindAddress = 0x5c;

}  // namespace lucid::avr

#endif  // LUCID_AVR_CHIP_ATTRIBUTES_H
