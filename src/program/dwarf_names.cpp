// SPDX-License-Identifier: MIT
// Full names of what C++ programs declare.
#include "program/dwarf_reader.h"

namespace lucid::program {

Dwarf_Die declaration_of(Dwarf_Die die) {
  constexpr unsigned kMostHops = 4;
  for (unsigned hop = 0; hop < kMostHops; ++hop) {
    Dwarf_Attribute at;
    Dwarf_Die next;
    if ((dwarf_attr(&die, DW_AT_abstract_origin, &at) == nullptr &&
         dwarf_attr(&die, DW_AT_specification, &at) == nullptr) ||
        dwarf_formref_die(&at, &next) == nullptr)
      break;
    die = next;
  }
  return die;
}

void ScopeNames::note(Dwarf_Die& root) {
  switch (dwarf_srclang(&root)) {
    case DW_LANG_C_plus_plus:
    case DW_LANG_C_plus_plus_03:
    case DW_LANG_C_plus_plus_11:
    case DW_LANG_C_plus_plus_14: break;
    default: return;
  }
  cpp_units_.insert(root.cu);
  note_children(root, "", 0);
}

void ScopeNames::note_children(Dwarf_Die& parent, const std::string& prefix, unsigned depth) {
  Dwarf_Die child;
  if (depth > kMostDepth || dwarf_child(&parent, &child) != 0) return;
  do {
    if (!prefix.empty()) prefixes_.emplace(child.addr, prefix);
    const int tag = dwarf_tag(&child);
    if (tag != DW_TAG_namespace && tag != DW_TAG_class_type && tag != DW_TAG_structure_type &&
        tag != DW_TAG_union_type)
      continue;
    const std::string name = name_of(child);  // empty: an anonymous namespace
    note_children(child, name.empty() ? prefix : prefix + name + "::", depth + 1);
  } while (dwarf_siblingof(&child, &child) == 0);
}

std::string ScopeNames::full_name(Dwarf_Die& die) const {
  std::string name = name_of(die);
  if (name.empty()) return name;
  const auto found = prefixes_.find(declaration_of(die).addr);
  return found != prefixes_.end() ? found->second + name : name;
}

}  // namespace lucid::program
