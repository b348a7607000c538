// SPDX-License-Identifier: MIT
// Which registers instructions write, and which the helpers of avr-gcc that it calls as if they
// were instructions.
#include <array>
#include <utility>

#include "avr/isa/target.h"

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

/// What a row reads: its operands and pointers by where they stand in what it transfers.
struct Reads {
  bool a = false, a_pair = false, b = false, b_pair = false, r0 = false, r1 = false;
  bool x = false, y = false, z = false;
};

Reads reads_in(const Row& row) {
  Reads out;
  std::string_view text = row.transfer;
  while (!text.empty()) {
    const std::size_t comma = std::min(text.find(", "), text.size());
    std::string_view part = text.substr(0, comma);
    text.remove_prefix(std::min(comma + 2, text.size()));
    std::string_view condition;
    if (const std::size_t colon = part.find(": ");
        part.substr(0, 3) == "if " && colon != part.npos) {
      condition = part.substr(0, colon);
      part.remove_prefix(colon + 2);
    }
    const std::size_t arrow = part.find("←");
    const std::string_view left = arrow == part.npos ? std::string_view() : part.substr(0, arrow);
    const std::string_view right = arrow == part.npos ? part : part.substr(arrow);
    const auto has = [&](std::string_view what) {
      return right.find(what) != right.npos || condition.find(what) != condition.npos;
    };
    const auto at = [&](std::string_view what) { return left.find(what) != left.npos; };
    // Bits of a register are changed, the others stay.
    out.a = out.a || has("{d}") || has("{h}") || has("{m}") || at("{d}(");
    out.a_pair = out.a_pair || has("{p}");
    out.b = out.b || has("{r}") || has("{g}") || has("{n}");
    out.b_pair = out.b_pair || has("{f}");
    out.r0 = out.r0 || has("r0");
    out.r1 = out.r1 || has("r1");
    const auto pointer = [&](std::string_view name) {
      const std::string in = "(" + std::string(name);
      return has(in) || at(in) || has(":" + std::string(name)) || has(" " + std::string(name));
    };
    out.x = out.x || pointer("X");
    out.y = out.y || pointer("Y");
    out.z = out.z || pointer("Z");
  }
  return out;
}

struct Helper {
  std::string_view name;
  std::array<machine::RegisterSpan, 5> results;
};

// "GCC internals: the AVR port's libgcc": what the compiler's own rules say that these leave.
constexpr machine::RegisterSpan kProduct32{22, 4};
constexpr machine::RegisterSpan kWide{18, 8};
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

machine::RegisterSpan AvrTarget::result_of(const Instruction& instruction) const {
  static const std::array<Result, kOpCount> kResults = all_results();
  const Entry entry = entry_of(instruction);
  if (entry.op == kNoOp) return {};
  // `tst` and its like set flags only.
  if ((entry.op == kAND || entry.op == kOR || entry.op == kMOV) && entry.a == entry.b) return {};
  switch (kResults[entry.op]) {
    case Result::kNone: break;
    case Result::kOne: return {entry.a, 1};
    case Result::kPair: return {entry.a, 2};
    case Result::kProduct: return {0, 2};
    case Result::kScratch: return {0, 1};
  }
  return {};
}

bool AvrTarget::begins_sum(const Instruction& instruction) const {
  switch (entry_of(instruction).op) {
    case kADD:
    case kADIW:
    case kSUB:
    case kSUBI:
    case kSBIW:
    case kINC:
    case kDEC:
    case kASR:
    case kLSR: return true;
    default: return false;
  }
}

std::uint64_t AvrTarget::reads(const Instruction& instruction) const {
  static const std::array<Reads, kOpCount> kReads = [] {
    std::array<Reads, kOpCount> all;
    for (std::uint8_t op = 0; op < kOpCount; ++op) all[op] = reads_in(row(op));
    return all;
  }();
  const Entry entry = entry_of(instruction);
  if (entry.op == kNoOp) return 0;
  const Reads& reads = kReads[entry.op];
  std::uint64_t out = 0;
  const auto add = [&](bool on, unsigned first, unsigned count) {
    if (on) out |= ((std::uint64_t{1} << count) - 1) << first;
  };
  // What is taken from itself leaves zero, whatever it was.
  const bool clears =
      (entry.op == kEOR || entry.op == kSUB || entry.op == kSBC) && entry.a == entry.b;
  add(reads.a && !clears, entry.a, 1);
  add(reads.a_pair, entry.a, 2);
  add(reads.b && !clears, entry.b, 1);
  add(reads.b_pair, entry.b, 2);
  add(reads.r0, 0, 1);
  add(reads.r1, 1, 1);
  add(reads.x, 26, 2);
  add(reads.y, 28, 2);
  add(reads.z, 30, 2);
  return out;
}

/// The compiler's manual, "AVR Function Calling Conventions": up to 8 bytes end with r25; their
/// number is rounded up to 2, 4 or 8.
machine::RegisterSpan AvrTarget::returned_in(std::uint32_t bytes) const {
  if (bytes == 0 || bytes > 8) return {};
  const int width = bytes <= 2 ? 2 : bytes <= 4 ? 4 : 8;
  return {26 - width, width};
}

std::vector<machine::RegisterSpan> AvrTarget::helper_results(const std::string& name) const {
  std::vector<machine::RegisterSpan> out;
  for (const Helper& helper : kHelpers)
    if (helper.name == name)
      for (const machine::RegisterSpan& span : helper.results)
        if (span.count != 0) out.push_back(span);
  return out;
}

}  // namespace lucid::avr
