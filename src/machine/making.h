// SPDX-License-Identifier: MIT
// How an instruction makes a byte: where what it holds has come from.
#ifndef LUCID_MACHINE_MAKING_H
#define LUCID_MACHINE_MAKING_H

#include <cstdint>
#include <tuple>
#include <vector>

#include "lucid/address.h"

namespace lucid::machine {

/// A byte that a program works with, or a flag.
struct Cell {
  enum class Kind : std::uint8_t { kRegister, kMemory, kFlag } kind = Kind::kMemory;
  unsigned number = 0;   ///< of the register, in DWARF; the flag's bit
  Address address = {};  ///< of memory
  friend bool operator==(const Cell& a, const Cell& b) {
    return a.kind == b.kind && a.number == b.number && a.address == b.address;
  }
  friend bool operator<(const Cell& a, const Cell& b) {
    return std::tie(a.kind, a.number, a.address) < std::tie(b.kind, b.number, b.address);
  }
};

struct Making {
  enum class How : std::uint8_t {
    kNot,       ///< the instruction leaves it alone
    kMoved,     ///< as it is, from one other
    kConstant,  ///< it is in the instruction
    kWorked,    ///< out from others
  } how = How::kNot;
  std::vector<Cell> from;
};

}  // namespace lucid::machine

#endif  // LUCID_MACHINE_MAKING_H
