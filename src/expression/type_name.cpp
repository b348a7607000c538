// SPDX-License-Identifier: MIT
#include "expression/type_name.h"

#include <array>
#include <cctype>

#include "base/names.h"

namespace lucid::expression {
namespace {

bool word_char(char c) { return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '_'; }

void skip_blanks(const std::string& text, std::size_t& at) {
  while (at < text.size() && std::isspace(static_cast<unsigned char>(text[at])) != 0) ++at;
}

/// Behind the `>` that closes the `<` at `at`; nothing if what is between is no list of types and
/// numbers.
std::optional<std::size_t> behind_arguments(const std::string& text, std::size_t at) {
  unsigned depth = 0;
  for (; at < text.size(); ++at) {
    const char c = text[at];
    depth += c == '<' ? 1U : 0U;
    if (c == '>' && --depth == 0) return at + 1;
    if (!word_char(c) && std::string_view("<>:, *&-()").find(c) == std::string_view::npos)
      return std::nullopt;
  }
  return std::nullopt;
}

struct CType {
  std::string_view name;  ///< as base::plain_type() spells it
  std::uint8_t bits;      ///< 0: those of int
  bool is_signed;
  bool real = false;
};
constexpr std::array<CType, 22> kCTypes{
    {{"uint8_t", 8, false},     {"int8_t", 8, true},
     {"uint16_t", 16, false},   {"int16_t", 16, true},
     {"uint32_t", 32, false},   {"int32_t", 32, true},
     {"uint64_t", 64, false},   {"int64_t", 64, true},
     {"bool", 8, false},        {"char", 8, true},
     {"signed char", 8, true},  {"unsigned char", 8, false},
     {"short", 16, true},       {"unsigned short", 16, false},
     {"int", 0, true},          {"unsigned int", 0, false},
     {"long", 32, true},        {"unsigned long", 32, false},
     {"long long", 64, true},   {"unsigned long long", 64, false},
     {"float", 32, true, true}, {"double", 32, true, true}}};

/// A type of the program by that name; 0 if there is none.
unsigned type_called(const Program& program, const std::string& name, const std::string& plain) {
  const auto& types = program.types();
  const bool generic = name.find('<') != std::string::npos;
  for (unsigned i = 1; i < types.size(); ++i)
    if (types[i].name == name) return i;
  for (unsigned i = 1; i < types.size(); ++i)
    if (base::means(types[i].name, plain) ||
        (generic && base::means(base::plain_type(types[i].name), plain)))
      return i;
  return 0;
}

}  // namespace

std::string read_name(const std::string& text, std::size_t& at, bool types) {
  std::size_t end = at;
  skip_blanks(text, end);
  const std::size_t begin = end;
  while (end < text.size() && word_char(text[end])) ++end;
  if (end == begin) return {};
  at = end;
  while (end < text.size()) {
    if (text[end] == '<') {
      const auto behind = behind_arguments(text, end);
      if (!behind || (!types && text.compare(*behind, 2, "::") != 0)) break;
      at = end = *behind;
    }
    if (text.compare(end, 2, "::") != 0) break;
    const std::size_t word = end + 2;
    end = word;
    while (end < text.size() && word_char(text[end])) ++end;
    if (end == word) break;
    at = end;
  }
  return text.substr(begin, at - begin);
}

std::optional<Operand> read_type(const std::string& text, std::size_t& at, const Program& program,
                                 const machine::CallConvention& convention) {
  std::size_t end = at;
  std::string name;
  for (std::string word = read_name(text, end, true); !word.empty();
       word = read_name(text, end, true))
    if (word != "const" && word != "volatile") name += (name.empty() ? "" : " ") + word;
  if (name.empty()) return std::nullopt;
  unsigned stars = 0;
  for (skip_blanks(text, end); end < text.size() && text[end] == '*'; skip_blanks(text, end)) {
    ++stars;
    ++end;
  }
  const std::string plain = base::plain_type(name);
  Operand out;
  const unsigned type = type_called(program, name, plain);
  if (stars != 0) {  // further stars would need types that the program may not have
    if (type == 0) return std::nullopt;
    out.target = stars == 1 ? type : 0;
    out.value.bits = static_cast<std::uint8_t>(8 * convention.pointer_bytes);
    out.value.is_signed = false;
  } else if (type != 0) {
    out.type = type;
  } else {
    const auto* c = std::find_if(kCTypes.begin(), kCTypes.end(),
                                 [&](const CType& t) { return t.name == plain; });
    if (c == kCTypes.end()) return std::nullopt;
    out.value.bits = c->bits != 0 ? c->bits : static_cast<std::uint8_t>(8 * convention.int_bytes);
    out.value.is_signed = c->is_signed;
    if (c->real) out.value.kind = Value::Kind::kReal;
  }
  at = end;
  return out;
}

}  // namespace lucid::expression
