// SPDX-License-Identifier: MIT
// Program: what the debug information of an image says about its source: lines, functions,
// variables, types, and how to find a caller's frame. It runs nothing.
//
// Source: "DWARF Debugging Information Format, Version 4", chapters "Line Number Information",
// "Program Scope Entries", "Data Object and Object List Entries", "Type Entries" and "Call Frame
// Information". Unknown is std::nullopt, never 0 or an empty string.
#ifndef LUCID_PROGRAM_H
#define LUCID_PROGRAM_H

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "lucid/address.h"
#include "lucid/error.h"
#include "lucid/image.h"

namespace lucid {

/// A source file that the compiler named.
struct SourceFile {
  std::string name;                       ///< without directories: `kiln.c`
  std::string path;                       ///< as the compiler wrote it
  std::string directory;                  ///< in which it was compiled
  std::vector<unsigned> lines_with_code;  ///< ascending
  /// The compiler says that it has built it at -O0 or -Og: a branch in the code is one of the
  /// source's.
  bool keeps_branches = false;
};

/// A stretch of instructions that belong to one line: `[begin, end)` in code space.
struct LineRange {
  std::uint32_t begin = 0;
  std::uint32_t end = 0;
  unsigned file = 0;  ///< index into files()
  unsigned line = 0;
  bool statement = false;  ///< `begin` is a good place for a breakpoint
};

struct Function {
  std::string name;         ///< with its namespaces and classes: `Analog<1>::read`
  std::string signature;    ///< in C++: `(uint8_t, char *)`, without qualifiers; else empty
  unsigned returns = 0;     ///< the type of its value, if `has_lines`
  std::uint32_t begin = 0;  ///< `[begin, end)` in code space
  std::uint32_t end = 0;
  std::optional<unsigned> file;  ///< where it is declared, if debug information says so
  unsigned line = 0;
  bool has_lines = false;  ///< false: only its symbol is known
  std::string linked_as;   ///< its name for the linker, where a better one is known
  [[nodiscard]] const std::string& symbol() const { return linked_as.empty() ? name : linked_as; }
};

/// A type, by index into Program::types().
struct Type {
  enum class Kind : std::uint8_t {
    kVoid,
    kSigned,
    kUnsigned,
    kBool,
    kChar,
    kFloat,
    kPointer,
    kEnum,
    kArray,
    kStruct,
    kUnion,
    kFunction,
    kUnknown
  } kind = Kind::kUnknown;
  std::string name;  ///< as the source writes it: `uint8_t`, `struct ramp`, `Analog<1>`
  std::uint32_t bytes = 0;
  unsigned target = 0;            ///< of a pointer, or the element of an array
  Space leads_to = Space::kData;  ///< of a pointer
  bool flat = false;              ///< a pointer that holds an address of the linker's: see placed()
  unsigned alias_of = 0;          ///< the type that a typedef names; 0: it is none
  bool reference = false;         ///< a pointer that stands for what it leads to
  bool is_signed = false;         ///< of an enumeration: whether its numbers have a sign
  std::uint32_t count = 0;        ///< elements of an array; 0 if open
  struct Member {
    std::string name;
    unsigned type = 0;
    std::uint32_t offset = 0;     ///< bytes
    std::uint8_t bit_offset = 0;  ///< from the lowest bit at `offset`
    std::uint8_t bit_size = 0;    ///< 0: not a bit field
    bool base = false;            ///< a base class: its members are also this type's
  };
  std::vector<Member> members;
  struct Enumerator {
    std::string name;
    std::int64_t value = 0;
  };
  std::vector<Enumerator> enumerators;
};

/// A variable with a fixed address: global, file static or function static.
struct Variable {
  std::string name;      ///< with its namespaces and classes
  std::string function;  ///< empty unless it is a function's static
  unsigned file = 0;
  unsigned line = 0;
  unsigned type = 0;
  Address address;
  bool global = false;
  /// The compiler has kept no object, only its value: the bytes of it, lowest first. `address` is
  /// then in Space::kNowhere.
  std::vector<std::uint8_t> constant;
};

/// The type that a typed operation works in.
struct LocationType {
  Type::Kind kind = Type::Kind::kUnsigned;
  std::uint8_t bytes = 0;  ///< 0: the generic type, an address
};

/// One operation of a DWARF location expression. Jumps count operations, not bytes; an entry value
/// is that of the register `a`, or not understood (-1).
struct LocationOp {
  std::uint8_t atom = 0;  ///< DW_OP_…
  std::int64_t a = 0, b = 0;
  LocationType type = {};
};

/// A parameter or a variable that lives in registers or on the stack, inlined copies included.
struct Local {
  std::string name;
  unsigned type = 0;
  unsigned line = 0;
  bool parameter = false;
  struct Range {
    std::uint32_t begin = 0, end = 0;
  };
  std::vector<Range> scope;  ///< where the name can be seen
  struct Place {
    Range range;  ///< where the expression holds
    std::vector<LocationOp> ops;
  };
  int inlined = -1;           ///< index into inlined_calls(), if it belongs to one
  std::vector<Place> places;  ///< none at an address: the compiler has optimised it away there
};

/// A call that the compiler has replaced by the function's body.
struct InlinedCall {
  std::string name;  ///< of the function
  std::vector<Local::Range> ranges;
  std::uint32_t entry = 0;  ///< where its first instruction is
  unsigned depth = 1;       ///< 1: its caller is a real function, 2: it was inlined itself, …
  std::optional<unsigned> call_file;  ///< where it is called
  unsigned call_line = 0;
};

/// A call as the compiler describes it: what was passed, in the caller's words.
struct CallSite {
  std::uint32_t returns_to = 0;         ///< behind the call; for a tail call behind the jump
  std::optional<std::uint32_t> callee;  ///< where the called function begins, if that is fixed
  bool tail = false;                    ///< a jump that leaves the caller's frame
  struct Passed {
    int dwarf_register = 0;  ///< of the called function at its entry
    std::vector<LocationOp> value;
  };
  std::vector<Passed> passed;
};

/// How to find the caller's frame at one instruction: CFA = register + offset; saved registers are
/// in data space at CFA + offset. Register numbers are DWARF's.
struct FrameRow {
  int cfa_register = -1;
  std::int32_t cfa_offset = 0;
  struct Saved {
    int dwarf_register = 0;
    std::int32_t offset = 0;
  };
  std::vector<Saved> saved;
};

/// A macro as the last unit that defines it does.
struct Macro {
  std::string name;
  bool takes_arguments = false;
  std::vector<std::string> parameters;
  std::string body;
};

/// Immutable. Copies share their tables.
class LUCID_API Program {
 public:
  Program();  ///< knows nothing: for a session without an image
  /// Reads what is there. An image without debug information gives symbols and a warning, not an
  /// error; damage in one unit gives a warning and leaves the others usable.
  static Program read(const Image& image);

  [[nodiscard]] const std::vector<std::string>& warnings() const;
  [[nodiscard]] const std::vector<SourceFile>& files() const;
  [[nodiscard]] const std::vector<Function>& functions() const;  ///< by address
  [[nodiscard]] const std::vector<Variable>& variables() const;
  [[nodiscard]] const std::vector<Type>& types() const;
  [[nodiscard]] const std::vector<Symbol>& symbols() const;

  /// The files whose name or path ends in `name`.
  [[nodiscard]] std::vector<unsigned> find_files(const std::string& name) const;
  [[nodiscard]] std::optional<LineRange> line_at(std::uint32_t address) const;
  /// The stretches that overlap `[begin, end)`, by address.
  [[nodiscard]] std::vector<LineRange> lines_in(std::uint32_t begin, std::uint32_t end) const;
  /// Does the line table say that a statement of this line begins at the address?
  [[nodiscard]] bool has_statement(std::uint32_t address, unsigned file, unsigned line) const;
  /// The columns of a line at which statements begin, each with the address of one; a column may be
  /// there several times. Empty if the compiler does not say: GCC up to 7, STABS.
  [[nodiscard]] std::vector<std::pair<unsigned, std::uint32_t>> columns_of(unsigned file,
                                                                           unsigned line) const;
  /// The instructions of a line, by address; if it has none of its own, the places where it begins.
  [[nodiscard]] std::vector<LineRange> stretches_of(unsigned file, unsigned line) const;
  [[nodiscard]] const Function* function_at(std::uint32_t address) const;
  /// By name; in C++ outer scopes and the arguments of templates may be left out, and a signature
  /// may follow: `Print::println(int)`.
  [[nodiscard]] std::vector<const Function*> find_functions(const std::string& name) const;
  /// Behind the prologue: where a function's arguments are in place.
  [[nodiscard]] std::uint32_t body_of(const Function& function) const;
  [[nodiscard]] std::optional<FrameRow> frame_at(std::uint32_t address) const;
  /// Null if there is none; only images built with -g3 have any.
  [[nodiscard]] const Macro* find_macro(const std::string& name) const;
  [[nodiscard]] bool has_macros() const;
  [[nodiscard]] const std::vector<InlinedCall>& inlined_calls() const;
  /// The call that returns to an address; null if the compiler has not described it.
  [[nodiscard]] const CallSite* call_site_at(std::uint32_t returns_to) const;
  /// The tail calls in a function.
  [[nodiscard]] std::vector<const CallSite*> tail_calls_in(const Function& function) const;
  /// Those that an address lies in, innermost first.
  [[nodiscard]] std::vector<const InlinedCall*> inlined_at(std::uint32_t address) const;
  /// The parameters and locals whose names can be seen at an address, innermost scope first; a name
  /// that hides another comes before it.
  [[nodiscard]] std::vector<const Local*> locals_at(std::uint32_t address) const;
  /// Is there a parameter or local of this name anywhere?
  [[nodiscard]] bool has_local(const std::string& name) const;
  /// And in this function, inlined copies included?
  [[nodiscard]] bool has_local(const std::string& name, const std::string& function) const;
  /// The expression for a function's frame base at an address; empty if there is none.
  [[nodiscard]] std::vector<LocationOp> frame_base_at(std::uint32_t address) const;
  [[nodiscard]] const Symbol* find_symbol(const std::string& name) const;
  /// The same with other names for functions: `name_of` answers for a symbol, empty to keep it.
  /// Both names find it.
  [[nodiscard]] Program with_names(
      const std::function<std::string(const std::string& symbol)>& name_of) const;
  /// Where an address of the linker's is: it numbers all memories in one space.
  [[nodiscard]] Address placed(std::uint32_t flat) const;

  struct Data;  ///< for the reader

 private:
  std::shared_ptr<const Data> data_;
};

}  // namespace lucid

#endif  // LUCID_PROGRAM_H
