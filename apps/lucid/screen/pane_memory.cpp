// SPDX-License-Identifier: MIT
// Memory with the names that live there, and the stack.
#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "screen/pane.h"

namespace lucid::app {
namespace {

class MemoryPane final : public ListPane, public MemoryDisplay {
 public:
  MemoryPane() : ListPane("memory") {}

  std::string title(Desk& /*desk*/) override { return "memory: " + area_; }
  [[nodiscard]] Least least() const override { return {4, 38}; }
  [[nodiscard]] const char* help() const override {
    return "RAM, flash or EEPROM, byte by byte, with the variables that begin in each row. A byte "
           "that has changed stands out, and fades with the next steps.\n"
           "The arrows choose a byte, Enter changes it, {view} shows the next memory. {find} with "
           "a variable's name jumps to where it lives.";
  }
  void next_view(Desk& desk) override {
    const auto names = areas(desk);
    const auto now = std::find(names.begin(), names.end(), area_);
    area_ = now == names.end() || now + 1 == names.end() ? names.front() : *(now + 1);
    at_ = 0;
    set_cursor(0);
    want_top(0);
  }
  void show(Desk& /*desk*/, const std::string& area, std::uint32_t address) override {
    area_ = area;
    wanted_ = address;
  }
  bool key(Desk& desk, Key key) override {
    const bool used = ListPane::key(desk, key);
    if (count() != 0) at_ = address_of_cursor();
    return used;
  }
  void press(Desk& desk, int row, int column) override {
    ListPane::press(desk, row, column);
    if (count() != 0) at_ = address_of_cursor();
  }
  void look(Desk& desk, int rows, int columns) override {
    const std::uint32_t before = per_row_;
    ListPane::look(desk, rows, columns);
    if (before == per_row_ && wanted_top() != last_top_)
      top_at_ = first_ + static_cast<std::uint32_t>(std::max(wanted_top(), 0L)) * per_row_;
    last_top_ = wanted_top();
  }
  std::string object(Desk& /*desk*/) override {
    return count() != 0 ? fmt::format("chip.{}[{:#x}]", area_, address_of_cursor()) : "";
  }
  std::string explanation(Desk& desk) override {
    if (count() == 0) return {};
    const std::uint32_t address = address_of_cursor();
    const auto byte = desk.session().chip().peek({space_, address});
    if (!byte) return {};
    std::string out = fmt::format("{}[{:#06x}] = {:#04x}, {}", area_, address, *byte, *byte);
    if (*byte >= 0x20 && *byte < 0x7f) out += fmt::format(", '{}'", static_cast<char>(*byte));
    for (const Variable& v : desk.session().program().variables()) {
      const std::uint32_t bytes = std::max(desk.session().program().types()[v.type].bytes, 1U);
      if (v.address.space == space_ && address >= v.address.offset &&
          address < v.address.offset + bytes)
        out += bytes == 1 ? fmt::format("; {}", v.name)
                          : fmt::format("; byte {} of {}", address - v.address.offset, v.name);
    }
    return out;
  }

 protected:
  std::size_t gather(Desk& desk, int columns, std::string& problem) override {
    const ChipInfo& info = desk.session().chip().info();
    const auto area = std::find_if(info.memories.begin(), info.memories.end(),
                                   [&](const MemoryArea& a) { return a.name == area_; });
    if (area == info.memories.end()) {
      problem = info.name + " has no memory '" + area_ + "'";
      return 0;
    }
    constexpr int kNames = 24;  // have room beside the bytes
    constexpr int kWide = 8 + 16 * 3 + 2 + 16 + kNames;
    const std::uint32_t per_row = columns >= kWide ? 16 : 8;
    space_ = area->space;
    begin_ = area->begin;
    end_ = area->end;
    first_ = begin_ - begin_ % 16;
    if (per_row != per_row_) {  // cursor and beginning stay where they are
      per_row_ = per_row;
      to(at_);
      want_top(static_cast<long>((top_at_ - std::min(top_at_, first_)) / per_row_));
    }
    observe(desk);
    if (wanted_) {
      at_ = std::clamp(*std::exchange(wanted_, std::nullopt), begin_, end_ - 1);
      to(at_);
      centre();
    }
    return (end_ - first_ + per_row_ - 1) / per_row_;
  }
  Line row(Desk& desk, std::size_t index, int /*columns*/) override {
    Line out;
    const std::uint32_t at = first_ + static_cast<std::uint32_t>(index) * per_row_;
    out.add(fmt::format(" {:#06x} ", at), Look::kDim);
    std::string text;
    for (std::uint32_t i = at; i < at + per_row_; ++i) {
      if (i < begin_ || i >= end_) {
        out.add("   ");
        text += ' ';
        continue;
      }
      const std::uint8_t byte = desk.session().chip().peek({space_, i}).value_or(0);
      const unsigned changed = changed_at(i);
      out.add(" ").add(fmt::format("{:02x}", byte),
                       changed == 0 ? Look::kPlain : look_of_age(desk.pauses() + 1 - changed),
                       static_cast<int>(i - at) + 1);
      text += byte >= 0x20 && byte < 0x7f ? static_cast<char>(byte) : '.';
    }
    out.add("  " + text, Look::kDim);
    const auto names = desk.session().memory(area_, std::max(at, begin_),
                                             std::min(at + per_row_, end_) - std::max(at, begin_));
    std::string list;
    if (names)
      for (const MemoryView::Row& r : names->rows)
        if (!r.names.empty()) list += (list.empty() ? "  " : ", ") + r.names;
    return out.add(list, Look::kAccent);
  }
  [[nodiscard]] int first_part(const std::vector<int>& parts) const override {
    return parts.empty() ? 0 : parts.front();
  }
  void enter(Desk& desk, std::size_t /*index*/, int /*part*/) override {
    const std::uint32_t address = address_of_cursor();
    desk.edit("let " + object(desk) + " = ",
              fmt::format("{:#04x}", desk.session().chip().peek({space_, address}).value_or(0)));
  }

 private:
  /// Puts the cursor onto an address.
  void to(std::uint32_t address) {
    const std::uint32_t at = std::clamp(address, first_, end_ - 1) - first_;
    set_cursor(at / per_row_, static_cast<int>(at % per_row_) + 1);
  }
  static std::vector<std::string> areas(Desk& desk) {
    std::vector<std::string> out;
    for (const MemoryArea& a : desk.session().chip().info().memories)
      if (a.name == "ram" || a.name == "flash" || a.name == "eeprom") out.push_back(a.name);
    return out;
  }
  [[nodiscard]] std::uint32_t address_of_cursor() const {
    const std::uint32_t at = first_ + static_cast<std::uint32_t>(cursor()) * per_row_ +
                             static_cast<std::uint32_t>(std::max(cursor_part() - 1, 0));
    return std::clamp(at, begin_, end_ - 1);
  }
  /// Sees what has changed since the last time. Of flash only the rows in sight are looked at.
  void observe(Desk& desk) {
    if (space_ == Space::kCode) return;
    const std::size_t size = end_ - begin_;
    const bool is_new = seen_area_ != area_ || seen_.size() != size;
    seen_.resize(size);
    if (is_new) changed_.assign(size, 0);
    seen_area_ = area_;
    for (std::size_t i = 0; i < size; ++i) {
      const std::uint8_t byte =
          desk.session().chip().peek({space_, begin_ + static_cast<std::uint32_t>(i)}).value_or(0);
      if (!is_new && byte != seen_[i]) changed_[i] = desk.pauses() + 1;
      seen_[i] = byte;
    }
  }
  [[nodiscard]] unsigned changed_at(std::uint32_t address) const {
    return space_ == Space::kCode || address - begin_ >= changed_.size()
               ? 0
               : changed_[address - begin_];
  }

  std::string area_ = "ram", seen_area_;
  Space space_ = Space::kData;
  std::uint32_t begin_ = 0, end_ = 1, first_ = 0, per_row_ = 16;
  std::optional<std::uint32_t> wanted_;
  // Of the cursor and the first row, as a person has chosen: rows hold more bytes in another size.
  std::uint32_t at_ = 0, top_at_ = 0;
  long last_top_ = 0;
  std::vector<std::uint8_t> seen_;
  std::vector<unsigned> changed_;  ///< the pause at which a byte has changed, plus 1; 0: never
};

class StackPane final : public ListPane {
 public:
  StackPane() : ListPane("stack") {}
  [[nodiscard]] Least least() const override { return {4, 30}; }
  [[nodiscard]] const char* help() const override {
    return "The stack from its pointer upwards: return addresses, saved registers, locals, by the "
           "function they belong to.\n"
           "The gauge above: what is in use now (full), the deepest since the last reset (half), "
           "and what is free above static data.\nEnter on a return address shows its code.";
  }
  std::string explanation(Desk& /*desk*/) override {
    if (cursor() < head_ || cursor() - head_ >= view_.slots.size()) return {};
    const StackView::Slot& slot = view_.slots[cursor() - head_];
    return fmt::format("{:#06x}: {}", slot.address, slot.meaning);
  }

 protected:
  std::size_t gather(Desk& desk, int /*columns*/, std::string& /*problem*/) override {
    constexpr unsigned kMost = 400;
    view_ = desk.session().stack(kMost);
    head_ = view_.deepest_chain.empty() ? 2 : 3;
    return head_ + view_.slots.size();
  }
  Line row(Desk& desk, std::size_t index, int columns) override {
    Line out;
    if (index == 0) return gauge(desk, columns);
    if (index == 1) {
      out.add(fmt::format(" sp {:#06x}: ", view_.sp));
      out.add(fmt::format("{} in use", view_.used),
              ages_.look("used", std::to_string(view_.used), desk.pauses()));
      if (view_.deepest) out.add(fmt::format(", {} deepest", *view_.deepest));
      if (view_.free)
        out.add(fmt::format(", {} free", *view_.free),
                *view_.free < 32 ? Look::kBad : Look::kPlain);
      return out;
    }
    if (index == 2 && head_ == 3) {
      std::string chain;
      for (const std::string& name : view_.deepest_chain)
        chain += (chain.empty() ? " deepest in " : " → ") + name;
      return out.add(chain, Look::kDim);
    }
    const StackView::Slot& slot = view_.slots[index - head_];
    out.add(fmt::format(" {:04x} ", slot.address), Look::kDim, 1);
    std::string bytes;
    for (const std::uint8_t byte : slot.bytes) bytes += fmt::format("{:02x}", byte);
    out.add(fmt::format("{:<4} ", bytes), Look::kPlain, 1);
    using Kind = StackView::Slot::Kind;
    const Look look = slot.kind == Kind::kReturn    ? Look::kAccent
                      : slot.kind == Kind::kUnknown ? Look::kDim
                                                    : Look::kPlain;
    return out.add(slot.meaning, look, 1);
  }
  void enter(Desk& desk, std::size_t index, int /*part*/) override {
    if (index < head_) return;
    const StackView::Slot& slot = view_.slots[index - head_];
    if (slot.kind == StackView::Slot::Kind::kReturn && !slot.owner.empty())
      for (const CallLevel& level : desk.session().callers())
        if (slot.meaning.find(level.where.function) != std::string::npos &&
            !level.where.function.empty())
          return desk.show_code(fmt::format("{:#x}", level.where.address));
    desk.show_memory("ram", slot.address);
  }

 private:
  Line gauge(Desk& desk, int columns) const {
    Line out;
    const std::uint32_t deepest = std::max(view_.deepest.value_or(view_.used), view_.used);
    const std::uint32_t room = view_.used + view_.free.value_or(0);
    const int width = std::max(columns - 2, 4);
    if (!view_.free || room == 0) return out.add(" how much is free is not known here", Look::kDim);
    const auto share = [&](std::uint32_t bytes) {
      return static_cast<int>(
          (static_cast<std::uint64_t>(std::min(bytes, room)) * static_cast<unsigned>(width) + room -
           1) /
          room);
    };
    const int used = share(view_.used);
    const int most = std::max(share(deepest), used);
    const auto times = [](const char* mark, int n) {
      std::string text;
      for (int i = 0; i < n; ++i) text += mark;
      return text;
    };
    const bool tight = *view_.free < 32 || (view_.deepest && deepest + 16 > room);
    out.add(" ").add(times(desk.utf8() ? "█" : "#", used), Look::kAccent);
    out.add(times(desk.utf8() ? "▒" : "=", most - used), tight ? Look::kBad : Look::kOlder);
    return out.add(times(desk.utf8() ? "░" : ".", width - most), Look::kDim);
  }

  StackView view_;
  std::size_t head_ = 2;
  Ages ages_;
};

}  // namespace

std::unique_ptr<Pane> make_memory_pane() { return std::make_unique<MemoryPane>(); }
std::unique_ptr<Pane> make_stack_pane() { return std::make_unique<StackPane>(); }

}  // namespace lucid::app
