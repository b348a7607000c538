// SPDX-License-Identifier: MIT
// An object of the program: the bytes of a place, read by a type.
#ifndef LUCID_EXPRESSION_OBJECT_H
#define LUCID_EXPRESSION_OBJECT_H

#include "expression/expression.h"

namespace lucid::expression {

/// The place of `bytes` bytes within another one, which is in memory or in pieces.
Place place_within(const Place& whole, std::uint32_t offset, std::uint32_t bytes);
/// Where a variable is: in memory, or its bytes themselves if the compiler has kept only those.
Place place_of(const Variable& variable);
/// Where a pointer leads. PROGMEM pointers are not marked as such: they are taken to lead to data.
Place led_to(const Operand& pointer, const Scope& scope);
/// The object of a type at a place in memory or in pieces. A bit field's bits are given by the
/// place. Errors: kOutOfRange where there is no memory; kNotFound if a byte cannot be told;
/// kUsage, kUnsupported for types that have no value.
Result<Operand> object_at(const Place& place, unsigned type, const Scope& scope);
/// A member by its name, also one of a base class or of a member without a name; its offset is in
/// the whole.
std::optional<Type::Member> find_member(const Program& program, unsigned type,
                                        const std::string& name, unsigned depth = 0);
/// A member of an aggregate.
Result<Operand> member_of(const Operand& whole, const Type::Member& member, const Scope& scope);

}  // namespace lucid::expression

#endif  // LUCID_EXPRESSION_OBJECT_H
