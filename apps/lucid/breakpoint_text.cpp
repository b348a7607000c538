// SPDX-License-Identifier: MIT
#include "breakpoint_text.h"

#include <fmt/format.h>

#include <string_view>

namespace lucid::app {
namespace {

using Kind = BreakpointSpec::Kind;

/// What stands between `pause` and the subject.
struct Form {
  const char* words;
  Kind kind;
};
constexpr Form kForms[] = {
    {"at", Kind::kPlace},
    {"on read", Kind::kRead},
    {"on write", Kind::kWrite},
    {"on change", Kind::kChange},
    {"when", Kind::kWhen},
    {"on interrupt", Kind::kInterrupt},
    {"on return from", Kind::kReturn},
    {"on edge", Kind::kEdge},
    {"on byte in", Kind::kByteIn},
    {"on byte out", Kind::kByteOut},
    {"on sleep", Kind::kSleep},
    {"on wake", Kind::kWake},
    {"on eeprom write", Kind::kEepromWrite},
    {"on reset", Kind::kReset},
};

/// What stands between `pause` and the first argument or clause.
const Form* form_of(const Words& words) {
  std::string head;
  for (const Words::Item& item : words.items()) {
    if (item.kind != nullptr) break;
    head += (head.empty() ? "" : " ") + item.text;
  }
  const Form* best = nullptr;
  for (const Form& form : kForms) {
    const std::string begin = std::string("pause ") + form.words;
    if (head.rfind(begin, 0) == 0 && (head.size() == begin.size() || head[begin.size()] == ' '))
      best = &form;
  }
  return best;
}

Result<void> read_clauses(const Words& words, BreakpointSpec& spec) {
  using Rule = BreakpointSpec::Rule;
  const auto& items = words.items();
  for (std::size_t i = 0; i + 1 < items.size(); ++i) {
    const std::string& word = items[i].text;
    const Words::Item& next = items[i + 1];
    if (items[i].kind != nullptr || next.kind == nullptr) continue;
    const std::string_view kind = next.kind->name;
    const bool again = kind == "TEXT"      ? !spec.log.empty()
                       : kind == "COMMAND" ? !spec.then.empty()
                       : kind == "N"       ? spec.rule != Rule::kAlways
                                           : word == "if" && !spec.condition.empty();
    if (again)
      return fail(ErrorCode::kUsage, fmt::format("`{}` is there twice", word),
                  "another breakpoint at the same place can have the other");
    if (kind == "EXPR" && word == "if") spec.condition = next.text;
    if (kind == "TEXT" || kind == "COMMAND") {
      auto text = unquoted(next.text);
      if (!text) return fail(text.error());
      (kind == "TEXT" ? spec.log : spec.then) = *text;
    }
    if (kind != "N") continue;
    const std::string& before = items[i - 1].text;
    spec.rule = word == "every" ? Rule::kEvery : before == "from" ? Rule::kFrom : Rule::kOn;
    spec.count = parse_number(next.text).value_or(0);
    if (spec.count == 0) return fail(ErrorCode::kUsage, "a number of passes is 1 or more");
  }
  spec.once = words.has("once");
  spec.each_byte = words.has("each");
  spec.following = words.has("following");
  return {};
}

}  // namespace

Result<BreakpointSpec> breakpoint_of(const Words& words) {
  const Form* form = form_of(words);
  if (form == nullptr) return fail(ErrorCode::kUsage, "pause where, or on what?");
  BreakpointSpec spec;
  spec.kind = form->kind;
  for (const Words::Item& item : words.items()) {
    if (item.kind == nullptr) continue;
    const std::string_view kind = item.kind->name;
    if (kind == "PLACE" || kind == "OBJECT" || kind == "INTERRUPT" || kind == "PIN" ||
        kind == "PORT" || (kind == "EXPR" && form->kind == Kind::kWhen && spec.place.empty()))
      spec.place = item.text;
  }
  for (const char* way : {"rising", "falling"})
    if (form->kind == Kind::kEdge && words.has(way)) spec.place += std::string(" ") + way;
  if (auto read = read_clauses(words, spec); !read) return fail(read.error());
  return spec;
}

std::string subject_text(const BreakpointSpec& spec) {
  for (const Form& form : kForms)
    if (form.kind == spec.kind)
      return std::string(form.words) + (spec.following ? " following" : "") +
             (spec.place.empty() ? "" : " " + spec.place);
  return spec.place;
}

std::string clauses_text(const BreakpointSpec& spec) {
  std::string out;
  switch (spec.rule) {
    case BreakpointSpec::Rule::kAlways: break;
    case BreakpointSpec::Rule::kOn: out += fmt::format(" on pass {}", spec.count); break;
    case BreakpointSpec::Rule::kFrom: out += fmt::format(" from pass {}", spec.count); break;
    case BreakpointSpec::Rule::kEvery: out += fmt::format(" every {} passes", spec.count); break;
  }
  if (spec.each_byte) out += " each byte";
  if (!spec.condition.empty()) out += " if " + spec.condition;
  if (spec.once) out += " once";
  if (!spec.log.empty()) out += " log " + quoted(spec.log);
  if (!spec.then.empty()) out += " then " + quoted(spec.then);
  return out;
}

}  // namespace lucid::app
