// SPDX-License-Identifier: MIT
#include "frames/passes.h"

#include <algorithm>

namespace lucid::frames {

LineFlow::LineFlow(const Program& program, const machine::Machine& machine, const FlowGraph& graph,
                   const Function& function)
    : graph_(graph), program_(program) {
  const auto& nodes = graph.nodes();
  for (const FlowGraph::Node& node : nodes) {
    const Instruction instruction = machine.instruction_at(node.address);
    shapes_.push_back(std::hash<std::string>{}(instruction.mnemonic));
    reads_.push_back(machine.target().reads(instruction));
  }
  lines_.resize(nodes.size());
  stacks_.resize(nodes.size());
  first_ = graph.node_at(function.begin).value_or(0);
  std::vector<const InlinedCall*> here;  // that touch this function
  for (const InlinedCall& call : program.inlined_calls())
    for (const Local::Range& range : call.ranges)
      if (range.begin < function.end && function.begin < range.end) {
        here.push_back(&call);
        break;
      }
  std::stable_sort(here.begin(), here.end(),
                   [](const auto* a, const auto* b) { return a->depth < b->depth; });
  for (unsigned i = 0; i < nodes.size(); ++i) {
    const std::uint32_t address = nodes[i].address;
    if (const auto range = program.line_at(address)) lines_[i] = {range->file, range->line};
    for (const InlinedCall* call : here)
      for (const Local::Range& range : call->ranges)
        if (address >= range.begin && address < range.end) {
          stacks_[i].push_back(call);
          break;
        }
  }
  adopt();
}

/// Code without a line goes with the line that all ways to it come from.
void LineFlow::adopt() {
  const auto& nodes = graph_.nodes();
  for (bool changed = true; changed;) {
    changed = false;
    for (unsigned i = 0; i < nodes.size(); ++i) {
      if (lines_[i].line != 0 || nodes[i].before.empty()) continue;
      const unsigned first = nodes[i].before.front();
      const bool same =
          std::all_of(nodes[i].before.begin(), nodes[i].before.end(), [&](unsigned before) {
            return lines_[before] == lines_[first] && stacks_[before] == stacks_[i];
          });
      if (!same || lines_[first].line == 0) continue;
      lines_[i] = lines_[first];
      changed = true;
    }
  }
}

bool LineFlow::begins_with(const Stack& stack, const Stack& level) {
  return stack.size() >= level.size() && std::equal(level.begin(), level.end(), stack.begin());
}

LineFlow::Line LineFlow::line_at_level(unsigned node, const Stack& level) const {
  const Stack& stack = stacks_[node];
  if (!begins_with(stack, level)) return {};
  if (stack.size() == level.size()) return lines_[node];
  const InlinedCall& inner = *stack[level.size()];
  return {inner.call_file.value_or(0), inner.call_line};
}

/// Is there a way that does not lead over `without`?
bool LineFlow::reaches(unsigned from, unsigned to, unsigned without, unsigned nor) const {
  std::vector<bool> seen(graph_.nodes().size());
  std::vector<unsigned> waiting{from};
  while (!waiting.empty()) {
    const unsigned at = waiting.back();
    waiting.pop_back();
    for (const unsigned next : graph_.nodes()[at].next) {
      if (next == without || next == nor || seen[next]) continue;
      if (next == to) return true;
      seen[next] = true;
      waiting.push_back(next);
    }
  }
  return false;
}

/// Each execution of the one has one of the other before it, since its last.
bool LineFlow::follows(unsigned later, unsigned earlier) const {
  if (first_ != earlier && (first_ == later || reaches(first_, later, earlier))) return false;
  return !reaches(later, later, earlier);
}

/// Between two executions of the one there is always just one of the other, which comes first.
bool LineFlow::belongs_to(unsigned later, unsigned earlier) const {
  return follows(later, earlier) && !reaches(earlier, earlier, later);
}

/// Is there a way round within the line, from a node on?
bool LineFlow::loops_within(unsigned node, const Line& line, const Stack& level) const {
  std::set<unsigned> seen{node};
  std::vector<unsigned> waiting{node};
  while (!waiting.empty()) {
    const unsigned at = waiting.back();
    waiting.pop_back();
    for (const unsigned next : graph_.nodes()[at].next) {
      if (line_at_level(next, level) != line) continue;
      if (graph_.nodes()[next].address <= graph_.nodes()[at].address) return true;
      if (seen.insert(next).second) waiting.push_back(next);
    }
  }
  return false;
}

/// From where a row of the line table begins up to a node, registers are loaded with what they hold
/// whenever the node is come to, and nothing else is done.
bool LineFlow::has_constants_before(unsigned node,
                                    const std::function<bool(unsigned)>& within) const {
  const auto& nodes = graph_.nodes();
  const auto& before = nodes[node].before;
  const auto own = std::find_if(before.begin(), before.end(), within);
  if (own == before.end()) return false;
  for (unsigned at = *own;;) {
    const FlowGraph::Node& here = nodes[at];
    if (here.flow != Flow::kNext || here.writes == 0) return false;
    if (!has_constants(node, here.writes)) return false;
    const auto range = program_.line_at(here.address);
    if (range && range->begin == here.address) return true;
    if (here.before.size() != 1 || !within(here.before[0])) return false;
    at = here.before[0];
  }
}

/// Where code of a line begins that is come to from elsewhere.
std::vector<unsigned> LineFlow::stretches(const Line& line, const Stack& level) const {
  const auto& nodes = graph_.nodes();
  const auto within = [&](unsigned node) { return line_at_level(node, level) == line; };
  std::vector<unsigned> own, inner;
  for (unsigned i = 0; i < nodes.size(); ++i) {
    if (!within(i)) continue;
    const bool from_outside = i == first_ || nodes[i].before.empty() ||
                              std::any_of(nodes[i].before.begin(), nodes[i].before.end(),
                                          [&](unsigned before) { return !within(before); });
    // What nothing is seen to lead to is a place only where a stretch of the line begins.
    if (!from_outside || (nodes[i].before.empty() && i != first_ && i > 0 && within(i - 1)))
      continue;
    // Where no row of the line table begins, compilers have let other code go with the line; unless
    // it is the head of a loop, before which the line's constants have been loaded.
    const bool is_head =
        i != first_ && nodes[i].flow != Flow::kIndirectJump && has_constants_before(i, within) &&
        std::any_of(nodes[i].before.begin(), nodes[i].before.end(), [&](unsigned before) {
          return !within(before) && nodes[before].reached && !reaches(first_, before, i);
        });
    const auto range = program_.line_at(nodes[i].address);
    const bool row_begins = range && range->begin == nodes[i].address;
    const bool is_own = (stacks_[i].size() == level.size() && row_begins) ||
                        (stacks_[i].size() == level.size() && is_head) ||
                        program_.has_statement(nodes[i].address, line.file, line.line);
    (is_own ? own : inner).push_back(i);
  }
  if (own.empty()) return inner;
  // Of another round the body of an inlined call may be all there is.
  std::vector<unsigned> bodies;
  for (const unsigned node : inner) {
    const auto range = program_.line_at(nodes[node].address);
    if (stacks_[node].size() > level.size() && range && range->begin == nodes[node].address &&
        range->statement && std::all_of(own.begin(), own.end(), [&](unsigned one) {
          return reaches(first_, node, one);
        }))
      bodies.push_back(node);
  }
  own.insert(own.end(), bodies.begin(), bodies.end());
  return own;
}

/// What a stretch does, but for its operands: copies of a statement do the same.
std::vector<std::size_t> LineFlow::shape_of(unsigned node, const Line& line,
                                            const Stack& level) const {
  std::vector<std::size_t> out;
  std::set<unsigned> seen;
  for (unsigned at = node; line_at_level(at, level) == line && seen.insert(at).second;) {
    const FlowGraph::Node& here = graph_.nodes()[at];
    if (here.flow != Flow::kJump) out.push_back(shapes_[at]);  // copies end in one, or go on
    if (here.next.size() != 1) break;
    at = here.next.front();
  }
  return out;
}

/// The nodes that lie on ways from one to another, which do not lead over `without` between.
std::vector<unsigned> LineFlow::between(unsigned from, unsigned to, unsigned without) const {
  const auto& nodes = graph_.nodes();
  const auto spread = [&](unsigned start, auto list) {
    std::vector<bool> seen(nodes.size());
    std::vector<unsigned> waiting{start};
    while (!waiting.empty()) {
      const unsigned at = waiting.back();
      waiting.pop_back();
      for (const unsigned node : nodes[at].*list)
        if (node != without && !seen[node]) {
          seen[node] = true;
          waiting.push_back(node);
        }
    }
    return seen;
  };
  const auto behind = spread(from, &FlowGraph::Node::next);
  const auto before = spread(to, &FlowGraph::Node::before);
  std::vector<unsigned> out;
  for (unsigned i = 0; i < nodes.size(); ++i)
    if (behind[i] && before[i]) out.push_back(i);
  return out;
}

/// Where a stretch that does nothing but work out registers comes to a branch of another line.
struct LineFlow::Ahead {
  unsigned branch = 0;
  std::set<unsigned> own;     ///< nodes
  std::uint64_t written = 0;  ///< registers
};

std::optional<LineFlow::Ahead> LineFlow::way_ahead(unsigned node, const Line& line,
                                                   const Stack& level) const {
  const auto& nodes = graph_.nodes();
  Ahead out;
  std::set<unsigned> seen;
  bool within = true;
  for (unsigned at = node; seen.insert(at).second; at = nodes[at].next.front()) {
    const FlowGraph::Node& here = nodes[at];
    const bool again = line_at_level(at, level) == line;
    if (again && !within) return std::nullopt;
    within = again;
    out.branch = at;
    if (!within && here.next.size() == 2) return out;
    if (here.next.size() != 1) return std::nullopt;
    if (!within) continue;
    if (here.flow != Flow::kJump &&
        (here.flow != Flow::kNext || !here.in_registers || here.writes == 0))
      return std::nullopt;
    out.written |= here.writes;
    out.own.insert(at);
  }
  return std::nullopt;
}

/// Does a stretch do nothing but put something into registers, before the level is left again?
bool LineFlow::only_loads(unsigned node, const Stack& level) const {
  const auto& nodes = graph_.nodes();
  std::set<unsigned> seen;
  for (unsigned at = node; seen.insert(at).second; at = nodes[at].next.front()) {
    if (!begins_with(stacks_[at], level)) return true;
    const FlowGraph::Node& here = nodes[at];
    const bool loads = here.flow == Flow::kNext && here.in_registers && here.writes != 0;
    if (here.next.size() != 1 || (!loads && here.flow != Flow::kJump)) return false;
  }
  return false;
}

/// What an inlined body needs in registers is put there before a loop around it.
bool LineFlow::is_moved_out(unsigned node, const std::vector<unsigned>& all,
                            const Stack& level) const {
  return only_loads(node, level) && std::any_of(all.begin(), all.end(), [&](unsigned other) {
           return other != node && !only_loads(other, level) && reaches(node, other, kNone);
         });
}

/// Compilers work out ahead, in registers, what a statement needs: before the condition further up
/// that decides whether it is executed. It is not, until it is come to behind that.
bool LineFlow::is_ahead(unsigned node, const std::vector<unsigned>& all, const Line& line,
                        const Stack& level) const {
  const auto ahead = way_ahead(node, line, level);
  if (!ahead) return false;
  const Line decides = line_at_level(ahead->branch, level);
  if (decides.line == 0 || decides.file != line.file || decides.line >= line.line) return false;
  if (is_first_round(*ahead, node)) return false;
  const auto does = shape_of(node, line, level);
  unsigned ways = 0;
  for (const unsigned way : graph_.nodes()[ahead->branch].next) {
    bool comes = false;
    for (const unsigned other : all) {
      if (other == node || (way != other && !reaches(way, other, ahead->branch, node))) continue;
      if (shape_of(other, line, level) == does) return false;
      comes = true;
    }
    ways += comes ? 1 : 0;
  }
  return ways == 1;
}

/// What stands before a loop and writes what its rounds write, too, is of the first of them.
bool LineFlow::is_first_round(const Ahead& ahead, unsigned node) const {
  std::uint64_t again = 0;
  for (const unsigned i : between(ahead.branch, ahead.branch, node)) {
    if (ahead.own.count(i) != 0) continue;
    if (i < node) return false;
    again |= graph_.nodes()[i].writes & ahead.written;
  }
  for (unsigned r = 0; again != 0; ++r, again >>= 1U)
    if ((again & 1U) != 0 && is_read(ahead.branch, r)) return true;
  return false;
}

/// Constants that a line needs in each round of a loop are put into registers before it: that is no
/// execution of the line. What the rounds write, too, is the first of them.
bool LineFlow::is_for_a_loop(unsigned node, const std::vector<unsigned>& all, const Line& line,
                             const Stack& level) const {
  const auto& nodes = graph_.nodes();
  std::uint64_t written = 0;
  std::set<unsigned> seen;
  for (unsigned at = node; line_at_level(at, level) == line; at = nodes[at].next.front()) {
    const FlowGraph::Node& here = nodes[at];
    if (here.next.size() != 1 || !seen.insert(at).second) return false;
    if (here.flow == Flow::kJump) continue;
    const bool loads = here.flow == Flow::kNext && here.in_registers && here.writes != 0;
    if (!loads || !has_constants(at, reads_[at] & ~written)) return false;
    written |= here.writes;
  }
  return std::any_of(all.begin(), all.end(), [&](unsigned other) {
    if (other == node || !reaches(node, other, kNone)) return false;
    const std::vector<unsigned> rounds = between(other, other, node);
    const bool writes = std::any_of(rounds.begin(), rounds.end(),
                                    [&](unsigned i) { return (nodes[i].writes & written) != 0; });
    return !writes && std::any_of(rounds.begin(), rounds.end(), [&](unsigned i) {
      return line_at_level(i, level) == line && (reads_[i] & written) != 0;
    });
  });
}

/// Are registers (a bit each, by DWARF number) known constants at a node?
bool LineFlow::has_constants(unsigned node, std::uint64_t registers) const {
  const machine::FrameState* state = graph_.state_at(node);
  for (unsigned r = 0; registers != 0; ++r, registers >>= 1U)
    if ((registers & 1U) != 0 && (state == nullptr || r >= machine::FrameState::kRegisters ||
                                  state->registers[r].kind != machine::Known::Kind::kConstant))
      return false;
  return true;
}

/// Is a register read, from a node on, before it is written?
bool LineFlow::is_read(unsigned from, unsigned dwarf) const {
  std::set<unsigned> seen{from};
  std::vector<unsigned> waiting{from};
  while (!waiting.empty()) {
    const unsigned at = waiting.back();
    waiting.pop_back();
    if ((reads_[at] >> dwarf & 1U) != 0) return true;
    if ((graph_.nodes()[at].writes >> dwarf & 1U) != 0) continue;
    for (const unsigned next : graph_.nodes()[at].next)
      if (seen.insert(next).second) waiting.push_back(next);
  }
  return false;
}

/// The lines of a level on all ways from one node to another; of all of it, if both are the same.
/// What is only put into registers may have been moved, and says nothing, unless there is no more.
std::set<LineFlow::Line> LineFlow::lines_between(unsigned from, unsigned to,
                                                 const Stack& level) const {
  std::vector<unsigned> way;
  if (from != to) way = between(from, to, from);
  for (unsigned i = 0; from == to && i < lines_.size(); ++i) way.push_back(i);
  way.insert(way.end(), {from, to});
  const auto loads = [&](unsigned node) {
    const FlowGraph::Node& here = graph_.nodes()[node];
    return here.flow == Flow::kNext && here.in_registers;
  };
  bool does_more = false;
  for (unsigned i = 0; i < stacks_.size(); ++i)
    does_more = does_more || (begins_with(stacks_[i], level) && !loads(i));
  std::set<Line> out;
  for (const unsigned node : way)
    if (const Line line = line_at_level(node, level); line.line != 0 && !(does_more && loads(node)))
      out.insert(line);
  return out;
}

/// Is a stretch of the line the rest of what an earlier one has begun? Copies of an inlined body
/// follow each other like parts of one, but with all of its lines between.
bool LineFlow::is_part(unsigned later, unsigned earlier, const Stack& level, bool of_body) const {
  if (!of_body) return belongs_to(later, earlier);
  if (!follows(later, earlier)) return false;
  const std::set<Line> all = lines_between(earlier, earlier, level);
  const std::set<Line> between = lines_between(earlier, later, level);
  return all.size() > 1 ? between != all : between == all;
}

/// Is the way from one node to another, where a stretch of the line begins, part of a pass that has
/// begun elsewhere?
bool LineFlow::is_within(unsigned from, unsigned to, const std::vector<unsigned>& all,
                         const Line& line, const Stack& level, bool of_body) const {
  if (line_at_level(from, level) == line) return true;
  if (of_body && begins_with(stacks_[from], level) &&
      (from == to || reaches_within(to, from, level)))
    return true;
  if (all.size() > kMostCompared) return false;
  return std::any_of(all.begin(), all.end(), [&](unsigned earlier) {
    return earlier != to && is_part(from, earlier, level, of_body) &&
           !are_copies(to, earlier, all, line, level) &&
           !goes_over_earlier_lines(earlier, from, line, level);
  });
}

/// What leads over lines further up begins anew.
bool LineFlow::goes_over_earlier_lines(unsigned from, unsigned to, const Line& line,
                                       const Stack& level) const {
  std::vector<unsigned> way = between(from, to, kNone);
  way.push_back(to);
  return std::any_of(way.begin(), way.end(), [&](unsigned node) {
    const Line here = line_at_level(node, level);
    return here.line != 0 && here.file == line.file && here.line < line.line;
  });
}

/// Loops are unrolled: do two stretches do the same? Halves of something wide look like copies.
bool LineFlow::are_copies(unsigned later, unsigned earlier, const std::vector<unsigned>& all,
                          const Line& line, const Stack& level) const {
  constexpr std::size_t kHalf = 2;  // instructions
  const std::vector<std::size_t> does = shape_of(later, line, level);
  if (does.size() < kHalf || does != shape_of(earlier, line, level)) return false;
  return does.size() > kHalf || std::count_if(all.begin(), all.end(), [&](unsigned node) {
                                  return shape_of(node, line, level) == does;
                                }) > 2;
}

const LineFlow::Entries& LineFlow::entries(const Line& line, const Stack& level,
                                           bool of_body) const {
  const auto [known, is_new] = entries_.try_emplace({line, level, of_body});
  Entries& out = known->second;
  if (!is_new) return out;
  out.nodes = stretches(line, level);
  if (out.nodes.size() > 1 && out.nodes.size() <= kMostCompared) {
    const std::vector<unsigned> all = out.nodes;
    std::vector<unsigned> begins;
    std::copy_if(all.begin(), all.end(), std::back_inserter(begins), [&](unsigned node) {
      return !is_ahead(node, all, line, level) && !is_for_a_loop(node, all, line, level) &&
             !(of_body && is_moved_out(node, all, level));
    });
    if (begins.empty()) begins = all;
    out.nodes.clear();
    std::copy_if(begins.begin(), begins.end(), std::back_inserter(out.nodes), [&](unsigned later) {
      return std::none_of(begins.begin(), begins.end(), [&](unsigned earlier) {
        return earlier != later && is_part(later, earlier, level, of_body) &&
               !are_copies(later, earlier, all, line, level);
      });
    });
  }
  for (const unsigned node : out.nodes)
    for (const unsigned before : graph_.nodes()[node].before)
      if (is_within(before, node, out.nodes, line, level, of_body))
        out.within.emplace(before, node);
  return out;
}

/// Nothing leads there but from within: then `outer` is empty, and `inner` is not.
Arrival LineFlow::arrival(unsigned node, const Entries& list) const {
  Arrival out;
  out.address = graph_.nodes()[node].address;
  for (const unsigned before : graph_.nodes()[node].before)
    (list.within.count({before, node}) != 0 ? out.inner : out.outer)
        .push_back(graph_.nodes()[before].address);
  if (out.inner.empty()) out.outer.clear();
  return out;
}

std::vector<Arrival> LineFlow::arrivals(const Line& line) const {
  std::set<Stack> levels;
  for (unsigned i = 0; i < lines_.size(); ++i) {
    if (lines_[i] == line) levels.insert(stacks_[i]);
    for (std::size_t n = 0; n < stacks_[i].size(); ++n) {
      const InlinedCall& call = *stacks_[i][n];
      if (call.call_line == line.line && call.call_file.value_or(0) == line.file)
        levels.insert(
            Stack(stacks_[i].begin(), stacks_[i].begin() + static_cast<std::ptrdiff_t>(n)));
    }
  }
  std::vector<Arrival> out;
  for (const Stack& level : levels) {
    const Entries& list = entries(line, level);
    for (const unsigned node : list.nodes) {
      Arrival arrival = this->arrival(node, list);
      if (node != first_ && !arrival.inner.empty() && arrival.outer.empty()) continue;
      arrival.rounds = loops_within(node, line, level);
      out.push_back(std::move(arrival));
    }
  }
  return out;
}

bool LineFlow::is_arrival(unsigned from, unsigned to) const {
  const Line& line = lines_[to];
  const Stack& level = stacks_[to];
  if (line.line == 0 || line_at_level(from, level) == line) return false;
  const Entries& list = entries(line, level);
  return std::find(list.nodes.begin(), list.nodes.end(), to) != list.nodes.end() &&
         list.within.count({from, to}) == 0;
}

}  // namespace lucid::frames
