// SPDX-License-Identifier: MIT
// Loops that do nothing but wait, as the code shows them: delay loops, and loops that look at
// something until it changes. And the instruction that had turned interrupts off.
#include <algorithm>
#include <set>

#include "session/core.h"

namespace lucid {
namespace {

using InLoop = machine::Target::InLoop;

struct Loop {
  std::uint32_t begin = 0, behind = 0;
  bool looks = false, counts = false;
};

/// One round of straight code that leads back to its beginning.
class Round {
 public:
  Round(const machine::Machine& machine, const Instruction& closing)
      : machine_(machine),
        target_(machine.target()),
        closing_(closing),
        loop_{closing.target.value_or(UINT32_MAX), closing.address + closing.size} {}

  /// nullopt: it does more than wait.
  std::optional<Loop> waits() {
    constexpr std::uint32_t kLongest = 48;  // bytes
    if (loop_.begin > closing_.address || loop_.behind - loop_.begin > kLongest)
      return std::nullopt;
    for (std::uint32_t at = loop_.begin; at < loop_.behind;) {
      const Instruction i = machine_.instruction_at(at, false);
      at += std::max<std::uint32_t>(i.size, 1);
      const bool last = i.address == closing_.address;
      if ((at == loop_.behind) != last || (!last && !stays_straight(i)) || !take(i))
        return std::nullopt;
    }
    // What it takes over from the round before is one number, of which nothing else is made.
    const std::uint64_t of_number = made_of(counted_);
    if ((carried_ & made_) != 0 || (places_ & of_number) != 0 || numbers_ > 1) return std::nullopt;
    loop_.counts = numbers_ != 0;
    const bool decided = looked_ || (decides_ & (of_number | made_of(looked_at_))) != 0;
    if ((loop_.looks || loop_.counts) && !decided) return std::nullopt;
    return loop_;
  }

 private:
  /// On to what follows, out of the loop, or back into it, in a loop that waits itself.
  [[nodiscard]] bool stays_straight(const Instruction& i) const {
    if (i.flow == Flow::kNext || i.flow == Flow::kSkip) return true;
    if ((i.flow != Flow::kBranch && i.flow != Flow::kJump) || !i.target) return false;
    const std::uint32_t behind = i.address + i.size;
    if (*i.target < loop_.begin || *i.target >= loop_.behind || *i.target == behind) return true;
    return *i.target <= i.address && Round(machine_, i).waits().has_value();
  }

  bool take(const Instruction& i) {
    const InLoop what = target_.in_loop(i);
    if (what == InLoop::kWorks) return false;
    const std::uint64_t reads = target_.reads(i), writes = target_.writes(i);
    carried_ |= reads & ~written_;
    if (what == InLoop::kCounts || what == InLoop::kCarries) {
      const bool own = (writes & written_) == 0;  // else it is made anew each round
      numbers_ += own && what == InLoop::kCounts ? 1 : 0;
      if (own) counted_ |= writes;
    } else {
      made_ |= writes;
      if (!skipped_) written_ |= writes;
      moves_.emplace_back(reads, writes);
    }
    if (what == InLoop::kLooks) {
      loop_.looks = true;
      places_ |= reads;
      looked_at_ |= writes;
      looked_ = looked_ || i.flow == Flow::kSkip;
    }
    // The flags that a branch asks for are of the instruction before it.
    if (i.flow == Flow::kBranch) decides_ |= before_;
    if (i.flow == Flow::kSkip) decides_ |= reads;
    before_ = reads;
    skipped_ = i.flow == Flow::kSkip;
    return true;
  }

  /// Some registers, and what is made of them.
  [[nodiscard]] std::uint64_t made_of(std::uint64_t out) const {
    for (std::uint64_t before = 0; before != out;) {
      before = out;
      for (const auto& [from, to] : moves_)
        if ((from & out) != 0) out |= to;
    }
    return out;
  }

  const machine::Machine& machine_;
  const machine::Target& target_;
  const Instruction& closing_;
  Loop loop_;
  // General registers, a bit each:
  std::uint64_t written_ = 0;    ///< in each round, before they are read
  std::uint64_t carried_ = 0;    ///< read as the round before has left them
  std::uint64_t counted_ = 0;    ///< a number's
  std::uint64_t made_ = 0;       ///< written otherwise
  std::uint64_t places_ = 0;     ///< that say where it looks
  std::uint64_t looked_at_ = 0;  ///< what it found there
  std::uint64_t decides_ = 0;    ///< whether it goes on
  std::uint64_t before_ = 0;     ///< read by the instruction before
  bool looked_ = false;          ///< a place itself decides
  bool skipped_ = false;         ///< the instruction at hand may be
  unsigned numbers_ = 0;
  std::vector<std::pair<std::uint64_t, std::uint64_t>> moves_;  ///< from registers to others
};

}  // namespace

void Session::Core::add_waits(const machine::Counts& counts, ProfileView& out) const {
  std::vector<std::pair<Loop, std::uint64_t>> loops;  // with their rounds
  for (std::size_t i = 0; i < counts.executed.size(); ++i) {
    if (counts.executed[i] == 0) continue;
    const auto address = static_cast<std::uint32_t>(i * counts.unit);
    const Instruction closing = machine().instruction_at(address, false);
    if (closing.flow != Flow::kBranch && closing.flow != Flow::kJump) continue;
    const auto loop = Round(machine(), closing).waits();
    const std::uint64_t rounds =
        closing.flow == Flow::kBranch ? counts.departed[i] : counts.executed[i];
    if (loop && rounds != 0) loops.emplace_back(*loop, rounds);
  }
  std::stable_sort(loops.begin(), loops.end(), [](const auto& a, const auto& b) {
    return a.first.behind - a.first.begin < b.first.behind - b.first.begin;
  });
  std::set<std::size_t> told;  // instructions, with loops within
  for (const auto& [loop, rounds] : loops) {
    ProfileView::Wait wait;
    wait.where = location(loop.begin);
    const auto inlined = program_.inlined_at(loop.begin);
    const Function* const function = program_.function_at(loop.begin);
    if (!inlined.empty())
      wait.function = inlined.front()->name;
    else if (function != nullptr)
      wait.function = function->name;
    wait.looks = loop.looks;
    wait.counts = loop.counts;
    wait.rounds = rounds;
    for (std::size_t i = loop.begin / counts.unit; i < loop.behind / counts.unit; ++i)
      if (told.insert(i).second) wait.cycles += counts.cycles[i];
    out.waiting += wait.cycles;
    out.waits.push_back(std::move(wait));
  }
  std::stable_sort(out.waits.begin(), out.waits.end(),
                   [](const auto& a, const auto& b) { return a.cycles > b.cycles; });
}

/// Do a function and all that it calls leave it to others whether interrupts are on?
bool Session::Core::leaves_interrupts(const Function* function,
                                      std::set<const Function*>& seen) const {
  using machine::InterruptEffect;
  if (function == nullptr) return false;
  if (!seen.insert(function).second) return true;
  const frames::FlowGraph& graph = flows_.of(program_, machine(), *function);
  if (graph.has_unknown_jump()) return false;
  std::vector<const Function*> next;
  for (unsigned i = 0; i < graph.nodes().size(); ++i) {
    const auto& node = graph.nodes()[i];
    if (graph.state_at(i) == nullptr) continue;
    const InterruptEffect effect =
        machine().target().interrupt_effect(machine().instruction_at(node.address, false));
    if (node.flow == Flow::kIndirectCall ||
        (effect != InterruptEffect::kNone && effect != InterruptEffect::kSaves))
      return false;
    if (node.flow == Flow::kCall)
      next.push_back(node.target ? program_.function_at(*node.target) : nullptr);
  }
  for (const auto& leave : graph.leaves()) next.push_back(program_.function_at(leave.address));
  return std::all_of(next.begin(), next.end(),
                     [&](const Function* called) { return leaves_interrupts(called, seen); });
}

/// The instruction that had turned interrupts off, if but one leads there without others between;
/// of an inlined body, where it is called.
std::optional<Location> Session::Core::turned_off(std::uint32_t before) const {
  using machine::InterruptEffect;
  const Function* const function = program_.function_at(before);
  if (function == nullptr) return std::nullopt;
  const frames::FlowGraph& graph = flows_.of(program_, machine(), *function);
  const auto start = graph.node_at(before);
  if (!start) return std::nullopt;
  std::optional<std::uint32_t> found;
  std::vector<unsigned> waiting{*start};
  std::set<unsigned> seen;
  while (!waiting.empty()) {
    const unsigned at = waiting.back();
    waiting.pop_back();
    if (!seen.insert(at).second) continue;
    const auto& node = graph.nodes()[at];
    if (node.address == function->begin || node.before.empty()) return std::nullopt;
    for (const unsigned from : node.before) {
      const auto& way = graph.nodes()[from];
      const std::uint32_t address = way.address;
      const Function* const called = way.target ? program_.function_at(*way.target) : nullptr;
      std::set<const Function*> seen_below;
      if (way.flow == Flow::kIndirectCall ||
          (way.flow == Flow::kCall && !leaves_interrupts(called, seen_below)))
        return std::nullopt;
      switch (machine().target().interrupt_effect(machine().instruction_at(address, false))) {
        case InterruptEffect::kForbids:
          if (found && *found != address) return std::nullopt;
          found = address;
          break;
        case InterruptEffect::kAllows: break;  // not this way
        case InterruptEffect::kRestores: return std::nullopt;
        case InterruptEffect::kNone:
        case InterruptEffect::kSaves: waiting.push_back(from); break;
      }
    }
  }
  if (!found) return std::nullopt;
  Location out = location(*found);
  if (const auto inlined = program_.inlined_at(*found); !inlined.empty()) {
    const InlinedCall& outermost = *inlined.back();
    out.line = outermost.call_line;
    out.file.clear();
    if (outermost.call_file) {
      out.file_index = *outermost.call_file;
      out.file = program_.files()[*outermost.call_file].name;
    }
  }
  return out;
}

}  // namespace lucid
