// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>

#include "program/dwarf_reader.h"

namespace lucid::program {
namespace {

/// A number out of its lowest bytes, extended by its sign or with zeros.
std::int64_t number_of(const std::vector<std::uint8_t>& bytes, std::size_t count, bool is_signed) {
  count = std::min<std::size_t>({count, bytes.size(), 8});
  std::uint64_t raw = 0;
  for (std::size_t i = 0; i < count; ++i) raw |= std::uint64_t{bytes[i]} << (8 * i);
  if (is_signed && count != 0 && count < 8 && (bytes[count - 1] & 0x80U) != 0)
    raw |= ~std::uint64_t{0} << (8 * count);
  return static_cast<std::int64_t>(raw);
}

/// An enumerator is of the type below its enumeration; without one it is the number as written.
void read_enumerators(Dwarf_Die& die, Type& type, const Type* underlying) {
  Dwarf_Die child;
  if (dwarf_child(&die, &child) != 0) return;
  const bool typed = underlying != nullptr && underlying->bytes != 0;
  const bool is_signed =
      typed && (underlying->kind == Type::Kind::kSigned || underlying->kind == Type::Kind::kChar);
  type.is_signed = is_signed;
  do {
    if (dwarf_tag(&child) != DW_TAG_enumerator) continue;
    const auto bytes = constant_bytes(child);
    if (bytes.empty()) continue;
    const std::int64_t value =
        typed ? number_of(bytes, underlying->bytes, is_signed) : number_of(bytes, 8, false);
    type.is_signed = type.is_signed || value < 0;
    type.enumerators.push_back({name_of(child), value});
  } while (dwarf_siblingof(&child, &child) == 0);
}

}  // namespace

std::vector<std::uint8_t> constant_bytes(Dwarf_Die& die) {
  Dwarf_Attribute at;
  if (dwarf_attr_integrate(&die, DW_AT_const_value, &at) == nullptr) return {};
  Dwarf_Block block;
  Dwarf_Sword sign = 0;
  Dwarf_Word plain = 0;
  const auto bytes_of = [](std::uint64_t raw) {
    std::vector<std::uint8_t> out;
    for (unsigned i = 0; i < 8; ++i) out.push_back(static_cast<std::uint8_t>(raw >> (8 * i)));
    return out;
  };
  const unsigned form = dwarf_whatform(&at);
  switch (form) {
    case DW_FORM_sdata:
    case DW_FORM_implicit_const:
      if (dwarf_formsdata(&at, &sign) != 0) return {};
      return bytes_of(static_cast<std::uint64_t>(sign));
    case DW_FORM_data1:
    case DW_FORM_data2:
    case DW_FORM_data4:
    case DW_FORM_data8:
    case DW_FORM_udata: {
      if (dwarf_formudata(&at, &plain) != 0) return {};
      const unsigned width = form == DW_FORM_data1   ? 8
                             : form == DW_FORM_data2 ? 16
                             : form == DW_FORM_data4 ? 32
                                                     : 64;
      return bytes_of(width == 64 ? plain : plain & ((std::uint64_t{1} << width) - 1));
    }
    default:
      if (dwarf_formblock(&at, &block) != 0 || block.length == 0 || block.length > 4096) return {};
      return {block.data, block.data + block.length};
  }
}

std::optional<std::uint32_t> member_offset(Dwarf_Die& die) {
  Dwarf_Attribute at;
  if (dwarf_attr_integrate(&die, DW_AT_data_member_location, &at) == nullptr) return 0;
  Dwarf_Word offset = 0;
  if (dwarf_formudata(&at, &offset) == 0) return static_cast<std::uint32_t>(offset);
  Dwarf_Op* ops = nullptr;
  std::size_t count = 0;
  if (dwarf_getlocation(&at, &ops, &count) != 0 || count != 1 || ops[0].atom != DW_OP_plus_uconst)
    return std::nullopt;
  return static_cast<std::uint32_t>(ops[0].number);
}

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

TypeReader::TypeReader(Program::Data& data, const ScopeNames& names, const image::ElfForm* form)
    : data_(data), names_(names), form_(form) {
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
  type.name = names_.full_name(die);
  const bool cpp = names_.is_cpp(die);
  type.bytes = static_cast<std::uint32_t>(number(die, DW_AT_byte_size).value_or(0));
  switch (tag) {
    case DW_TAG_base_type: type.kind = base_kind(die); break;
    case DW_TAG_typedef: {
      const std::string name = type.name;
      const unsigned target = type_of(die, depth + 1);
      type = data_.types[target];
      type.name = name;
      type.alias_of = target;
      break;
    }
    case DW_TAG_reference_type:
    case DW_TAG_rvalue_reference_type: type.reference = true; [[fallthrough]];
    case DW_TAG_pointer_type:
      type.kind = Type::Kind::kPointer;
      type.target = type_of(die, depth + 1);
      if (form_ != nullptr && form_->address_class != nullptr)
        if (const auto number_of = number(die, DW_AT_address_class))
          type.leads_to = form_->address_class(*number_of).value_or(Space::kData);
      type.flat = form_ != nullptr && form_->flat_pointer_bytes != 0 &&
                  type.bytes == form_->flat_pointer_bytes;
      break;
    case DW_TAG_enumeration_type:
      type.kind = Type::Kind::kEnum;
      if (!cpp || type.name.empty()) type.name = "enum " + type.name;
      {
        Dwarf_Attribute at;
        const bool typed = dwarf_attr(&die, DW_AT_type, &at) != nullptr;
        const unsigned below = typed ? type_of(die, depth + 1) : 0;
        read_enumerators(die, type, typed ? &data_.types[below] : nullptr);
      }
      break;
    case DW_TAG_structure_type:
    case DW_TAG_union_type:
    case DW_TAG_class_type:
      type.kind = tag == DW_TAG_union_type ? Type::Kind::kUnion : Type::Kind::kStruct;
      if (!cpp || type.name.empty())
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
    const auto offset = member_offset(child);
    if (!offset) continue;  // of a virtual base: where it is depends on the object
    member.offset = *offset;
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
      if (*bits == 0 || *bits + position % 8 > 64) member.type = member.bit_size = 0;
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
