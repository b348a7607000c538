// SPDX-License-Identifier: MIT
// Commands that open, record and check.
#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <iterator>
#include <sstream>

#include "console.h"
#include "output.h"
#include "text_back.h"

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

Result<void> Console::decide(const Result<Expectation>& expectation) {
  ++expectations_;
  if (!expectation) return fail(expectation.error());
  return *expectation ? Result<void>{} : missed(*expectation);
}

/// An expectation that has failed: when, where, and who had called.
Result<void> Console::missed(const Expectation& expectation) {
  expectation_failed_ = true;
  session_->told(expectation.time);
  std::string where = "at " + to_text(expectation.time);
  const auto levels = session_->callers();
  for (auto level = levels.rbegin(); level != levels.rend(); ++level)
    where += (level == levels.rbegin() ? ", " : ", called from ") + place(level->where);
  return fail(ErrorCode::kUsage, expectation.text(), where);
}

/// One that has run the program: where that stands, and what came of it.
Result<void> Console::stand_decided(const Result<Expectation>& expectation) {
  if (!expectation) return decide(expectation);
  Pause pause = session_->pause();
  pause.then.clear();
  if (auto stood = stand(pause); !stood) return stood;
  return decide(expectation);
}

/// Something recorded: is it still the same?
Result<void> Console::expect_same(const std::string& what, const std::string& now,
                                  const std::string& path) {
  if (options_.renew) {
    if (auto written = write_file(path, now + "\n"); !written) return written;
    show(Message{what + " is in " + path});
    return {};
  }
  std::error_code unknown;
  std::ifstream in(path, std::ios::binary);
  if (!in || std::filesystem::is_directory(path, unknown))
    return fail(ErrorCode::kNotFound, "cannot read '" + path + "'",
                "`lucid play --renew` writes what is there now");
  const std::string then{std::istreambuf_iterator<char>(in), {}};
  std::istringstream left(then), right(now + "\n");
  Expectation out{true, what + " same as " + path, "", session_->chip().time(), {}};
  for (unsigned number = 1; out.held && then != now + "\n"; ++number) {
    std::string was, is;
    const bool more_was = static_cast<bool>(std::getline(left, was));
    const bool more_is = static_cast<bool>(std::getline(right, is));
    if (more_was && more_is && was == is) continue;
    const auto shown = [](bool more, const std::string& line) {
      return more ? "'" + with_bytes_escaped(line) + "'" : std::string("nothing");
    };
    out.held = false;
    out.instead = more_was || more_is ? fmt::format("line {} is {}, and was {}", number,
                                                    shown(more_is, is), shown(more_was, was))
                                      : "only its last line end is another";
  }
  return decide(out);
}

Result<void> Console::expect_same_serial(const Words& words) {
  const std::string port = words.text("PORT");
  if (port.empty()) return expect_same("serial text", sent_.text(), file(words));
  const auto& ports = session_->chip().info().serial_ports;
  const auto found = std::find(ports.begin(), ports.end(), port);
  if (found == ports.end())
    return fail(ErrorCode::kNotFound, "there is no serial port '" + port + "'",
                did_you_mean(port, ports));
  return expect_same("text of " + *found, sent_.text_of(*found), file(words));
}

Result<void> Console::do_expect(const Words& words) {
  Expectations& expect = *expectations_of_;
  const std::string text = words.text("EXPR");
  std::optional<Picoseconds> span;
  if (const std::string time = words.text("TIME"); !time.empty()) {
    const auto read = parse_time(time);
    if (!read) return fail(read.error());
    span = *read;
  }
  if (words.has("race")) return expect_no_race(words);
  if (words.has("findings")) return expect_no_findings();
  if (words.has("never")) {
    const auto armed = expect.never(text);
    if (!armed) return fail(armed.error());
    ++expectations_;
    if (const auto broken = expect.broken()) return missed(*broken);
    show(Message{fmt::format("from here on, as breakpoint {}: never {}", *armed, text)});
    return {};
  }
  if (words.has("every")) {
    const std::string times = words.text("TIMES");
    const std::size_t dots = times.find("..");
    const auto least = parse_time(times.substr(0, dots));
    const auto most = dots == std::string::npos ? least : parse_time(times.substr(dots + 2));
    if (!least || !most || dots == std::string::npos)
      return fail(ErrorCode::kUsage, "'" + times + "' are not two spans", "write 999ms..1001ms");
    if (auto armed = expect.every(words.text("SIGNAL"), *least, *most); !armed) return armed;
    ++expectations_;
    show(Message{"from here on: " + expect.armed().back().expected});
    return {};
  }
  if (words.has("same"))
    return words.has("serial") ? expect_same_serial(words) : expect_same_value(text, file(words));
  if (words.has("tests")) {
    const auto decided = expect.tests_hold(*span);
    tests_.insert(tests_.end(), expect.tests().begin(), expect.tests().end());
    if (decided) show(Tested{expect.tests()});
    return stand_decided(decided);
  }
  if (words.has("heard")) {
    const auto plain = unquoted(words.text("TEXT"));
    if (!plain) return fail(plain.error());
    return stand_decided(expect.heard(words.text("PORT"), *plain, *span));
  }
  if (words.has("pause")) {
    const std::string place = words.text("PLACE");
    if (words.has("fault"))
      return span ? stand_decided(expect.fault(span)) : decide(expect.fault());
    return span ? stand_decided(expect.reaches(place, *span)) : decide(expect.at(place));
  }
  if (words.has("serial")) {
    const auto plain = unquoted(words.text("TEXT"));
    if (!plain) return fail(plain.error());
    const bool sent = sent_.text().find(*plain) != std::string::npos;
    return decide(Expectation{sent,
                              "serial " + words.text("TEXT"),
                              sent ? "" : "it was not sent",
                              session_->chip().time(),
                              {}});
  }
  if (text.empty()) {
    show(Armed{expect.armed()});
    return {};
  }
  if (!span) {
    auto decided = expect.that(text);
    for (const auto& [word, form] : {std::pair{"heard", "expect heard USART0 \"ready\" within 2s"},
                                     std::pair{"never", "expect never tx_head == 99"},
                                     std::pair{"tests", "expect tests within 1s"}})
      if (!decided && words_of(text).front() == word)
        return fail(ErrorCode::kUsage, "`expect " + text + "` is not complete",
                    std::string("such as: ") + form);
    return decide(decided);
  }
  return stand_decided(words.has("for") ? expect.throughout(text, *span)
                                        : expect.within(text, *span));
}

Result<void> Console::expect_same_value(const std::string& expression, const std::string& path) {
  std::string now;
  for (const std::string& part : expressions_in(expression)) {
    const auto value = session_->evaluate(part);
    if (!value) return fail(value.error());
    now += (now.empty() ? "" : "\n") + value->text;
  }
  return expect_same(expression, now, path);
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
