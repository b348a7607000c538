// SPDX-License-Identifier: MIT
// Coverage as values: sums, differences, and the LCOV tracefile.
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <optional>
#include <sstream>
#include <tuple>

#include "base/text.h"
#include "lucid/survey.h"

namespace lucid {
namespace {

template <class List, class Key>
auto* found(List& list, const Key& is) {
  const auto at = std::find_if(list.begin(), list.end(), is);
  return at == list.end() ? nullptr : &*at;
}
template <class Files>
auto* file_of(Files& files, const std::string& path) {
  return found(files, [&](const auto& file) { return file.path == path; });
}

/// `block,branch,taken` of a BRDA record, as written here.
std::optional<CoverageView::Branch> branch_of(std::uint64_t line, const std::string& text) {
  const std::size_t first = text.find(','), second = text.find(',', first + 1);
  if (first == std::string::npos || second == std::string::npos || line > UINT32_MAX)
    return std::nullopt;
  const auto block = base::parse_unsigned(text.substr(0, first));
  const auto way = base::parse_unsigned(text.substr(first + 1, second - first - 1));
  const std::string taken = text.substr(second + 1);
  const auto times = taken == "-" ? std::optional<std::uint64_t>(0) : base::parse_unsigned(taken);
  if (!block || *block > UINT32_MAX || !way || *way > 1 || !times) return std::nullopt;
  return CoverageView::Branch{static_cast<unsigned>(line), static_cast<unsigned>(*block), *way == 1,
                              taken != "-", *times};
}

}  // namespace

std::size_t CoverageView::File::lines_executed() const {
  return static_cast<std::size_t>(
      std::count_if(lines.begin(), lines.end(), [](const Line& line) { return line.executed; }));
}
std::size_t CoverageView::File::functions_executed() const {
  return static_cast<std::size_t>(std::count_if(functions.begin(), functions.end(),
                                                [](const Function& f) { return f.calls != 0; }));
}
std::size_t CoverageView::File::branches_taken() const {
  return static_cast<std::size_t>(std::count_if(branches.begin(), branches.end(),
                                                [](const Branch& b) { return b.taken != 0; }));
}

std::vector<const CoverageView::File*> CoverageView::named(const std::string& name) const {
  std::vector<const File*> out;
  for (const File& file : files) {
    const std::size_t at = file.path.size() - std::min(file.path.size(), name.size());
    const bool ends = file.path.compare(at, std::string::npos, name) == 0;
    if (ends && (at == 0 || file.path[at - 1] == '/')) out.push_back(&file);
  }
  return out;
}

std::vector<std::string> CoverageView::names() const {
  std::vector<std::string> out;
  for (const File& file : files) out.push_back(file.path.substr(file.path.find_last_of('/') + 1));
  return out;
}

void merge(CoverageView& into, const CoverageView& more) {
  for (const CoverageView::File& file : more.files) {
    CoverageView::File* own = file_of(into.files, file.path);
    if (own == nullptr) {
      own = &into.files.emplace_back();
      own->path = file.path;
    }
    std::map<unsigned, CoverageView::Line> lines;
    for (const std::vector<CoverageView::Line>* side : {&std::as_const(own->lines), &file.lines})
      for (const CoverageView::Line& line : *side) {
        CoverageView::Line& sum = lines[line.line];
        sum = {line.line, sum.passes + line.passes, sum.executed || line.executed};
      }
    own->lines.clear();
    for (const auto& [number, line] : lines) own->lines.push_back(line);
    std::map<std::tuple<unsigned, unsigned, bool>, CoverageView::Branch> branches;
    for (const std::vector<CoverageView::Branch>* side :
         {&std::as_const(own->branches), &file.branches})
      for (const CoverageView::Branch& b : *side) {
        CoverageView::Branch& sum = branches[{b.line, b.block, b.departs}];
        sum = {b.line, b.block, b.departs, sum.reached || b.reached, sum.taken + b.taken};
      }
    own->branches.clear();
    for (const auto& [key, branch] : branches) own->branches.push_back(branch);
    for (const CoverageView::Function& function : file.functions) {
      auto* const known =
          found(own->functions, [&](const auto& f) { return f.name == function.name; });
      if (known != nullptr)
        known->calls += function.calls;
      else
        own->functions.push_back(function);
    }
  }
  std::sort(into.files.begin(), into.files.end(),
            [](const auto& a, const auto& b) { return a.path < b.path; });
}

CoverageView only_in(const CoverageView& run, const CoverageView& other) {
  CoverageView out;
  for (const CoverageView::File& file : run.files) {
    const CoverageView::File* const beside = file_of(other.files, file.path);
    CoverageView::File rest;
    rest.path = file.path;
    for (const CoverageView::Line& line : file.lines) {
      const auto* const there =
          beside != nullptr
              ? found(beside->lines, [&](const auto& l) { return l.line == line.line; })
              : nullptr;
      if (line.executed && (there == nullptr || !there->executed)) rest.lines.push_back(line);
    }
    for (const CoverageView::Function& f : file.functions) {
      const auto* const there =
          beside != nullptr
              ? found(beside->functions, [&](const auto& o) { return o.name == f.name; })
              : nullptr;
      if (f.calls != 0 && (there == nullptr || there->calls == 0)) rest.functions.push_back(f);
    }
    if (!rest.lines.empty() || !rest.functions.empty()) out.files.push_back(std::move(rest));
  }
  return out;
}

std::string lcov_text(const CoverageView& coverage, const std::string& test) {
  std::string out;
  for (const CoverageView::File& file : coverage.files) {
    out += fmt::format("TN:{}\nSF:{}\n", test, file.path);
    for (const CoverageView::Function& f : file.functions)
      out += fmt::format("FN:{},{}\n", f.line, f.name);
    for (const CoverageView::Function& f : file.functions)
      out += fmt::format("FNDA:{},{}\n", f.calls, f.name);
    out += fmt::format("FNF:{}\nFNH:{}\n", file.functions.size(), file.functions_executed());
    for (const CoverageView::Branch& b : file.branches)
      out += fmt::format("BRDA:{},{},{},{}\n", b.line, b.block, b.departs ? 1 : 0,
                         b.reached ? std::to_string(b.taken) : "-");
    if (!file.branches.empty())
      out += fmt::format("BRF:{}\nBRH:{}\n", file.branches.size(), file.branches_taken());
    // A line of which something has executed that no pass began is not one that never ran.
    for (const CoverageView::Line& line : file.lines)
      out += fmt::format("DA:{},{}\n", line.line,
                         line.executed ? std::max<std::uint64_t>(line.passes, 1) : 0);
    out += fmt::format("LF:{}\nLH:{}\nend_of_record\n", file.lines.size(), file.lines_executed());
  }
  return out;
}

Result<CoverageView> read_lcov(const std::string& text, const std::string& name) {
  std::istringstream in(text);
  CoverageView out, one;
  std::string line;
  unsigned number = 0;
  const auto wrong = [&](const std::string& what) {
    return fail(ErrorCode::kBadImage, what, "", fmt::format("{}:{}", name, number));
  };
  while (std::getline(in, line)) {
    ++number;
    while (!line.empty() && line.back() == '\r') line.pop_back();
    const std::size_t colon = line.find(':');
    const std::string record = line.substr(0, colon);
    const std::string rest = colon == std::string::npos ? "" : line.substr(colon + 1);
    const std::size_t comma = rest.find(',');
    if (record == "SF") {
      if (rest.empty()) return wrong("SF names no file");
      if (!one.files.empty()) return wrong("SF comes before end_of_record");
      one.files.emplace_back().path = rest;
      continue;
    }
    if (record == "end_of_record") {
      if (one.files.empty()) return wrong("end_of_record ends nothing");
      merge(out, one);
      one.files.clear();
      continue;
    }
    if (record != "DA" && record != "FN" && record != "FNDA" && record != "BRDA") continue;
    if (one.files.empty()) return wrong(record + " stands before any SF");
    const auto first = base::parse_unsigned(rest.substr(0, comma));
    if (!first || comma == std::string::npos)
      return wrong("'" + line + "' is no " + record + " record");
    CoverageView::File& file = one.files.front();
    std::string second = rest.substr(comma + 1);
    if (record == "BRDA") {
      const auto branch = branch_of(*first, second);
      // What others say of blocks otherwise than by two numbers is left out.
      if (branch) file.branches.push_back(*branch);
    } else if (record == "DA") {
      const auto passes = base::parse_unsigned(second.substr(0, second.find(',')));
      if (!passes || *first > UINT32_MAX) return wrong("'" + line + "' is no DA record");
      file.lines.push_back({static_cast<unsigned>(*first), *passes, *passes != 0});
    } else if (record == "FN") {
      // Newer files have the last line between.
      for (std::size_t further = second.find(',');
           further != std::string::npos && base::parse_unsigned(second.substr(0, further));
           further = second.find(','))
        second.erase(0, further + 1);
      file.functions.push_back({second, static_cast<unsigned>(*first), 0});
    } else if (auto* const f =
                   found(file.functions, [&](const auto& each) { return each.name == second; })) {
      f->calls += *first;
    } else {
      return wrong("FNDA is of a function that has no FN: " + second);
    }
  }
  if (!one.files.empty()) return wrong("the last file has no end_of_record");
  if (out.files.empty()) return wrong("it tells of no source file: is it an LCOV tracefile?");
  return out;
}

}  // namespace lucid
