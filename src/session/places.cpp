// SPDX-License-Identifier: MIT
// Places: what people name, a line, a function, an address, and where passes of it begin.
#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "base/names.h"
#include "base/text.h"
#include "session/core.h"

namespace lucid {

Location Session::Core::location(std::uint32_t address) const {
  return location_in(program_, machine(), address);
}

Location Session::Core::location_in(const Program& program, const machine::Machine& machine,
                                    std::uint32_t address) {
  Location where;
  where.address = address;
  if (const Function* function = program.function_at(address)) {
    where.function = function->name;
    where.offset = address - function->begin;
  } else {
    for (const InterruptVector& vector : machine.info().vectors)
      if (vector.address == address && vector.number != 0) where.vector = vector.name;
  }
  if (const auto inlined = program.inlined_at(address); !inlined.empty())
    where.inlined = inlined.front()->name;
  if (const auto range = program.line_at(address)) {
    where.file = program.files()[range->file].name;
    where.file_index = range->file;
    where.line = range->line;
    where.line_begins = range->begin == address && range->statement;
  }
  return where;
}

/// Where passes of a line begin, in all functions that have code of it.
std::vector<frames::Arrival> Session::Core::arrivals(unsigned file, unsigned line) const {
  std::vector<std::uint32_t> places;
  for (const LineRange& range : program_.stretches_of(file, line)) places.push_back(range.begin);
  for (const InlinedCall& call : program_.inlined_calls())  // its body may be all there is of it
    if (call.call_line == line && call.call_file == file && program_.function_at(call.entry))
      places.push_back(call.entry);
  std::vector<frames::Arrival> out;
  std::set<std::uint32_t> seen;
  for (const std::uint32_t place : places) {
    const Function* function = program_.function_at(place);
    if (function == nullptr) {
      out.push_back({place, {}, {}, false});
    } else if (seen.insert(function->begin).second) {
      const auto more = flows_.lines_of(program_, machine(), *function).arrivals({file, line});
      out.insert(out.end(), more.begin(), more.end());
      if (more.empty()) out.push_back({place, {}, {}, false});
    }
  }
  std::sort(out.begin(), out.end(),
            [](const auto& a, const auto& b) { return a.address < b.address; });
  return out;
}

std::uint32_t Session::Core::body_of(const Function& function) const {
  const std::uint32_t said = program_.body_of(function);
  if (!function.has_lines || said == function.begin) return said;
  return flows_.lines_of(program_, machine(), function).body_at(said);
}

frames::Arrival Session::Core::arrival_at(std::uint32_t address) const {
  const Function* function = program_.function_at(address);
  if (function == nullptr || !function->has_lines) return {address, {}, {}, false};
  return flows_.lines_of(program_, machine(), *function).arrival_at(address);
}

/// Where an inlined call's body is entered.
std::vector<frames::Arrival> Session::Core::arrivals(const InlinedCall& call) const {
  const Function* function = program_.function_at(call.entry);
  std::vector<frames::Arrival> out;
  if (function != nullptr && function->has_lines)
    out = flows_.lines_of(program_, machine(), *function).body_arrivals(call);
  if (out.empty()) out.push_back({call.entry, {}, {}, false});
  return out;
}

Result<std::vector<std::uint32_t>> Session::Core::resolve(const std::string& place) const {
  const auto found = places(place);
  if (!found) return fail(found.error());
  std::vector<std::uint32_t> out;
  for (const frames::Arrival& arrival : *found) out.push_back(arrival.address);
  return out;
}

/// What might have been meant by the name of a function that is not there.
std::string Session::Core::functions_like(const std::string& name) const {
  const auto [plain, signature] = base::split_signature(name);
  std::vector<std::string> names;
  if (!signature.empty())  // the overloads that there are
    for (const Function* f : program_.find_functions(std::string(plain)))
      names.push_back(f->name + f->signature);
  if (!names.empty()) return fmt::format("there is {}", fmt::join(names, ", "));
  for (const Function& f : program_.functions()) names.push_back(f.name);
  for (const InlinedCall& call : program_.inlined_calls()) names.push_back(call.name);
  for (const std::string& full : names) {
    const std::string without = base::without_template_arguments(full);
    if (const std::size_t colon = without.rfind("::"); colon != std::string::npos)
      names.push_back(without.substr(colon + 2));
  }
  return did_you_mean(plain, names);
}

/// The first statement of a line at a column or behind it.
Result<std::vector<frames::Arrival>> Session::Core::column_of(const std::vector<unsigned>& files,
                                                              unsigned line,
                                                              std::uint64_t column) const {
  std::vector<frames::Arrival> out;
  std::optional<unsigned> nearest;
  std::set<unsigned> there;
  for (const unsigned file : files)
    for (const auto& [at, address] : program_.columns_of(file, line)) {
      there.insert(at);
      if (at < column || (nearest && at > *nearest)) continue;
      if (nearest != at) out.clear();
      nearest = at;
      out.push_back({address, {}, {}, false});
    }
  if (!out.empty()) return out;
  if (there.empty())
    return fail(ErrorCode::kUnsupported, fmt::format("no columns are known of line {}", line),
                "leave the column out; clang and newer GCC note them");
  return fail(ErrorCode::kOutOfRange,
              fmt::format("no statement of line {} begins at column {} or behind it", line, column),
              fmt::format("there are {}", fmt::join(there, " ")));
}

Result<std::vector<frames::Arrival>> Session::Core::places(const std::string& place) const {
  using Addresses = std::vector<frames::Arrival>;
  if (place == "here") return Addresses{{machine().pc(), {}, {}, false}};
  const unsigned unit = machine().target().convention().instruction_unit;
  const auto number = base::parse_unsigned(place);
  if (number && place.size() > 1 && (place[1] == 'x' || place[1] == 'b')) {
    const MemoryArea* flash = machine().area("flash");
    if (flash != nullptr && *number >= flash->end)
      return fail(ErrorCode::kOutOfRange,
                  fmt::format("{} is behind the end of flash, {:#06x}", place, flash->end));
    if (*number % unit != 0)
      return fail(
          ErrorCode::kOutOfRange,
          fmt::format("{} is not a multiple of {}: no instruction begins there", place, unit));
    return Addresses{{static_cast<std::uint32_t>(*number), {}, {}, false}};
  }
  std::size_t colon = place.rfind(':');  // the `::` of C++ separates no line
  if (colon != std::string::npos && colon != 0 && place[colon - 1] == ':')
    colon = std::string::npos;
  std::string file_name = colon == std::string::npos ? "" : place.substr(0, colon);
  std::string line_text = colon == std::string::npos ? place : place.substr(colon + 1);
  auto line = base::parse_unsigned(line_text);
  std::optional<std::uint64_t> column;
  if (const std::size_t before = file_name.rfind(':'); line && before != std::string::npos)
    if (const auto first = base::parse_unsigned(std::string_view(file_name).substr(before + 1))) {
      column = std::exchange(line, first);  // kiln.c:42:17
      file_name.resize(before);
    }
  if (!line) {
    if (colon != std::string::npos)
      return fail(ErrorCode::kUsage, fmt::format("'{}' is not a line number", line_text),
                  "places are 42, kiln.c:42, control_step, 0x1f4 and here");
    std::map<std::uint32_t, frames::Arrival> bodies;
    for (const Function* function : program_.find_functions(place)) {
      const std::uint32_t body = body_of(*function);
      bodies.emplace(body, arrival_at(body));
    }
    for (const InlinedCall& call : program_.inlined_calls())
      if (base::means(call.name, place))
        for (frames::Arrival& arrival : arrivals(call))
          bodies.emplace(arrival.address, std::move(arrival));
    Addresses out;
    for (auto& [address, arrival] : bodies) out.push_back(std::move(arrival));
    if (!out.empty()) return out;
    if (const std::size_t plus = place.rfind('+'); plus != std::string::npos) {
      const auto offset = base::parse_unsigned(place.substr(plus + 1));
      for (const Function* function : program_.find_functions(place.substr(0, plus)))
        if (offset && *offset < function->end - function->begin && *offset % unit == 0)
          return Addresses{{function->begin + static_cast<std::uint32_t>(*offset), {}, {}, false}};
    }
    return fail(ErrorCode::kNotFound, fmt::format("there is no function '{}'", place),
                functions_like(place));
  }
  std::vector<unsigned> files;
  if (file_name.empty()) {
    if (!pause_.where.file.empty())
      files.push_back(pause_.where.file_index);
    else if (const Function* main = program_.find_functions("main").empty()
                                        ? nullptr
                                        : program_.find_functions("main")[0];
             main != nullptr && main->file)
      files = program_.find_files(program_.files()[*main->file].name);
    if (files.empty())
      return fail(ErrorCode::kUsage, "there is no current file here",
                  "name the file too: kiln.c:" + line_text);
    file_name = program_.files()[files[0]].name;
  } else {
    files = program_.find_files(file_name);
    if (files.empty()) {
      std::vector<std::string> names;
      for (const SourceFile& f : program_.files())
        if (!f.lines_with_code.empty()) names.push_back(f.name);
      return fail(ErrorCode::kNotFound,
                  fmt::format("no file '{}' is part of this program", file_name),
                  did_you_mean(file_name, names));
    }
  }
  Addresses out;
  if (column) return column_of(files, static_cast<unsigned>(*line), *column);
  std::vector<unsigned> near;
  for (const unsigned file : files) {
    const auto begins = arrivals(file, static_cast<unsigned>(*line));
    out.insert(out.end(), begins.begin(), begins.end());
    const auto& lines = program_.files()[file].lines_with_code;
    const auto after = std::lower_bound(lines.begin(), lines.end(), static_cast<unsigned>(*line));
    if (after != lines.begin()) near.push_back(*(after - 1));
    if (after != lines.end()) near.push_back(*after);
  }
  if (!out.empty()) return out;
  std::sort(near.begin(), near.end());
  near.erase(std::unique(near.begin(), near.end()), near.end());
  std::string hint =
      near.empty() ? "no line of this file has code" : "the nearest lines with code are";
  for (const unsigned n : near) hint += fmt::format(" {}", n);
  return fail(ErrorCode::kOutOfRange, fmt::format("{}:{} has no code", file_name, *line), hint);
}

}  // namespace lucid
