// SPDX-License-Identifier: MIT
// Commands that open, record and check.
#include <fmt/format.h>

#include "console.h"

namespace lucid::app {

Result<void> Console::do_open(const Words& words) {
  if (session_ != nullptr) return do_reload(words);
  if (words.has("with")) options_.bench = file(words, 1);
  if (words.has("on")) options_.on = words.text("CHIP");
  if (auto opened = open(file(words)); !opened) return opened;
  return stand(session_->pause());
}

Result<void> Console::do_reload(const Words& words) {
  if (words.has("with"))
    return fail(ErrorCode::kUsage, "a session keeps the bench that it was opened with",
                "begin anew: lucid open IMAGE --bench FILE");
  auto warnings = session_->reload(file(words));
  if (!warnings) return fail(warnings.error());
  for (const std::string& warning : *warnings) show(Warning{warning});
  return stand(session_->pause());
}

Result<void> Console::do_note(const Words& words) {
  auto text = unquoted(words.text("TEXT"));
  if (!text) return fail(text.error());
  show(Remark{session_ != nullptr ? session_->filled_in(*text) : *text});
  return {};
}

Result<void> Console::missed(const std::string& expected, const std::string& instead) {
  expectation_failed_ = true;
  return fail(ErrorCode::kUsage, "expected " + expected + ", but " + instead);
}

Result<void> Console::do_expect(const Words& words) {
  ++expectations_;
  const Pause& pause = session_->pause();
  if (words.has("fault"))
    return pause.cause == Pause::Cause::kFault ? Result<void>{}
                                               : missed("pause fault", "there was no fault");
  if (words.has("pause")) {
    const std::string wanted = words.text("PLACE");
    auto place = session_->locate(wanted);
    if (!place) return fail(place.error());
    const bool same_line = place->line != 0 && place->line == pause.where.line &&
                           place->file_index == pause.where.file_index;
    if (place->address == pause.where.address || same_line) return {};
    return missed("pause at " + wanted,
                  pause.where.file.empty()
                      ? fmt::format("it is at {:#06x}", pause.where.address)
                      : fmt::format("it is at {}:{}", pause.where.file, pause.where.line));
  }
  if (words.has("serial")) {
    auto text = unquoted(words.text("TEXT"));
    if (!text) return fail(text.error());
    return serial_.find(*text) != std::string::npos
               ? Result<void>{}
               : missed("serial " + words.text("TEXT"), "it was not sent");
  }
  const std::string text = words.text("EXPR");
  auto holds = session_->holds(text);
  if (!holds) return fail(holds.error());
  if (*holds) return {};
  // Both sides of a comparison tell more than that it failed.
  for (const char* op : {"==", "!=", "<=", ">=", "<", ">"}) {
    const std::size_t at = text.find(op);
    if (at == std::string::npos) continue;
    auto left = session_->evaluate(text.substr(0, at));
    auto right = session_->evaluate(text.substr(at + std::string(op).size()));
    if (left && right)
      return missed(text, fmt::format("it is {} {} {}", left->text, op, right->text));
    break;
  }
  if (const std::size_t at = text.find(" in "); at != std::string::npos)
    if (auto left = session_->evaluate(text.substr(0, at)))
      return missed(text, fmt::format("it is {}", left->text));
  return missed(text, "it does not hold");
}

Result<void> Console::do_play(const Words& words) { return play(file(words)); }

Result<void> Console::do_abbreviate(const Words& words) {
  const std::string word = words.text("WORD");
  if (word.empty()) {
    Help help;
    help.sections.emplace_back();
    for (const ShortWord& fixed : short_words())
      help.sections[0].rows.push_back({fixed.word, "", fixed.means});
    for (const auto& [own, means] : short_) help.sections[0].rows.push_back({own, "", means});
    show(help);
    return {};
  }
  for (const ShortWord& fixed : short_words())
    if (word == fixed.word)
      return fail(ErrorCode::kUsage,
                  fmt::format("'{}' is short for `{}` for ever", word, fixed.means));
  if (word.find_first_of("=\"'#") != std::string::npos)
    return fail(ErrorCode::kUsage, fmt::format("'{}' cannot be a short word", word));
  for (const Command& command : commands())
    for (const char* form : command.forms)
      if (tokens_of(form)[0].text == word)
        return fail(ErrorCode::kUsage, fmt::format("'{}' begins a command", word));
  if (words.has("nothing"))
    short_.erase(word);
  else
    short_[word] = words.text("WORDS");
  return {};
}

Result<void> Console::do_complete(const Words& words) {
  auto text = unquoted(words.text("TEXT"));
  if (!text) return fail(text.error());
  Completions answer{*text, {}};
  for (const auto& [word, ends] : completions(*text)) answer.words.push_back(word);
  show(answer);
  return {};
}

Result<void> Console::do_screen(const Words& /*words*/) {
  if (!options_.screen)
    return fail(ErrorCode::kUsage, "the screen needs a terminal for keys and for drawing",
                "it is there at the prompt, not in scripts, pipes or with --json");
  wants_screen_ = true;
  return {};
}

Result<void> Console::do_quit(const Words& /*words*/) {
  finished_ = true;
  return {};
}

}  // namespace lucid::app
