// SPDX-License-Identifier: MIT
#include "expression/macros.h"

#include <cctype>
#include <set>

#include "base/text.h"

namespace lucid::expression {
namespace {

constexpr std::size_t kMostTokens = 10'000;
constexpr unsigned kMostLevels = 50;

struct Token {
  std::string text;            ///< a name, a number, a string, blanks or one other character
  std::set<std::string> from;  ///< macros it comes out of: they are not opened again in it
};
using Tokens = std::vector<Token>;

bool begins_name(char c) { return std::isalpha(static_cast<unsigned char>(c)) != 0 || c == '_'; }
bool in_name(char c) { return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '_'; }
bool is_blank(const Token& token) { return token.text[0] == ' '; }

Tokens split(const std::string& text, const std::set<std::string>& from) {
  Tokens out;
  for (std::size_t at = 0; at < text.size() && out.size() < kMostTokens;) {
    std::size_t end = at + 1;
    const char c = text[at];
    if (in_name(c)) {
      while (end < text.size() && (in_name(text[end]) || text[end] == '.')) {
        if (text[end] == '.' && begins_name(c)) break;
        ++end;
      }
    } else if (c == '"' || c == '\'') {
      while (end < text.size() && text[end] != c) end += text[end] == '\\' ? 2 : 1;
      end = std::min(end + 1, text.size());
    } else if (std::isspace(static_cast<unsigned char>(c)) != 0) {
      while (end < text.size() && std::isspace(static_cast<unsigned char>(text[end])) != 0) ++end;
      out.push_back({" ", from});
      at = end;
      continue;
    } else if (text.compare(at, 2, "//") == 0) {
      break;
    } else if (text.compare(at, 2, "##") == 0) {
      end = at + 2;
    }
    out.push_back({text.substr(at, end - at), from});
    at = end;
  }
  return out;
}

std::string joined(const Tokens& tokens) {
  std::string out;
  for (const Token& token : tokens) out += token.text;
  return std::string(base::trim(out));
}

/// The arguments behind a macro's name at `at`, which is moved behind them; false if there are
/// none.
bool arguments(const Tokens& tokens, std::size_t& at, std::vector<Tokens>& out) {
  std::size_t i = at + 1;
  while (i < tokens.size() && is_blank(tokens[i])) ++i;
  if (i >= tokens.size() || tokens[i].text != "(") return false;
  out.emplace_back();
  unsigned depth = 1;
  for (++i; i < tokens.size(); ++i) {
    const std::string& text = tokens[i].text;
    if (text == "(") ++depth;
    if (text == ")" && --depth == 0) {
      at = i;
      return true;
    }
    if (text == "," && depth == 1)
      out.emplace_back();
    else
      out.back().push_back(tokens[i]);
  }
  return false;
}

/// A macro's body with its arguments in place; `#` makes a string of one, `##` joins two tokens.
Tokens filled(const Macro& macro, const std::vector<Tokens>& given,
              const std::set<std::string>& from) {
  Tokens out;
  bool quotes = false;
  for (const Token& token : split(macro.body, from)) {
    if (token.text == "#") {
      quotes = true;
      continue;
    }
    std::size_t which = 0;
    while (which < macro.parameters.size() && macro.parameters[which] != token.text) ++which;
    if (which < macro.parameters.size() && which < given.size()) {
      if (quotes)
        out.push_back({"\"" + joined(given[which]) + "\"", from});
      else
        for (const Token& part : given[which]) out.push_back(part);
    } else {
      out.push_back(token);
    }
    quotes = false;
  }
  for (std::size_t i = 1; i + 1 < out.size();) {
    if (out[i].text != "##") {
      ++i;
      continue;
    }
    std::size_t left = i - 1;
    std::size_t right = i + 1;
    while (left > 0 && is_blank(out[left])) --left;
    while (right + 1 < out.size() && is_blank(out[right])) ++right;
    out[left].text += out[right].text;
    out.erase(out.begin() + static_cast<std::ptrdiff_t>(left) + 1,
              out.begin() + static_cast<std::ptrdiff_t>(right) + 1);
    i = left + 1;
  }
  return out;
}

/// One level: every macro in sight is replaced by its body.
Tokens one_level(const Program& program, const Tokens& tokens, bool& changed) {
  Tokens out;
  for (std::size_t at = 0; at < tokens.size() && out.size() < kMostTokens; ++at) {
    const Token& token = tokens[at];
    const Macro* macro = begins_name(token.text[0]) && token.from.count(token.text) == 0
                             ? program.find_macro(token.text)
                             : nullptr;
    std::vector<Tokens> given;
    if (macro == nullptr || (macro->takes_arguments && !arguments(tokens, at, given))) {
      out.push_back(token);
      continue;
    }
    changed = true;
    std::set<std::string> from = token.from;
    from.insert(macro->name);
    for (Token& part : filled(*macro, given, from)) out.push_back(std::move(part));
  }
  return out;
}

}  // namespace

std::vector<std::string> opened(const Program& program, const std::string& line) {
  Tokens tokens = split(line, {});
  std::vector<std::string> out{joined(tokens)};
  for (unsigned level = 0; level < kMostLevels; ++level) {
    bool changed = false;
    tokens = one_level(program, tokens, changed);
    if (!changed) break;
    out.push_back(joined(tokens));
  }
  return out;
}

}  // namespace lucid::expression
