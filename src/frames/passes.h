// SPDX-License-Identifier: MIT
// When a line executes: arriving in its code from another line of the same call level, never by a
// return. Rounds of a loop that stands on one line are one pass. A stretch that always follows an
// earlier stretch of the line belongs to the same pass: compilers split a line into several.
#ifndef LUCID_FRAMES_PASSES_H
#define LUCID_FRAMES_PASSES_H

#include <functional>
#include <map>
#include <optional>
#include <set>
#include <tuple>
#include <vector>

#include "frames/flow.h"

namespace lucid::frames {

/// A place at which a pass begins.
struct Arrival {
  std::uint32_t address = 0;
  /// Instructions that lead there from within: then it is no arrival. If there are any, `outer` are
  /// all others that lead there, so that the last one executed tells.
  std::vector<std::uint32_t> inner, outer;
  bool rounds = false;  ///< of a loop that stands on this line are one pass
};

/// The lines and inlined bodies of a function's instructions.
class LineFlow {
 public:
  using Stack = std::vector<const InlinedCall*>;  ///< outermost first
  struct Line {
    unsigned file = 0, line = 0;  ///< line 0: none
    friend bool operator==(const Line& a, const Line& b) {
      return a.file == b.file && a.line == b.line;
    }
    friend bool operator!=(const Line& a, const Line& b) { return !(a == b); }
    friend bool operator<(const Line& a, const Line& b) {
      return a.file != b.file ? a.file < b.file : a.line < b.line;
    }
  };

  LineFlow(const Program& program, const machine::Machine& machine, const FlowGraph& graph,
           const Function& function);

  [[nodiscard]] const FlowGraph& graph() const { return graph_; }
  [[nodiscard]] const Line& line_of(unsigned node) const { return lines_[node]; }
  [[nodiscard]] const Stack& stack_of(unsigned node) const { return stacks_[node]; }
  /// The line that a node belongs to as seen from a level: within a body that is inlined further
  /// in, the line of the call. Line 0 if it is not within the level, or has no line.
  [[nodiscard]] Line line_at_level(unsigned node, const Stack& level) const;
  /// Where passes of a line begin in this function, all its inlined copies included.
  [[nodiscard]] std::vector<Arrival> arrivals(const Line& line) const;
  /// Does coming from one node to another begin a pass of the other's line?
  [[nodiscard]] bool is_arrival(unsigned from, unsigned to) const;
  /// Where the function's body begins, if the line table says `said`: that may be within a loop,
  /// and not even what comes first of it.
  [[nodiscard]] std::uint32_t body_at(std::uint32_t said) const;
  /// Where the function's body begins: not when a loop leads back there.
  [[nodiscard]] Arrival arrival_at(std::uint32_t address) const;
  /// The same of an inlined call's: where its first line is come to, but by a loop of its own.
  /// There may be several places (loops are unrolled), and code of it that is executed earlier.
  [[nodiscard]] std::vector<Arrival> body_arrivals(const InlinedCall& body) const;

 private:
  static constexpr unsigned kNone = UINT32_MAX;     ///< no node
  static constexpr std::size_t kMostCompared = 24;  ///< stretches of a line: each with each
  static bool begins_with(const Stack& stack, const Stack& level);
  void adopt();
  [[nodiscard]] bool reaches(unsigned from, unsigned to, unsigned without,
                             unsigned nor = UINT32_MAX) const;
  [[nodiscard]] bool reaches_within(unsigned from, unsigned to, const Stack& level) const;
  [[nodiscard]] bool loops_within(unsigned node, const Line& line, const Stack& level) const;
  [[nodiscard]] bool has_constants_before(unsigned node,
                                          const std::function<bool(unsigned)>& within) const;
  [[nodiscard]] bool follows(unsigned later, unsigned earlier) const;
  [[nodiscard]] bool belongs_to(unsigned later, unsigned earlier) const;
  [[nodiscard]] std::vector<std::size_t> shape_of(unsigned node, const Line& line,
                                                  const Stack& level) const;
  [[nodiscard]] bool are_copies(unsigned later, unsigned earlier, const std::vector<unsigned>& all,
                                const Line& line, const Stack& level) const;
  struct Ahead;
  [[nodiscard]] std::optional<Ahead> way_ahead(unsigned node, const Line& line,
                                               const Stack& level) const;
  [[nodiscard]] bool is_first_round(const Ahead& ahead, unsigned node) const;
  [[nodiscard]] std::vector<unsigned> between(unsigned from, unsigned to, unsigned without) const;
  [[nodiscard]] bool is_for_a_loop(unsigned node, const std::vector<unsigned>& all,
                                   const Line& line, const Stack& level) const;
  [[nodiscard]] bool has_constants(unsigned node, std::uint64_t registers) const;
  [[nodiscard]] bool is_read(unsigned from, unsigned dwarf) const;
  [[nodiscard]] bool goes_over_earlier_lines(unsigned from, unsigned to, const Line& line,
                                             const Stack& level) const;
  [[nodiscard]] std::set<Line> lines_between(unsigned from, unsigned to, const Stack& level) const;
  [[nodiscard]] bool is_part(unsigned later, unsigned earlier, const Stack& level,
                             bool of_body) const;
  [[nodiscard]] bool is_within(unsigned from, unsigned to, const std::vector<unsigned>& all,
                               const Line& line, const Stack& level, bool of_body) const;
  [[nodiscard]] bool is_ahead(unsigned node, const std::vector<unsigned>& all, const Line& line,
                              const Stack& level) const;
  [[nodiscard]] bool is_moved_out(unsigned node, const std::vector<unsigned>& all,
                                  const Stack& level) const;
  [[nodiscard]] bool only_loads(unsigned node, const Stack& level) const;
  [[nodiscard]] std::vector<unsigned> stretches(const Line& line, const Stack& level) const;
  /// Where passes of a line begin, and ways to there that do not begin one.
  struct Entries {
    std::vector<unsigned> nodes;
    std::set<std::pair<unsigned, unsigned>> within;
  };
  [[nodiscard]] const Entries& entries(const Line& line, const Stack& level,
                                       bool of_body = false) const;
  [[nodiscard]] Arrival arrival(unsigned node, const Entries& list) const;
  [[nodiscard]] bool goes_past(const std::vector<unsigned>& others, unsigned node) const;
  [[nodiscard]] std::vector<unsigned> ways_in(const Stack& level) const;
  void come_in(const Stack& level, std::vector<Arrival>& out) const;

  const FlowGraph& graph_;
  const Program& program_;
  unsigned first_ = 0;  ///< node
  std::vector<Line> lines_;
  std::vector<Stack> stacks_;
  std::vector<std::uint64_t> reads_;  ///< registers, a bit each, by DWARF number
  std::vector<std::size_t> shapes_;   ///< the same for what does the same with other operands
  mutable std::map<std::tuple<Line, Stack, bool>, Entries> entries_;
};

}  // namespace lucid::frames

#endif  // LUCID_FRAMES_PASSES_H
