// SPDX-License-Identifier: MIT
// Where the bodies of functions and of inlined calls begin.
#include <algorithm>

#include "frames/passes.h"

namespace lucid::frames {

std::uint32_t LineFlow::body_at(std::uint32_t said) const {
  const auto& nodes = graph_.nodes();
  const auto told = graph_.node_at(said);
  if (!told) return said;
  std::optional<unsigned> row;  // the first one of a statement that is come to once a call
  std::set<unsigned> seen;
  for (unsigned at = first_; seen.insert(at).second; at = nodes[at].next.front()) {
    const auto& before = nodes[at].before;
    const bool once = at == first_ || std::any_of(before.begin(), before.end(), [&](unsigned from) {
                        return !reaches(at, from, kNone);
                      });
    if (at == *told && once) return said;
    const auto range = program_.line_at(nodes[at].address);
    if (!row && at != first_ && once && range && range->line != 0 && range->statement &&
        range->begin == nodes[at].address)
      row = at;
    if (nodes[at].next.empty()) return said;  // the prologue's helper comes back to it
    if (nodes[at].next.size() != 1) break;
  }
  return nodes[row.value_or(first_)].address;
}

Arrival LineFlow::arrival_at(std::uint32_t address) const {
  Arrival out;
  out.address = address;
  const auto node = graph_.node_at(address);
  if (!node) return out;
  for (const unsigned before : graph_.nodes()[*node].before) {
    const bool round = before == *node || reaches(*node, before, kNone);
    (round ? out.inner : out.outer).push_back(graph_.nodes()[before].address);
  }
  if (out.inner.empty()) out.outer.clear();
  return out;
}

/// Is there a way that does not leave a level?
bool LineFlow::reaches_within(unsigned from, unsigned to, const Stack& level) const {
  std::set<unsigned> seen;
  std::vector<unsigned> waiting{from};
  while (!waiting.empty()) {
    const unsigned at = waiting.back();
    waiting.pop_back();
    for (const unsigned next : graph_.nodes()[at].next) {
      if (!begins_with(stacks_[next], level)) continue;
      if (next == to) return true;
      if (seen.insert(next).second) waiting.push_back(next);
    }
  }
  return false;
}

/// Can a node be come to, and from there on itself again or the function's end, without others?
bool LineFlow::goes_past(const std::vector<unsigned>& others, unsigned node) const {
  const auto is_other = [&](unsigned one) {
    return std::find(others.begin(), others.end(), one) != others.end();
  };
  const auto comes = [&](unsigned from, bool or_ends) {
    std::set<unsigned> seen{from};
    std::vector<unsigned> waiting{from};
    while (!waiting.empty()) {
      const auto& next = graph_.nodes()[waiting.back()].next;
      waiting.pop_back();
      if (or_ends && next.empty()) return true;
      for (const unsigned to : next) {
        if (to == node) return true;
        if (!is_other(to) && seen.insert(to).second) waiting.push_back(to);
      }
    }
    return false;
  };
  if (is_other(node) || is_other(first_)) return false;
  return (node == first_ || comes(first_, false)) && comes(node, true);
}

/// Where a level may begin: a statement that is come to from outside, and from within by loops
/// only; but for what is only put into registers there.
std::vector<unsigned> LineFlow::ways_in(const Stack& level) const {
  const auto& nodes = graph_.nodes();
  std::vector<unsigned> out;
  for (unsigned i = 0; i < nodes.size(); ++i) {
    if (!begins_with(stacks_[i], level) || only_loads(i, level)) continue;
    const auto range = program_.line_at(nodes[i].address);
    if (!range || range->begin != nodes[i].address || !range->statement) continue;
    bool outside = i == first_, middle = false;
    for (const unsigned from : nodes[i].before) {
      const bool inside = begins_with(stacks_[from], level);
      outside = outside || !inside;
      // Other copies of the body may go on in this one, where compilers have joined their ends.
      middle = middle || (inside && from != i && !reaches_within(i, from, level));
    }
    if (outside && !middle) out.push_back(i);
  }
  return out;
}

/// Its first line may be the end of a loop, or behind a condition. Then a body begins where it is
/// come to from outside.
void LineFlow::come_in(const Stack& level, std::vector<Arrival>& out) const {
  const std::vector<unsigned> all = ways_in(level);
  for (const unsigned node : all) {
    if (all.size() <= kMostCompared && std::any_of(all.begin(), all.end(), [&](unsigned earlier) {
          return earlier != node && is_part(node, earlier, level, true);
        }))
      continue;
    Arrival arrival;
    arrival.address = graph_.nodes()[node].address;
    for (const unsigned before : graph_.nodes()[node].before)
      (begins_with(stacks_[before], level) ? arrival.inner : arrival.outer)
          .push_back(graph_.nodes()[before].address);
    if (arrival.inner.empty()) arrival.outer.clear();
    out.push_back(std::move(arrival));
  }
}

std::vector<Arrival> LineFlow::body_arrivals(const InlinedCall& body) const {
  std::vector<Arrival> out;
  std::map<Stack, Line> firsts;  // by level: a body may stand in several copies of its caller
  for (const Stack& stack : stacks_) {
    const auto at = std::find(stack.begin(), stack.end(), &body);
    if (at != stack.end()) firsts.emplace(Stack(stack.begin(), at + 1), Line{});
  }
  for (auto& [level, first] : firsts) {
    for (unsigned i = 0; i < stacks_.size(); ++i)
      if (const Line line = line_at_level(i, level);
          line.line != 0 && (first.line == 0 || (line.file == first.file && line < first)))
        first = line;
    const std::vector<unsigned> ways = ways_in(level), begins = stretches(first, level);
    if (std::any_of(ways.begin(), ways.end(),
                    [&](unsigned node) { return goes_past(begins, node); })) {
      come_in(level, out);
      continue;
    }
    const Entries& list = entries(first, level, true);
    const std::size_t others = out.size();
    for (const unsigned node : list.nodes) {
      Arrival arrival = this->arrival(node, list);
      if (node != first_ && !arrival.inner.empty() && arrival.outer.empty()) continue;
      out.push_back(std::move(arrival));
    }
    if (out.size() == others) come_in(level, out);
  }
  return out;
}

}  // namespace lucid::frames
