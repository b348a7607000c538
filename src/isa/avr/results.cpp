// SPDX-License-Identifier: MIT
// Which registers instructions write, and which the helpers of avr-gcc that it calls as if they
// were instructions.
#include <array>
#include <utility>

#include "isa/avr/target.h"

namespace lucid::avr {
namespace {

enum class Result : std::uint8_t { kNone, kOne, kPair, kProduct, kScratch };

/// From what the table says that an instruction transfers.
Result result_in(std::string_view transfer) {
  const auto has = [&](std::string_view part) { return transfer.find(part) != transfer.npos; };
  if (has("r1:r0 ←")) return Result::kProduct;
  if (has("r0 ←")) return Result::kScratch;
  if (has("{p+1}:{p} ←") || has("{e+1}:{e} ←")) return Result::kPair;
  for (const char* one : {"{d} ←", "{h} ←", "{d}({b}) ←", "{d}(7..4) ↔"})
    if (has(one)) return Result::kOne;
  return Result::kNone;
}

std::array<Result, kOpCount> all_results() {
  std::array<Result, kOpCount> out{};
  for (std::uint8_t op = 0; op < kOpCount; ++op) out[op] = result_in(row(op).transfer);
  return out;
}

struct Helper {
  std::string_view name;
  std::array<isa::RegisterSpan, 5> results;
};

// "GCC internals: the AVR port's libgcc": what the compiler's own rules say that these leave.
constexpr isa::RegisterSpan kProduct32{22, 4};
constexpr isa::RegisterSpan kWide{18, 8};
constexpr std::array<Helper, 26> kHelpers{{
    {"__mulqi3", {{{24, 1}}}},
    {"__mulhi3", {{{24, 2}}}},
    {"__mulsi3", {kProduct32}},
    {"__mulhisi3", {kProduct32}},
    {"__umulhisi3", {kProduct32}},
    {"__usmulhisi3", {kProduct32}},
    {"__muluhisi3", {kProduct32}},
    {"__mulohisi3", {kProduct32}},
    {"__mulshisi3", {kProduct32}},
    {"__mulpsi3", {{{22, 3}}}},
    {"__divmodqi4", {{{24, 1}, {25, 1}}}},
    {"__udivmodqi4", {{{24, 1}, {25, 1}}}},
    {"__divmodhi4", {{{22, 2}, {24, 2}, {21, 1}, {26, 2}}}},
    {"__udivmodhi4", {{{22, 2}, {24, 2}, {21, 1}, {26, 2}}}},
    {"__divmodpsi4", {{{18, 3}, {22, 3}}}},
    {"__udivmodpsi4", {{{18, 3}, {22, 3}}}},
    {"__divmodsi4", {{{18, 4}, {22, 4}, {26, 2}, {30, 2}}}},
    {"__udivmodsi4", {{{18, 4}, {22, 4}, {26, 2}, {30, 2}}}},
    {"__mulsidi3", {kWide}},
    {"__umulsidi3", {kWide}},
    {"__adddi3", {kWide}},
    {"__adddi3_s8", {kWide}},
    {"__subdi3", {kWide}},
    {"__negdi2", {kWide}},
    {"__ashldi3", {kWide}},
    {"__lshrdi3", {kWide}},
}};

}  // namespace

isa::RegisterSpan AvrTarget::result_of(const Instruction& instruction) const {
  static const std::array<Result, kOpCount> kResults = all_results();
  const Entry entry = entry_of(instruction);
  if (entry.op == kNoOp) return {};
  switch (kResults[entry.op]) {
    case Result::kNone: break;
    case Result::kOne: return {entry.a, 1};
    case Result::kPair: return {entry.a, 2};
    case Result::kProduct: return {0, 2};
    case Result::kScratch: return {0, 1};
  }
  return {};
}

std::vector<isa::RegisterSpan> AvrTarget::helper_results(const std::string& name) const {
  std::vector<isa::RegisterSpan> out;
  for (const Helper& helper : kHelpers)
    if (helper.name == name)
      for (const isa::RegisterSpan& span : helper.results)
        if (span.count != 0) out.push_back(span);
  return out;
}

}  // namespace lucid::avr
