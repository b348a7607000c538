// SPDX-License-Identifier: MIT
#include "grammar.h"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <charconv>

namespace lucid::app {
namespace {

using Shape = ArgumentKind::Shape;

bool is_capital(std::string_view word) {
  return word.size() > 1
             ? std::all_of(word.begin(), word.end(),
                           [](char c) { return std::isupper(static_cast<unsigned char>(c)) != 0; })
             : word == "N";
}

const ArgumentKind* kind_named(std::string_view name) {
  for (const ArgumentKind& kind : argument_kinds())
    if (name == kind.name) return &kind;
  return nullptr;
}

bool is_digit(char c) { return std::isdigit(static_cast<unsigned char>(c)) != 0; }

/// Where a constant like 'a' or '\'' ends that begins here; 0 if none does.
std::size_t character_constant(std::string_view line, std::size_t at) {
  if (line[at] != '\'') return 0;
  std::size_t end = at + 1;
  if (end < line.size() && line[end] == '\\') ++end;
  end += 1;
  return end < line.size() && line[end] == '\'' ? end + 1 : 0;
}

}  // namespace

std::vector<Token> tokens_of(std::string_view line) {
  std::vector<Token> out;
  bool in_word = false;
  for (std::size_t i = 0; i < line.size();) {
    const char c = line[i];
    if (c == '#') break;
    if (c == ' ' || c == '\t' || c == '\r' || c == '\n' || c == '\f' || c == '\v') {
      in_word = false;
      ++i;
      continue;
    }
    const std::size_t begin = i;
    bool alone = false;  // the `=` of an assignment
    if (c == '"') {
      for (++i; i < line.size() && line[i] != '"'; ++i)
        if (line[i] == '\\') ++i;
      i = std::min(i + 1, line.size());
    } else if (const std::size_t end = character_constant(line, i); end != 0) {
      i = end;
    } else if (std::string_view("=<>!").find(c) != std::string_view::npos && i + 1 < line.size() &&
               line[i + 1] == '=') {
      i += 2;
    } else {
      alone = c == '=';
      ++i;
    }
    if (!in_word || alone) out.push_back({"", begin, begin});
    out.back().text += line.substr(begin, i - begin);
    out.back().end = i;
    in_word = !alone;
  }
  return out;
}

std::vector<std::string> words_of(std::string_view line) {
  std::vector<std::string> out;
  for (Token& token : tokens_of(line)) out.push_back(std::move(token.text));
  return out;
}

std::optional<std::uint64_t> parse_number(const std::string& text) {
  const bool hex = text.rfind("0x", 0) == 0;
  const char* begin = text.data() + (hex ? 2 : 0);
  const char* end = text.data() + text.size();
  std::uint64_t value = 0;
  const auto [at, error] = std::from_chars(begin, end, value, hex ? 16 : 10);
  if (begin == end || error != std::errc{} || at != end) return std::nullopt;
  return value;
}

Result<std::string> unquoted(const std::string& text) {
  if (text.size() < 2 || text.front() != '"' || text.back() != '"')
    return fail(ErrorCode::kUsage, "a text stands in quotes: \"…\"");
  std::string out;
  for (std::size_t i = 1; i + 1 < text.size(); ++i) {
    if (text[i] != '\\') {
      out += text[i];
      continue;
    }
    const char c = text[++i];
    switch (c) {
      case 'n': out += '\n'; break;
      case 'r': out += '\r'; break;
      case 't': out += '\t'; break;
      case '\\':
      case '"': out += c; break;
      case 'x': {
        unsigned value = 0;
        const char* begin = text.data() + i + 1;
        const char* limit = text.data() + std::min(i + 3, text.size() - 1);
        const auto [at, error] = std::from_chars(begin, limit, value, 16);
        if (error != std::errc{} || at != limit || limit - begin != 2)
          return fail(ErrorCode::kUsage, "\\x takes two hexadecimal digits");
        out += static_cast<char>(value);
        i += 2;
        break;
      }
      default:
        return fail(ErrorCode::kUsage, std::string("the escape \\") + c + " is not known",
                    "there are \\n \\r \\t \\\\ \\\" \\xNN");
    }
  }
  return out;
}

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

bool Words::has(std::string_view word) const {
  return std::any_of(items_.begin(), items_.end(),
                     [&](const Item& i) { return i.kind == nullptr && i.text == word; });
}

std::vector<std::string> Words::texts(std::string_view name) const {
  std::vector<std::string> out;
  for (const Item& i : items_)
    if (i.kind != nullptr && i.kind->name == name) out.push_back(i.text);
  return out;
}

std::string Words::behind(std::string_view word, std::string_view name) const {
  for (std::size_t i = 0; i + 1 < items_.size(); ++i)
    if (items_[i].kind == nullptr && items_[i].text == word && items_[i + 1].kind != nullptr &&
        items_[i + 1].kind->name == name)
      return items_[i + 1].text;
  return {};
}

std::string Words::text(std::string_view name) const {
  const auto all = texts(name);
  return all.empty() ? std::string() : all.front();
}

std::uint64_t Words::number(std::string_view name, std::uint64_t otherwise) const {
  const std::string word = text(name);
  return word.empty() ? otherwise : parse_number(word).value_or(UINT64_MAX);
}

// Reading forms
// ------------------------------------------------------------------------------------------------

class Grammar::Reader {
 public:
  explicit Reader(std::string_view form) : form_(form) { take(); }

  /// Wordings to the end or a closing bracket.
  Node wordings() {
    Node choice{Node::Kind::kChoice, "", nullptr, {}};
    do {
      Node sequence{Node::Kind::kSequence, "", nullptr, {}};
      while (!word_.empty() && word_ != "|" && word_ != "]") sequence.parts.push_back(item());
      choice.parts.push_back(std::move(sequence));
    } while (word_ == "|" && (take(), true));
    return choice.parts.size() == 1 ? std::move(choice.parts[0]) : choice;
  }

 private:
  void take() {
    while (at_ < form_.size() && (form_[at_] == ' ' || form_[at_] == '\n')) ++at_;
    const std::size_t begin = at_;
    if (at_ < form_.size() && (form_[at_] == '[' || form_[at_] == ']'))
      ++at_;
    else
      at_ = std::min(form_.find_first_of(" \n[]", at_), form_.size());
    word_ = form_.substr(begin, at_ - begin);
  }

  Node item() {
    if (word_ == "[") {
      take();
      Node inner = wordings();
      take();  // the closing bracket
      return {Node::Kind::kOptional, "", nullptr, {std::move(inner)}};
    }
    constexpr std::string_view kMore = "…";
    std::string_view word = word_;
    const bool repeats =
        word.size() > kMore.size() && word.substr(word.size() - kMore.size()) == kMore;
    if (repeats) word.remove_suffix(kMore.size());
    Node choice{Node::Kind::kChoice, "", nullptr, {}};
    for (std::size_t at = 0; at <= word.size();) {
      const std::size_t end = std::min(word.find('|', at), word.size());
      choice.parts.push_back(single(word.substr(at, end - at)));
      at = end + 1;
    }
    Node node = choice.parts.size() == 1 ? std::move(choice.parts[0]) : std::move(choice);
    take();
    if (!repeats) return node;
    return {Node::Kind::kRepeat, "", nullptr, {std::move(node)}};
  }

  static Node single(std::string_view word) {
    if (!is_capital(word)) return {Node::Kind::kWord, std::string(word), nullptr, {}};
    for (const SharedForm& shared : shared_forms())
      if (word == shared.name) return Reader(shared.form).wordings();
    return {Node::Kind::kArgument, std::string(word), kind_named(word), {}};
  }

  std::string_view form_;
  std::size_t at_ = 0;
  std::string_view word_;
};

unsigned Grammar::add(std::string_view form) {
  forms_.push_back(Reader(form).wordings());
  return static_cast<unsigned>(forms_.size() - 1);
}

std::vector<std::string> Grammar::names_in(std::string_view form) {
  std::vector<std::string> out;
  for (std::size_t at = 0; at < form.size();) {
    std::size_t end = at;
    while (end < form.size() && std::isalpha(static_cast<unsigned char>(form[end])) != 0) ++end;
    const std::string word(form.substr(at, end - at));
    if (is_capital(word) && std::find(out.begin(), out.end(), word) == out.end())
      out.push_back(word);
    at = std::max(end, at + 1);
  }
  return out;
}

// Reading lines
// ------------------------------------------------------------------------------------------------

/// One reading of a line: forms are tried in order, what may be left out is left out first, an
/// argument of several words takes as few as the rest allows.
class Grammar::Run {
 public:
  Run(const Grammar& grammar, std::string_view line, std::vector<Token> tokens,
      const Values& values, bool looks_on = false)
      : grammar_(grammar),
        line_(line),
        tokens_(std::move(tokens)),
        values_(values),
        looks_on_(looks_on) {}

  /// True: a form says all of the line.
  bool all() {
    for (form_ = 0; form_ < grammar_.forms_.size(); ++form_) {
      found_.items_.clear();
      if (match(grammar_.forms_[form_], 0, [&](std::size_t at) { return is_end(at); })) return true;
    }
    return false;
  }

  [[nodiscard]] Line line() const { return {form_, found_}; }
  /// The word at which no form could go on, and what could have stood there.
  [[nodiscard]] std::size_t furthest() const { return furthest_; }
  [[nodiscard]] const std::vector<const Node*>& expected() const { return expected_; }
  /// Arguments that more words could belong to.
  [[nodiscard]] const std::vector<const Node*>& going_on() const { return going_on_; }

 private:
  using Then = std::function<bool(std::size_t)>;

  bool is_end(std::size_t at) {
    note(nullptr, at);
    return at == tokens_.size() && !looks_on_;
  }

  void note(const Node* node, std::size_t at, bool goes_on = false) {
    if (at < furthest_) return;
    if (at > furthest_) {
      expected_.clear();
      going_on_.clear();
    }
    furthest_ = at;
    if (node != nullptr) (goes_on ? going_on_ : expected_).push_back(node);
  }

  bool match(const Node& node, std::size_t at, const Then& then) {
    // A line of nothing but `if a if a if a` could be split in more ways than there is time for.
    constexpr unsigned kMost = 100'000;
    if (++steps_ > kMost) return false;
    constexpr unsigned kDeepest = 2'000;  // nor without end
    if (depth_ >= kDeepest) return false;
    ++depth_;
    const bool matched = match_at(node, at, then);
    --depth_;
    return matched;
  }

  bool match_at(const Node& node, std::size_t at, const Then& then) {
    switch (node.kind) {
      case Node::Kind::kWord:
        if (at == tokens_.size() || tokens_[at].text != node.text) return note(&node, at), false;
        return bound({nullptr, node.text}, at + 1, then);
      case Node::Kind::kArgument: return argument(node, at, then);
      case Node::Kind::kSequence: return sequence(node, 0, at, then);
      case Node::Kind::kChoice:
        return std::any_of(node.parts.begin(), node.parts.end(),
                           [&](const Node& part) { return match(part, at, then); });
      case Node::Kind::kOptional: return then(at) || match(node.parts[0], at, then);
      case Node::Kind::kRepeat:
        return match(node.parts[0], at, [&](std::size_t behind) {
          return then(behind) || (behind > at && match(node, behind, then));
        });
    }
    return false;
  }

  bool sequence(const Node& node, std::size_t part, std::size_t at, const Then& then) {
    if (part == node.parts.size()) return then(at);
    return match(node.parts[part], at,
                 [&](std::size_t behind) { return sequence(node, part + 1, behind, then); });
  }

  bool bound(Words::Item item, std::size_t behind, const Then& then) {
    found_.items_.push_back(std::move(item));
    if (then(behind)) return true;
    found_.items_.pop_back();
    return false;
  }

  [[nodiscard]] std::string text(std::size_t from, std::size_t to) const {
    return std::string(
        line_.substr(tokens_[from].begin, tokens_[to - 1].end - tokens_[from].begin));
  }

  /// Behind the tokens that belong to a word: without a blank between them, or within brackets.
  [[nodiscard]] std::size_t word_end(std::size_t at) const {
    const auto open = [](std::string_view out, char left, char right) {
      return std::count(out.begin(), out.end(), left) > std::count(out.begin(), out.end(), right);
    };
    std::size_t end = at + 1;
    for (; end < tokens_.size(); ++end) {
      const std::string word = text(at, end);
      const bool generic = word.find("operator") == std::string::npos;
      if (tokens_[end].begin != tokens_[end - 1].end && !open(word, '(', ')') &&
          !(generic && open(word, '<', '>')))
        break;
    }
    return end;
  }

  bool argument(const Node& node, std::size_t at, const Then& then) {
    const auto refused = [&] { return note(&node, at), false; };
    if (at == tokens_.size()) return refused();
    const ArgumentKind& kind = *node.argument;
    const std::string& first = tokens_[at].text;
    const bool numeric =
        is_digit(first[0]) || first[0] == '-' || first[0] == '+' || first[0] == '.';
    const auto as = [&](std::size_t end) { return bound({&kind, text(at, end)}, end, then); };
    switch (kind.shape) {
      case Shape::kWord: return as(word_end(at));
      case Shape::kWords:
        for (std::size_t end = at + 1; end <= tokens_.size(); ++end)
          if (as(end)) return true;
        note(&node, tokens_.size(), true);
        return false;
      case Shape::kNumber:
        return is_digit(first[0]) && parse_number(first) ? as(at + 1) : refused();
      case Shape::kTime:
        if (!numeric) return refused();
        return as(at + 1) || (at + 1 < tokens_.size() && as(at + 2));
      case Shape::kDigit: return numeric ? as(word_end(at)) : refused();
      case Shape::kQuoted: return first[0] == '"' ? as(at + 1) : refused();
      case Shape::kOneOf: {
        const auto all = values_(kind, first);
        return std::find(all.begin(), all.end(), first) != all.end() ? as(at + 1) : refused();
      }
    }
    return false;
  }

  const Grammar& grammar_;
  std::string_view line_;
  std::vector<Token> tokens_;
  const Values& values_;
  const bool looks_on_;  ///< not content with a form that fits: what else might follow?
  unsigned form_ = 0;
  unsigned steps_ = 0, depth_ = 0;
  Words found_;
  std::size_t furthest_ = 0;
  std::vector<const Node*> expected_, going_on_;
};

Grammar::Next Grammar::next(std::string_view line, const Values& values) const {
  std::vector<Token> tokens = tokens_of(line);
  std::string start;
  if (!tokens.empty() && tokens.back().end == line.size()) {
    start = tokens.back().text;
    tokens.pop_back();
  }
  const std::size_t count = tokens.size();
  Run run(*this, line, std::move(tokens), values, true);
  run.all();
  Next out;
  if (run.furthest() != count) return out;
  const auto unique = [](auto& list, const auto& item) {
    if (std::find(list.begin(), list.end(), item) == list.end()) list.push_back(item);
  };
  for (const Node* node : run.expected()) {
    if (node->kind == Node::Kind::kArgument)
      unique(out.kinds, node->argument);
    else if (node->text.rfind(start, 0) == 0)
      unique(out.words, node->text);
  }
  for (const Node* node : run.going_on()) unique(out.going_on, node->argument);
  return out;
}

namespace {

/// What may stand somewhere, for a message.
std::string listed(const Grammar::Next& next, const Values& values) {
  std::vector<std::string> all = next.words;
  for (const ArgumentKind* kind : next.kinds) {
    if (kind->shape == Shape::kOneOf)
      for (std::string& value : values(*kind, "")) all.push_back(std::move(value));
    else
      all.push_back(fmt::format("{} ({})", kind->name, kind->words));
  }
  std::string out;
  for (std::size_t i = 0; i < all.size(); ++i)
    out += (i == 0 ? "" : i + 1 == all.size() ? " or " : ", ") + all[i];
  return out;
}

}  // namespace

Result<Grammar::Line> Grammar::read(std::string_view line, const Values& values) const {
  std::string text(line);
  {
    Run run(*this, text, tokens_of(text), values);
    if (run.all()) return run.line();
  }
  // Beginnings of words, where only one word can be meant and nothing of the user's own.
  std::vector<Token> tokens = tokens_of(text);
  for (std::size_t i = 0; i < tokens.size(); ++i) {
    const std::string word = tokens[i].text;
    const Next may = next(text.substr(0, tokens[i].end), values);
    std::vector<std::string> fits = may.words;
    bool own = false;  // anything may stand there
    own = !may.going_on.empty();
    for (const ArgumentKind* kind : may.kinds) {
      own = own || kind->shape == Shape::kWords || kind->shape == Shape::kWord;
      if (kind->shape != Shape::kOneOf) continue;
      for (std::string& value : values(*kind, word)) fits.push_back(std::move(value));
    }
    if (std::find(fits.begin(), fits.end(), word) != fits.end() || own) continue;
    if (fits.size() > 1)
      return fail(ErrorCode::kUsage, fmt::format("'{}' may be {}", word, fmt::join(fits, " or ")),
                  "write more of it");
    if (fits.empty()) break;
    text.replace(tokens[i].begin, word.size(), fits[0]);
    tokens = tokens_of(text);
  }
  Run run(*this, text, tokens_of(text), values);
  if (run.all()) return run.line();
  const std::size_t at = run.furthest();
  tokens = tokens_of(text);
  Next may = next(at < tokens.size() ? text.substr(0, tokens[at].begin) : text + " ", values);
  const std::string behind = at == 0 ? "" : text.substr(0, tokens[at - 1].end);
  if (at >= tokens.size())
    return fail(ErrorCode::kUsage, fmt::format("`{}` is not complete", text),
                "there follows " + listed(may, values));
  const std::string word = tokens[at].text;
  Error error{ErrorCode::kUsage, fmt::format("'{}' is not expected", word), "", ""};
  if (at != 0) error.what += fmt::format(" behind `{}`", behind);
  error.hint = did_you_mean(word, may.words);
  if (error.hint.empty())
    error.hint = may.words.empty() && may.kinds.empty() ? "nothing may follow there"
                                                        : "there follows " + listed(may, values);
  return fail(std::move(error));
}

}  // namespace lucid::app
