// SPDX-License-Identifier: MIT
#include "machine/call_tree.h"

#include <algorithm>

namespace lucid::machine {
namespace {

// Further ones go with their callers.
constexpr std::size_t kMostNodes = 100'000;

}  // namespace

CallTree::CallTree() : nodes_(1) { nodes_[0].calls = 1; }

std::uint32_t CallTree::below(std::uint32_t node, std::uint32_t address) {
  auto& list = nodes_[node].below;
  const auto known = std::find_if(list.begin(), list.end(),
                                  [address](const auto& one) { return one.first == address; });
  if (known != list.end()) {
    std::swap(*known, list.front());  // where it is looked for first
    return list.front().second;
  }
  if (nodes_.size() == kMostNodes) return node;
  const auto made = static_cast<std::uint32_t>(nodes_.size());
  Node fresh;
  fresh.address = address;
  fresh.parent = node;
  nodes_.push_back(std::move(fresh));
  nodes_[node].below.emplace_back(address, made);
  return made;
}

void CallTree::begin(std::uint64_t ended, std::uint64_t cycle) {
  while (depth_ > 0) pop(ended);
  frames_[depth_++] = {0, UINT32_MAX, cycle - stolen_};
}

std::uint32_t CallTree::root_of(std::uint32_t address) {
  for (const auto& [known, root] : handlers_)
    if (known == address) return root;
  const auto root = static_cast<std::uint32_t>(nodes_.size());
  Node fresh;
  fresh.address = address;
  fresh.parent = root;
  fresh.handler = true;
  nodes_.push_back(std::move(fresh));
  handlers_.emplace_back(address, root);
  return root;
}

void CallTree::enter(std::uint32_t address, std::uint32_t sp, std::uint64_t begun,
                     std::uint64_t cycle) {
  // A handler always has its frame, or its time would be another's: the deepest call gives its own.
  if (depth_ > kMostFrames) pop(begun);
  stolen_ += cycle - begun;
  const std::uint32_t root = root_of(address);
  ++nodes_[root].calls;
  nodes_[root].sp = std::min(nodes_[root].sp, sp);
  frames_[depth_++] = {root, sp, cycle - stolen_};
}

std::vector<CallTree::Node> CallTree::nodes(std::uint64_t cycle) const {
  CallTree copy = *this;
  while (copy.depth_ > 0) copy.pop(cycle);
  return std::move(copy.nodes_);
}

}  // namespace lucid::machine
