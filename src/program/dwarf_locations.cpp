// SPDX-License-Identifier: MIT
// libdw decodes location expressions; what an operation refers to is resolved here.
#include <algorithm>
#include <cstring>

#include "program/dwarf_reader.h"

namespace lucid::program {
namespace {

constexpr std::size_t kMostOps = 256;

/// The base type that an operation names by its offset in the unit; 0 is the generic type.
LocationType type_at(Dwarf_Attribute& at, Dwarf_Word offset) {
  LocationType out;
  Dwarf_Die unit;
  Dwarf_Die die;
  if (offset == 0 || at.cu == nullptr ||
      dwarf_cu_die(at.cu, &unit, nullptr, nullptr, nullptr, nullptr, nullptr, nullptr) == nullptr)
    return out;
  const Dwarf_Off start = dwarf_dieoffset(&unit) - dwarf_cuoffset(&unit);
  if (dwarf_offdie(dwarf_cu_getdwarf(at.cu), start + offset, &die) == nullptr ||
      dwarf_tag(&die) != DW_TAG_base_type)
    return out;
  out.bytes = static_cast<std::uint8_t>(number(die, DW_AT_byte_size).value_or(0));
  out.kind = base_kind(die);
  return out;
}

/// Up to 8 bytes of a block in the debug information, lowest first.
std::int64_t constant(const unsigned char* bytes, std::size_t count) {
  std::uint64_t raw = 0;
  std::memcpy(&raw, bytes, std::min<std::size_t>(count, 8));
  return static_cast<std::int64_t>(raw);
}

/// The names that DWARF 5 gave to what compilers did before.
std::uint8_t same_operation(std::uint8_t atom) {
  switch (atom) {
    case DW_OP_entry_value: return DW_OP_GNU_entry_value;
    case DW_OP_const_type: return DW_OP_GNU_const_type;
    case DW_OP_regval_type: return DW_OP_GNU_regval_type;
    case DW_OP_deref_type: return DW_OP_GNU_deref_type;
    case DW_OP_convert: return DW_OP_GNU_convert;
    case DW_OP_reinterpret: return DW_OP_GNU_reinterpret;
    default: return atom;
  }
}

/// An address by its index in the address table. False: there is none.
bool resolve_indexed(Dwarf_Attribute& at, const Dwarf_Op& op, LocationOp& out) {
  Dwarf_Attribute indexed;
  Dwarf_Addr address = 0;
  if (dwarf_getlocation_attr(&at, &op, &indexed) != 0 || dwarf_formaddr(&indexed, &address) != 0)
    return false;
  out.atom = op.atom == DW_OP_addrx ? std::uint8_t{DW_OP_addr} : std::uint8_t{DW_OP_constu};
  out.a = static_cast<std::int64_t>(address);
  return true;
}

/// Which register's value at the function's entry is meant; -1 if it is something else.
void resolve_entry_value(Dwarf_Attribute& at, const Dwarf_Op& op, LocationOp& out) {
  out.a = -1;
  Dwarf_Attribute inner;
  Dwarf_Op* ops = nullptr;
  std::size_t count = 0;
  if (dwarf_getlocation_attr(&at, &op, &inner) != 0 ||
      dwarf_getlocation(&inner, &ops, &count) != 0 || count != 1)
    return;
  if (ops[0].atom >= DW_OP_reg0 && ops[0].atom <= DW_OP_reg31) out.a = ops[0].atom - DW_OP_reg0;
  if (ops[0].atom == DW_OP_regx) out.a = static_cast<std::int64_t>(ops[0].number);
  if (same_operation(ops[0].atom) == DW_OP_GNU_regval_type) {
    out.a = static_cast<std::int64_t>(ops[0].number);
    out.type = type_at(at, ops[0].number2);
  }
}

}  // namespace

std::vector<LocationOp> copied(Dwarf_Attribute& at, const Dwarf_Op* ops, std::size_t count) {
  std::vector<LocationOp> out;
  count = std::min(count, kMostOps);
  for (std::size_t i = 0; i < count; ++i) {
    const Dwarf_Op& op = ops[i];
    LocationOp made{same_operation(op.atom), static_cast<std::int64_t>(op.number),
                    static_cast<std::int64_t>(op.number2)};
    switch (made.atom) {
      case DW_OP_addrx:
      case DW_OP_constx:
        if (!resolve_indexed(at, op, made)) return {};
        break;
      case DW_OP_GNU_entry_value: resolve_entry_value(at, op, made); break;
      case DW_OP_GNU_regval_type:
      case DW_OP_GNU_deref_type: made.type = type_at(at, op.number2); break;
      case DW_OP_GNU_convert:
      case DW_OP_GNU_reinterpret: made.type = type_at(at, op.number); break;
      case DW_OP_GNU_const_type: {
        made.type = type_at(at, op.number);
        const auto* block = reinterpret_cast<const unsigned char*>(op.number2);
        made.a = constant(block + 1, block[0]);
        break;
      }
      case DW_OP_implicit_value: {
        Dwarf_Block block;
        made.b = dwarf_getlocation_implicit_value(&at, &op, &block) == 0
                     ? constant(block.data, block.length)
                     : 0;
        break;
      }
      case DW_OP_skip:
      case DW_OP_bra: {
        const Dwarf_Word target = op.offset + 3 + static_cast<Dwarf_Word>(op.number);
        const auto* to =
            std::find_if(ops, ops + count, [&](const Dwarf_Op& o) { return o.offset == target; });
        made.a = (to - ops) - static_cast<std::ptrdiff_t>(i + 1);
        break;
      }
      default: break;
    }
    out.push_back(made);
  }
  return out;
}

}  // namespace lucid::program
