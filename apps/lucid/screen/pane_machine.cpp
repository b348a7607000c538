// SPDX-License-Identifier: MIT
// The machine: registers and flags, I/O by peripheral.
#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "screen/pane.h"

namespace lucid::app {
namespace {

/// Registers in a grid of as many columns as fit, then those with names of their own, then flags.
class RegistersPane final : public ListPane {
 public:
  RegistersPane() : ListPane("registers") {}
  [[nodiscard]] Least least() const override { return {4, 30}; }
  [[nodiscard]] const char* help() const override {
    return "Registers and flags of the selected call level; -- where nothing keeps a caller's "
           "value. What has changed stands out, and fades with the next steps.\n"
           "Left, Right and Up, Down choose one; Enter changes it (flags: the other value); "
           "{watch} keeps it in sight.";
  }
  bool key(Desk& desk, Key key) override {
    if ((key == kUp || key == kDown) && !rows_.empty() && cursor_part() > 0) {
      const std::size_t row = row_of(cursor_part());
      const auto& now = rows_[row];
      const auto column =
          static_cast<std::size_t>(std::find(now.begin(), now.end(), cursor_part()) - now.begin());
      const std::size_t to =
          key == kUp ? row - std::min<std::size_t>(row, 1) : std::min(row + 1, rows_.size() - 1);
      if (!rows_[to].empty()) choose(to, rows_[to][std::min(column, rows_[to].size() - 1)]);
      return true;
    }
    return ListPane::key(desk, key);
  }
  std::string object(Desk& /*desk*/) override { return name_of_part(cursor_part()); }
  std::string explanation(Desk& /*desk*/) override {
    const std::string name = name_of_part(cursor_part());
    for (const RegisterView& r : registers_)
      if ("chip." + r.name == name && r.known)
        return fmt::format(
            "{} = {:#0{}x}, {}{}", r.name, r.value, 2 + r.bits / 4, r.value,
            r.changed() ? fmt::format("; at the last pause {:#0{}x}", r.before, 2 + r.bits / 4)
                        : std::string());
    return {};
  }

 protected:
  std::size_t gather(Desk& desk, int columns, std::string& /*problem*/) override {
    registers_ = desk.session().registers();
    flags_ = desk.session().flags();
    general_.clear();
    named_.clear();
    for (std::size_t i = 0; i < registers_.size(); ++i) {
      const std::string& name = registers_[i].name;
      const bool numbered = name.size() > 1 && name[1] >= '0' && name[1] <= '9';
      (numbered ? general_ : named_).push_back(i);
    }
    std::size_t digits = 2;
    for (const std::size_t i : general_)
      digits = std::max<std::size_t>(digits, registers_[i].bits / 4);
    cell_ = 4 + 1 + digits + 1;
    per_row_ = 4;
    for (const std::size_t n : {8, 16})
      if (static_cast<int>(n * cell_) + 1 <= columns) per_row_ = n;
    // What stands in which row, by part.
    rows_.clear();
    for (std::size_t i = 0; i < general_.size(); ++i) {
      if (i % per_row_ == 0) rows_.emplace_back();
      rows_.back().push_back(static_cast<int>(general_[i] + 1));
    }
    int used = columns;
    for (const std::size_t i : named_) {
      if (registers_[i].name == "sreg" && !flags_.empty()) continue;
      const int width = 6 + static_cast<int>(registers_[i].bits / 4);
      if (used + width > columns) {
        rows_.emplace_back();
        used = 1;
      }
      rows_.back().push_back(static_cast<int>(i + 1));
      used += width;
    }
    if (!flags_.empty()) rows_.emplace_back();
    for (std::size_t i = 0; i < flags_.size(); ++i)
      rows_.back().push_back(static_cast<int>(registers_.size() + 1 + i));
    // The cursor stays with its register, in whichever row that is now.
    if (cursor_part() > 0) set_cursor(row_of(cursor_part()), cursor_part());
    return rows_.size();
  }
  Line row(Desk& desk, std::size_t index, int /*columns*/) override {
    Line out;
    for (const int part : rows_[index]) {
      const std::size_t i = static_cast<std::size_t>(part) - 1;
      if (i < registers_.size()) {
        cell(desk, out, i, 4);
        continue;
      }
      if (out.pieces.empty()) out.add(" flags");
      const FlagView& f = flags_[i - registers_.size()];
      const std::string text = fmt::format("{}={}", f.letter, f.value ? 1 : 0);
      out.add(" ").add(text, ages_.look(std::string("flag ") + f.letter, text, desk.pauses()),
                       part);
    }
    return out;
  }
  void enter(Desk& desk, std::size_t /*index*/, int part) override {
    const std::string name = name_of_part(part);
    if (name.empty()) return;
    const std::size_t flag = static_cast<std::size_t>(part) - 1 - registers_.size();
    if (flag < flags_.size())
      return desk.command(fmt::format("let {} = {}", name, flags_[flag].value ? 0 : 1));
    const RegisterView& r = registers_[static_cast<std::size_t>(part) - 1];
    if (!r.known) return desk.say(r.name + " is not kept for this call level", Look::kWarn);
    desk.edit("let " + name + " = ", fmt::format("{:#0{}x}", r.value, 2 + r.bits / 4));
  }

 private:
  void cell(Desk& desk, Line& out, std::size_t i, int name_width) {
    const RegisterView& r = registers_[i];
    out.add(fmt::format("{:>{}} ", r.name, name_width), Look::kDim);
    const std::string text =
        r.known ? fmt::format("{:0{}x}", r.value, r.bits / 4) : std::string(r.bits / 4, '-');
    out.add(text, r.known ? ages_.look(r.name, text, desk.pauses()) : Look::kDim,
            static_cast<int>(i + 1));
    out.add(" ");
  }
  [[nodiscard]] std::size_t row_of(int part) const {
    for (std::size_t r = 0; r < rows_.size(); ++r)
      if (std::find(rows_[r].begin(), rows_[r].end(), part) != rows_[r].end()) return r;
    return 0;
  }
  [[nodiscard]] std::string name_of_part(int part) const {
    if (part <= 0) return {};
    const auto index = static_cast<std::size_t>(part) - 1;
    if (index < registers_.size()) return "chip." + registers_[index].name;
    if (index - registers_.size() < flags_.size())
      return std::string("chip.sreg.") + flags_[index - registers_.size()].letter;
    return {};
  }

  std::vector<RegisterView> registers_;
  std::vector<FlagView> flags_;
  std::vector<std::size_t> general_, named_;
  std::vector<std::vector<int>> rows_;  ///< parts
  std::size_t per_row_ = 4, cell_ = 8;
  Ages ages_;
};

constexpr int kHead = 1, kWhole = 2, kFieldPart = 3;

class IoPane final : public ListPane {
 public:
  IoPane() : ListPane("io") {}
  [[nodiscard]] Least least() const override { return {3, 28}; }
  [[nodiscard]] const char* help() const override {
    return "I/O registers by peripheral, with what each field means. What has changed stands out.\n"
           "Enter on a peripheral or register opens it; on a field it changes it, by meaning where "
           "the manual gives some; on a value it takes another one.\n"
           "A change puts a value there as if it had been so; `let ... with effects` writes it as "
           "the firmware would. {trace} records a register or field over time.";
  }
  std::string object(Desk& /*desk*/) override {
    return count() != 0 ? rows_[cursor()].object : std::string();
  }
  void reveal(Desk& desk, const std::string& name) override {
    for (const IoRegister& io : desk.session().chip().info().io)
      if (io.name == name) {
        open_.insert(io.peripheral);
        open_.insert(io.peripheral + " " + name);
        wanted_ = io.peripheral + " " + name;
      }
  }
  std::string explanation(Desk& /*desk*/) override {
    if (count() == 0) return {};
    const Row& r = rows_[cursor()];
    if (r.io == nullptr) return {};
    return fmt::format("{} at {:#04x} of {}{}", r.io->io.name, r.io->io.address,
                       r.io->io.peripheral,
                       r.io->io.modelled ? "" : ": not modelled, it behaves as memory");
  }

 protected:
  std::size_t gather(Desk& desk, int /*columns*/, std::string& problem) override {
    auto all = desk.session().io();
    if (!all) {
      problem = all.error().text();
      return 0;
    }
    all_ = std::move(*all);
    rows_.clear();
    std::string peripheral;
    bool open = false;
    for (const IoView& io : all_) {
      if (io.io.peripheral != peripheral) {
        peripheral = io.io.peripheral;
        open = open_.count(peripheral) != 0;
        Row head;
        head.key = peripheral;
        head.open = open;
        for (const IoView& other : all_)
          head.changed =
              head.changed || (other.io.peripheral == peripheral && other.value != other.before);
        rows_.push_back(head);
      }
      if (!open) continue;
      Row r;
      r.key = peripheral + " " + io.io.name;
      r.object = "chip." + io.io.name;
      r.io = &io;
      r.open = open_.count(r.key) != 0;
      const bool fields = r.open;
      rows_.push_back(r);
      if (!fields) continue;
      for (std::size_t i = 0; i < io.fields.size(); ++i) {
        Row f = rows_.back();
        f.key = peripheral + " " + io.io.name + "." + io.fields[i].name;
        f.object = "chip." + io.io.name + "." + io.fields[i].name;
        f.io = &io;
        f.field = static_cast<int>(i);
        f.open = false;
        rows_.push_back(f);
      }
    }
    for (std::size_t i = 0; i < rows_.size(); ++i)
      if (!wanted_.empty() && rows_[i].key == wanted_) {
        set_cursor(i);
        centre();
        wanted_.clear();
      }
    return rows_.size();
  }
  std::string key_of_row(std::size_t index) const override {
    return index < rows_.size() ? rows_[index].key : std::string();
  }
  Line row(Desk& desk, std::size_t index, int /*columns*/) override {
    const Row& r = rows_[index];
    Line out;
    if (r.io == nullptr) {
      out.add(r.open ? " - " : " + ", Look::kDim, kHead).add(r.key, Look::kAccent, kHead);
      if (r.changed) out.add("  changed", Look::kFresh);
      return out;
    }
    const IoView& io = *r.io;
    if (r.field < 0) {
      const std::string value = fmt::format("{:#0{}x}", io.value, 2 + 2 * io.io.bytes);
      out.add(io.fields.empty() ? "     "
              : r.open          ? "   - "
                                : "   + ",
              Look::kDim, io.fields.empty() ? 0 : kHead);
      out.add(fmt::format("{:<7}", io.io.name), Look::kPlain, io.fields.empty() ? 0 : kHead);
      out.add(" ").add(value, ages_.look(r.key, value, desk.pauses()), kWhole);
      if (!io.io.modelled) out.add("  not modelled", Look::kDim);
      if (r.open) return out;
      std::string set;  // what is on, in a few words
      for (const Value::Field& f : io.fields)
        if (f.value != 0)
          set += "  " + (f.meaning.empty()
                             ? f.value == 1 ? f.name : fmt::format("{}={}", f.name, f.value)
                             : f.name + ": " + f.meaning);
      return out.add(set, Look::kDim);
    }
    const Value::Field& f = io.fields[static_cast<std::size_t>(r.field)];
    const std::string value = std::to_string(f.value);
    out.add(fmt::format("       {:<8} ", f.name));
    out.add(value, ages_.look(r.key, value, desk.pauses()), kFieldPart);
    if (!f.meaning.empty()) out.add("  " + f.meaning, Look::kDim, kFieldPart);
    return out;
  }
  void enter(Desk& desk, std::size_t index, int part) override {
    const Row& r = rows_[index];
    if (r.io == nullptr || (r.field < 0 && part == kHead && !r.io->fields.empty())) {
      if (open_.erase(r.key) == 0) open_.insert(r.key);
      return;
    }
    if (r.field < 0)
      return desk.edit("let " + r.object + " = ",
                       fmt::format("{:#0{}x}", r.io->value, 2 + 2 * r.io->io.bytes));
    const Value::Field& field = r.io->fields[static_cast<std::size_t>(r.field)];
    Menu menu{r.object, {}};
    const std::string object = r.object;
    for (const IoField& f : r.io->io.fields) {
      if (f.name != field.name) continue;
      if (f.meanings.empty() && f.width == 1)
        return desk.command(fmt::format("let {} = {}", object, field.value == 0 ? 1 : 0));
      for (std::size_t v = 0; v < f.meanings.size(); ++v)
        menu.choices.push_back(
            {std::to_string(v), f.meanings[v].empty() ? "reserved" : f.meanings[v],
             [&desk, object, v] { desk.command(fmt::format("let {} = {}", object, v)); }});
    }
    if (menu.choices.empty())
      return desk.edit("let " + object + " = ", std::to_string(field.value));
    desk.choose(std::move(menu));
  }

 private:
  struct Row {
    std::string key, object;
    const IoView* io = nullptr;
    int field = -1;
    bool open = false, changed = false;
  };
  std::vector<IoView> all_;
  std::vector<Row> rows_;
  std::string wanted_;  ///< a row's key
  std::set<std::string> open_;
  Ages ages_;
};

}  // namespace

std::unique_ptr<Pane> make_registers_pane() { return std::make_unique<RegistersPane>(); }
std::unique_ptr<Pane> make_io_pane() { return std::make_unique<IoPane>(); }

}  // namespace lucid::app
