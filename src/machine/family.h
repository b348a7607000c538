// SPDX-License-Identifier: MIT
// Family: the chips of one instruction set. A new one is a folder with one of these and a line in
// `src/families.cpp`: objects that register themselves would be dropped from a static library.
#ifndef LUCID_MACHINE_FAMILY_H
#define LUCID_MACHINE_FAMILY_H

#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "image/elf_form.h"
#include "lucid/chip.h"
#include "machine/companions.h"
#include "machine/machine.h"

namespace lucid::machine {

class Family {
 public:
  virtual ~Family() = default;
  [[nodiscard]] virtual const image::ElfForm& elf_form() const = 0;
  /// Every chip of the family.
  [[nodiscard]] virtual std::vector<Chip::Summary> catalogue() const = 0;
  /// How a chip stands among others.
  struct Joined {
    bool several = false;           ///< it is one of several, or has wires to itself
    std::vector<std::string> pins;  ///< that have wires
    Group group = {};               ///< the chips beside it; empty for a companion
  };
  /// A chip of the catalogue; companions and wires of the options are in `joined` already. Errors:
  /// see Chip::make.
  [[nodiscard]] virtual Result<std::unique_ptr<Machine>> make(const Chip::Options& options,
                                                              Joined joined) const = 0;
  /// The pins that a serial port sends and receives on. Error: kNotFound.
  [[nodiscard]] virtual Result<std::pair<std::string, std::string>> serial_lines(
      const std::string& chip, const std::string& port) const = 0;
};

/// All families. Defined in `src/families.cpp`, above everything.
const std::vector<const Family*>& families();

}  // namespace lucid::machine

#endif  // LUCID_MACHINE_FAMILY_H
