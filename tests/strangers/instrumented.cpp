// SPDX-License-Identifier: MIT
#include "instrumented.h"

#include <algorithm>
#include <cstdlib>
#include <nlohmann/json.hpp>
#include <sstream>

#include "strangers.h"

namespace test {
namespace {

using Json = nlohmann::json;

// A variable without an initial value gets one that tells it apart from all others.
constexpr const char* kUnset = " = 0x5b5b5b5b5b5b5b5bLL";
bool is_unset(std::int64_t value) {
  return value == 0x5b || value == 0x5b5b || value == 0x5b5b5b5b || value == 0x5b5b5b5b5b5b5b5bLL;
}

constexpr const char* kRecorder = R"(#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>
static FILE *out;
void enter_(const char *name) {
  if (!out) out = fopen(getenv("RECORDS"), "w");
  fprintf(out, "enter %s\n", name);
}
void record_(int line, ...) {
  static int count;
  if (!out) out = fopen(getenv("RECORDS"), "w");
  if (++count > 4000) { fprintf(out, "more\n"); fflush(out); _exit(77); }
  fprintf(out, "%d", line);
  va_list list;
  va_start(list, line);
  for (const char *name; (name = va_arg(list, const char *)) != 0;)
    fprintf(out, " %s %lld", name, va_arg(list, long long));
  fprintf(out, "\n");
  fflush(out);
}
)";

class Writer {
 public:
  Writer(const std::string& text, const Json& tree, bool is_cpp) : text_(text), is_cpp_(is_cpp) {
    for (std::size_t i = 0; i < text.size(); ++i)
      if (text[i] == '\n') ends_.push_back(i);
    collect_structures(tree);
    declarations(tree);
  }

  [[nodiscard]] std::string instrumented() const {
    std::string out = text_;
    for (auto at = insertions_.rbegin(); at != insertions_.rend(); ++at)
      out.insert(at->first, at->second);
    const std::string external = std::string("extern ") + (is_cpp_ ? "\"C\" " : "");
    return external + "void record_(int, ...); " + external + "void enter_(const char *); " + out;
  }
  /// Lines with one whole statement.
  [[nodiscard]] std::map<std::string, std::set<unsigned>> lines() const {
    std::map<std::string, std::set<unsigned>> out;
    for (const auto& [line, name] : whole_)
      if (const auto count = touched_.find(line); count->second == 1) out[name].insert(line);
    return out;
  }

 private:
  /// Functions, also within namespaces and classes; templates are left out.
  void declarations(const Json& outer) {
    static const std::set<std::string> kFunctions{"FunctionDecl", "CXXMethodDecl",
                                                  "CXXConstructorDecl", "CXXDestructorDecl"};
    static const std::set<std::string> kGroups{"NamespaceDecl", "LinkageSpecDecl", "CXXRecordDecl"};
    for (const Json& node : outer.value("inner", Json::array())) {
      const std::string kind = node.value("kind", "");
      if (from_header(node) && kind != "LinkageSpecDecl") continue;
      if (node.value("isImplicit", false)) continue;
      if (kFunctions.count(kind) != 0) function(node, outer);
      if (kGroups.count(kind) != 0) {
        const std::string outside = path_;
        if (!node.value("name", "").empty()) path_ += node.value("name", "") + "::";
        declarations(node);
        path_ = outside;
      }
      if (kind == "VarDecl" && is_cpp_)
        globals_.push_back({node.value("name", ""), told_of(node), true});
    }
  }
  static bool from_header(const Json& node) {
    const Json& loc = node.value("loc", Json::object());
    return loc.contains("includedFrom") || !loc.contains("offset");
  }
  [[nodiscard]] unsigned line_of(std::size_t offset) const {
    return static_cast<unsigned>(std::lower_bound(ends_.begin(), ends_.end(), offset) -
                                 ends_.begin() + 1);
  }
  /// An offset in the source itself, not in a macro.
  static std::optional<std::size_t> offset(const Json& node, const char* end) {
    const Json& range = node.value("range", Json::object());
    if (!range.contains(end) || !range[end].contains("offset")) return std::nullopt;
    return range[end]["offset"].get<std::size_t>();
  }
  static std::size_t behind(const Json& node) {
    return *offset(node, "end") + node["range"]["end"].value("tokLen", 0U);
  }

  static std::string type_of(const Json& node) {
    const Json& type = node.value("type", Json::object());
    std::string name = type.value("desugaredQualType", type.value("qualType", ""));
    for (const char* word : {"const ", "volatile ", " &"})
      if (const std::size_t at = name.find(word); at != name.npos)
        name.erase(at, std::string(word).size());
    return name;
  }
  static bool is_whole_number(const Json& node) { return is_whole_number(type_of(node)); }
  static bool is_whole_number(const std::string& name) {
    static const std::set<std::string> kNames{"int",
                                              "unsigned int",
                                              "char",
                                              "signed char",
                                              "unsigned char",
                                              "short",
                                              "unsigned short",
                                              "long",
                                              "unsigned long",
                                              "long long",
                                              "unsigned long long",
                                              "_Bool",
                                              "bool"};
    return kNames.count(name) != 0;
  }

  /// Structures of C by name, with the members that are whole numbers; those that two have,
  /// without.
  void collect_structures(const Json& node) {
    for (const Json& part : node.value("inner", Json::array())) {
      if (part.value("kind", "") == "RecordDecl" && part.value("completeDefinition", false) &&
          part.value("tagUsed", "") == "struct" && !part.value("name", "").empty()) {
        std::vector<std::string> members;
        for (const Json& field : part.value("inner", Json::array()))
          if (field.value("kind", "") == "FieldDecl" && is_whole_number(field))
            members.push_back("." + field.value("name", ""));
        const auto [known, is_new] =
            structures_.emplace("struct " + part.value("name", ""), members);
        if (!is_new) known->second.clear();
      }
      collect_structures(part);
    }
  }
  /// What of an object is told: itself, its members, its first elements.
  [[nodiscard]] std::vector<std::string> told_of(const Json& node) const {
    const std::string type = type_of(node);
    if (is_whole_number(type)) return {""};
    if (const auto found = structures_.find(type); found != structures_.end()) return found->second;
    constexpr unsigned long kMost = 3;
    const std::size_t at = type.find('[');
    if (is_cpp_ || at == type.npos || type.find('[', at + 1) != type.npos ||
        !is_whole_number(type.substr(0, at)))
      return {};
    std::vector<std::string> out;
    const unsigned long count = std::strtoul(type.c_str() + at + 1, nullptr, 10);
    for (unsigned long i = 0; i < std::min(count, kMost); ++i)
      out.push_back("[" + std::to_string(i) + "]");
    return out;
  }

  void function(const Json& node, const Json& outer) {
    name_ = node.value("name", "");
    scope_ = globals_;
    // Members have been set when a method other than a constructor begins.
    if (node.value("kind", "") == "CXXMethodDecl" && node.value("storageClass", "").empty())
      for (const Json& part : outer.value("inner", Json::array()))
        if (part.value("kind", "") == "FieldDecl" && !part.value("isBitfield", false))
          scope_.push_back({part.value("name", ""), told_of(part), true});
    for (const Json& part : node.value("inner", Json::array())) {
      if (part.value("kind", "") == "ParmVarDecl" && name_ != "main") declare(part);
      if (part.value("kind", "") != "CompoundStmt") continue;
      const auto begin = offset(part, "begin");
      if (begin) insertions_.emplace(*begin + 1, " enter_(\"" + path_ + name_ + "\");");
      statement(part, false);
    }
  }

  /// `statement`: it is declared by this one, alone.
  void declare(const Json& node, const Json* statement = nullptr) {
    const std::string name = node.value("name", "");
    std::vector<std::string> told;
    if (!name.empty() && node.value("storageClass", "").empty()) told = told_of(node);
    const bool is_number = told == std::vector<std::string>{""};
    if (!told.empty() && node["kind"] == "VarDecl" && !node.contains("init")) {
      if (is_number && offset(node, "end") && offset(node, "begin"))
        insertions_.emplace(behind(node), kUnset);
      else if (!is_number && statement != nullptr && offset(*statement, "end"))
        insertions_.emplace(behind(*statement),
                            " __builtin_memset(&" + name + ", 0x5b, sizeof " + name + ");");
      else if (!is_number)
        told.clear();
    }
    scope_.push_back({name, std::move(told), false});
  }

  void record(const Json& node) {
    const auto begin = offset(node, "begin");
    if (!begin || !offset(node, "end")) return;
    const unsigned line = line_of(*begin);
    std::string call = "record_(" + std::to_string(line);
    std::set<std::string> seen;
    for (auto at = scope_.rbegin(); at != scope_.rend(); ++at)  // the innermost of a name
      if (seen.insert(at->name).second)
        for (const std::string& part : at->told)
          call.append(", \"")
              .append(at->in_memory ? "*" : "")
              .append(at->name + part)
              .append("\", (long long)")
              .append(at->name + part);
    insertions_.emplace(*begin, call + ", (char*)0); ");
    if (line_of(behind(node)) == line) whole_.emplace(line, name_);
  }

  void touch(const Json& node) {
    const auto begin = offset(node, "begin");
    if (begin) ++touched_[line_of(*begin)];
  }

  /// `in_list`: it stands among the statements of a block.
  void statement(const Json& node, bool in_list) {
    const std::string kind = node.value("kind", "");
    const std::size_t outer = scope_.size();
    const auto& inner = node.value("inner", Json::array());
    if (kind == "CompoundStmt") {
      for (const Json& part : inner) statement(part, true);
      scope_.resize(outer);
      return;
    }
    if (kind == "DeclStmt") {
      bool sets = false;
      for (const Json& part : inner) sets = sets || part.contains("init");
      if (sets) touch(node);
      if (sets && in_list) record(node);
      for (const Json& part : inner)
        if (part.value("kind", "") == "VarDecl")
          declare(part, in_list && inner.size() == 1 ? &node : nullptr);
      return;
    }
    const bool loop = kind == "ForStmt" || kind == "WhileStmt" || kind == "DoStmt";
    const bool label = kind == "CaseStmt" || kind == "DefaultStmt" || kind == "LabelStmt";
    if (kind.empty() || kind == "NullStmt") return;
    touch(node);
    if (loop && offset(node, "end")) ++touched_[line_of(*offset(node, "end"))];
    if (in_list && !loop && !label && kind != "BreakStmt" && kind != "ContinueStmt" &&
        kind != "GotoStmt" && kind != "AsmStmt" && kind != "GCCAsmStmt") {
      record(node);
      if (kind == "IfStmt" || kind == "SwitchStmt") {  // its head is what executes
        const auto head = offset(node, "begin");
        if (head && !inner.empty() && offset(inner[0], "end") &&
            line_of(*offset(inner[0], "end")) == line_of(*head))
          whole_.emplace(line_of(*head), name_);
      }
    }
    if (loop || label || kind == "IfStmt" || kind == "SwitchStmt")
      for (const Json& part : inner) {
        const std::string part_kind = part.value("kind", "");
        if (part_kind == "DeclStmt" || part_kind.find("Stmt") != std::string::npos ||
            (label && part_kind != "ConstantExpr"))
          statement(part, false);
        else if (!part_kind.empty() && (kind == "IfStmt" || loop) && &part != &inner[0])
          touch(part);
      }
    scope_.resize(outer);
  }

  const std::string& text_;
  bool is_cpp_;
  std::vector<std::size_t> ends_;  ///< of lines
  std::string name_, path_;        ///< of a function, and of what is around it
  struct Named {
    std::string name;
    std::vector<std::string> told;  ///< what of it, in records
    bool in_memory;                 ///< a static object, a member
  };
  std::vector<Named> globals_, scope_;
  std::map<std::string, std::vector<std::string>> structures_;
  std::multimap<std::size_t, std::string> insertions_;
  std::multimap<unsigned, std::string> whole_;
  std::map<unsigned, unsigned> touched_;
};

void read_records(const std::string& text, Native& native) {
  std::istringstream lines(text);
  native.complete = true;
  for (std::string line; std::getline(lines, line);) {
    if (line == "more") {
      native.complete = false;
      break;
    }
    std::istringstream words(line);
    Record record;
    std::string name;
    if (line.rfind("enter ", 0) == 0) {
      words >> name >> name;
      ++native.entered[name];
      continue;
    }
    words >> record.line;
    std::int64_t value = 0;
    while (words >> name >> value) {
      const std::size_t own = name[0] == '*' ? 1 : 0;
      if (own != 0) record.in_memory.insert(name.substr(1));
      record.values[name.substr(own)] =
          is_unset(value) ? std::nullopt : std::optional<std::int64_t>(value);
    }
    native.records.push_back(std::move(record));
  }
}

}  // namespace

std::optional<Native> run_natively(const std::string& source) {
  const std::string base = own_file("native");
  const bool is_cpp = source.substr(source.rfind('.')) == ".C";
  const std::string options =
      is_cpp ? " -std=gnu++11 -fpermissive -w " : " -std=gnu99 -fgnu89-inline -w ";
  const Output tree =
      run(std::string("sh -c '") + (is_cpp ? "clang++ -std=gnu++11 -w" : "clang" + options) +
          " -fsyntax-only -Xclang -ast-dump=json " + source + " 2>/dev/null'");
  Json parsed = Json::parse(tree.text, nullptr, false);
  if (parsed.is_discarded()) return std::nullopt;
  const std::string text = read(source);
  const Writer writer(text, parsed, is_cpp);
  const std::string copy = base + (is_cpp ? ".C" : ".c");
  write(copy, writer.instrumented());
  write(base + "-recorder.c", kRecorder);
  std::remove((base + ".txt").c_str());
  const std::string command = " -O0 -fwrapv -fno-strict-aliasing -fsigned-char -o " + base;
  const Output recorder = run("gcc -c" + command + "-recorder.o " + base + "-recorder.c");
  if (recorder.code != 0 ||
      run((is_cpp ? "g++" : "gcc") + command + options + copy + " " + base + "-recorder.o -lm")
              .code != 0)
    return std::nullopt;
  Native native;
  native.exit_code = run("RECORDS=" + base + ".txt timeout 5 " + base).code;
  native.file = source.substr(source.rfind('/') + 1);
  read_records(read(base + ".txt"), native);
  native.lines = writer.lines();
  if (native.records.empty() || (native.complete && native.exit_code != 0)) return std::nullopt;
  return native;
}

bool depends_on_width(const std::string& source) {
  // Of others' programs only the run without optimisation tells.
  if (std::getenv("LUCID_SOURCES") != nullptr) return false;
  const std::string text = read(source);
  for (const char* word :
       {"sizeof", "int32plus", "__SIZEOF", "_MAX", "__CHAR_BIT__", "printf", "always_inline"})
    if (text.find(word) != text.npos) return true;
  return false;
}

}  // namespace test
