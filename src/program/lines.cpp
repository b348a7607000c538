// SPDX-License-Identifier: MIT
// From the rows of a line table, as compilers write it, to ranges of instructions.
#include <algorithm>
#include <tuple>

#include "program/program_data.h"

namespace lucid::program {
namespace {

/// Within one address: ends of sequences first, then in the compiler's order.
void sort_rows(std::vector<LineRow>& rows) {
  std::stable_sort(rows.begin(), rows.end(), [](const LineRow& a, const LineRow& b) {
    return a.address != b.address ? a.address < b.address : a.ends > b.ends;
  });
}

/// A linker that shortens code (`--relax`) leaves some rows a word or more beside where functions
/// meet, and functions longer than they are. What belongs to a function's beginning goes there, and
/// what belongs to the one before goes back, by their lines: functions that follow each other in a
/// file do not share any.
void mend_where_functions_meet(std::vector<LineRow>& rows, std::vector<Function>& functions) {
  constexpr std::uint32_t kWord = 2, kFarthest = 8;  // bytes
  constexpr unsigned kFewLines = 3;
  std::vector<Function*> sorted;
  sorted.reserve(functions.size());
  for (Function& function : functions) sorted.push_back(&function);
  std::sort(sorted.begin(), sorted.end(),
            [](const Function* a, const Function* b) { return a->begin < b->begin; });
  bool moved = false;
  for (std::size_t i = 1; i < sorted.size(); ++i) {
    Function& one = *sorted[i - 1];
    const Function& other = *sorted[i];
    if (one.begin < other.begin && one.end > other.begin && one.end <= other.begin + kFarthest)
      one.end = other.begin;  // its size is as it was
    if (one.end + kFarthest < other.begin || !one.file || one.file != other.file || one.line == 0 ||
        other.line == 0 || one.line == other.line)
      continue;
    const auto is_of = [](const LineRow& row, const Function& function, const Function& next) {
      return !row.ends && row.file == function.file && row.line >= function.line &&
             (next.line < function.line || row.line < next.line);
    };
    auto at = std::lower_bound(
        rows.begin(), rows.end(), other.begin,
        [](const LineRow& row, std::uint32_t address) { return row.address < address; });
    const auto begin = at;
    while (at != rows.end() && at->address == other.begin && !is_of(*at, other, one)) ++at;
    if (at != rows.end() && at->address == other.begin) {
      const bool opens = at->line <= other.line + kFewLines;  // to its brace
      for (auto row = begin; opens && row != at; ++row)
        if (is_of(*row, one, other)) {
          row->address -= kWord;
          moved = true;
        }
      continue;
    }
    for (auto row = begin; row != rows.begin() && is_of(*(row - 1), other, one) &&
                           (row - 1)->address + kFarthest > other.begin;
         --row) {
      (row - 1)->address = other.begin;
      moved = true;
    }
  }
  if (moved) sort_rows(rows);
}

bool is_in_function(std::uint32_t address, const std::vector<Function>& functions) {
  return std::any_of(functions.begin(), functions.end(), [&](const Function& function) {
    return function.has_lines && address >= function.begin && address < function.end;
  });
}

}  // namespace

void finish_lines(std::vector<LineRow> rows, Program::Data& data) {
  sort_rows(rows);
  mend_where_functions_meet(rows, data.functions);
  for (std::size_t i = 0; i + 1 < rows.size(); ++i) {
    const LineRow& row = rows[i];
    if (row.ends || row.line == 0) continue;
    // A line that opens a function may share its address with the first one inside.
    auto& list = rows[i + 1].address == row.address ? data.points : data.ranges;
    list.push_back({row.address, rows[i + 1].address, row.file, row.line, row.statement});
  }
  data.columns.clear();
  for (const LineRow& row : rows)
    if (row.statement && !row.ends && row.line != 0 && row.column != 0)
      data.columns.push_back({row.file, row.line, row.column, row.address});
  const auto key = [](const Program::Data::Column& c) {
    return std::tie(c.file, c.line, c.column, c.address);
  };
  std::sort(data.columns.begin(), data.columns.end(),
            [&](const auto& a, const auto& b) { return key(a) < key(b); });
  data.columns.erase(std::unique(data.columns.begin(), data.columns.end(),
                                 [&](const auto& a, const auto& b) { return key(a) == key(b); }),
                     data.columns.end());
  for (SourceFile& file : data.files) file.lines_with_code.clear();
  for (const auto* list : {&data.ranges, &data.points})
    for (const LineRange& range : *list)
      if (range.statement || list == &data.ranges)
        data.files[range.file].lines_with_code.push_back(range.line);
  // The whole code of a line may be the body of what it calls.
  for (const InlinedCall& call : data.inlined)
    if (call.call_file && call.call_line != 0 && is_in_function(call.entry, data.functions))
      data.files[*call.call_file].lines_with_code.push_back(call.call_line);
  for (SourceFile& file : data.files) {
    auto& lines = file.lines_with_code;
    std::sort(lines.begin(), lines.end());
    lines.erase(std::unique(lines.begin(), lines.end()), lines.end());
  }
  // The body begins where the compiler says that the prologue ends, or else at a function's second
  // statement row, which may have the same address.
  for (const Function& function : data.functions) {
    unsigned seen = 0;
    auto row = std::lower_bound(
        rows.begin(), rows.end(), function.begin,
        [](const LineRow& r, std::uint32_t address) { return r.address < address; });
    while (row != rows.end() && row->ends) ++row;  // of what stands before it
    const auto begin = row;
    while (row != rows.end() && row->address < function.end && !row->prologue_ends) ++row;
    const bool said = row != rows.end() && row->address < function.end;
    if (!said) row = begin;
    for (; row != rows.end() && row->address < function.end; ++row) {
      const bool again = row != begin && row->address == begin->address && row->line == begin->line;
      if (!said && (!row->statement || row->ends || again || ++seen < 2)) continue;
      data.bodies[function.begin] = row->address;
      break;
    }
  }
}

}  // namespace lucid::program
