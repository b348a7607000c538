// SPDX-License-Identifier: MIT
// How deep the stack can become: from the code, whether or not it has run.
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "session/core.h"

namespace lucid {

class Session::Core::StackBounds {
 public:
  explicit StackBounds(const Core& core)
      : core_(core),
        machine_(core.machine()),
        sp_(static_cast<std::size_t>(machine_.target().convention().sp_dwarf)),
        wide_(machine_.target().at_entry().registers[sp_ + 1].kind == machine::Known::Kind::kStack),
        return_bytes_(machine_.target().convention().return_bytes) {}

  StackBoundView all() {
    StackBoundView out;
    for (const Function& function : core_.program_.functions())
      if (function.end > function.begin) {
        const Bound& bound = of(function);
        out.functions.push_back(shown(function, bound));
      }
    std::stable_sort(out.functions.begin(), out.functions.end(), [](const auto& a, const auto& b) {
      return a.bytes.value_or(UINT32_MAX) > b.bytes.value_or(UINT32_MAX);
    });
    if (const MemoryArea* ram = machine_.area("ram"); ram != nullptr && core_.static_end_)
      out.room = ram->end - *core_.static_end_;
    const auto main = core_.program_.find_functions("main");
    if (main.empty()) return out;
    out.program = shown(*main.front(), of(*main.front()));
    add_handlers(out);
    // What start-up code calls: main, and constructors before it.
    std::uint32_t most = return_bytes_ + out.program->bytes.value_or(0);
    bool calls_main = false;
    for (const Function* called : called_at_start()) {
      const Bound& bound = of(*called);
      calls_main = calls_main || called == main.front();
      most = std::max(most, return_bytes_ + bound.bytes.value_or(0));
      if (!bound.bytes && out.program->bytes) {
        out.program->bytes.reset();
        out.program->why = bound.why;
      }
    }
    if (!calls_main && out.program->bytes) {
      out.program->bytes.reset();
      out.program->why = "start-up code cannot be followed to main";
    }
    if (out.program->bytes && (!out.handler || out.handler->bytes)) out.total = most + out.handlers;
    return out;
  }

  /// What a function pushes, calls left out; nothing if its code does not tell.
  std::optional<std::uint32_t> own(const Function& function) {
    const Bound& bound = of(function);
    return bound.own_known ? std::optional(bound.own) : std::nullopt;
  }

 private:
  using View = StackBoundView::Function;
  struct Bound {
    std::uint32_t own = 0;               ///< bytes below the stack pointer at its entry
    std::optional<std::uint32_t> bytes;  ///< with what it calls
    std::string why;                     ///< that is not known
    const Function* deepest = nullptr;   ///< what it calls then
    bool own_known = false;
    bool done = false;
  };

  /// How far the stack pointer is below where it was at the function's entry; nothing if it is
  /// being written, or not known.
  [[nodiscard]] std::optional<std::uint32_t> depth(const machine::FrameState& state,
                                                   bool& unknown) const {
    const machine::Known &low = state.registers[sp_], &high = state.registers[sp_ + 1];
    using Kind = machine::Known::Kind;
    if (low.kind != Kind::kStack || (wide_ && high.kind != Kind::kStack)) {
      unknown = true;
      return std::nullopt;
    }
    if (wide_ && high.number != low.number) return std::nullopt;  // half of it is written
    return static_cast<std::uint32_t>(std::max(0, -low.number));
  }

  const Bound& of(const Function& function) {
    Bound& bound = bounds_[function.begin];
    if (bound.done) return bound;
    if (std::find(way_.begin(), way_.end(), &function) != way_.end()) {
      std::string names;
      for (auto at = std::find(way_.begin(), way_.end(), &function); at != way_.end(); ++at)
        names += (*at)->name + " → ";
      recursion_ = names + function.name + " calls itself";
      static const Bound kNone;
      return kNone;
    }
    way_.push_back(&function);
    Bound out;
    bool unknown = false;
    std::uint32_t inner = 0;
    const auto& flow = function.has_lines
                           ? core_.flows_.of(core_.program_, machine_, function)
                           : core_.flows_.with_ways_in(core_.program_, machine_, function);
    // Its nodes are copied: graphs are made on the way.
    struct Call {
      std::uint32_t depth;
      const Function* callee;
    };
    std::vector<Call> calls;
    for (unsigned i = 0; i < flow.nodes().size(); ++i) {
      const auto& node = flow.nodes()[i];
      const machine::FrameState* state = flow.state_at(i);
      if (state == nullptr) continue;
      const auto at = depth(*state, unknown);
      if (!at) continue;
      out.own = std::max(out.own, *at);
      if (node.flow == Flow::kIndirectCall && out.why.empty())
        out.why = fmt::format("{} calls through a pointer", function.name);
      const std::uint32_t behind = node.address + node.size;
      if (node.flow != Flow::kCall || !node.target) continue;
      if (*node.target == behind) {  // `rcall .+0` makes room
        out.own = std::max(out.own, *at + return_bytes_);
        continue;
      }
      const Function* callee = core_.program_.function_at(*node.target);
      if (callee == &function && *node.target != function.begin)
        inner = std::max(inner, *at + return_bytes_);  // libraries in assembly call parts of theirs
      else if (callee != nullptr)
        calls.push_back({*at + return_bytes_, callee});
    }
    for (const auto& leave : flow.leaves()) {
      const auto at = depth(leave.state, unknown);
      const Function* next = core_.program_.function_at(leave.address);
      if (at && next != nullptr && next != &function) calls.push_back({*at, next});
    }
    if (flow.has_unknown_jump() && out.why.empty())
      out.why = fmt::format("{} jumps to where is not known", function.name);
    if (unknown && out.why.empty())
      out.why = fmt::format("{} moves the stack pointer by what is not known", function.name);
    out.own_known = !unknown && !flow.has_unknown_jump();
    std::uint32_t most = out.own + inner;
    for (const Call& call : calls) {
      recursion_.clear();
      const Bound& below = of(*call.callee);
      if (!below.bytes) {
        if (out.why.empty()) out.why = below.why.empty() ? recursion_ : below.why;
        continue;
      }
      if (call.depth + *below.bytes > most) {
        most = call.depth + *below.bytes;
        out.deepest = call.callee;
      }
    }
    way_.pop_back();
    if (out.why.empty()) out.bytes = most;
    out.done = true;
    return bounds_[function.begin] = out;
  }

  /// By what runs from the reset on, up to main. The stack pointer is made there: it is where it
  /// begins.
  [[nodiscard]] std::set<const Function*> called_at_start() const {
    constexpr std::size_t kMost = 10'000;  // instructions
    std::set<const Function*> out;
    std::set<std::uint32_t> seen;
    std::vector<std::uint32_t> waiting{0};
    while (!waiting.empty() && seen.size() < kMost) {
      const std::uint32_t at = waiting.back();
      waiting.pop_back();
      if (!seen.insert(at).second) continue;
      const Function* const function = core_.program_.function_at(at);
      // Functions of its own that a program has put in between are come to without a call.
      if (function != nullptr && function->has_lines) out.insert(function);
      if (function != nullptr && function->name == "main") continue;
      const Instruction i = machine_.instruction_at(at, false);
      const Function* const leads_to = i.target ? core_.program_.function_at(*i.target) : nullptr;
      if (i.flow == Flow::kCall && leads_to != nullptr) {
        if (machine_.target().shared_code(leads_to->name) == machine::SharedCode::kTable)
          add_tables(out);
        else
          out.insert(leads_to);
      }
      if (i.flow != Flow::kJump && i.flow != Flow::kIndirectJump && i.flow != Flow::kReturn)
        waiting.push_back(at + std::max<std::uint32_t>(i.size, 1));
      if (i.flow == Flow::kSkip)
        waiting.push_back(at + i.size + machine_.instruction_at(at + i.size, false).size);
      if (i.target && (i.flow == Flow::kJump || i.flow == Flow::kBranch))
        waiting.push_back(*i.target);
    }
    return out;
  }

  void add_tables(std::set<const Function*>& out) const {
    const unsigned unit = machine_.target().convention().instruction_unit;
    for (const auto& [from, to] : machine_.target().start_up_names().tables) {
      const Symbol* begin = core_.program_.find_symbol(from);
      const Symbol* end = core_.program_.find_symbol(to);
      if (begin == nullptr || end == nullptr) continue;
      for (std::uint32_t at = begin->address.offset; at + 1 < end->address.offset; at += 2) {
        const auto low = machine_.peek({Space::kCode, at});
        const auto high = machine_.peek({Space::kCode, at + 1});
        if (!low || !high) continue;
        const std::uint32_t pointer = *low | std::uint32_t{*high} << 8U;
        if (const Function* function = core_.program_.function_at(pointer * unit))
          out.insert(function);
      }
    }
  }

  [[nodiscard]] View shown(const Function& function, const Bound& bound) {
    View out;
    out.name = function.name;
    out.own = bound.own;
    out.bytes = bound.bytes;
    out.why = bound.why;
    for (const Function* at = &function; at != nullptr && out.chain.size() < 100;
         at = bounds_[at->begin].deepest)
      out.chain.push_back(at->name);
    return out;
  }

  [[nodiscard]] bool allows_interrupts(const Function& function) const {
    for (std::uint32_t pc = function.begin; pc < function.end;) {
      const Instruction i = machine_.instruction_at(pc, false);
      if (machine_.target().interrupt_effect(i) == machine::InterruptEffect::kAllows) return true;
      pc += std::max<std::uint32_t>(i.size, 1);
    }
    return false;
  }
  [[nodiscard]] bool allows_interrupts() const {
    const auto& all = core_.program_.functions();
    return std::any_of(all.begin(), all.end(),
                       [this](const Function& function) { return allows_interrupts(function); });
  }

  void add_handlers(StackBoundView& out) {
    std::uint32_t sum = 0, worst = 0;
    // One without a handler leads to a restart, and leaves where it came from, too.
    if (allows_interrupts()) worst = return_bytes_;
    for (const InterruptVector& vector : machine_.info().vectors) {
      if (vector.number == 0) continue;
      const auto target = machine_.instruction_at(vector.address, false).target;
      const Function* handler = target ? core_.program_.function_at(*target) : nullptr;
      if (handler == nullptr || !machine_.target().is_handler_name(handler->symbol())) continue;
      const View view = shown(*handler, of(*handler));
      if (!out.handler || !view.bytes || (out.handler->bytes && *view.bytes > *out.handler->bytes))
        if (!out.handler || out.handler->bytes) out.handler = view;
      const std::uint32_t bytes = return_bytes_ + view.bytes.value_or(0);
      sum += bytes;
      worst = std::max(worst, bytes);
      out.handlers_nest = out.handlers_nest || allows_interrupts(*handler);
    }
    out.handlers = out.handlers_nest ? sum : worst;
  }

  const Core& core_;
  const machine::Machine& machine_;
  const std::size_t sp_;  ///< its DWARF number
  const bool wide_;       ///< it takes two
  const std::uint32_t return_bytes_;
  std::map<std::uint32_t, Bound> bounds_;  ///< by the function's begin
  std::vector<const Function*> way_;       ///< to the one that is looked at
  std::string recursion_;
};

/// The most bytes in use in each function that has been called, by where it begins: as it was
/// entered deepest, and with what it pushes.
std::map<std::uint32_t, std::uint32_t> Session::Core::stack_in_use(
    const machine::Counts& counts) const {
  std::map<std::uint32_t, std::uint32_t> out;
  const MemoryArea* ram = machine().area("ram");
  if (ram == nullptr) return out;
  const std::uint32_t empty = ram->end - machine().target().convention().stack_gap;
  StackBounds bounds(*this);
  for (const machine::CallTree::Node& node : counts.calls) {
    const std::uint32_t begin = begin_of(node);
    const Function* const function = program_.function_at(begin);
    if (function == nullptr || node.sp > empty) continue;  // the first of them is nobody's call
    if (const auto own = bounds.own(*function))
      out[begin] = std::max(out[begin], empty - node.sp + *own);
  }
  return out;
}

Result<StackBoundView> Session::Core::stack_bound() const {
  if (machine().target().convention().return_bytes == 0)
    return fail(ErrorCode::kUnsupported,
                "how deep the stack can become is not worked out for " + machine().info().name);
  return StackBounds(*this).all();
}

Result<StackBoundView> Session::stack_bound() const { return core_->stack_bound(); }

}  // namespace lucid
