// SPDX-License-Identifier: MIT
#include "machine/family.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "lucid/part.h"

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

namespace {

using machine::Family;
using machine::Group;

Result<const Family*> family_of(const std::string& chip) {
  std::vector<std::string> names;
  for (const Family* family : machine::families())
    for (const Chip::Summary& known : family->catalogue()) {
      names.push_back(known.name);
      if (base::equal_ignoring_case(known.name, chip)) return family;
    }
  const std::string hint = did_you_mean(chip, names);
  return fail(ErrorCode::kNotFound, "there is no chip '" + chip + "' here",
              hint.empty() ? "see `lucid chips`" : hint);
}

/// An error of one chip of several, naming it.
tl::unexpected<Error> fail_in(const std::string& name, Error error) {
  error.what = name + ": " + error.what;
  return fail(std::move(error));
}

Result<std::vector<std::string>> names_of(const std::vector<Chip::Companion>& companions) {
  std::vector<std::string> names;
  for (const Chip::Companion& companion : companions) {
    if (companion.name.empty() || companion.name.find('.') != std::string::npos ||
        std::find(names.begin(), names.end(), companion.name) != names.end())
      return fail(ErrorCode::kOutOfRange, "'" + companion.name + "' cannot be a companion's name",
                  "give each a name of its own, without a point");
    if (!companion.options.companions.empty())
      return fail(ErrorCode::kUnsupported, companion.name + ": a companion has none of its own",
                  "name them all beside one chip, with the wires between them");
    names.push_back(companion.name);
  }
  return names;
}

/// The wires that options ask for, by names; pins are not looked for yet.
Result<void> add_wires(const Chip::Options& options, const Family& family,
                       const std::vector<std::string>& names, Group& group) {
  for (const auto& part : options.parts)
    if (const std::string port = part->joins(); !port.empty()) {
      const auto lines = family.serial_lines(options.name, port);
      if (!lines) return fail_in(part->name(), lines.error());
      group.join({{0, lines->first}, {0, lines->second}});
    }
  for (const auto& wire : options.wires) {
    std::vector<Group::Place> places;
    for (const std::string& text : wire) {
      const std::size_t point = text.find('.');
      const std::string whose = point == std::string::npos ? "" : text.substr(0, point);
      const auto found = std::find(names.begin(), names.end(), whose);
      if (!whose.empty() && found == names.end())
        return fail(ErrorCode::kNotFound,
                    fmt::format("wire to '{}': there is no companion '{}'", text, whose),
                    did_you_mean(whose, names));
      const auto chip = whose.empty() ? 0U : static_cast<unsigned>(found - names.begin()) + 1;
      places.push_back({chip, point == std::string::npos ? text : text.substr(point + 1)});
    }
    group.join(std::move(places));
  }
  return {};
}

Result<void> add_companions(const std::vector<Chip::Companion>& companions, Group& group) {
  for (const Chip::Companion& companion : companions) {
    const auto family = family_of(companion.options.name);
    if (!family) return fail_in(companion.name, family.error());
    const auto number = static_cast<unsigned>(group.companions.size()) + 1;
    auto made = (*family)->make(companion.options, {true, group.pins_of(number)});
    if (!made) return fail_in(companion.name, made.error());
    if (auto loaded = (*made)->load(companion.image); !loaded)
      return fail_in(companion.name, loaded.error());
    for (auto& wire : group.wires)
      for (Group::Place& place : wire)
        if (place.chip == number) place.number = (*made)->wire_pin(place.pin).value_or(0);
    group.companions.push_back({companion.name, std::move(*made), companion.image});
  }
  return {};
}

}  // namespace

Result<Chip> Chip::make(const Options& options) {
  const auto family = family_of(options.name);
  if (!family) return fail(family.error());
  const auto names = names_of(options.companions);
  if (!names) return fail(names.error());
  Group group;
  group.ahead = options.companions_ahead;
  if (auto added = add_wires(options, **family, *names, group); !added) return fail(added.error());
  if (auto added = add_companions(options.companions, group); !added) return fail(added.error());
  Family::Joined joined{!group.empty(), group.pins_of(0)};
  joined.group = std::move(group);
  auto made = (*family)->make(options, std::move(joined));
  if (!made) return fail(made.error());
  return Chip(std::move(*made));
}

std::vector<Chip::Summary> Chip::catalogue() {
  std::vector<Summary> out;
  for (const machine::Family* family : machine::families())
    for (Summary& chip : family->catalogue()) out.push_back(std::move(chip));
  return out;
}

}  // namespace lucid
