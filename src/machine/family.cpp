// SPDX-License-Identifier: MIT
#include "machine/family.h"

#include "base/text.h"

namespace lucid {

const image::ElfForm* image::find_elf_form(std::uint16_t machine) {
  for (const machine::Family* family : machine::families())
    if (family->elf_form().machine == machine) return &family->elf_form();
  return nullptr;
}

std::string image::compilers() {
  std::string out;
  for (const machine::Family* family : machine::families())
    out += (out.empty() ? "" : " or ") + std::string(family->elf_form().compiler);
  return out;
}

Result<Chip> Chip::make(const Options& options) {
  std::vector<std::string> names;
  for (const machine::Family* family : machine::families())
    for (const Summary& chip : family->catalogue()) {
      names.push_back(chip.name);
      if (!base::equal_ignoring_case(chip.name, options.name)) continue;
      auto made = family->make(options);
      if (!made) return fail(made.error());
      return Chip(std::move(*made));
    }
  std::string hint = base::did_you_mean(options.name, names);
  return fail(ErrorCode::kNotFound, "there is no chip '" + options.name + "' here",
              hint.empty() ? "see `lucid chips`" : hint);
}

std::vector<Chip::Summary> Chip::catalogue() {
  std::vector<Summary> out;
  for (const machine::Family* family : machine::families())
    for (Summary& chip : family->catalogue()) out.push_back(std::move(chip));
  return out;
}

}  // namespace lucid
