// SPDX-License-Identifier: MIT
// Edit: one change that a debugger makes to a machine, as data that can be made again.
#ifndef LUCID_MACHINE_EDIT_H
#define LUCID_MACHINE_EDIT_H

#include <cstdint>

#include "lucid/address.h"
#include "machine/machine.h"

namespace lucid::machine {

struct Edit {
  enum class Kind : std::uint8_t {
    kPoke,      ///< a byte comes to hold a value
    kStore,     ///< a byte is written as the firmware would
    kRegister,  ///< number `index`
    kPlace,     ///< the execution point
    kRaise,     ///< the event of vector `index` happens; `value` is 0x100 and a byte that arrives
  } kind = Kind::kPoke;
  Address address = {};
  unsigned index = 0;
  std::uint64_t value = 0;
};

/// False if there is no such byte, or it holds no value.
inline bool make(Machine& machine, const Edit& edit) {
  const auto byte = static_cast<std::uint8_t>(edit.value);
  switch (edit.kind) {
    case Edit::Kind::kPoke: return machine.poke(edit.address, byte);
    case Edit::Kind::kStore: return machine.store(edit.address, byte);
    case Edit::Kind::kRegister: machine.set_register(edit.index, edit.value); return true;
    case Edit::Kind::kRaise:
      return machine.raise(edit.index, edit.value >= 0x100 ? std::optional<std::uint8_t>(byte)
                                                           : std::nullopt) != Machine::Raised::kNot;
    case Edit::Kind::kPlace: machine.set_pc(static_cast<std::uint32_t>(edit.value)); return true;
  }
  return false;
}

}  // namespace lucid::machine

#endif  // LUCID_MACHINE_EDIT_H
