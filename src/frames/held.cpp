// SPDX-License-Identifier: MIT
#include "frames/held.h"

#include <algorithm>
#include <deque>
#include <set>
#include <tuple>

#include "frames/resource.h"
#include "frames/runs.h"

namespace lucid::frames {
namespace {

constexpr unsigned kMostBack = 200;  // instructions between a value's last byte and its place

const Runs& runs_of(const Scope& scope, const Function& function) {
  auto& known = scope.flows.findings(scope.program, scope.machine, function).runs;
  if (known == nullptr) known = std::make_shared<const Runs>(scope, function);
  return *known;
}

class RegisterFlow {
 public:
  RegisterFlow(const Scope& scope, const Local& local, const Function& function,
               std::uint32_t begin, std::uint32_t end)
      : scope_(scope),
        target_(scope.machine.target()),
        local_(local),
        graph_(scope.flows.of(scope.program, scope.machine, function)),
        runs_(runs_of(scope, function)),
        function_(function) {
    const auto& nodes = graph_.nodes();
    place_.resize(nodes.size(), -1);
    for (const Local::Place& place : local.places)
      resources_.push_back(resource(scope_, function_, place.ops, begin, end));
    for (unsigned i = 0; i < nodes.size(); ++i)
      for (std::size_t p = 0; p < local.places.size(); ++p)
        if (nodes[i].address >= local.places[p].range.begin &&
            nodes[i].address < local.places[p].range.end)
          place_[i] = static_cast<int>(p);
    solve();
  }

  /// By node; true where nothing is known of the code.
  [[nodiscard]] std::vector<bool> held() const {
    std::vector<bool> out(holds_.size());
    for (std::size_t i = 0; i < out.size(); ++i)
      out[i] = place_[i] < 0 || !graph_.nodes()[i].reached || holds_[i];
    return out;
  }

  /// Does what is worked out at a node begin where another local has just been written over in
  /// these registers? Then that is what it is worked out from.
  [[nodiscard]] bool is_renewed(unsigned node, std::uint64_t mask,
                                const std::vector<bool>& held) const {
    const std::uint32_t begin = local_.places[static_cast<std::size_t>(place_[node])].range.begin;
    const auto first = graph_.node_at(begin);
    if (!first) return false;
    const auto& before = graph_.nodes()[*first].before;
    return std::any_of(before.begin(), before.end(), [&](unsigned b) {
      return held[b] && (graph_.nodes()[b].writes & mask) != 0;
    });
  }

  /// Compilers compute from registers of other locals that the code has spoiled by then: an
  /// instruction of theirs may stand for several, and those work in what it reads.
  void take_back_computed(std::vector<bool>& held) const {
    std::map<const Local*, std::vector<bool>> others;
    for (unsigned i = 0; i < held.size(); ++i) {
      const Resource& place = at_node(i);
      const bool computed =
          place.kind == Resource::Kind::kComputed || place.kind == Resource::Kind::kMemory;
      if (!held[i] || !computed || place.mask == 0) continue;
      const std::uint32_t address = graph_.nodes()[i].address;
      for (const Local* other : scope_.program.locals_at(address)) {
        if (other == &local_ || (other->places.size() < 2 && !other->parameter) || !held[i])
          continue;
        std::uint64_t shared = 0;
        for (const Local::Place& p : other->places) {
          const Resource its = resource_of(*other, p);
          if (address >= p.range.begin && address < p.range.end &&
              its.kind == Resource::Kind::kRegisters)
            shared |= its.mask & place.mask;
        }
        if (shared == 0) continue;
        auto known = others.find(other);
        if (known == others.end()) {
          const std::uint32_t bytes = scope_.program.types()[other->type].bytes;
          known =
              others.emplace(other, RegisterFlow(scope_, *other, function_, 0, bytes).held()).first;
        }
        held[i] = known->second[i] || is_renewed(i, shared, known->second);
      }
    }
  }

 private:
  [[nodiscard]] const Resource& at_node(unsigned node) const {
    static const Resource kNone;
    return place_[node] < 0 ? kNone : resources_[static_cast<std::size_t>(place_[node])];
  }

  /// Of another local, all of it.
  [[nodiscard]] Resource resource_of(const Local& other, const Local::Place& place) const {
    return resource(scope_, function_, place.ops, 0, scope_.program.types()[other.type].bytes);
  }
  /// Has an instruction brought back what a place rests on, and was that there before?
  [[nodiscard]] bool is_brought_back(unsigned node, const Resource& place) const {
    const auto begin = runs_.put_away_at(node);
    if (!begin || place.kind != Resource::Kind::kRegisters) return false;
    const auto& nodes = graph_.nodes();
    const std::uint64_t put_away = mask_of(runs_.result(node).first, 1);
    for (unsigned i = *begin; i < node; ++i)
      if ((nodes[i].writes & place.mask & ~put_away) != 0) return false;
    return (put_away & place.mask) != 0 && at_node(*begin) == place && holds_[*begin];
  }

  enum class Effect : std::uint8_t { kNone, kSets, kSpoils };

  /// What an instruction does to a place.
  [[nodiscard]] Effect effect(unsigned node, const Resource& place) const {
    const FlowGraph::Node& here = graph_.nodes()[node];
    if (const auto* helper = runs_.helper(node))
      for (const machine::RegisterSpan& span : *helper)
        if ((mask_of(span.first, span.count) & place.mask) != 0)
          return span.first == place.first && place.kind == Resource::Kind::kRegisters
                     ? Effect::kSets
                     : Effect::kSpoils;
    if ((here.writes & place.mask) == 0) return Effect::kNone;
    // A counter from which the value is worked out moves along with it.
    if (place.kind == Resource::Kind::kComputed && here.flow == Flow::kNext &&
        (here.writes & place.mask & ~reads(node)) == 0)
      return Effect::kNone;
    if (place.kind != Resource::Kind::kRegisters) return Effect::kSpoils;
    const machine::RegisterSpan& run = runs_.run(node);
    // A pointer that moves by itself is in its register whole.
    if ((here.writes & place.mask & ~mask_of(run.first, run.count)) != 0) return Effect::kSpoils;
    // A part may be changed where it is: `crc ^= byte << 8`.
    const bool changes_part = runs_.goes_on(node) && here.flow == Flow::kNext &&
                              (mask_of(run.first, run.count) & ~place.mask) == 0 &&
                              !is_others(here.address + here.size, here.writes, 1);
    if (run.first != place.first && !changes_part) return Effect::kSpoils;
    if (!is_used_behind(node, run.first == place.first ? place.mask : here.writes))
      return Effect::kSpoils;
    return runs_.goes_on(node) ? Effect::kNone : Effect::kSets;
  }

  /// A comparison may leave its result in a register, and an expression what it works with: nobody
  /// reads it beyond its line then.
  [[nodiscard]] bool is_used_behind(unsigned node, std::uint64_t mask) const {
    const auto known = used_.find({node, mask});
    if (known != used_.end()) return known->second;
    const auto& nodes = graph_.nodes();
    // Behind the run of instructions that write the value together.
    unsigned last = node;
    while (last + 1 < nodes.size() && runs_.run(last + 1).first == runs_.run(node).first &&
           runs_.run(last + 1).count == runs_.run(node).count &&
           runs_.result(last + 1).count != 0 &&
           nodes[last].address + nodes[last].size == nodes[last + 1].address && last - node < 8)
      ++last;
    return used_[{node, mask}] = is_used_from(nodes[last].next, mask, runs_.line(node));
  }

  /// Does anything outside of a line, or in the next round of a loop, read one of these registers
  /// before it is written?
  [[nodiscard]] bool is_used_from(const std::vector<unsigned>& begin, std::uint64_t mask,
                                  unsigned line) const {
    struct Way {
      unsigned at;
      std::uint64_t left;
      bool within;  // the line
      bool operator<(const Way& o) const {
        return std::tie(at, left, within) < std::tie(o.at, o.left, o.within);
      }
    };
    const auto& nodes = graph_.nodes();
    const std::uint64_t leaving = returned();
    bool used = false;
    std::set<Way> seen;
    std::deque<Way> waiting;
    for (const unsigned next : begin) waiting.push_back({next, mask, line != 0});
    while (!waiting.empty() && !used) {
      Way way = waiting.front();
      waiting.pop_front();
      way.within = way.within && runs_.line(way.at) == line;
      if (!seen.insert(way).second) continue;
      if (seen.size() > 4000) used = true;
      used = used || (!way.within && (reads(way.at) & way.left) != 0);
      // What the same line works on goes on where it is.
      if (!way.within || !runs_.goes_on(way.at)) way.left &= ~nodes[way.at].writes;
      const bool call =
          nodes[way.at].flow == Flow::kCall || nodes[way.at].flow == Flow::kIndirectCall;
      if (nodes[way.at].next.empty() && !call) used = used || (way.left & leaving) != 0;
      if (call) way.left &= ~clobbered_at(way.at);
      if (way.left == 0) continue;
      for (const unsigned next : nodes[way.at].next)
        waiting.push_back({next, way.left, way.within && next > way.at});
    }
    return used;
  }

  [[nodiscard]] std::uint64_t reads(unsigned node) const {
    const FlowGraph::Node& here = graph_.nodes()[node];
    const std::uint64_t own = target_.reads(scope_.machine.instruction_at(here.address, false));
    if (here.flow == Flow::kIndirectCall) return own | target_.convention().arguments;
    if (here.flow != Flow::kCall) return own;
    const Function* callee = here.target ? scope_.program.function_at(*here.target) : nullptr;
    if (callee == nullptr || callee->begin != here.target)
      return own | target_.convention().arguments;
    return own | scope_.flows.live_at_entry(scope_.program, scope_.machine, *callee);
  }
  /// What a call leaves nothing of. A routine of the compiler's own keeps most registers.
  [[nodiscard]] std::uint64_t clobbered_at(unsigned node) const {
    const auto* helper = runs_.helper(node);
    if (helper == nullptr) return target_.convention().call_clobbered;
    std::uint64_t out = 0;
    for (const machine::RegisterSpan& span : *helper) out |= mask_of(span.first, span.count);
    return out;
  }
  /// What the function itself returns, if that is known.
  [[nodiscard]] std::uint64_t returned() const {
    if (!function_.has_lines) return result_registers();
    const std::uint32_t bytes = scope_.program.types()[function_.returns].bytes;
    if (function_.returns == 0 || bytes == 0) return 0;
    const machine::RegisterSpan in = target_.returned_in(bytes);
    return in.count != 0 ? mask_of(in.first, in.count) : result_registers();
  }
  [[nodiscard]] std::uint64_t result_registers() const {
    return target_.convention().call_clobbered & target_.convention().arguments;
  }

  void solve() {
    const auto& nodes = graph_.nodes();
    holds_.assign(nodes.size(), true);
    for (bool changed = true; changed;) {
      changed = false;
      for (unsigned at = 0; at < nodes.size(); ++at) {
        if (place_[at] < 0 || !holds_[at] || !nodes[at].reached) continue;
        bool holds = true;
        if (nodes[at].address == function_.begin) holds = local_.parameter || !in_registers(at);
        for (const unsigned before : nodes[at].before)
          if (holds && nodes[before].reached) holds = comes_with(before, at);
        if (holds || has_come(at)) continue;
        holds_[at] = false;
        changed = true;
      }
    }
  }

  /// Following the code, is what a parameter came with in the registers where it is said to be?
  /// They may have been used for something else in between.
  [[nodiscard]] bool has_come(unsigned node) const {
    const Resource& place = at_node(node);
    const machine::FrameState* state = graph_.state_at(node);
    if (!local_.parameter || place.kind != Resource::Kind::kRegisters || state == nullptr)
      return false;
    for (std::size_t p = 0; p < resources_.size(); ++p) {
      const Resource& first = resources_[p];
      if (local_.places[p].range.begin != function_.begin || first.kind != place.kind ||
          first.count != place.count)
        continue;
      for (int i = 0; i < place.count; ++i)
        if (!(state->registers[static_cast<std::size_t>(place.first) +
                               static_cast<std::size_t>(i)] ==
              machine::Known{machine::Known::Kind::kEntry, 0, first.first + i}))
          return false;
      return true;
    }
    return false;
  }

  [[nodiscard]] bool in_registers(unsigned node) const {
    const Resource::Kind kind = at_node(node).kind;
    return kind == Resource::Kind::kRegisters || kind == Resource::Kind::kComputed;
  }

  /// Coming from one instruction to the next one, does the place there hold?
  [[nodiscard]] bool comes_with(unsigned before, unsigned at) const {
    const Resource& place = at_node(at);
    const auto& nodes = graph_.nodes();
    const bool begins =  // coming from outside: a loop's next round does not
        (place_[before] != place_[at] || place.mask == 0) &&
        local_.places[static_cast<std::size_t>(place_[at])].range.begin == nodes[at].address;
    const bool same = place_[before] >= 0 && at_node(before) == place;
    if (place.kind == Resource::Kind::kConstant || place.kind == Resource::Kind::kMemory)
      return begins || (same && holds_[before] && (nodes[before].writes & place.mask) == 0);
    if (is_brought_back(before, place)) return true;
    if (same && is_given(before, at, place)) return true;
    if (same) {
      switch (effect(before, place)) {
        case Effect::kNone: return holds_[before];
        case Effect::kSets:
          return local_.places.size() > 1 ? !is_wider_ones(nodes[at].address, place)
                                          : !is_others(nodes[at].address, place.mask);
        case Effect::kSpoils: return begins && sets_last(before, place);
      }
    }
    return found_before(before, at, place, begins);
  }

  /// Of a local that has the same registers all along: does it get its value between two
  /// instructions, by the line that ends there or from another local that has been there?
  [[nodiscard]] bool is_given(unsigned before, unsigned at, const Resource& place) const {
    if (local_.places.size() != 1 || place.kind != Resource::Kind::kRegisters) return false;
    if (is_others(graph_.nodes()[at].address, place.mask)) return false;
    if (!line_sets(before, at, place) && !is_handed_over(before, at, place)) return false;
    return is_used_from({at}, place.mask, runs_.line(before));
  }

  /// Is another local in some of these registers, by a list of its places? That is told more
  /// exactly than a place all along.
  [[nodiscard]] bool is_others(std::uint32_t address, std::uint64_t mask,
                               std::size_t least = 2) const {
    for (const Local* other : scope_.program.locals_at(address))
      if (other != &local_ && other->places.size() >= least)
        for (const Local::Place& p : other->places) {
          if (address < p.range.begin || address >= p.range.end) continue;
          const Resource there = resource_of(*other, p);
          if (there.kind == Resource::Kind::kRegisters && (there.mask & mask) != 0) return true;
        }
    return false;
  }

  /// Does another local have these registers among more? Then what was put there is its value.
  [[nodiscard]] bool is_wider_ones(std::uint32_t address, const Resource& place) const {
    for (const Local* other : scope_.program.locals_at(address))
      for (const Local::Place& p : other->places) {
        if (other == &local_ || other->places.size() < 2 || address < p.range.begin ||
            address >= p.range.end)
          continue;
        const Resource there = resource_of(*other, p);
        if (there.kind == Resource::Kind::kRegisters && (place.mask & ~there.mask) == 0 &&
            there.mask != place.mask)
          return true;
      }
    return false;
  }

  /// A line has put all of its bytes there, in whatever order. Where it is declared, what was there
  /// before may be a part of the value.
  [[nodiscard]] bool line_sets(unsigned before, unsigned at, const Resource& place) const {
    if (runs_.line(before) == 0 || runs_.line(at) == runs_.line(before)) return false;
    const auto& nodes = graph_.nodes();
    std::uint64_t missing = place.mask, fresh = 0;
    for (unsigned node = before;;) {
      const std::uint64_t written = nodes[node].writes & place.mask;
      const std::uint64_t whole = mask_of(runs_.run(node).first, runs_.run(node).count);
      if ((written & ~whole) != 0 || (written != 0 && (whole & ~place.mask) != 0)) return false;
      missing &= ~written;
      fresh = runs_.goes_on(node) ? fresh & ~written : fresh | written;
      if (nodes[node].before.size() != 1) break;
      const unsigned previous = nodes[node].before.front();
      if (runs_.line(previous) != runs_.line(before) || nodes[previous].next.size() != 1 ||
          previous + 1 != node)
        break;
      node = previous;
    }
    if (missing != 0) return false;
    return fresh == place.mask ||
           (runs_.line(before) == local_.line && runs_.is_one_stretch(local_.line));
  }

  /// Another local's place leaves these registers where nothing writes them: a copy that needed no
  /// code.
  [[nodiscard]] bool is_handed_over(unsigned before, unsigned at, const Resource& place) const {
    const auto& nodes = graph_.nodes();
    if ((nodes[before].writes & place.mask) != 0) return false;
    const auto has = [&](const Local& other, std::uint32_t address) {
      return std::any_of(other.places.begin(), other.places.end(), [&](const Local::Place& p) {
        if (address < p.range.begin || address >= p.range.end) return false;
        const Resource there = resource_of(other, p);
        return there.kind == Resource::Kind::kRegisters && there.first == place.first &&
               (there.mask & place.mask) == place.mask;
      });
    };
    for (const Local* other : scope_.program.locals_at(nodes[before].address))
      if (other != &local_ && other->places.size() > 1 && has(*other, nodes[before].address) &&
          !has(*other, nodes[at].address))
        return true;
    return false;
  }

  /// The instruction that ends one place and begins the next one of the same kind.
  [[nodiscard]] bool sets_last(unsigned before, const Resource& place) const {
    return (graph_.nodes()[before].writes & place.mask) != 0;
  }

  /// Looks back on all ways for the instructions that have put the value there, byte by byte.
  [[nodiscard]] bool found_before(unsigned before, unsigned at, const Resource& place,
                                  bool begins) const {
    const auto& nodes = graph_.nodes();
    if (place.kind == Resource::Kind::kComputed) return begins || was_held(before, at);
    std::vector<std::pair<unsigned, std::uint64_t>> waiting{{before, place.mask}};
    std::set<std::pair<unsigned, std::uint64_t>> seen{waiting.front()};
    bool by_others = false;  // as a part of a wider value
    while (!waiting.empty()) {
      auto [node, missing] = waiting.back();
      waiting.pop_back();
      if (seen.size() > kMostBack) return begins && same_constant(before, at, place);
      const bool call = nodes[node].flow == Flow::kCall || nodes[node].flow == Flow::kIndirectCall;
      if (call && (missing & result_registers()) != 0) {
        if (!begins) return false;  // what it returns
        continue;
      }
      if (place_[node] >= 0 && at_node(node) == place) {
        if (!holds_[node] && effect(node, place) != Effect::kSets) return false;
        continue;
      }
      const std::uint64_t written = nodes[node].writes & place.mask;
      if (written != 0 && (nodes[node].writes & ~place.mask) != 0) {
        if (!begins || node != before) return false;
        continue;
      }
      // A comparison works in what it compares, where nobody reads that any more.
      if (runs_.goes_on(node) && (written & missing) != 0 &&
          !is_used_behind(node, written & missing))
        return false;
      missing &= ~written;
      if (missing == 0) continue;
      by_others =
          by_others || (written != 0 &&
                        (mask_of(runs_.run(node).first, runs_.run(node).count) & ~place.mask) != 0);
      if (nodes[node].before.empty())
        return begins && (same_constant(before, at, place) || (!by_others && is_argument(place)));
      for (const unsigned next : nodes[node].before)
        if (seen.insert({next, missing}).second) waiting.emplace_back(next, missing);
    }
    return true;
  }

  /// The code has been where it is worked out in this way, on all ways, or where it is a constant
  /// that comes to the same; what that rests on has not been written since. In between the compiler
  /// says it otherwise.
  [[nodiscard]] bool was_held(unsigned before, unsigned at) const {
    const Resource& place = at_node(at);
    const auto& nodes = graph_.nodes();
    std::vector<unsigned> waiting{before};
    std::set<unsigned> seen{before};
    while (!waiting.empty()) {
      const unsigned node = waiting.back();
      waiting.pop_back();
      const bool call = nodes[node].flow == Flow::kCall || nodes[node].flow == Flow::kIndirectCall;
      if (place_[node] < 0 || seen.size() > kMostBack) return false;
      if (((nodes[node].writes | (call ? clobbered_at(node) : 0)) & place.mask) != 0) return false;
      if (at_node(node) == place) {
        if (!holds_[node]) return false;
        continue;
      }
      if (at_node(node).kind == Resource::Kind::kConstant) {
        if (!comes_to_the_same(node, at)) return false;
        continue;
      }
      if (nodes[node].before.empty()) return false;
      for (const unsigned next : nodes[node].before)
        if (seen.insert(next).second) waiting.push_back(next);
    }
    return true;
  }

  /// Do the constant that it is said to be at one node and what is said at another one give the
  /// same, by the registers that are known at the first?
  [[nodiscard]] bool comes_to_the_same(unsigned constant, unsigned other) const {
    const machine::FrameState* state = graph_.state_at(constant);
    if (state == nullptr) return false;
    const auto value = [&](unsigned node) {
      return known_value(scope_, local_.places[static_cast<std::size_t>(place_[node])].ops, *state);
    };
    const auto a = value(constant), b = value(other);
    const unsigned bits = 8 * scope_.program.types()[local_.type].bytes;
    if (!a || !b || bits > 64 || a->known < bits || b->known < bits) return false;
    return bits == 0 || ((a->raw ^ b->raw) << (64 - bits)) == 0;
  }

  /// Has a parameter come in these registers? A local that begins there is a copy of it.
  [[nodiscard]] bool is_argument(const Resource& place) const {
    for (const Local* other : scope_.program.locals_at(function_.begin))
      for (const Local::Place& p : other->places) {
        if (!other->parameter || p.range.begin != function_.begin) continue;
        const Resource there = resource_of(*other, p);
        if (there.kind == Resource::Kind::kRegisters && there.first == place.first &&
            (place.mask & ~there.mask) == 0)
          return true;
      }
    return false;
  }

  /// The place before was a constant, and that is what the registers hold.
  [[nodiscard]] bool same_constant(unsigned before, unsigned at, const Resource& place) const {
    const Resource& was = at_node(before);
    const machine::FrameState* state = graph_.state_at(at);
    if (was.kind != Resource::Kind::kConstant || state == nullptr) return false;
    for (int i = 0; i < place.count; ++i)
      if (state->registers[static_cast<std::size_t>(place.first) + static_cast<std::size_t>(i)]
              .kind != machine::Known::Kind::kConstant)
        return false;
    return true;
  }

  const Scope& scope_;
  const machine::Target& target_;
  const Local& local_;
  const FlowGraph& graph_;
  const Runs& runs_;
  const Function& function_;
  std::vector<Resource> resources_;  ///< by place
  std::vector<int> place_;           ///< by node; -1: none
  std::vector<bool> holds_;
  mutable std::map<std::pair<unsigned, std::uint64_t>, bool> used_;
};

}  // namespace

static std::vector<bool> held_of(const Scope& scope, const Local& local, const Function& function,
                                 std::uint32_t begin, std::uint32_t end) {
  const RegisterFlow flow(scope, local, function, begin, end);
  std::vector<bool> out = flow.held();
  flow.take_back_computed(out);
  return out;
}

Holding register_holding(const Scope& scope, const Local& local, const Function& function,
                         std::uint32_t address, std::uint32_t begin, std::uint32_t end) {
  const auto node = scope.flows.of(scope.program, scope.machine, function).node_at(address);
  if (!node) return Holding::kHolds;  // nothing is known of the code
  auto& known = scope.flows.findings(scope.program, scope.machine, function).held;
  auto found = known.find({&local, begin, end});
  if (found == known.end())
    found =
        known.emplace(std::tuple{&local, begin, end}, held_of(scope, local, function, begin, end))
            .first;
  return found->second[*node] ? Holding::kHolds : Holding::kOverwritten;
}

}  // namespace lucid::frames
