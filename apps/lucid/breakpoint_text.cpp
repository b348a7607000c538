// SPDX-License-Identifier: MIT
#include "breakpoint_text.h"

#include <fmt/format.h>

#include <algorithm>

#include "words.h"

namespace lucid::app {
namespace {

using Kind = BreakpointSpec::Kind;

/// What stands between `pause` and the subject, and whether there is a subject: '-' none, '?' may
/// be, '!' must be.
struct Form {
  const char* words;
  Kind kind;
  char subject;
};
constexpr Form kForms[] = {
    {"at", Kind::kPlace, '!'},
    {"on read", Kind::kRead, '!'},
    {"on write", Kind::kWrite, '!'},
    {"on change", Kind::kChange, '!'},
    {"when", Kind::kWhen, '!'},
    {"on interrupt", Kind::kInterrupt, '?'},
    {"on return from", Kind::kReturn, '?'},
    {"on edge", Kind::kEdge, '!'},
    {"on byte in", Kind::kByteIn, '?'},
    {"on byte out", Kind::kByteOut, '?'},
    {"on sleep", Kind::kSleep, '-'},
    {"on wake", Kind::kWake, '-'},
    {"on eeprom write", Kind::kEepromWrite, '-'},
    {"on reset", Kind::kReset, '-'},
};

constexpr const char* kClauses =
    "clauses are: each byte, on pass N, from pass N, every N passes, if EXPR, once, log \"TEXT\", "
    "then \"COMMAND\"";

const Form* form_of(const std::string& text) {
  for (const Form& form : kForms) {
    const std::string words = form.words;
    if (text.rfind(words, 0) == 0 && (text.size() == words.size() || text[words.size()] == ' '))
      return &form;
  }
  return nullptr;
}

/// Words one by one, with a look at those that begin a clause.
class Reader {
 public:
  explicit Reader(const std::string& text) : words_(split_quoted(text)) {}
  [[nodiscard]] bool done() const { return at_ == words_.size(); }
  [[nodiscard]] bool is(std::size_t ahead, const char* text) const {
    return at_ + ahead < words_.size() && words_[at_ + ahead] == text;
  }
  std::string take() { return done() ? std::string() : words_[at_++]; }
  [[nodiscard]] bool at_clause() const {
    const bool quoted = at_ + 1 < words_.size() && words_[at_ + 1][0] == '"';
    return is(0, "once") || is(0, "if") || (is(0, "each") && is(1, "byte")) ||
           ((is(0, "log") || is(0, "then")) && quoted) ||
           ((is(0, "on") || is(0, "from")) && is(1, "pass")) ||
           (is(0, "every") && (is(2, "passes") || is(2, "pass")));
  }
  /// A word, and those that belong to it by brackets: `Ring<4, int>::put(char *)`.
  std::string place() {
    std::string out = take();
    const auto open = [&](char left, char right) {
      return std::count(out.begin(), out.end(), left) > std::count(out.begin(), out.end(), right);
    };
    const bool generic = out.find("operator") == std::string::npos;
    while (!done() && (open('(', ')') || (generic && open('<', '>')))) out += " " + take();
    return out;
  }
  std::string until_clause() {
    std::string out;
    while (!done() && !at_clause()) out += (out.empty() ? "" : " ") + take();
    return out;
  }

 private:
  std::vector<std::string> words_;
  std::size_t at_ = 0;
};

Result<void> read_clause(Reader& words, BreakpointSpec& spec) {
  using Rule = BreakpointSpec::Rule;
  std::string number;
  if (words.is(0, "once")) {
    words.take();
    spec.once = true;
    return {};
  }
  if (words.is(0, "each")) {
    words.take();
    words.take();
    spec.each_byte = true;
    return {};
  }
  if (words.is(0, "if")) {
    words.take();
    spec.condition = words.until_clause();
    if (spec.condition.empty()) return fail(ErrorCode::kUsage, "if what?", kClauses);
    return {};
  }
  if (words.is(0, "log") || words.is(0, "then")) {
    std::string& target = words.take() == "log" ? spec.log : spec.then;
    auto text = unquoted(words.take());
    if (!text) return fail(text.error());
    target = *text;
    return {};
  }
  if (words.is(0, "every")) {
    words.take();
    number = words.take();
    words.take();
    spec.rule = Rule::kEvery;
  } else {
    spec.rule = words.take() == "on" ? Rule::kOn : Rule::kFrom;
    words.take();
    number = words.take();
  }
  const auto count = parse_number(number);
  if (!count || *count == 0) return fail(ErrorCode::kUsage, "a number of passes is 1 or more");
  spec.count = *count;
  return {};
}

}  // namespace

Result<BreakpointSpec> parse_breakpoint(const std::string& text) {
  const Form* form = form_of(text);
  if (form == nullptr) {
    std::string forms;
    for (const Form& f : kForms) forms += fmt::format("{}{}", forms.empty() ? "" : ", ", f.words);
    return fail(ErrorCode::kUsage, "pause where, or on what?", "there are: " + forms);
  }
  BreakpointSpec spec;
  spec.kind = form->kind;
  const std::size_t length = std::string(form->words).size();
  Reader words(text.size() > length ? text.substr(length) : "");
  // A place is one word: what follows it must be clauses.
  if (form->subject != '-') {
    const bool is_data =
        form->kind == Kind::kRead || form->kind == Kind::kWrite || form->kind == Kind::kChange;
    if (is_data && words.is(0, "following")) {
      words.take();
      spec.following = true;
    }
    spec.place = form->kind == Kind::kPlace ? words.place() : words.until_clause();
    if (spec.place.empty() && form->subject == '!')
      return fail(ErrorCode::kUsage, fmt::format("pause {} what?", form->words));
  }
  while (!words.done()) {
    if (!words.at_clause())
      return fail(ErrorCode::kUsage, "'" + words.take() + "' is not expected here", kClauses);
    if (auto read = read_clause(words, spec); !read) return fail(read.error());
  }
  return spec;
}

std::string subject_text(const BreakpointSpec& spec) {
  for (const Form& form : kForms)
    if (form.kind == spec.kind)
      return std::string(form.words) + (spec.following ? " following" : "") +
             (spec.place.empty() ? "" : " " + spec.place);
  return spec.place;
}

namespace {
std::string quoted(const std::string& text) {
  std::string out = "\"";
  for (const char c : text) {
    if (c == '"' || c == '\\') out += '\\';
    if (c == '\n')
      out += "\\n";
    else
      out += c;
  }
  return out + "\"";
}
}  // namespace

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
