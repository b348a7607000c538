// SPDX-License-Identifier: MIT
#include "session/masks.h"

#include <algorithm>

namespace lucid {

using machine::InterruptEffect;

Session::Core::Masks::Masks(const Core& core, frames::Flows& flows) : core_(core), flows_(flows) {
  std::set<std::uint32_t> begin_off;
  for (const auto& [vector, begin] : core_.handler_begins()) begin_off.insert(begin);
  for (const Function* main : core_.program_.find_functions("main")) begin_off.insert(main->begin);
  std::map<const Function*, std::set<const Function*>> callees;
  std::set<const Function*> called;
  bool through_pointers = false;
  for (const Function& function : core_.program_.functions()) {
    if (function.begin >= function.end) continue;
    auto& its = callees[&function];
    for (const auto& node : flows_.of(core_.program_, core_.machine(), function).nodes()) {
      through_pointers = through_pointers || node.flow == Flow::kIndirectCall;
      const Function* callee = callee_of(node);
      if (callee != nullptr && callee != &function) its.insert(callee);
      const InterruptEffect effect = core_.machine().target().interrupt_effect(
          core_.machine().instruction_at(node.address, false));
      if (effect == InterruptEffect::kAllows) allows_.insert(function.begin);
      if (effect == InterruptEffect::kSaves) saves_.insert(function.begin);
    }
    called.insert(its.begin(), its.end());
  }
  for (const auto& [function, its] : callees)
    if (through_pointers && called.count(function) == 0 && begin_off.count(function->begin) == 0)
      begins_on_.insert(function->begin);
  restores_on_ = allows_;
  for (bool settled = false; !settled;) {
    settled = true;
    ways_.clear();
    for (const auto& [function, its] : callees) {
      if (begins_on_.count(function->begin) != 0 && restores_on_.insert(function->begin).second)
        settled = false;
      if (restores_on_.count(function->begin) != 0)
        for (const Function* callee : its)
          if (restores_on_.insert(callee->begin).second) settled = false;
      const std::vector<bool>& open = open_in(*function);
      const auto& nodes = flows_.of(core_.program_, core_.machine(), *function).nodes();
      for (std::size_t i = 0; i < nodes.size(); ++i) {
        const Function* callee = open[i] ? callee_of(nodes[i]) : nullptr;
        if (callee != nullptr && callee != function && begins_on_.insert(callee->begin).second)
          settled = false;
      }
    }
  }
}

/// Called, or gone on to by a jump.
const Function* Session::Core::Masks::callee_of(const frames::FlowGraph::Node& node) const {
  return node.target ? core_.program_.function_at(*node.target) : nullptr;
}

auto Session::Core::Masks::ways(const Function& function, bool on) -> const Ways& {
  const auto [known, is_new] = ways_.try_emplace({function.begin, on});
  Ways& out = known->second;
  if (is_new) {
    out.behind = on;  // for one that calls itself
    out.open = {on};
    go_through(function, out);
  }
  return out;
}

void Session::Core::Masks::go_through(const Function& function, Ways& out) {
  const auto& nodes = flows_.of(core_.program_, core_.machine(), function).nodes();
  std::vector<bool> seen(nodes.size());
  out.open.resize(nodes.size());
  if (nodes.empty()) return;
  bool ends_on = false, ends = false;
  const bool allowed = allows_.count(function.begin) != 0;
  std::vector<unsigned> todo{0};
  seen[0] = true;
  while (!todo.empty()) {
    const unsigned i = todo.back();
    todo.pop_back();
    bool behind = out.open[i];
    switch (core_.machine().target().interrupt_effect(
        core_.machine().instruction_at(nodes[i].address, false))) {
      case InterruptEffect::kNone:
      case InterruptEffect::kSaves: break;
      case InterruptEffect::kAllows: behind = true; break;
      case InterruptEffect::kForbids: behind = false; break;
      case InterruptEffect::kRestores:
        behind = saves_.count(function.begin) != 0 ? out.open[0] || allowed
                                                   : restores_on_.count(function.begin) != 0;
        break;
    }
    const Function* callee = callee_of(nodes[i]);
    if (callee != nullptr && callee != &function) behind = ways(*callee, behind).behind;
    if (nodes[i].next.empty()) {
      ends = true;
      ends_on = ends_on || behind;
    }
    for (const unsigned next : nodes[i].next) {
      if (seen[next] && (out.open[next] || !behind)) continue;
      out.open[next] = out.open[next] || behind;
      seen[next] = true;
      todo.push_back(next);
    }
  }
  if (ends) out.behind = ends_on;
}

}  // namespace lucid
