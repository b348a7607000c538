// SPDX-License-Identifier: MIT
// Counts of instructions as functions, lines and interrupts.
#include "lucid/survey.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <map>
#include <set>

#include "session/core.h"

namespace lucid {

/// What has executed, by address, and which way it went on.
class Session::Core::Arcs {
 public:
  Arcs(const machine::Counts& counts, const machine::Machine& machine)
      : counts_(counts), machine_(machine) {}

  [[nodiscard]] std::uint64_t executed(std::uint32_t address) const {
    return of(counts_.executed, address);
  }
  /// How often one instruction led to another.
  [[nodiscard]] std::uint64_t from(std::uint32_t before, std::uint32_t to) const {
    const Instruction i = machine_.instruction_at(before, false);
    const std::uint64_t all = executed(before), departed = of(counts_.departed, before);
    if (i.flow != Flow::kBranch && i.flow != Flow::kSkip) return all;
    return to == before + i.size ? all - departed : departed;
  }
  /// Passes of a place.
  [[nodiscard]] std::uint64_t of(const frames::Arrival& arrival) const {
    std::uint64_t out = executed(arrival.address);
    for (const std::uint32_t inner : arrival.inner)
      out -= std::min(out, from(inner, arrival.address));
    return out;
  }
  [[nodiscard]] std::uint64_t of(const std::vector<frames::Arrival>& arrivals) const {
    std::uint64_t out = 0;
    std::set<std::uint32_t> seen;
    for (const frames::Arrival& arrival : arrivals)
      if (seen.insert(arrival.address).second) out += of(arrival);
    return out;
  }

 private:
  [[nodiscard]] std::uint64_t of(const std::vector<std::uint64_t>& counts,
                                 std::uint32_t address) const {
    const std::size_t place = address / counts_.unit;
    return place < counts.size() ? counts[place] : 0;
  }
  const machine::Counts& counts_;
  const machine::Machine& machine_;
};

namespace {

SpreadView shown(const machine::Spread& spread, std::uint64_t hz) {
  SpreadView out;
  out.count = spread.count;
  if (spread.count == 0) return out;
  out.least = to_time(spread.least, hz);
  out.mean = to_time(spread.total / spread.count, hz);
  out.most = to_time(spread.most, hz);
  out.most_at = to_time(spread.most_at, hz);
  return out;
}

}  // namespace

Result<machine::Counts> Session::Core::counts() const {
  auto out = machine().counts();
  if (!out)
    return fail(ErrorCode::kUsage, "nothing has been counted", "`survey` counts from here on");
  return std::move(*out);
}

Result<std::vector<InstructionCount>> Session::Core::instruction_counts() const {
  const auto counts = this->counts();
  if (!counts) return fail(counts.error());
  std::vector<InstructionCount> out;
  for (std::size_t i = 0; i < counts->executed.size(); ++i) {
    if (counts->executed[i] == 0) continue;
    const auto address = static_cast<std::uint32_t>(i * counts->unit);
    out.push_back({address, machine().instruction_at(address, false).flow, counts->executed[i],
                   counts->departed[i], counts->cycles[i]});
  }
  return out;
}

/// Of a handler: what its vector leads to.
std::uint32_t Session::Core::begin_of(const machine::CallTree::Node& node) const {
  if (!node.handler) return node.address;
  return machine().instruction_at(node.address, false).target.value_or(node.address);
}

std::vector<ProfileView::Call> Session::Core::calls(const machine::Counts& counts) const {
  std::vector<ProfileView::Call> out;
  std::vector<std::size_t> place(counts.calls.size());
  for (std::size_t i = 0; i < counts.calls.size(); ++i) {
    const machine::CallTree::Node& node = counts.calls[i];
    place[i] = out.size();
    ProfileView::Call call;
    const Function* const function = program_.function_at(begin_of(node));
    call.function = i == 0                ? "start-up"
                    : function != nullptr ? function->name
                                          : fmt::format("{:#06x}", node.address);
    if (function == nullptr)
      for (const InterruptVector& vector : machine().info().vectors)
        if (node.handler && vector.address == node.address) call.function = vector.name;
    if (i != 0 && !node.handler) call.caller = place[node.parent];
    call.handler = node.handler;
    call.calls = node.calls;
    call.cycles = call.self = node.cycles;
    for (const auto& [address, below] : node.below)
      call.self -= std::min(call.self, counts.calls[below].cycles);
    out.push_back(std::move(call));
  }
  return out;
}

Result<ProfileView> Session::Core::profile() const {
  const auto counts = this->counts();
  if (!counts) return fail(counts.error());
  const Arcs arcs(*counts, machine());
  ProfileView out;
  out.cycles = counts->elapsed;
  out.asleep = counts->asleep;
  out.entering = counts->entering;
  out.span = to_time(counts->ticks, machine().info().clock_hz);
  std::set<std::uint32_t> vectors;
  for (const InterruptVector& vector : machine().info().vectors) vectors.insert(vector.address);
  std::uint64_t known = 0;
  // A body that stands in several places is one row for each function it is in.
  std::map<std::pair<std::string, std::string>, ProfileView::Function> functions;
  std::map<std::pair<unsigned, unsigned>, std::uint64_t> lines;
  for (std::size_t i = 0; i < counts->executed.size(); ++i) {
    if (counts->executed[i] == 0) continue;
    const auto address = static_cast<std::uint32_t>(i * counts->unit);
    if (const auto range = program_.line_at(address); range && range->line != 0)
      lines[{range->file, range->line}] += counts->cycles[i];
    const Function* function = program_.function_at(address);
    // A vector's jump goes with its handler.
    if (function == nullptr && vectors.count(address) != 0)
      if (const auto to = machine().instruction_at(address, false).target)
        function = program_.function_at(*to);
    if (function == nullptr) continue;
    known += counts->cycles[i];
    const auto inlined = program_.inlined_at(address);
    const std::string name = inlined.empty() ? function->name : inlined.front()->name;
    const std::string in = inlined.empty() ? "" : function->name;
    auto [row, is_new] = functions.try_emplace({name, in});
    if (is_new) {
      row->second.name = name;
      row->second.inlined_in = in;
      row->second.where = location(inlined.empty() ? function->begin : inlined.front()->entry);
      row->second.handler =
          inlined.empty() && machine().target().is_handler_name(function->symbol());
      if (inlined.empty()) row->second.calls = arcs.of(arrival_at(function->begin));
    }
    row->second.self += counts->cycles[i];
    row->second.instructions += counts->executed[i];
  }
  for (const InlinedCall& call : program_.inlined_calls()) {
    const Function* function = program_.function_at(call.entry);
    if (function == nullptr) continue;
    const auto row = functions.find({call.name, function->name});
    if (row != functions.end()) row->second.calls += arcs.of(arrivals(call));
  }
  out.calls = calls(*counts);
  std::map<std::string, std::uint64_t> totals;
  for (const ProfileView::Call& call : out.calls) {
    bool again = false;
    for (auto above = call.caller; above && !again; above = out.calls[*above].caller)
      again = out.calls[*above].function == call.function;
    if (!again) totals[call.function] += call.cycles;
  }
  const auto stack = stack_in_use(*counts);
  for (auto& [key, row] : functions) {
    if (row.inlined_in.empty()) {
      if (const auto total = totals.find(row.name); total != totals.end())
        row.total = total->second;
      if (const auto bytes = stack.find(row.where.address); bytes != stack.end())
        row.stack = bytes->second;
    }
    out.functions.push_back(std::move(row));
  }
  std::stable_sort(out.functions.begin(), out.functions.end(),
                   [](const auto& a, const auto& b) { return a.self > b.self; });
  for (const auto& [key, cycles] : lines) {
    const auto places = arrivals(key.first, key.second);
    if (places.empty()) continue;
    ProfileView::Line line;
    line.where = location(places.front().address);
    line.where.file = program_.files()[key.first].name;
    line.where.file_index = key.first;
    line.where.line = key.second;
    line.passes = arcs.of(places);
    line.cycles = cycles;
    out.lines.push_back(std::move(line));
  }
  std::stable_sort(out.lines.begin(), out.lines.end(),
                   [](const auto& a, const auto& b) { return a.cycles > b.cycles; });
  add_waits(*counts, out);
  const std::uint64_t told = known + out.asleep + out.entering;
  out.unknown = out.cycles - std::min(out.cycles, told);
  return out;
}

CoverageView::Line Session::Core::covered(const Arcs& arcs, unsigned unit, unsigned file,
                                          unsigned line) const {
  CoverageView::Line out{line, arcs.of(arrivals(file, line)), false};
  for (const LineRange& range : program_.stretches_of(file, line))
    for (std::uint32_t a = range.begin; a < range.end && !out.executed; a += unit)
      out.executed = arcs.executed(a) != 0;
  out.executed = out.executed || out.passes != 0;
  return out;
}

void Session::Core::add_branches(const Arcs& arcs, unsigned file, unsigned line,
                                 CoverageView::File& out) const {
  unsigned block = 0;
  for (const CoverageView::Branch& known : out.branches)  // of another unit that includes it
    if (known.line == line) block = std::max(block, known.block + 1);
  for (const LineRange& range : program_.stretches_of(file, line))
    for (std::uint32_t a = range.begin; a < range.end;) {
      const Instruction i = machine().instruction_at(a, false);
      if (i.flow == Flow::kBranch || i.flow == Flow::kSkip) {
        const std::uint64_t all = arcs.executed(a), on = arcs.from(a, a + i.size);
        out.branches.push_back({line, block, false, all != 0, on});
        out.branches.push_back({line, block, true, all != 0, all - on});
        ++block;
      }
      a += std::max<std::uint32_t>(i.size, 1);
    }
}

std::set<unsigned> Session::Core::never_run(unsigned file, unsigned from, unsigned to) const {
  std::set<unsigned> out;
  if (!machine().is_counting()) return out;
  const auto counts = machine().counts();
  const Arcs arcs(*counts, machine());
  for (const unsigned line : program_.files()[file].lines_with_code)
    if (line >= from && line <= to && !covered(arcs, counts->unit, file, line).executed)
      out.insert(line);
  return out;
}

Result<CoverageView> Session::Core::coverage() const {
  const auto counts = this->counts();
  if (!counts) return fail(counts.error());
  const Arcs arcs(*counts, machine());
  std::map<std::string, CoverageView::File> files;
  const auto path_of = [&](unsigned file) {
    const SourceFile& f = program_.files()[file];
    if (const auto& text = sources_.text(f); !text.path.empty())
      return std::filesystem::weakly_canonical(text.path).string();
    const bool whole = f.path.empty() || f.path[0] == '/' || f.directory.empty();
    return whole ? f.path : f.directory + "/" + f.path;
  };
  for (unsigned file = 0; file < program_.files().size(); ++file) {
    if (program_.files()[file].lines_with_code.empty()) continue;
    CoverageView::File& out = files[path_of(file)];
    out.path = path_of(file);
    for (const unsigned line : program_.files()[file].lines_with_code)
      out.lines.push_back(covered(arcs, counts->unit, file, line));
    if (!program_.files()[file].keeps_branches) continue;
    for (const unsigned line : program_.files()[file].lines_with_code)
      add_branches(arcs, file, line, out);
  }
  std::map<std::pair<std::string, std::string>, CoverageView::Function> functions;  // file, name
  for (const Function& function : program_.functions())
    if (function.has_lines && function.file)
      functions[{path_of(*function.file), function.name}] = {function.name, function.line,
                                                             arcs.of(arrival_at(function.begin))};
  for (const InlinedCall& call : program_.inlined_calls()) {
    const auto bodies = arrivals(call);
    const auto range = program_.line_at(bodies.front().address);
    if (!range || range->line == 0) continue;
    auto& row = functions[{path_of(range->file), call.name}];
    if (row.name.empty()) row = {call.name, range->line, 0};
    row.calls += arcs.of(bodies);
  }
  for (auto& [key, function] : functions)
    if (const auto file = files.find(key.first); file != files.end())
      file->second.functions.push_back(std::move(function));
  CoverageView out;
  for (auto& [path, file] : files) {
    std::stable_sort(file.functions.begin(), file.functions.end(),
                     [](const auto& a, const auto& b) { return a.line < b.line; });
    out.files.push_back(std::move(file));
  }
  return out;
}

Result<std::vector<InterruptView>> Session::Core::interrupts() const {
  const auto counts = this->counts();
  if (!counts) return fail(counts.error());
  const ChipInfo& info = machine().info();
  const auto ticks = static_cast<double>(counts->ticks);
  std::vector<InterruptView> out;
  for (const InterruptVector& vector : info.vectors) {
    if (vector.number >= counts->interrupts.size()) continue;
    const machine::InterruptCounts& c = counts->interrupts[vector.number];
    if (c.wait.count == 0 && c.whole.count == 0 && c.withdrawn == 0) continue;
    InterruptView row;
    row.name = vector.name;
    row.number = vector.number;
    row.wait = shown(c.wait, info.clock_hz);
    row.inside = shown(c.inside, info.clock_hz);
    row.whole = shown(c.whole, info.clock_hz);
    row.load = ticks > 0 ? static_cast<double>(c.inside.total) / ticks : 0;
    row.nested = c.nested;
    row.withdrawn = c.withdrawn;
    row.missed = c.missed;
    row.held_by = static_cast<InterruptView::HeldBy>(c.longest.by);
    for (const InterruptVector& other : info.vectors)
      if (row.held_by == InterruptView::HeldBy::kHandler && other.number == c.longest.vector)
        row.held_by_handler = other.name;
    if (row.held_by == InterruptView::HeldBy::kOff)
      row.off_since = turned_off(c.longest.requested_pc);
    row.requested_at = location(c.longest.requested_pc);
    row.entered_at = location(c.longest.entered_pc);
    out.push_back(std::move(row));
  }
  return out;
}

Result<void> Session::survey(Survey what) {
  return core_->machine().count(what != Survey::kOff, what == Survey::kWithCalls);
}
bool Session::surveys() const { return core_->machine().is_counting(); }
Result<std::vector<InstructionCount>> Session::instruction_counts() const {
  return core_->instruction_counts();
}
Result<ProfileView> Session::profile() const { return core_->profile(); }
Result<CoverageView> Session::coverage() const { return core_->coverage(); }
Result<std::vector<InterruptView>> Session::interrupts() const { return core_->interrupts(); }

}  // namespace lucid
