// SPDX-License-Identifier: MIT
// What the checks of the whole run have found: each place once, with the place and the moment.
#include <fmt/format.h>

#include "lucid/finding.h"
#include "screen/pane.h"
#include "text.h"
#include "text_back.h"

namespace lucid::app {
namespace {

class FindingsPane final : public ListPane {
 public:
  FindingsPane() : ListPane("findings") {}
  [[nodiscard]] Least least() const override { return {3, 26}; }
  std::string title(Desk& desk) override {
    const std::size_t all = desk.session().findings().size();
    return all == 0 ? "findings" : fmt::format("findings: {}", all);
  }
  [[nodiscard]] const char* help() const override {
    return "What checks of the whole run have found, each place once: when first, how often, "
           "where; the line at the bottom has it in full.\n"
           "Enter shows the place, on the time it goes there. `check CHECK list` in the prompt "
           "looks for more, `show checks` has their names.";
  }
  std::string place(Desk& /*desk*/) override {
    if (cursor() >= list_.size() || !list_[cursor()].where) return {};
    return fmt::format("{:#x}", list_[cursor()].where->address);
  }
  std::string explanation(Desk& /*desk*/) override {
    return cursor() < list_.size() ? list_[cursor()].text : std::string();
  }

 protected:
  std::size_t gather(Desk& desk, int /*columns*/, std::string& problem) override {
    list_ = desk.session().findings();
    problem = "nothing has been found; `show checks` tells what is looked for";
    return list_.size();
  }
  std::string key_of_row(std::size_t index) const override {
    if (index >= list_.size()) return {};
    const FindingView& f = list_[index];
    return fmt::format("{} {} {}", f.check, f.where ? f.where->address : 0U, f.at.count);
  }
  Line row(Desk& /*desk*/, std::size_t index, int /*columns*/) override {
    const FindingView& f = list_[index];
    Line out;
    out.add(" ").add(f.check, f.harmless ? Look::kDim : Look::kWarn, 1);
    out.add("  ").add(to_text(f.at), Look::kKey, 2);
    if (f.times > 1) out.add(fmt::format(", {} times", f.times), Look::kDim);
    if (f.where) out.add("  ").add(app::place(*f.where), Look::kAccent, 1);
    return out.add("  " + f.text, Look::kDim);
  }
  void enter(Desk& desk, std::size_t index, int part) override {
    const FindingView& f = list_[index];
    if (part == 2)
      desk.command("go to " + to_text(f.at));
    else if (f.where)
      desk.show_code(fmt::format("{:#x}", f.where->address));
    else
      desk.say("it is about no place in the code", Look::kDim);
  }
  [[nodiscard]] int first_part(const std::vector<int>& parts) const override {
    return parts.empty() ? 0 : parts.front();
  }

 private:
  std::vector<FindingView> list_;
};

}  // namespace

std::unique_ptr<Pane> make_findings_pane() { return std::make_unique<FindingsPane>(); }

}  // namespace lucid::app
