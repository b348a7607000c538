// SPDX-License-Identifier: MIT
// Loops that do nothing but wait, as the code shows them: delay loops, and loops that look at
// something until it changes. And the instruction that had turned interrupts off.
#include <algorithm>
#include <map>
#include <set>
#include <tuple>

#include "session/core.h"

namespace lucid {
namespace {

using InLoop = machine::Target::InLoop;

struct Loop {
  std::uint32_t begin = 0, behind = 0;
  bool looks = false, counts = false;
};

/// One round of straight code that leads back to its beginning. General registers are bits.
class Round {
 public:
  Round(const machine::Machine& machine, const Instruction& closing)
      : machine_(machine),
        target_(machine.target()),
        closing_(closing),
        loop_{closing.target.value_or(UINT32_MAX), closing.address + closing.size} {}

  /// nullopt: it does more than wait.
  std::optional<Loop> waits() {
    constexpr std::uint32_t kLongest = 128;  // bytes
    if (loop_.begin > closing_.address || loop_.behind - loop_.begin > kLongest)
      return std::nullopt;
    Round before(machine_, closing_);
    if (!before.goes_through()) return std::nullopt;
    before_ = &before;
    number_ = before.counted_;
    loaded_ = before.loaded_;
    const bool through = goes_through();
    before_ = nullptr;
    // What it takes over from the round before is one number, of which no place is made.
    if (!through || (carried_ & made_) != 0 || numbers_ > 1 || !stored_is_one_object())
      return std::nullopt;
    loop_.counts = numbers_ != 0;
    if ((loop_.looks || loop_.counts) && !decided_) return std::nullopt;
    return loop_;
  }

 private:
  /// A byte in memory that keeps its place through the loop: at a fixed address, or so far from
  /// what a pair of registers holds.
  struct Cell {
    int pointer = -1;
    std::int32_t at = 0;
    bool operator<(const Cell& other) const {
      return std::tie(pointer, at) < std::tie(other.pointer, other.at);
    }
    bool operator==(const Cell& other) const { return pointer == other.pointer && at == other.at; }
    [[nodiscard]] std::uint64_t pair() const {
      return pointer < 0 ? 0 : std::uint64_t{3} << static_cast<unsigned>(pointer);
    }
  };
  /// What a register holds that has been loaded from a cell.
  struct Loaded {
    Cell cell;
    bool counts = false;   ///< it has been counted up or down, as the lowest byte
    bool changed = false;  ///< that, or as another one
  };

  bool goes_through() {
    for (std::uint32_t at = loop_.begin; at < loop_.behind;) {
      const Instruction i = machine_.instruction_at(at, false);
      at += std::max<std::uint32_t>(i.size, 1);
      const bool last = i.address == closing_.address;
      if ((at == loop_.behind) != last || (!last && !stays_straight(i)) || !take(i)) return false;
    }
    return true;
  }

  /// On to what follows, out of the loop, or back into it, in a loop that waits itself.
  [[nodiscard]] bool stays_straight(const Instruction& i) const {
    if (i.flow == Flow::kNext || i.flow == Flow::kSkip) return true;
    if ((i.flow != Flow::kBranch && i.flow != Flow::kJump) || !i.target) return false;
    const std::uint32_t behind = i.address + i.size;
    if (*i.target < loop_.begin || *i.target >= loop_.behind || *i.target == behind) return true;
    return *i.target <= i.address && Round(machine_, i).waits().has_value();
  }

  struct Touched {
    Cell cell;
    bool write = false;
  };
  [[nodiscard]] std::optional<Touched> touched(const Instruction& i) const {
    if (const auto access = target_.pointed_access(i)) {
      if (access->moves != 0) return std::nullopt;
      return Touched{{access->pointer, access->by}, access->write};
    }
    const auto access = target_.fixed_access(i, nullptr);
    const MemoryArea* const ram = machine_.area("ram");
    if (!access || ram == nullptr || access->address < ram->begin) return std::nullopt;
    return Touched{{-1, static_cast<std::int32_t>(access->address)}, access->write};
  }

  /// A number in memory counts: what has been loaded from there goes back.
  bool put_back(const Cell& cell, std::uint64_t reads) {
    if (skipped_ || !stored_.insert(cell).second) return false;
    if (before_ == nullptr) return true;
    for (const auto& [reg, loaded] : loaded_) {
      if ((reads & ~cell.pair()) != std::uint64_t{1} << reg || !(loaded.cell == cell)) continue;
      numbers_ += loaded.counts ? 1 : 0;
      return loaded.changed;
    }
    return false;
  }
  [[nodiscard]] bool stored_is_one_object() const {
    constexpr std::int32_t kLargest = 8;
    if (stored_.empty()) return true;
    const auto size = static_cast<std::int32_t>(stored_.size());
    const Cell &first = *stored_.begin(), &last = *stored_.rbegin();
    return size <= kLargest && first.pointer == last.pointer && last.at - first.at + 1 == size &&
           (first.pair() & all_written_) == 0;
  }

  void note_loaded(InLoop what, const std::optional<Touched>& touched, std::uint64_t writes) {
    bool lowest = true;
    for (unsigned reg = 0; writes >> reg != 0; ++reg) {
      if ((writes >> reg & 1U) == 0) continue;
      const auto found = loaded_.find(reg);
      const bool counts = what == InLoop::kCounts || what == InLoop::kCarries;
      if (touched && !skipped_) {
        loaded_.insert_or_assign(reg, Loaded{touched->cell});
      } else if (found != loaded_.end() && counts && !skipped_) {
        found->second.counts |= lowest && what == InLoop::kCounts;
        found->second.changed = true;
      } else if (found != loaded_.end()) {
        loaded_.erase(found);
      }
      lowest = false;
    }
  }

  /// Follows what is made of a number, or of what was looked at.
  void pass_on(std::uint64_t& marked, std::uint64_t reads, std::uint64_t writes, bool source) {
    if (source || (reads & marked) != 0)
      marked |= writes;
    else if (!skipped_)
      marked &= ~writes;
  }

  bool take(const Instruction& i) {
    const InLoop what = target_.in_loop(i);
    const std::uint64_t reads = target_.reads(i), writes = target_.writes(i);
    const auto cell = touched(i);
    const bool stores = what == InLoop::kWorks;
    if (stores && (!cell || !cell->write || !put_back(cell->cell, reads))) return false;
    carried_ |= (stores ? cell->cell.pair() : reads) & ~written_;
    const bool decides = (reads & (number_ | seen_)) != 0;
    // The flags that a branch asks for are of the instruction before it.
    decided_ = decided_ || (i.flow == Flow::kBranch && decides_) ||
               (i.flow == Flow::kSkip && (decides || what == InLoop::kLooks));
    decides_ = decides;
    if (!stores) {
      const bool counts = what == InLoop::kCounts || what == InLoop::kCarries;
      const bool looks = what == InLoop::kLooks;
      const bool of_number = cell && before_ != nullptr && before_->stored_.count(cell->cell) != 0;
      if (looks && (reads & number_) != 0) return false;
      loop_.looks = loop_.looks || (looks && !of_number);
      note_loaded(what, cell, writes);
      const bool own = counts && (writes & written_) == 0;  // else it is made anew each round
      numbers_ += own && what == InLoop::kCounts ? 1 : 0;
      if (own) counted_ |= writes;
      if (!counts) made_ |= writes;
      if (!counts && !skipped_) written_ |= writes;
      all_written_ |= writes;
      pass_on(number_, reads, writes, own || (looks && of_number));
      pass_on(seen_, reads, writes, looks && !of_number);
    }
    skipped_ = i.flow == Flow::kSkip;
    return true;
  }

  const machine::Machine& machine_;
  const machine::Target& target_;
  const Instruction& closing_;
  const Round* before_ = nullptr;  ///< while a round follows that is known
  Loop loop_;
  std::uint64_t written_ = 0;  ///< in each round, before they are read
  std::uint64_t carried_ = 0;  ///< read as the round before has left them
  std::uint64_t counted_ = 0;  ///< a number's
  std::uint64_t made_ = 0;     ///< written otherwise
  std::uint64_t all_written_ = 0;
  std::uint64_t number_ = 0;           ///< hold the number, or what is made of it
  std::uint64_t seen_ = 0;             ///< what it has looked at, or what is made of that
  bool decides_ = false;               ///< the instruction before has read one of these
  bool decided_ = false;               ///< and that says whether the loop goes on
  bool skipped_ = false;               ///< the instruction at hand may be
  unsigned numbers_ = 0;               ///< that count, in registers or in memory
  std::map<unsigned, Loaded> loaded_;  ///< by register
  std::set<Cell> stored_;              ///< of a number in memory
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
