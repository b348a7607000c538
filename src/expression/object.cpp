// SPDX-License-Identifier: MIT
#include "expression/object.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "expression/integers.h"

namespace lucid::expression {
namespace {

double real_of(std::uint64_t raw, std::uint32_t bytes) {
  if (bytes == 8) {
    double real = 0;
    std::memcpy(&real, &raw, 8);
    return real;
  }
  const auto word = static_cast<std::uint32_t>(raw);
  float real = 0;
  std::memcpy(&real, &word, 4);
  return static_cast<double>(real);
}

}  // namespace

Place place_of(const Variable& variable) {
  Place place;
  if (variable.constant.empty()) {
    place.kind = Place::Kind::kMemory;
    place.address = variable.address;
    return place;
  }
  place.kind = Place::Kind::kPieces;
  for (const std::uint8_t byte : variable.constant)
    place.pieces.push_back({Piece::Kind::kConstant, byte, {}, 0});
  return place;
}

Place place_within(const Place& whole, std::uint32_t offset, std::uint32_t bytes) {
  Place out;
  out.kind = whole.kind;
  out.address = whole.address;
  out.bytes = static_cast<std::uint8_t>(std::min(bytes, 8U));
  if (whole.kind == Place::Kind::kMemory) {
    out.address.offset += offset;
    return out;
  }
  out.pieces.resize(bytes);
  for (std::uint32_t i = 0; i < bytes && offset + i < whole.pieces.size(); ++i)
    out.pieces[i] = whole.pieces[offset + i];
  return out;
}

Place led_to(const Operand& pointer, const Scope& scope) {
  Place out;
  out.kind = Place::Kind::kMemory;
  const auto offset = static_cast<std::uint32_t>(pointer.value.integer);
  const Type& type = scope.program.types()[pointer.type];
  out.address = type.flat ? scope.program.placed(offset) : Address{type.leads_to, offset};
  return out;
}

Result<Operand> object_at(const Place& place, unsigned type, const Scope& scope) {
  const Type& t = scope.program.types()[type];
  Operand out;
  out.type = type;
  out.place = place;
  out.value.type = t.name;
  if (place.kind == Place::Kind::kMemory) out.value.address = place.address;
  switch (t.kind) {
    case Type::Kind::kArray:
    case Type::Kind::kStruct:
    case Type::Kind::kUnion:
      out.value.kind = Value::Kind::kAggregate;
      out.place.bytes = static_cast<std::uint8_t>(std::min(t.bytes, 8U));
      return out;
    case Type::Kind::kVoid:
    case Type::Kind::kFunction:
      return fail(ErrorCode::kUsage, fmt::format("a value of type '{}' cannot be shown", t.name));
    case Type::Kind::kUnknown:
      return fail(ErrorCode::kUnsupported, "its type is not known",
                  "read its bytes: chip.ram[address]");
    default: break;
  }
  const std::uint32_t bytes =
      place.bit_size != 0 ? (place.bit_offset + place.bit_size + 7U) / 8 : std::min(t.bytes, 8U);
  if (bytes == 0) return fail(ErrorCode::kUnsupported, "its type has no size");
  out.place.bytes = static_cast<std::uint8_t>(bytes);
  std::uint64_t raw = 0;
  for (std::uint32_t i = 0; i < bytes; ++i) {
    const auto byte = frames::byte_of(place, i, scope.machine);
    if (!byte && place.kind == Place::Kind::kMemory)
      return fail(ErrorCode::kOutOfRange,
                  fmt::format("there is no memory at {:#06x}", place.address.offset),
                  "is the pointer good?");
    if (!byte)
      return fail(ErrorCode::kNotFound, "part of it cannot be told here", "overwritten by now");
    raw |= std::uint64_t{*byte} << (8 * i);
  }
  if (t.kind == Type::Kind::kFloat && (t.bytes == 4 || t.bytes == 8)) {
    out.value.kind = Value::Kind::kReal;
    out.value.real = real_of(raw, t.bytes);
    out.value.bits = static_cast<std::uint8_t>(8 * t.bytes);
    return out;
  }
  out.value.is_signed = t.kind == Type::Kind::kSigned || t.kind == Type::Kind::kChar || t.is_signed;
  if (t.kind == Type::Kind::kPointer) out.target = t.target;
  out.value.bits = place.bit_size != 0 ? place.bit_size : static_cast<std::uint8_t>(8 * bytes);
  out.value.integer = fit(raw >> place.bit_offset, out.value.bits, out.value.is_signed);
  if (t.reference) return object_at(led_to(out, scope), t.target, scope);
  return out;
}

std::optional<Type::Member> find_member(const Program& program, unsigned type,
                                        const std::string& name, unsigned depth) {
  constexpr unsigned kMostDepth = 16;
  if (depth > kMostDepth) return std::nullopt;
  for (const Type::Member& m : program.types()[type].members)
    if (m.name == name) return m;
  // Then in base classes and in members without a name.
  for (const Type::Member& m : program.types()[type].members) {
    if (!m.base && !m.name.empty()) continue;
    auto found = find_member(program, m.type, name, depth + 1);
    if (!found) continue;
    found->offset += m.offset;
    return found;
  }
  return std::nullopt;
}

Result<Operand> member_of(const Operand& whole, const Type::Member& member, const Scope& scope) {
  const std::uint32_t bytes = member.bit_size != 0 ? (member.bit_offset + member.bit_size + 7U) / 8
                                                   : scope.program.types()[member.type].bytes;
  Place place = place_within(whole.place, member.offset, bytes);
  place.bit_offset = member.bit_offset;
  place.bit_size = member.bit_size;
  return object_at(place, member.type, scope);
}

Result<Operand> local_value(const Local& local, const Scope& scope) {
  const auto found = frames::find_place(local, scope);
  if (!found) return fail(found.error());
  auto value = object_at(found->place, local.type, scope);
  if (found->shares_with == nullptr) return value;
  const std::string text = fmt::format("{} or {} = {}", local.name, found->shares_with->name,
                                       value ? written(*value, {}, scope) : "?");
  return fail(Error{
      ErrorCode::kNotFound, text, {}, text + ": they share their place", Unknown::kSharedPlace});
}

namespace {

using machine::Edit;

/// The edit that stores a byte of a place.
Edit edit_of(const machine::Machine& machine, const Place& place, unsigned offset,
             std::uint8_t byte, bool with_effects) {
  if (place.kind == Place::Kind::kMemory) {
    const Address address{place.address.space, place.address.offset + offset};
    return {with_effects ? Edit::Kind::kStore : Edit::Kind::kPoke, address, 0, byte};
  }
  const Piece& piece = place.pieces[offset];
  if (piece.kind == Piece::Kind::kMemory) return {Edit::Kind::kPoke, piece.address, 0, byte};
  const unsigned shift = 8 * piece.byte;
  const std::uint64_t others =
      machine.register_value(piece.index) & ~(std::uint64_t{0xff} << shift);
  return {Edit::Kind::kRegister, {}, piece.index, others | std::uint64_t{byte} << shift};
}

}  // namespace

Result<std::vector<Edit>> store(machine::Machine& machine, const Place& place, std::uint64_t value,
                                bool with_effects) {
  const auto set = [&](unsigned index, std::uint64_t word) {
    const Edit edit{Edit::Kind::kRegister, {}, index, word};
    (void)machine::make(machine, edit);
    return std::vector<Edit>{edit};
  };
  switch (place.kind) {
    case Place::Kind::kNone:
      return fail(ErrorCode::kUsage, "this has no place to store a value",
                  "name a variable, register, byte of memory or pin");
    case Place::Kind::kRegister: {
      const MemoryArea* code = machine.area("flash");
      const unsigned unit = machine.target().convention().instruction_unit;
      if (machine.target().registers()[place.index].name == "pc" && code != nullptr &&
          (value >= code->end || value % unit != 0))
        return fail(ErrorCode::kOutOfRange, fmt::format("no instruction can begin at {:#x}", value),
                    fmt::format("flash ends at {:#x}; instructions begin at multiples of {}",
                                code->end, unit));
      return set(place.index, value);
    }
    case Place::Kind::kFlag: {
      const auto index = machine.find_register(machine.target().flags_register());
      if (!index) return fail(ErrorCode::kNotFound, "this machine has no status register");
      const std::uint64_t bit = std::uint64_t{1} << place.index;
      const std::uint64_t now = machine.register_value(*index);
      return set(*index, value != 0 ? now | bit : now & ~bit);
    }
    case Place::Kind::kPin:
      return fail(ErrorCode::kUsage, "a pin holds no value", "drive it from outside");
    case Place::Kind::kPieces:
    case Place::Kind::kMemory: break;
  }
  std::uint64_t old = 0;
  for (unsigned i = 0; i < place.bytes; ++i) {
    const auto byte = frames::byte_of(place, i, machine);
    if (!byte)
      return fail(ErrorCode::kOutOfRange,
                  place.kind == Place::Kind::kMemory
                      ? fmt::format("there is no memory at {:#06x}", place.address.offset + i)
                      : "part of it has no place here");
    if (place.kind == Place::Kind::kPieces && place.pieces[i].kind == Piece::Kind::kConstant)
      return fail(ErrorCode::kUnsupported, "it cannot be changed",
                  "the compiler has made it a constant here, or works it out from others");
    old |= std::uint64_t{*byte} << (8 * i);
  }
  std::uint64_t raw = value;
  if (place.bit_size != 0) {
    const std::uint64_t mask = ((std::uint64_t{1} << place.bit_size) - 1) << place.bit_offset;
    raw = (old & ~mask) | (value << place.bit_offset & mask);
  }
  // High bytes first: a 16-bit I/O register takes them when its low byte is written.
  std::vector<Edit> edits;
  for (unsigned i = place.bytes; i-- > 0;) {
    edits.push_back(
        edit_of(machine, place, i, static_cast<std::uint8_t>(raw >> (8 * i)), with_effects));
    if (!machine::make(machine, edits.back()))
      return fail(ErrorCode::kUnsupported, "nothing here holds a value that could be changed",
                  "to write it as the firmware does: let … with effects");
  }
  return edits;
}

}  // namespace lucid::expression
