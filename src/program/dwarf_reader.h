// SPDX-License-Identifier: MIT
// What the readers of DWARF share. Everything that libdw knows stays in the files that include
// this.
#ifndef LUCID_PROGRAM_DWARF_READER_H
#define LUCID_PROGRAM_DWARF_READER_H

#include <dwarf.h>
#include <elfutils/libdw.h>

#include <unordered_map>
#include <unordered_set>

#include "image/elf_form.h"
#include "program/program_data.h"

namespace lucid::program {

constexpr unsigned kMostDepth = 64;  // of nested DIEs and types: damaged input must not recurse on

inline std::string name_of(Dwarf_Die& die) {
  const char* name = dwarf_diename(&die);
  return name == nullptr ? std::string() : std::string(name);
}

inline std::optional<std::uint64_t> number(Dwarf_Die& die, unsigned attribute) {
  Dwarf_Attribute at;
  Dwarf_Word value = 0;
  if (dwarf_attr_integrate(&die, attribute, &at) == nullptr || dwarf_formudata(&at, &value) != 0)
    return std::nullopt;
  return value;
}

inline bool flag(Dwarf_Die& die, unsigned attribute) {
  Dwarf_Attribute at;
  bool value = false;
  return dwarf_attr_integrate(&die, attribute, &at) != nullptr &&
         dwarf_formflag(&at, &value) == 0 && value;
}

/// DW_AT_const_value as it was written, lowest byte first: `data` forms are extended with zeros,
/// `sdata` with its sign ("Attribute Encodings", class constant). Whoever reads it cuts it to the
/// type's bytes. Empty if there is none, or a text.
std::vector<std::uint8_t> constant_bytes(Dwarf_Die& die);

/// The offset of a member or base class: a number, or in DWARF 2 an expression that adds one.
/// nullopt: it depends on the object.
std::optional<std::uint32_t> member_offset(Dwarf_Die& die);

/// The declaration that an entry completes or is a copy of; itself if there is none.
Dwarf_Die declaration_of(Dwarf_Die die);

/// The namespaces and classes around the entries of C++ units.
class ScopeNames {
 public:
  /// Looks through a unit. All of them come before the first question.
  void note(Dwarf_Die& root);
  [[nodiscard]] bool is_cpp(const Dwarf_Die& die) const { return cpp_units_.count(die.cu) != 0; }
  /// The name with what is around it; empty if it has none.
  [[nodiscard]] std::string full_name(Dwarf_Die& die) const;

 private:
  void note_children(Dwarf_Die& parent, const std::string& prefix, unsigned depth);

  std::unordered_map<const void*, std::string> prefixes_;  ///< by the entry's place
  std::unordered_set<const void*> cpp_units_;
};

/// What a base type is.
Type::Kind base_kind(Dwarf_Die& die);

/// Turns type entries into Program's types, each once.
class TypeReader {
 public:
  TypeReader(Program::Data& data, const ScopeNames& names, const image::ElfForm* form);
  /// The type of a variable, member or parameter; `void` if it has none.
  unsigned type_of(Dwarf_Die& die, unsigned depth);
  /// The type that an entry is.
  unsigned type_from(Dwarf_Die& die, unsigned depth);
  /// An array of that many bytes of which nothing else is known.
  unsigned bytes(std::uint32_t count);
  /// Once all names are known: a structure may hold pointers to itself.
  void name_pointers();

 private:
  unsigned void_type();
  void read_members(Dwarf_Die& die, Type& type, unsigned depth);
  void read_array(Dwarf_Die& die, unsigned index, unsigned depth);

  Program::Data& data_;
  const ScopeNames& names_;
  const image::ElfForm* form_;  ///< may be null
  std::unordered_map<const void*, unsigned> type_index_;
  unsigned void_ = 0;
};

/// An expression out of an attribute's.
std::vector<LocationOp> copied(Dwarf_Attribute& at, const Dwarf_Op* ops, std::size_t count);

/// An image whose DWARF 5 has addresses of two bytes, with four; nullopt if it has none such.
std::optional<std::vector<std::uint8_t>> with_wide_addresses(const std::vector<std::uint8_t>& file);

/// How many units have addresses of two bytes in a form that cannot be widened.
std::size_t units_with_short_addresses(const std::vector<std::uint8_t>& file);

/// Fills in the macros of images built with -g3.
void read_macros(Elf* elf, Program::Data& data);

/// Fills in the entries of .debug_frame.
void read_frames(Elf* elf, Program::Data& data);

}  // namespace lucid::program

#endif  // LUCID_PROGRAM_DWARF_READER_H
