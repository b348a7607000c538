// SPDX-License-Identifier: MIT
// What a command line may say. A command's form is written as help shows it, and is what lines are
// read by: parsing, completion and short words come from the same text.
//
//   step into [line|instruction] [N]
//
// Words stand for themselves, CAPITALS for an argument (kArguments), `a|b` for one of them, [ ] for
// what may be left out, ` | ` for one of several wordings, `…` for one or more.
#ifndef LUCID_APP_GRAMMAR_H
#define LUCID_APP_GRAMMAR_H

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "lucid/error.h"

namespace lucid::app {

/// A word of a line. Texts in quotes and character constants are within one.
struct Token {
  std::string text;
  std::size_t begin = 0, end = 0;  ///< in the line
};
/// Words up to a comment: by blanks, with the `=` of an assignment apart.
std::vector<Token> tokens_of(std::string_view line);

std::vector<std::string> words_of(std::string_view line);

/// The contents of a text in quotes, its escapes replaced. Error: kUsage.
Result<std::string> unquoted(const std::string& text);
/// The same text in quotes.
std::string quoted(const std::string& text);
/// Decimal, or hexadecimal with 0x.
std::optional<std::uint64_t> parse_number(const std::string& text);

/// What can stand for an argument.
struct ArgumentKind {
  enum class Shape : std::uint8_t {
    kWord,    ///< one, and those that its brackets hold together
    kWords,   ///< one or more, to the next word of the form
    kNumber,  ///< decimal or hexadecimal
    kTime,    ///< 20ms, or 2 s
    kDigit,   ///< a word that begins with a digit or a sign: 40%, 2.5V
    kQuoted,  ///< a text in quotes
    kOneOf,   ///< one of the values there are
  };
  const char* name;
  Shape shape;
  const char* words;  ///< what it is, with an example
};
const std::vector<ArgumentKind>& argument_kinds();
/// Parts of forms that several commands share, by their names in capitals.
struct SharedForm {
  const char* name;
  const char* form;
  const char* words;  ///< of help
};
const std::vector<SharedForm>& shared_forms();

/// What a line says.
class Words {
 public:
  struct Item {
    const ArgumentKind* kind;  ///< null for a word of the form
    std::string text;
  };
  [[nodiscard]] bool has(std::string_view word) const;
  /// The first argument of this name; empty if there is none.
  [[nodiscard]] std::string text(std::string_view name) const;
  [[nodiscard]] std::vector<std::string> texts(std::string_view name) const;
  /// The argument of this name that follows a word of the form; empty if there is none.
  [[nodiscard]] std::string behind(std::string_view word, std::string_view name) const;
  /// REQUIRES: it is of a kind that is a number; 2^64-1 if that is too large.
  [[nodiscard]] std::uint64_t number(std::string_view name, std::uint64_t otherwise) const;
  [[nodiscard]] const std::vector<Item>& items() const { return items_; }

  std::vector<Item> items_;
};

/// The values that there are now for an argument of a kind; only for those that begin so.
using Values =
    std::function<std::vector<std::string>(const ArgumentKind& kind, const std::string& start)>;

/// All forms of all commands as one.
class Grammar {
 public:
  /// Adds a form and answers for its number, from 0.
  unsigned add(std::string_view form);

  struct Line {
    unsigned form = 0;
    Words words;
  };
  /// Errors: kUsage, saying the first word that cannot stand there and what could.
  [[nodiscard]] Result<Line> read(std::string_view line, const Values& values) const;
  /// What the last word of a line that is not yet complete may go on to, each with what it is for.
  struct Next {
    std::vector<std::string> words;
    std::vector<const ArgumentKind*> kinds;
    std::vector<const ArgumentKind*> going_on;  ///< to which more words can belong
  };
  [[nodiscard]] Next next(std::string_view line, const Values& values) const;
  /// The argument kinds and shared forms that a form names, in order.
  [[nodiscard]] static std::vector<std::string> names_in(std::string_view form);

 private:
  struct Node {
    enum class Kind : std::uint8_t { kWord, kArgument, kSequence, kChoice, kOptional, kRepeat };
    Kind kind;
    std::string text;
    const ArgumentKind* argument = nullptr;
    std::vector<Node> parts;
  };
  class Reader;
  class Run;
  std::vector<Node> forms_;
};

}  // namespace lucid::app

#endif  // LUCID_APP_GRAMMAR_H
