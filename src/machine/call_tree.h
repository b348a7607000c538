// SPDX-License-Identifier: MIT
// CallTree: who called whom how often, and how long that took, worked out from calls, returns and
// interrupts as they happen. Handlers have trees of their own: their time is not that of what they
// interrupt. Time asleep belongs to nobody.
#ifndef LUCID_MACHINE_CALL_TREE_H
#define LUCID_MACHINE_CALL_TREE_H

#include <array>
#include <cstddef>
#include <cstdint>
#include <utility>
#include <vector>

namespace lucid::machine {

class CallTree {
 public:
  struct Node {
    std::uint32_t address = 0;  ///< byte address of the function; of a root, where it begins
    std::uint32_t parent = 0;   ///< a root is its own
    bool handler = false;       ///< the root of a handler's tree
    std::uint64_t calls = 0;
    std::uint64_t cycles = 0;       ///< with those below, without handlers and sleep
    std::uint32_t sp = UINT32_MAX;  ///< the lowest stack pointer behind a call
    std::vector<std::pair<std::uint32_t, std::uint32_t>> below;  ///< by address, the nodes
  };

  CallTree();
  /// Of the function at a byte address; `sp` is the stack pointer behind it.
  void call(std::uint32_t address, std::uint32_t sp, std::uint64_t cycle) {
    // Deeper calls go with the function there: recursion is bounded.
    if (depth_ >= kMostFrames) return;
    const auto& list = nodes_[frames_[depth_ - 1].node].below;
    const std::uint32_t node = !list.empty() && list.front().first == address
                                   ? list.front().second
                                   : below(frames_[depth_ - 1].node, address);
    ++nodes_[node].calls;
    if (sp < nodes_[node].sp) nodes_[node].sp = sp;
    frames_[depth_++] = {node, sp, cycle - stolen_};
  }
  /// By a return, also from an interrupt; `sp` is the stack pointer behind it.
  void leave(std::uint32_t sp, std::uint64_t cycle) {
    while (depth_ > 1 && frames_[depth_ - 1].sp < sp) pop(cycle);
  }
  /// A handler is entered at a byte address; `sp` is the stack pointer behind the entry, which has
  /// begun at `begun`.
  void enter(std::uint32_t address, std::uint32_t sp, std::uint64_t begun, std::uint64_t cycle);
  /// So many cycles have just gone by asleep.
  void sleep(std::uint64_t cycles) { stolen_ += cycles; }
  /// What was under way ended at a cycle, and the program goes on at another, from where is not
  /// known: after a reset, or in another future.
  void begin(std::uint64_t ended, std::uint64_t cycle);
  /// What has not returned yet included. The first is the program.
  [[nodiscard]] std::vector<Node> nodes(std::uint64_t cycle) const;

 private:
  struct Frame {
    std::uint32_t node;
    std::uint32_t sp;
    std::uint64_t start;  ///< cycle less what was stolen by then
  };
  static constexpr std::size_t kMostFrames = 64;
  [[nodiscard]] std::uint32_t root_of(std::uint32_t address);
  [[nodiscard]] std::uint32_t below(std::uint32_t node, std::uint32_t address);
  void pop(std::uint64_t cycle) {
    const Frame& frame = frames_[--depth_];
    Node& node = nodes_[frame.node];
    const std::uint64_t spent = cycle - stolen_ - frame.start;
    node.cycles += spent;
    // All that a handler has taken, handlers within included, is not of who it interrupts.
    if (node.handler) stolen_ += spent;
  }

  std::vector<Node> nodes_;
  std::vector<std::pair<std::uint32_t, std::uint32_t>> handlers_;  ///< roots, by address
  std::array<Frame, kMostFrames + 1> frames_{};  ///< the first is always there; one for a handler
  std::size_t depth_ = 1;
  std::uint64_t stolen_ = 0;  ///< cycles of handlers and sleep
};

}  // namespace lucid::machine

#endif  // LUCID_MACHINE_CALL_TREE_H
