// SPDX-License-Identifier: MIT
// Family: the chips of one instruction set. A new one is a folder with one of these and a line in
// `src/families.cpp`: objects that register themselves would be dropped from a static library.
#ifndef LUCID_MACHINE_FAMILY_H
#define LUCID_MACHINE_FAMILY_H

#include <memory>
#include <vector>

#include "image/elf_form.h"
#include "lucid/chip.h"
#include "machine/machine.h"

namespace lucid::machine {

class Family {
 public:
  virtual ~Family() = default;
  [[nodiscard]] virtual const image::ElfForm& elf_form() const = 0;
  /// Every chip of the family.
  [[nodiscard]] virtual std::vector<Chip::Summary> catalogue() const = 0;
  /// A chip of the catalogue without companions. Errors: see Chip::make.
  [[nodiscard]] virtual Result<std::unique_ptr<Machine>> make(
      const Chip::Options& options) const = 0;
};

/// All families. Defined in `src/families.cpp`, above everything.
const std::vector<const Family*>& families();

}  // namespace lucid::machine

#endif  // LUCID_MACHINE_FAMILY_H
