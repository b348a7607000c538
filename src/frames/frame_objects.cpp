// SPDX-License-Identifier: MIT
#include "frames/frame_objects.h"

#include <dwarf.h>

#include <algorithm>
#include <set>

namespace lucid::frames {
namespace {

/// Where a caller's part of the stack begins, by distance from the frame's register.
std::optional<std::int64_t> callers_part(const Program& program, const Function& function,
                                         const machine::CallConvention& convention) {
  const auto row = program.frame_at(program.body_of(function));
  if (!row || row->cfa_register != convention.frame_dwarf) return std::nullopt;
  return row->cfa_offset;
}

/// Of one place: its distance from the frame's register, if that is all that it says.
std::optional<std::int64_t> from_frame(const Program& program, const Function& function,
                                       const machine::CallConvention& convention,
                                       const Local::Place& place) {
  const auto frame = static_cast<std::uint8_t>(convention.frame_dwarf);
  if (place.ops.size() != 1) return std::nullopt;
  const LocationOp& op = place.ops[0];
  if (op.atom == DW_OP_breg0 + frame) return op.a;
  if (op.atom != DW_OP_fbreg) return std::nullopt;
  const auto base = program.frame_base_at(std::max(place.range.begin, function.begin));
  if (base.size() != 1) return std::nullopt;
  if (base[0].atom == DW_OP_breg0 + frame) return base[0].a + op.a;
  // Clang counts from the first byte in use.
  if (base[0].atom == DW_OP_reg0 + frame) return op.a + convention.stack_gap;
  if (base[0].atom != DW_OP_call_frame_cfa) return std::nullopt;
  const auto callers = callers_part(program, function, convention);
  return callers ? std::optional(op.a + *callers) : std::nullopt;
}

}  // namespace

std::vector<machine::Extent> apart(std::vector<machine::Extent> extents) {
  std::sort(extents.begin(), extents.end(),
            [](const auto& a, const auto& b) { return a.begin < b.begin; });
  std::vector<machine::Extent> out;
  for (const machine::Extent& extent : extents)
    if (!out.empty() && extent.begin < out.back().end) {
      out.back().end = std::max(out.back().end, extent.end);
      out.back().unit = std::max(out.back().unit, extent.unit);
    } else {
      out.push_back(extent);
    }
  return out;
}

std::int32_t unit_of(const Program& program, unsigned type) {
  const Type& t = program.types()[type];
  const std::uint32_t bytes = t.kind == Type::Kind::kArray ? program.types()[t.target].bytes : 1;
  return std::max(static_cast<std::int32_t>(bytes), 1);
}

std::vector<machine::Extent> frame_objects(const Program& program, const Function& function,
                                           const machine::CallConvention& convention) {
  std::vector<machine::Extent> out;
  if (convention.frame_dwarf < 0) return out;
  const auto callers = callers_part(program, function, convention);
  std::set<const Local*> seen;
  for (std::uint32_t at = function.begin; at < function.end; at += convention.instruction_unit)
    for (const Local* local : program.locals_at(at)) {
      if (!seen.insert(local).second) continue;
      for (const Local::Place& place : local->places)
        if (const auto offset = from_frame(program, function, convention, place)) {
          const auto begin = static_cast<std::int32_t>(*offset);
          const std::uint32_t bytes = program.types()[local->type].bytes;
          // What a caller has pushed is walked through from one to the next: `va_arg`.
          if (bytes != 0 && (!callers || begin < *callers))

            out.push_back(
                {begin, begin + static_cast<std::int32_t>(bytes), unit_of(program, local->type)});
        }
    }
  return apart(std::move(out));
}

}  // namespace lucid::frames
