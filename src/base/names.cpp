// SPDX-License-Identifier: MIT
#include "base/names.h"

#include <cxxabi.h>

#include <algorithm>
#include <cctype>
#include <cstdlib>
#include <memory>
#include <vector>

namespace lucid::base {
namespace {

bool word_char(char c) { return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '_'; }

bool is_end_of(std::string_view full, std::string_view wanted) {
  if (full.size() < wanted.size() || wanted.empty()) return false;
  const std::string_view before = full.substr(0, full.size() - wanted.size());
  return full.substr(before.size()) == wanted &&
         (before.empty() || (before.size() > 2 && before.substr(before.size() - 2) == "::"));
}

/// `operator<` and its like: what follows is no bracket.
bool behind_operator(std::string_view before) {
  constexpr std::string_view kWord = "operator";
  while (!before.empty() && std::string_view("<>-=").find(before.back()) != before.npos)
    before.remove_suffix(1);
  if (before.size() < kWord.size() || before.substr(before.size() - kWord.size()) != kWord)
    return false;
  return before.size() == kWord.size() || !word_char(before[before.size() - kWord.size() - 1]);
}

}  // namespace

std::string without_template_arguments(std::string_view name) {
  std::string out;
  unsigned depth = 0;
  for (std::size_t i = 0; i < name.size(); ++i) {
    const char c = name[i];
    const bool bracket =
        (c == '<' || c == '>') && (depth != 0 || !behind_operator(name.substr(0, i)));
    if (bracket && c == '<') ++depth;
    if (depth == 0) out += c;
    if (bracket && c == '>' && depth != 0) --depth;
  }
  return out;
}

bool means(std::string_view full, std::string_view wanted) {
  if (full.size() <= wanted.size()) return full == wanted;
  if (wanted.empty() || (full.back() != wanted.back() && full.back() != '>')) return false;
  const bool plain = full.find_first_of(":<") == full.npos;
  if (plain) return false;
  return is_end_of(full, wanted) || is_end_of(without_template_arguments(full), wanted);
}

NameAndSignature split_signature(std::string_view text) {
  if (text.empty() || text.back() != ')') return {text, {}};
  int depth = 0;
  for (std::size_t i = text.size(); i-- > 0;) {
    depth += text[i] == ')' ? 1 : text[i] == '(' ? -1 : 0;
    if (depth != 0) continue;
    std::string_view name = text.substr(0, i);
    if (behind_operator(name)) break;  // `operator()` is a name
    while (!name.empty() && name.back() == ' ') name.remove_suffix(1);
    return {name, text.substr(i)};
  }
  return {text, {}};
}

Demangled demangled(const std::string& linker_name) {
  if (linker_name.rfind("_Z", 0) != 0) return {linker_name, {}};
  int status = 0;
  const std::unique_ptr<char, decltype(&std::free)> text(
      abi::__cxa_demangle(linker_name.c_str(), nullptr, nullptr, &status), &std::free);
  if (text == nullptr) return {linker_name, {}};
  std::string_view all(text.get());
  all = all.substr(0, std::min(all.find(" [clone"), all.size()));
  for (const std::string_view behind : {" const", " volatile"})
    if (all.size() > behind.size() && all.substr(all.size() - behind.size()) == behind)
      all.remove_suffix(behind.size());
  const auto [name, signature] = split_signature(all);
  // Before the name of a template stands what it returns.
  const std::size_t end = std::min(name.find("operator"), name.size());
  std::size_t begin = 0;
  int depth = 0;
  for (std::size_t i = 0; i < end; ++i) {
    depth += name[i] == '<' || name[i] == '(' ? 1 : name[i] == '>' || name[i] == ')' ? -1 : 0;
    if (name[i] == ' ' && depth == 0) begin = i + 1;
  }
  return {std::string(name.substr(begin)), std::string(signature)};
}

namespace {

/// One type out of its words and signs.
std::string in_order(const std::vector<std::string>& words) {
  bool is_unsigned = false;
  bool is_signed = false;
  unsigned longs = 0;
  std::string base;
  std::string rest;
  bool arithmetic = false;
  for (const std::string& word : words) {
    if (word == "const" || word == "volatile" || word == "struct" || word == "class" ||
        word == "enum" || word == "union" || word == "typename")
      continue;
    if (word == "unsigned" || word == "signed" || word == "long" || word == "short") {
      arithmetic = true;
      is_unsigned = is_unsigned || word == "unsigned";
      is_signed = is_signed || word == "signed";
      longs += word == "long" ? 1 : 0;
      if (word == "short") base = "short";
    } else if (word == "int" || word == "char" || word == "double") {
      if (base.empty()) base = word;
    } else {
      rest += (rest.empty() || !word_char(word[0]) || !word_char(rest.back()) ? "" : " ") + word;
    }
  }
  if (arithmetic || !base.empty()) {
    std::string out = base == "char" && is_signed ? "signed " : is_unsigned ? "unsigned " : "";
    if (longs != 0) out += longs > 1 ? "long long" : "long";
    if (longs != 0 && base == "double") out += " double";
    if (longs == 0) out += base.empty() ? "int" : base;
    return out + rest;
  }
  return rest;
}

}  // namespace

std::string plain_type(std::string_view text) {
  std::string out;
  std::vector<std::string> words;
  const auto close = [&] {
    out += in_order(words);
    words.clear();
  };
  for (std::size_t i = 0; i < text.size();) {
    const char c = text[i];
    if (word_char(c)) {
      std::size_t end = i;
      while (end < text.size() && word_char(text[end])) ++end;
      words.emplace_back(text.substr(i, end - i));
      i = end;
      continue;
    }
    ++i;
    if (std::isspace(static_cast<unsigned char>(c)) != 0) continue;
    if (c == ',' || c == '(' || c == ')' || c == '<' || c == '>') {
      close();
      out += c;
    } else {
      words.emplace_back(1, c);
    }
  }
  close();
  return out == "(void)" ? "()" : out;
}

}  // namespace lucid::base
