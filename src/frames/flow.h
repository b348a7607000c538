// SPDX-License-Identifier: MIT
// The flow graph of a function, made from its code, and what is known of its frame at each
// instruction.
#ifndef LUCID_FRAMES_FLOW_H
#define LUCID_FRAMES_FLOW_H

#include <functional>
#include <map>
#include <memory>
#include <set>
#include <tuple>
#include <vector>

#include "lucid/program.h"
#include "machine/machine.h"

namespace lucid::frames {

class FlowGraph {
 public:
  struct Node {
    std::uint32_t address = 0;
    std::uint8_t size = 0;
    Flow flow = Flow::kNext;
    std::optional<std::uint32_t> target;  ///< of a fixed jump, branch or call
    std::uint64_t writes = 0;             ///< registers, a bit each
    std::vector<unsigned> next, before;   ///< nodes
    bool reached = false;                 ///< from the function's start
    bool in_registers = false;            ///< it touches nothing but registers and flags
  };

  /// A place outside the function that it goes on to by a jump or by falling into it, and what is
  /// known there.
  struct Leave {
    std::uint32_t address = 0;
    machine::FrameState state;
  };

  /// `entries` are further places where others come in; `returns` says whether a call of an address
  /// comes back: behind one that does not, nothing is known.
  using Returns = std::function<bool(std::uint32_t)>;
  FlowGraph(const Program& program, const machine::Machine& machine, const Function& function,
            const Returns& returns, const std::vector<Leave>& entries = {});

  [[nodiscard]] const std::vector<Node>& nodes() const { return nodes_; }  ///< by address
  /// The node of the instruction that begins at an address, or that holds it.
  [[nodiscard]] std::optional<unsigned> node_at(std::uint32_t address) const;
  /// What is known before an instruction; null where nothing leads.
  [[nodiscard]] const machine::FrameState* state_at(unsigned node) const;
  [[nodiscard]] const std::vector<Leave>& leaves() const { return leaves_; }
  /// There is an indirect jump whose way is not known: it may go anywhere.
  [[nodiscard]] bool has_unknown_jump() const { return unknown_jump_; }
  /// The code is still what the graph was made from.
  [[nodiscard]] bool is_of(const machine::Machine& machine) const;

 private:
  class Maker;

  std::vector<Node> nodes_;
  std::vector<machine::FrameState> states_;  ///< by node; only where `reached`
  std::vector<Leave> leaves_;
  bool unknown_jump_ = false;
  std::uint32_t begin_ = 0, end_ = 0;
  std::vector<std::uint8_t> code_;
};

class LineFlow;
class Runs;

/// The graphs that have been asked for, made again when the code changes.
class Flows {
 public:
  /// Good until the next call. REQUIRES: `function` is one of `program`, which has not changed
  /// since the last call to forget().
  const FlowGraph& of(const Program& program, const machine::Machine& machine,
                      const Function& function);
  /// The same, with the ways into it from the middle of others: libraries in assembly have some.
  const FlowGraph& with_ways_in(const Program& program, const machine::Machine& machine,
                                const Function& function);
  /// The lines of a function's graph.
  const LineFlow& lines_of(const Program& program, const machine::Machine& machine,
                           const Function& function);
  /// The registers among those for arguments that a function reads before it writes them.
  std::uint64_t live_at_entry(const Program& program, const machine::Machine& machine,
                              const Function& function, unsigned depth = 0);
  /// Where a register of the caller's is: where it was, in the frame, in another register, lost.
  struct Moved {
    int dwarf_register = -1;
    bool stays = false;
    std::optional<std::int32_t> offset;  ///< from the stack pointer at the function's entry
    int other = -1;
  };
  /// What has been worked out over a function's graph, so that it is worked out once.
  struct Findings {
    /// By local and its bytes: does the place described for it hold it, by node?
    std::map<std::tuple<const Local*, std::uint32_t, std::uint32_t>, std::vector<bool>> held;
    /// By register: where in the frame it points for most of the function.
    std::map<int, std::optional<std::int32_t>> frame_offsets;
    /// By address, whether that is in a call, and the bytes of an object: which have been stored.
    std::map<std::tuple<std::uint32_t, bool, std::int32_t, std::uint32_t>, std::vector<bool>>
        stored;
    std::map<unsigned, std::vector<Moved>> moved;  ///< by node
    std::shared_ptr<const Runs> runs;              ///< null: nobody has asked
    /// Where locals begin in the frame, counted from the stack pointer at entry.
    std::optional<std::set<std::int32_t>> objects;
  };
  /// Good until the code changes, or forget().
  Findings& findings(const Program& program, const machine::Machine& machine,
                     const Function& function);
  /// Where the jumps of the vectors but the first lead.
  const std::vector<std::uint32_t>& behind_vectors(const machine::Machine& machine);
  void forget();
  Flows();
  ~Flows();
  Flows(Flows&&) noexcept;

 private:
  bool returns(const Program& program, const machine::Machine& machine, std::uint32_t address);
  [[nodiscard]] FlowGraph::Returns asker(const Program& program, const machine::Machine& machine) {
    return [&, this](std::uint32_t address) { return returns(program, machine, address); };
  }

  using Graphs = std::map<std::uint32_t, std::unique_ptr<const FlowGraph>>;
  Graphs graphs_, wide_;  ///< by the function's begin
  std::map<std::uint32_t, std::unique_ptr<const LineFlow>> lines_;
  std::map<std::uint32_t, Findings> findings_;
  std::map<std::uint32_t, std::uint64_t> live_;
  std::map<std::uint32_t, bool> returns_;
  std::vector<std::uint8_t> vectors_;  ///< their bytes
  std::vector<std::uint32_t> behind_vectors_;
  unsigned depth_ = 0;                    ///< of functions asked for by functions
  std::vector<FlowGraph::Leave> leaves_;  ///< of all functions without lines
};

}  // namespace lucid::frames

#endif  // LUCID_FRAMES_FLOW_H
