// SPDX-License-Identifier: MIT
// Names of C++ programs: namespaces and classes before `::`, arguments of templates in `<…>`, those
// of functions in `(…)`. A name of C is its own full name.
#ifndef LUCID_BASE_NAMES_H
#define LUCID_BASE_NAMES_H

#include <string>
#include <string_view>

namespace lucid::base {

/// Does `wanted` mean what is called `full`? It may leave out outer scopes and the arguments of
/// templates: `read`, `Analog::read` and `Analog<1>::read` mean `kiln::Analog<1>::read`.
bool means(std::string_view full, std::string_view wanted);

/// A name without what stands in `<…>`; operators keep theirs.
std::string without_template_arguments(std::string_view name);

/// `Print::println(int)` is the name `Print::println` and the signature `(int)`; that of a name
/// without one is empty.
struct NameAndSignature {
  std::string_view name, signature;
};
NameAndSignature split_signature(std::string_view text);

/// The name and signature that a linker's name of C++ stands for, without what the function
/// returns; the name itself, and no signature, if it is none.
struct Demangled {
  std::string name, signature;
};
Demangled demangled(const std::string& linker_name);

/// How a type is spelled for comparing: no blanks but between words, no qualifiers or keywords
/// before a name, the words of an arithmetic type in one order (`unsigned` is `unsigned int`, `long
/// unsigned` is `unsigned long`). A list of types in parentheses is one, too.
std::string plain_type(std::string_view text);

}  // namespace lucid::base

#endif  // LUCID_BASE_NAMES_H
