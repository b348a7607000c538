// SPDX-License-Identifier: MIT
#include "frames/runs.h"

#include <algorithm>

#include "frames/resource.h"

namespace lucid::frames {

namespace {

constexpr unsigned kMostBetween = 4;   // instructions from one byte of a value to the next
constexpr unsigned kMostShelved = 16;  // instructions for which a register is put away

/// Adds registers that adjoin; false if they do not.
bool extend(machine::RegisterSpan& run, const machine::RegisterSpan& more) {
  if (run.count == 0 || more.count == 0) return false;
  if (more.first == run.first + run.count) {
    run.count += more.count;
    return true;
  }
  if (more.first + more.count != run.first) return false;
  run.first = more.first;
  run.count += more.count;
  return true;
}

}  // namespace

class Runs::Maker {
 public:
  Maker(Runs& out, const Scope& scope, const Function& function)
      : program_(scope.program),
        machine_(scope.machine),
        target_(scope.machine.target()),
        graph_(scope.flows.of(scope.program, scope.machine, function)),
        results_(out.results_),
        runs_(out.runs_),
        lines_(out.lines_),
        goes_on_(out.goes_on_),
        shelves_(out.shelves_),
        helpers_(out.helpers_) {
    find_results();
    find_runs();
    find_shelves();
  }

 private:
  void find_results() {
    const auto& nodes = graph_.nodes();
    results_.resize(nodes.size());
    runs_.resize(nodes.size());
    goes_on_.resize(nodes.size());
    begins_sum_.resize(nodes.size());
    lines_.resize(nodes.size());
    for (unsigned i = 0; i < nodes.size(); ++i) {
      const Instruction now = machine_.instruction_at(nodes[i].address, false);
      results_[i] = target_.result_of(now);
      begins_sum_[i] = target_.begins_sum(now);
      if (const auto line = program_.line_at(nodes[i].address)) lines_[i] = line->line;
      goes_on_[i] = (target_.reads(now) & mask_of(results_[i].first, results_[i].count)) != 0;
      if (nodes[i].flow == Flow::kCall && nodes[i].target)
        if (const Function* callee = program_.function_at(*nodes[i].target);
            callee != nullptr && callee->begin == *nodes[i].target)
          for (const machine::RegisterSpan& span : target_.helper_results(callee->name))
            helpers_[i].push_back(span);
    }
  }

  /// What adjoining instructions write together, as one value of several bytes.
  void find_runs() {
    const auto& nodes = graph_.nodes();
    for (unsigned i = 0; i < nodes.size();) {
      machine::RegisterSpan run = results_[i];
      std::vector<unsigned> together{i};
      for (unsigned next = i + 1; next < nodes.size() && next - together.back() <= kMostBetween;
           ++next) {
        if (lines_[next] != lines_[i] ||
            nodes[next - 1].address + nodes[next - 1].size != nodes[next].address)
          break;
        const bool anew = goes_on_[next] && begins_sum_[next];
        if ((goes_on_[next] == goes_on_[i] && !anew && extend(run, results_[next])) ||
            (!goes_on_[i] && works_within(next, run)))
          together.push_back(next);
        else if (!is_between(next))
          break;
      }
      for (const unsigned node : together) runs_[node] = run;
      i = together.back() + 1;
    }
    // What stands between them was passed over.
    for (unsigned i = 0; i < nodes.size(); ++i)
      if (runs_[i].count == 0) runs_[i] = results_[i];
  }

  /// Of an instruction that copies one register and does nothing else: to, and from.
  [[nodiscard]] std::pair<int, int> copy_at(unsigned node) const {
    const machine::RegisterSpan& to = results_[node];
    const Instruction now = machine_.instruction_at(graph_.nodes()[node].address, false);
    const std::uint64_t read = target_.reads(now);
    if (to.count != 1 || read == 0 || (read & (read - 1)) != 0) return {-1, -1};
    int from = 0;
    while ((read >> from & 1U) == 0) ++from;
    machine::FrameState state;
    const machine::Known mark{machine::Known::Kind::kEntry, 0, from};
    if (from == to.first ||
        static_cast<std::size_t>(std::max(from, to.first)) >= machine::FrameState::kRegisters)
      return {-1, -1};
    state.registers[static_cast<std::size_t>(from)] = mark;
    target_.follow(now, state);
    if (state.registers[static_cast<std::size_t>(to.first)] != mark) return {-1, -1};
    return {to.first, from};
  }

  /// A register is put away, used for something else, and brought back: the compiler's loops of
  /// shifts have their counter there.
  void find_shelves() {
    const auto& nodes = graph_.nodes();
    for (unsigned begin = 0; begin < nodes.size(); ++begin) {
      const auto [shelf, put_away] = copy_at(begin);
      if (shelf < 0) continue;
      const auto last = std::min<std::size_t>(nodes.size() - 1, begin + kMostShelved);
      for (unsigned end = begin + 1; end <= last; ++end) {
        if ((nodes[end].writes & mask_of(shelf, 1)) != 0) break;
        if (copy_at(end) != std::pair{put_away, shelf}) continue;
        if (is_closed(begin, end)) shelves_[end] = begin;
        break;
      }
    }
  }

  /// Nothing leads into a stretch but its first instruction, nor out of it but its last one.
  [[nodiscard]] bool is_closed(unsigned begin, unsigned end) const {
    const auto& nodes = graph_.nodes();
    const auto within = [&](unsigned node) { return node >= begin && node <= end; };
    for (unsigned i = begin; i <= end; ++i) {
      if (nodes[i].flow == Flow::kCall || nodes[i].flow == Flow::kIndirectCall) return false;
      if (i != begin && !std::all_of(nodes[i].before.begin(), nodes[i].before.end(), within))
        return false;
      if (i != end && !std::all_of(nodes[i].next.begin(), nodes[i].next.end(), within))
        return false;
    }
    return true;
  }

  /// It changes a byte that has just been put there.
  [[nodiscard]] bool works_within(unsigned node, const machine::RegisterSpan& run) const {
    const FlowGraph::Node& here = graph_.nodes()[node];
    return here.flow == Flow::kNext && goes_on_[node] && here.writes != 0 &&
           (here.writes & ~mask_of(run.first, run.count)) == 0;
  }

  /// An instruction that prepares one byte of a value with a register for that, and nothing else.
  [[nodiscard]] bool is_between(unsigned node) const {
    const machine::CallConvention convention = target_.convention();
    const std::uint64_t scratch = convention.call_clobbered & ~convention.arguments;
    const FlowGraph::Node& here = graph_.nodes()[node];
    if (here.flow != Flow::kNext || here.writes == 0) return false;
    if ((here.writes & ~scratch) == 0) return true;
    if (node + 1 >= graph_.nodes().size()) return false;
    const FlowGraph::Node& next = graph_.nodes()[node + 1];
    return (here.writes & ~target_.reads(machine_.instruction_at(next.address, false))) == 0;
  }

  const Program& program_;
  const machine::Machine& machine_;
  const machine::Target& target_;
  const FlowGraph& graph_;
  std::vector<machine::RegisterSpan>&results_, &runs_;
  std::vector<unsigned>& lines_;
  std::vector<bool>& goes_on_;
  std::vector<bool> begins_sum_;
  std::map<unsigned, unsigned>& shelves_;
  std::map<unsigned, std::vector<machine::RegisterSpan>>& helpers_;
};

Runs::Runs(const Scope& scope, const Function& function) {
  const Maker made(*this, scope, function);
}

bool Runs::is_one_stretch(unsigned line) const {
  unsigned stretches = 0;
  for (std::size_t i = 0; i < lines_.size(); ++i)
    if (lines_[i] == line && (i == 0 || lines_[i - 1] != line)) ++stretches;
  return stretches == 1;
}

}  // namespace lucid::frames
