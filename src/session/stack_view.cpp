// SPDX-License-Identifier: MIT
// The stack, slot by slot: what each byte above the stack pointer is.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "session/core.h"

namespace lucid {

class Session::Core::StackReader {
 public:
  StackReader(const Core& core, unsigned most)
      : core_(core),
        machine_(core.machine()),
        convention_(machine_.target().convention()),
        most_(most) {}

  StackView read() {
    const MemoryArea* ram = machine_.area("ram");
    if (ram == nullptr) return view_;
    view_.sp = machine_.sp();
    view_.top = ram->end - 1;
    const std::uint32_t empty = ram->end - convention_.stack_gap;
    view_.used = view_.sp <= empty ? empty - view_.sp : 0;
    if (const auto deepest = machine_.deepest_sp())
      view_.deepest = *deepest <= empty ? empty - *deepest : 0;
    if (const auto then = machine_.at_deepest())
      for (const frames::Frame& level : frames::call_levels(core_.program_, *then, core_.flows_))
        view_.deepest_chain.insert(view_.deepest_chain.begin(),
                                   level.inlined != nullptr    ? level.inlined->name
                                   : level.function != nullptr ? level.function->name
                                                               : "?");
    at_ = view_.sp + convention_.stack_gap;
    if (core_.static_end_ && at_ >= *core_.static_end_) view_.free = at_ - *core_.static_end_;
    find_variables();
    for (const frames::Frame& frame : frames::unwind(core_.program_, machine_, core_.flows_))
      if (!add_frame(frame)) return view_;
    if (at_ <= view_.top) {
      StackView::Slot& slot = add(std::min(view_.top + 1 - at_, 8U), Kind::kUnknown, "");
      slot.meaning =
          fmt::format("{} bytes without frame information", view_.top + 1 - slot.address);
    }
    return view_;
  }

 private:
  using Kind = StackView::Slot::Kind;

  [[nodiscard]] bool full() const { return view_.slots.size() >= most_; }

  StackView::Slot& add(std::uint32_t bytes, Kind kind, const std::string& owner) {
    StackView::Slot slot;
    slot.kind = kind;
    slot.address = at_;
    slot.owner = owner;
    for (std::uint32_t i = 0; i < bytes && i < 8; ++i)
      slot.bytes.push_back(machine_.peek({Space::kData, at_ + i}).value_or(0));
    at_ += bytes;
    view_.slots.push_back(std::move(slot));
    return view_.slots.back();
  }

  /// Parameters and locals of all levels that are in memory above the stack pointer.
  void find_variables() {
    frames::Scope scope = core_.scope();
    const auto levels = frames::call_levels(core_.program_, machine_, core_.flows_);
    for (scope.level = 0; scope.level < levels.size(); ++scope.level)
      for (const Local* local : frames::locals_of(scope)) {
        const auto found = expression::local_value(*local, scope);
        if (!found || found->place.kind != frames::Place::Kind::kMemory ||
            found->place.address.space != Space::kData || found->place.address.offset < at_)
          continue;
        const frames::Frame& level = levels[scope.level];
        StackView::Slot slot;
        slot.kind = local->parameter && found->place.address.offset >= level.cfa ? Kind::kArgument
                                                                                 : Kind::kLocal;
        slot.address = found->place.address.offset;
        slot.bytes.resize(std::max(1U, core_.program_.types()[local->type].bytes));
        slot.name = local->name;
        slot.owner = level.inlined != nullptr    ? level.inlined->name
                     : level.function != nullptr ? level.function->name
                                                 : "?";
        slot.value = expression::written(*found, {}, scope);
        slot.meaning =
            fmt::format("{} {} of {} = {}", slot.kind == Kind::kLocal ? "local" : "argument",
                        slot.name, slot.owner, slot.value);
        variables_.emplace(slot.address, std::move(slot));
      }
  }

  /// False if nothing is known behind it, or the view is full.
  bool add_frame(const frames::Frame& frame) {
    if (!frame.known || full()) return false;
    const std::string owner = frame.function != nullptr ? frame.function->name : "?";
    std::map<std::uint32_t, int> saved;
    for (const FrameRow::Saved& s : frame.saved)
      if (s.dwarf_register != convention_.return_dwarf || convention_.return_bytes == 0)
        saved[frame.cfa + static_cast<std::uint32_t>(s.offset)] = s.dwarf_register;
    const bool pushed = convention_.return_bytes != 0;  // its return address, behind all else
    const auto pushes = frames::pushes_in(core_.program_, machine_, core_.flows_, frame);
    const std::uint32_t frame_end = pushed ? frame.return_slot : frame.cfa;
    while (at_ < frame_end) {
      if (full()) return false;
      if (const auto s = saved.find(at_); s != saved.end()) {
        const auto index = machine_.find_dwarf_register(s->second);
        const std::uint32_t bytes = index ? machine_.target().registers()[*index].bits / 8U : 1U;
        if (s->second == convention_.return_dwarf) {
          add_return(bytes, frame, owner);
          continue;
        }
        StackView::Slot& slot = add(std::max(1U, bytes), Kind::kSaved, owner);
        slot.name = index ? machine_.target().registers()[*index].name : "?";
        slot.meaning = fmt::format("saved {} of {}'s caller", slot.name, owner);
        continue;
      }
      if (const auto v = variables_.find(at_); v != variables_.end()) {
        const auto bytes = static_cast<std::uint32_t>(v->second.bytes.size());
        StackView::Slot& slot = add(std::min(bytes, frame_end - at_), v->second.kind, "");
        slot.name = v->second.name;
        slot.owner = v->second.owner;
        slot.value = v->second.value;
        slot.meaning = v->second.meaning;
        continue;
      }
      // Bytes that were pushed stand apart from room that was made.
      const bool was_pushed = pushes.count(at_) != 0;
      std::uint32_t end = at_ + 1;
      while (end < frame_end && saved.count(end) == 0 && variables_.count(end) == 0 &&
             (pushes.count(end) != 0) == was_pushed)
        ++end;
      const std::uint32_t bytes = end - at_;
      std::string how = bytes == 1 ? "temporary" : "temporaries";
      if (was_pushed)  // the highest byte first
        how = fmt::format(bytes == 1 ? "pushed by {}" : "pushed from {} on",
                          core_.place_name(pushes.at(end - 1)));
      add(bytes, Kind::kTemporary, owner).meaning =
          fmt::format("{}: {} byte{}, {}", owner, bytes, bytes == 1 ? "" : "s", how);
    }
    if (full() || at_ != frame_end) return false;
    if (pushed) add_return(convention_.return_bytes, frame, owner);
    return !full();
  }

  void add_return(std::uint32_t bytes, const frames::Frame& frame, const std::string& owner) {
    StackView::Slot& slot = add(bytes, Kind::kReturn, owner);
    const std::uint32_t back = machine_.target().return_address(slot.bytes);
    // A call that never returns may be a function's last instruction: what follows is another's.
    const Function* caller = core_.program_.function_at(frame.interrupt ? back : back - 1);
    const Location where = core_.location(frame.interrupt ? back : back - 1);
    slot.meaning = frame.interrupt ? "interrupted " : "returns to ";
    if (caller == nullptr || back < caller->end)
      slot.meaning += core_.place_name(back);
    else
      slot.meaning += "the end of " + caller->name;
    if (!where.file.empty()) slot.meaning += fmt::format(", {}:{}", where.file, where.line);
  }

  const Core& core_;
  const machine::Machine& machine_;
  const machine::CallConvention convention_;
  const unsigned most_;
  StackView view_;
  std::uint32_t at_ = 0;
  std::map<std::uint32_t, StackView::Slot> variables_;  ///< by address
};

StackView Session::Core::stack(unsigned slots) const { return StackReader(*this, slots).read(); }

}  // namespace lucid
