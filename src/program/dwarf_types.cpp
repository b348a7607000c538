// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>

#include "program/dwarf_reader.h"

namespace lucid::program {
namespace {

void read_enumerators(Dwarf_Die& die, Type& type) {
  Dwarf_Die child;
  if (dwarf_child(&die, &child) != 0) return;
  do {
    if (dwarf_tag(&child) != DW_TAG_enumerator) continue;
    Dwarf_Attribute at;
    Dwarf_Sword value = 0;
    if (dwarf_attr(&child, DW_AT_const_value, &at) != nullptr && dwarf_formsdata(&at, &value) == 0)
      type.enumerators.push_back({name_of(child), value});
  } while (dwarf_siblingof(&child, &child) == 0);
}

}  // namespace

Type::Kind base_kind(Dwarf_Die& die) {
  switch (number(die, DW_AT_encoding).value_or(0)) {
    case DW_ATE_boolean: return Type::Kind::kBool;
    case DW_ATE_float: return Type::Kind::kFloat;
    case DW_ATE_signed: return Type::Kind::kSigned;
    case DW_ATE_unsigned: return Type::Kind::kUnsigned;
    case DW_ATE_signed_char:
      return name_of(die) == "char" ? Type::Kind::kChar : Type::Kind::kSigned;
    case DW_ATE_unsigned_char:
      return name_of(die) == "char" ? Type::Kind::kChar : Type::Kind::kUnsigned;
    default: return Type::Kind::kUnknown;
  }
}

TypeReader::TypeReader(Program::Data& data) : data_(data) {
  data_.types.push_back({});  // index 0: unknown
  data_.types[0].name = "?";
}

unsigned TypeReader::type_of(Dwarf_Die& die, unsigned depth) {
  Dwarf_Attribute at;
  Dwarf_Die type;
  if (dwarf_attr_integrate(&die, DW_AT_type, &at) == nullptr) return void_type();
  if (dwarf_formref_die(&at, &type) == nullptr) return 0;
  return type_from(type, depth);
}

unsigned TypeReader::void_type() {
  if (void_ == 0) {
    Type type;
    type.kind = Type::Kind::kVoid;
    type.name = "void";
    data_.types.push_back(std::move(type));
    void_ = static_cast<unsigned>(data_.types.size() - 1);
  }
  return void_;
}

unsigned TypeReader::type_from(Dwarf_Die& die, unsigned depth) {
  if (depth > kMostDepth) return 0;
  const void* key = die.addr;
  if (const auto found = type_index_.find(key); found != type_index_.end()) return found->second;
  const int tag = dwarf_tag(&die);
  if (tag == DW_TAG_const_type || tag == DW_TAG_volatile_type || tag == DW_TAG_restrict_type)
    return type_index_[key] = type_of(die, depth + 1);
  const auto index = static_cast<unsigned>(data_.types.size());
  type_index_[key] = index;  // before its parts: they may refer to it
  data_.types.emplace_back();
  Type type;
  type.name = name_of(die);
  type.bytes = static_cast<std::uint32_t>(number(die, DW_AT_byte_size).value_or(0));
  switch (tag) {
    case DW_TAG_base_type: type.kind = base_kind(die); break;
    case DW_TAG_typedef: {
      const std::string name = type.name;
      const unsigned target = type_of(die, depth + 1);
      type = data_.types[target];
      type.name = name;
      break;
    }
    case DW_TAG_reference_type:
    case DW_TAG_rvalue_reference_type: type.reference = true; [[fallthrough]];
    case DW_TAG_pointer_type:
      type.kind = Type::Kind::kPointer;
      type.target = type_of(die, depth + 1);
      // `__flash` is 1, `__flash1` to `__flash5` are 2 to 6.
      if (const auto space = number(die, DW_AT_address_class); space && *space >= 1 && *space <= 6)
        type.leads_to = Space::kCode;
      break;
    case DW_TAG_enumeration_type:
      type.kind = Type::Kind::kEnum;
      type.name = "enum " + type.name;
      read_enumerators(die, type);
      break;
    case DW_TAG_structure_type:
    case DW_TAG_union_type:
    case DW_TAG_class_type:
      type.kind = tag == DW_TAG_union_type ? Type::Kind::kUnion : Type::Kind::kStruct;
      type.name = (tag == DW_TAG_union_type ? "union " : "struct ") + type.name;
      read_members(die, type, depth);
      break;
    case DW_TAG_array_type: {
      read_array(die, index, depth);
      return index;
    }
    case DW_TAG_subroutine_type:
      type.kind = Type::Kind::kFunction;
      type.name = "function";
      break;
    default: break;
  }
  data_.types[index] = std::move(type);
  return index;
}

unsigned TypeReader::bytes(std::uint32_t count) {
  Type byte;
  byte.kind = Type::Kind::kUnsigned;
  byte.name = "byte";
  byte.bytes = 1;
  data_.types.push_back(std::move(byte));
  Type array;
  array.kind = Type::Kind::kArray;
  array.target = static_cast<unsigned>(data_.types.size() - 1);
  array.count = array.bytes = count;
  array.name = fmt::format("byte[{}]", count);
  data_.types.push_back(std::move(array));
  return static_cast<unsigned>(data_.types.size() - 1);
}

void TypeReader::name_pointers() {
  for (Type& type : data_.types) {
    if (type.kind != Type::Kind::kPointer || !type.name.empty()) continue;
    std::string stars = type.reference ? " &" : " *";
    const Type* target = &data_.types[type.target];
    for (unsigned i = 0;
         i < kMostDepth && target->kind == Type::Kind::kPointer && target->name.empty(); ++i) {
      stars += "*";
      target = &data_.types[target->target];
    }
    type.name = target->name + stars;
  }
  for (Type& type : data_.types)  // arrays of pointers were named before
    if (type.kind == Type::Kind::kArray && !type.name.empty() && type.name[0] == '[')
      type.name = data_.types[type.target].name + type.name;
}

void TypeReader::read_members(Dwarf_Die& die, Type& type, unsigned depth) {
  Dwarf_Die child;
  if (dwarf_child(&die, &child) != 0) return;
  do {
    const bool base = dwarf_tag(&child) == DW_TAG_inheritance;
    if ((!base && dwarf_tag(&child) != DW_TAG_member) || flag(child, DW_AT_external)) continue;
    Type::Member member;
    member.type = type_of(child, depth + 1);
    member.name = base ? data_.types[member.type].name : name_of(child);
    member.base = base;
    const auto offset = number(child, DW_AT_data_member_location);
    member.offset = static_cast<std::uint32_t>(offset.value_or(0));
    if (const auto bits = number(child, DW_AT_bit_size)) {
      member.bit_size = static_cast<std::uint8_t>(*bits);
      std::uint64_t position = 0;
      if (const auto from_start = number(child, DW_AT_data_bit_offset)) {
        position = *from_start;
      } else {
        const auto storage = number(child, DW_AT_byte_size);
        const std::uint64_t bytes = storage ? *storage : data_.types[member.type].bytes;
        position = std::uint64_t{member.offset} * 8 + bytes * 8 -
                   number(child, DW_AT_bit_offset).value_or(0) - *bits;
      }
      member.offset = static_cast<std::uint32_t>(position / 8);
      member.bit_offset = static_cast<std::uint8_t>(position % 8);
    }
    type.members.push_back(std::move(member));
  } while (dwarf_siblingof(&child, &child) == 0);
}

/// One array type per dimension, the last one innermost.
void TypeReader::read_array(Dwarf_Die& die, unsigned index, unsigned depth) {
  std::vector<std::uint32_t> counts;
  Dwarf_Die child;
  if (dwarf_child(&die, &child) == 0) {
    do {
      if (dwarf_tag(&child) != DW_TAG_subrange_type) continue;
      std::uint64_t count = number(child, DW_AT_count).value_or(0);
      if (const auto upper = number(child, DW_AT_upper_bound)) count = *upper + 1;
      counts.push_back(static_cast<std::uint32_t>(std::min<std::uint64_t>(count, 1U << 24)));
    } while (counts.size() < 8 && dwarf_siblingof(&child, &child) == 0);
  }
  if (counts.empty()) counts.push_back(0);
  unsigned element = type_of(die, depth + 1);
  for (std::size_t i = counts.size(); i-- > 0;) {
    Type type;
    type.kind = Type::Kind::kArray;
    type.target = element;
    type.count = counts[i];
    type.bytes = data_.types[element].bytes * counts[i];
    const std::string& inner = data_.types[element].name;
    const std::size_t bracket = inner.find('[');
    const std::string dimension = fmt::format("[{}]", counts[i]);
    type.name = bracket == std::string::npos
                    ? inner + dimension
                    : inner.substr(0, bracket) + dimension + inner.substr(bracket);
    if (i == 0) {
      data_.types[index] = std::move(type);
    } else {
      data_.types.push_back(std::move(type));
      element = static_cast<unsigned>(data_.types.size() - 1);
    }
  }
}

}  // namespace lucid::program
