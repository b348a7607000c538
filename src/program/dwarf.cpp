// SPDX-License-Identifier: MIT
// DWARF through libdw. Everything that libdw knows stays in this file.
#include <dwarf.h>
#include <elfutils/libdw.h>
#include <fmt/format.h>
#include <gelf.h>

#include <algorithm>
#include <memory>
#include <set>
#include <unordered_map>
#include <utility>

#include "base/text.h"
#include "image/image_data.h"
#include "program/program_data.h"

namespace lucid::program {
namespace {

struct DwarfCloser {
  void operator()(Dwarf* dwarf) const { dwarf_end(dwarf); }
};
struct ElfCloser {
  void operator()(Elf* elf) const { elf_end(elf); }
};

constexpr unsigned kMostDepth = 64;  // of nested DIEs and types: damaged input must not recurse on

class DwarfReader {
 public:
  DwarfReader(const Image& image, Program::Data& data) : image_(image), data_(data) {
    data_.types.push_back({});  // index 0: unknown
    data_.types[0].name = "?";
  }

  void read() {
    elf_version(EV_CURRENT);
    // libelf takes a non-const pointer and does not write through it in read mode.
    auto* bytes = const_cast<char*>(reinterpret_cast<const char*>(image_.file().data()));
    const std::unique_ptr<Elf, ElfCloser> elf(elf_memory(bytes, image_.file().size()));
    const std::unique_ptr<Dwarf, DwarfCloser> dwarf(
        dwarf_begin_elf(elf.get(), DWARF_C_READ, nullptr));
    if (dwarf == nullptr) {
      data_.warnings.push_back(
          fmt::format("the debug information cannot be read: {}", dwarf_errmsg(-1)));
      return;
    }
    Dwarf_CU* unit = nullptr;
    Dwarf_Half version = 0;
    std::uint8_t unit_type = 0;
    Dwarf_Die root;
    int status = 0;
    while ((status = dwarf_get_units(dwarf.get(), unit, &unit, &version, &unit_type, &root,
                                     nullptr)) == 0)
      read_unit(root);
    if (status < 0)
      data_.warnings.push_back(fmt::format("debug information is damaged behind {} functions: {}",
                                           data_.functions.size(), dwarf_errmsg(-1)));
    name_pointers();
    finish_lines();
    read_frames(elf.get());
  }

 private:
  struct Row {
    std::uint32_t address;
    unsigned file, line;
    bool statement, ends;
  };

  static std::string name_of(Dwarf_Die& die) {
    const char* name = dwarf_diename(&die);
    return name == nullptr ? std::string() : std::string(name);
  }

  static std::optional<std::uint64_t> number(Dwarf_Die& die, unsigned attribute) {
    Dwarf_Attribute at;
    Dwarf_Word value = 0;
    if (dwarf_attr_integrate(&die, attribute, &at) == nullptr || dwarf_formudata(&at, &value) != 0)
      return std::nullopt;
    return value;
  }

  static bool flag(Dwarf_Die& die, unsigned attribute) {
    Dwarf_Attribute at;
    bool value = false;
    return dwarf_attr_integrate(&die, attribute, &at) != nullptr &&
           dwarf_formflag(&at, &value) == 0 && value;
  }

  unsigned file_index(const char* path) {
    const std::string key = (path == nullptr ? "?" : path) + ("\n" + directory_);
    const auto found = file_of_.find(key);
    if (found != file_of_.end()) return found->second;
    SourceFile file;
    file.path = path == nullptr ? "?" : path;
    file.name = base::file_name(file.path);
    file.directory = directory_;
    data_.files.push_back(std::move(file));
    return file_of_[key] = static_cast<unsigned>(data_.files.size() - 1);
  }

  void read_unit(Dwarf_Die& root) {
    // The start-up files' unit has no name; it lists I/O registers, which the chip knows better.
    if (dwarf_diename(&root) == nullptr) return;
    Dwarf_Attribute at;
    const char* directory = nullptr;
    if (dwarf_attr(&root, DW_AT_comp_dir, &at) != nullptr) directory = dwarf_formstring(&at);
    directory_ = directory == nullptr ? "" : directory;
    file_of_.clear();
    unit_files_ = nullptr;
    unit_file_count_ = 0;
    dwarf_getsrcfiles(&root, &unit_files_, &unit_file_count_);
    live_.clear();
    read_children(root, "", {}, 0);
    if (live_.empty()) {  // assembly: one range for the unit
      Dwarf_Addr base = 0;
      Dwarf_Addr begin = 0;
      Dwarf_Addr end = 0;
      for (std::ptrdiff_t offset = 0;
           (offset = dwarf_ranges(&root, offset, &base, &begin, &end)) > 0;)
        if (end > begin) live_.emplace_back(begin, end);
    }
    read_lines(root);
    dwarf_ = dwarf_cu_getdwarf(root.cu);
    dwarf_getmacros(&root, on_macro, this, DWARF_GETMACROS_START);
  }

  // Macros, of images built with -g3. Units share what they include by offset.
  static int on_macro(Dwarf_Macro* macro, void* reader) {
    static_cast<DwarfReader*>(reader)->read_macro(macro);
    return DWARF_CB_OK;
  }
  void read_macro(Dwarf_Macro* macro) {
    unsigned opcode = 0;
    Dwarf_Word value = 0;
    if (dwarf_macro_opcode(macro, &opcode) != 0) return;
    if (opcode == DW_MACRO_import && dwarf_macro_param1(macro, &value) == 0) {
      if (macro_units_.size() < 10'000 && macro_units_.insert(value).second)
        dwarf_getmacros_off(dwarf_, value, on_macro, this, DWARF_GETMACROS_START);
      return;
    }
    const char* text = nullptr;
    if ((opcode != DW_MACRO_define && opcode != DW_MACRO_define_strp) ||
        dwarf_macro_param2(macro, nullptr, &text) != 0 || text == nullptr)
      return;
    const std::string_view all(text);  // `NAME body` or `NAME(a,b) body`
    const std::size_t end = std::min(all.find_first_of(" ("), all.size());
    Macro made;
    made.name = all.substr(0, end);
    std::size_t at = end;
    if (at < all.size() && all[at] == '(') {
      made.takes_arguments = true;
      const std::size_t close = std::min(all.find(')', at), all.size());
      while (++at < close) {
        const std::size_t comma = std::min(all.find(',', at), close);
        made.parameters.emplace_back(base::trim(all.substr(at, comma - at)));
        at = comma;
      }
      at = std::min(close + 1, all.size());
    }
    made.body = base::trim(all.substr(at));
    if (data_.macros.size() < 1'000'000) data_.macros[made.name] = std::move(made);
  }

  using Scope = std::vector<Local::Range>;

  /// The addresses of a function, block or inlined call.
  static Scope ranges_of(Dwarf_Die& die) {
    Scope out;
    Dwarf_Addr base = 0;
    Dwarf_Addr begin = 0;
    Dwarf_Addr end = 0;
    for (std::ptrdiff_t offset = 0; (offset = dwarf_ranges(&die, offset, &base, &begin, &end)) > 0;)
      if (end > begin && out.size() < 1000)
        out.push_back({static_cast<std::uint32_t>(begin), static_cast<std::uint32_t>(end)});
    return out;
  }

  void read_children(Dwarf_Die& parent, const std::string& function, const Scope& scope,
                     unsigned depth) {
    Dwarf_Die child;
    if (depth > kMostDepth || dwarf_child(&parent, &child) != 0) return;
    do {
      switch (dwarf_tag(&child)) {
        case DW_TAG_subprogram: read_function(child, depth); break;
        case DW_TAG_variable:
        case DW_TAG_formal_parameter: read_variable(child, function, scope); break;
        case DW_TAG_namespace: read_children(child, function, scope, depth + 1); break;
        case DW_TAG_lexical_block: {
          const Scope inner = ranges_of(child);
          read_children(child, function, inner.empty() ? scope : inner, depth + 1);
          break;
        }
        case DW_TAG_inlined_subroutine: read_inlined(child, function, scope, depth); break;
        default: break;
      }
    } while (dwarf_siblingof(&child, &child) == 0);
  }

  void read_inlined(Dwarf_Die& die, const std::string& function, const Scope& scope,
                    unsigned depth) {
    const Scope inner = ranges_of(die);
    InlinedCall call;
    call.name = name_of(die);
    if (inner.empty() || call.name.empty()) {
      read_children(die, function, inner.empty() ? scope : inner, depth + 1);
      return;
    }
    call.ranges = inner;
    Dwarf_Addr entry = 0;
    call.entry =
        dwarf_entrypc(&die, &entry) == 0 ? static_cast<std::uint32_t>(entry) : inner.front().begin;
    call.depth = inlined_ < 0 ? 1 : data_.inlined[static_cast<std::size_t>(inlined_)].depth + 1;
    if (const char* path = file_of(die, DW_AT_call_file)) call.call_file = file_index(path);
    call.call_line = static_cast<unsigned>(number(die, DW_AT_call_line).value_or(0));
    const int outer = std::exchange(inlined_, static_cast<int>(data_.inlined.size()));
    data_.inlined.push_back(std::move(call));
    read_children(die, function, inner, depth + 1);
    inlined_ = outer;
  }

  [[nodiscard]] const char* decl_file(Dwarf_Die& die) const {
    return file_of(die, DW_AT_decl_file);
  }

  [[nodiscard]] const char* file_of(Dwarf_Die& die, unsigned attribute) const {
    const auto index = number(die, attribute);
    if (!index || unit_files_ == nullptr || *index >= unit_file_count_) return nullptr;
    return dwarf_filesrc(unit_files_, *index, nullptr, nullptr);
  }

  void read_function(Dwarf_Die& die, unsigned depth) {
    Dwarf_Addr begin = 0;
    Dwarf_Addr end = 0;
    const std::string name = name_of(die);
    if (dwarf_lowpc(&die, &begin) == 0 && dwarf_highpc(&die, &end) == 0 && end > begin &&
        (begin != 0 || symbol_at_zero(name))) {  // dropped by the linker: left at address 0
      Function function;
      function.name = name;
      function.begin = static_cast<std::uint32_t>(begin);
      function.end = static_cast<std::uint32_t>(end);
      if (const char* path = decl_file(die)) function.file = file_index(path);
      function.line = static_cast<unsigned>(number(die, DW_AT_decl_line).value_or(0));
      Dwarf_Attribute at;
      Dwarf_Op* ops = nullptr;
      std::size_t count = 0;
      if (dwarf_attr_integrate(&die, DW_AT_frame_base, &at) != nullptr &&
          dwarf_getlocation(&at, &ops, &count) == 0)
        data_.frame_bases.push_back({function.begin, function.end, copied(ops, count)});
      const Scope scope{{function.begin, function.end}};
      data_.functions.push_back(std::move(function));
      live_.emplace_back(begin, end);
      read_children(die, name, scope, depth + 1);
    } else {
      read_children(die, name, {}, depth + 1);
    }
  }

  static std::vector<LocationOp> copied(const Dwarf_Op* ops, std::size_t count) {
    std::vector<LocationOp> out;
    for (std::size_t i = 0; i < count && i < 256; ++i)
      out.push_back({ops[i].atom, static_cast<std::int64_t>(ops[i].number),
                     static_cast<std::int64_t>(ops[i].number2)});
    return out;
  }

  [[nodiscard]] bool symbol_at_zero(const std::string& name) const {
    return std::any_of(image_.symbols().begin(), image_.symbols().end(), [&](const Symbol& s) {
      return s.name == name && s.address == Address{Space::kCode, 0};
    });
  }

  void read_variable(Dwarf_Die& die, const std::string& function, const Scope& scope) {
    Dwarf_Attribute at;
    Dwarf_Op* ops = nullptr;
    std::size_t count = 0;
    const bool fixed = dwarf_attr_integrate(&die, DW_AT_location, &at) != nullptr &&
                       dwarf_getlocation(&at, &ops, &count) == 0 && count == 1 &&
                       ops[0].atom == DW_OP_addr;
    if (!fixed) {
      if (!scope.empty()) read_local(die, scope);
      return;
    }
    Variable variable;
    variable.name = name_of(die);
    if (variable.name.empty()) return;
    variable.function = function;
    if (const char* path = decl_file(die)) variable.file = file_index(path);
    variable.line = static_cast<unsigned>(number(die, DW_AT_decl_line).value_or(0));
    variable.address = image::placed(image_.machine(), static_cast<std::uint32_t>(ops[0].number));
    variable.global = flag(die, DW_AT_external);
    variable.type = type_of(die, 0);
    const auto same = [&](const Variable& v) {
      return v.name == variable.name && v.address == variable.address;
    };
    if (std::none_of(data_.variables.begin(), data_.variables.end(), same))
      data_.variables.push_back(std::move(variable));
  }

  void read_local(Dwarf_Die& die, const Scope& scope) {
    Local local;
    local.name = name_of(die);
    if (local.name.empty() || flag(die, DW_AT_declaration)) return;
    local.parameter = dwarf_tag(&die) == DW_TAG_formal_parameter;
    local.line = static_cast<unsigned>(number(die, DW_AT_decl_line).value_or(0));
    local.type = type_of(die, 0);
    local.scope = scope;
    local.inlined = inlined_;
    Dwarf_Attribute at;
    if (dwarf_attr_integrate(&die, DW_AT_const_value, &at) != nullptr) {
      Dwarf_Sword value = 0;
      if (dwarf_formsdata(&at, &value) == 0)
        for (const Local::Range& range : scope)
          local.places.push_back({range, {{DW_OP_consts, value, 0}, {DW_OP_stack_value, 0, 0}}});
    } else if (dwarf_attr_integrate(&die, DW_AT_location, &at) != nullptr) {
      read_places(at, local);
    }
    data_.locals.push_back(std::move(local));
  }

  static void read_places(Dwarf_Attribute& at, Local& local) {
    constexpr std::size_t kMostPlaces = 10'000;
    Dwarf_Addr base = 0;
    Dwarf_Addr begin = 0;
    Dwarf_Addr end = 0;
    Dwarf_Op* ops = nullptr;
    std::size_t count = 0;
    for (std::ptrdiff_t offset = 0;
         local.places.size() < kMostPlaces &&
         (offset = dwarf_getlocations(&at, offset, &base, &begin, &end, &ops, &count)) > 0;) {
      if (begin == 0 && end == static_cast<Dwarf_Addr>(-1)) {  // a plain expression: everywhere
        for (const Local::Range& range : local.scope)
          local.places.push_back({range, copied(ops, count)});
      } else if (end > begin) {
        local.places.push_back(
            {{static_cast<std::uint32_t>(begin), static_cast<std::uint32_t>(end)},
             copied(ops, count)});
      }
    }
  }

  // Types
  // ------------------------------------------------------------------------------------------

  unsigned type_of(Dwarf_Die& die, unsigned depth) {
    Dwarf_Attribute at;
    Dwarf_Die type;
    if (dwarf_attr_integrate(&die, DW_AT_type, &at) == nullptr) return void_type();
    if (dwarf_formref_die(&at, &type) == nullptr) return 0;
    return type_from(type, depth);
  }

  unsigned void_type() {
    if (void_ == 0) {
      Type type;
      type.kind = Type::Kind::kVoid;
      type.name = "void";
      data_.types.push_back(std::move(type));
      void_ = static_cast<unsigned>(data_.types.size() - 1);
    }
    return void_;
  }

  unsigned type_from(Dwarf_Die& die, unsigned depth) {
    if (depth > kMostDepth) return 0;
    const void* key = die.addr;
    if (const auto found = type_index_.find(key); found != type_index_.end()) return found->second;
    const int tag = dwarf_tag(&die);
    if (tag == DW_TAG_const_type || tag == DW_TAG_volatile_type || tag == DW_TAG_restrict_type)
      return type_index_[key] = type_of(die, depth + 1);
    const auto index = static_cast<unsigned>(data_.types.size());
    type_index_[key] = index;  // before its parts: they may refer to it
    data_.types.emplace_back();
    Type type;
    type.name = name_of(die);
    type.bytes = static_cast<std::uint32_t>(number(die, DW_AT_byte_size).value_or(0));
    switch (tag) {
      case DW_TAG_base_type: type.kind = base_kind(die); break;
      case DW_TAG_typedef: {
        const std::string name = type.name;
        const unsigned target = type_of(die, depth + 1);
        type = data_.types[target];
        type.name = name;
        break;
      }
      case DW_TAG_pointer_type:
        type.kind = Type::Kind::kPointer;
        type.target = type_of(die, depth + 1);
        break;
      case DW_TAG_enumeration_type:
        type.kind = Type::Kind::kEnum;
        type.name = "enum " + type.name;
        read_enumerators(die, type);
        break;
      case DW_TAG_structure_type:
      case DW_TAG_union_type:
      case DW_TAG_class_type:
        type.kind = tag == DW_TAG_union_type ? Type::Kind::kUnion : Type::Kind::kStruct;
        type.name = (tag == DW_TAG_union_type ? "union " : "struct ") + type.name;
        read_members(die, type, depth);
        break;
      case DW_TAG_array_type: {
        read_array(die, index, depth);
        return index;
      }
      case DW_TAG_subroutine_type:
        type.kind = Type::Kind::kFunction;
        type.name = "function";
        break;
      default: break;
    }
    data_.types[index] = std::move(type);
    return index;
  }

  /// Once all names are known: a structure may hold pointers to itself.
  void name_pointers() {
    for (Type& type : data_.types) {
      if (type.kind != Type::Kind::kPointer || !type.name.empty()) continue;
      std::string stars = " *";
      const Type* target = &data_.types[type.target];
      for (unsigned i = 0;
           i < kMostDepth && target->kind == Type::Kind::kPointer && target->name.empty(); ++i) {
        stars += "*";
        target = &data_.types[target->target];
      }
      type.name = target->name + stars;
    }
    for (Type& type : data_.types)  // arrays of pointers were named before
      if (type.kind == Type::Kind::kArray && !type.name.empty() && type.name[0] == '[')
        type.name = data_.types[type.target].name + type.name;
  }

  static Type::Kind base_kind(Dwarf_Die& die) {
    switch (number(die, DW_AT_encoding).value_or(0)) {
      case DW_ATE_boolean: return Type::Kind::kBool;
      case DW_ATE_float: return Type::Kind::kFloat;
      case DW_ATE_signed: return Type::Kind::kSigned;
      case DW_ATE_unsigned: return Type::Kind::kUnsigned;
      case DW_ATE_signed_char:
        return name_of(die) == "char" ? Type::Kind::kChar : Type::Kind::kSigned;
      case DW_ATE_unsigned_char:
        return name_of(die) == "char" ? Type::Kind::kChar : Type::Kind::kUnsigned;
      default: return Type::Kind::kUnknown;
    }
  }

  static void read_enumerators(Dwarf_Die& die, Type& type) {
    Dwarf_Die child;
    if (dwarf_child(&die, &child) != 0) return;
    do {
      if (dwarf_tag(&child) != DW_TAG_enumerator) continue;
      Dwarf_Attribute at;
      Dwarf_Sword value = 0;
      if (dwarf_attr(&child, DW_AT_const_value, &at) != nullptr &&
          dwarf_formsdata(&at, &value) == 0)
        type.enumerators.push_back({name_of(child), value});
    } while (dwarf_siblingof(&child, &child) == 0);
  }

  void read_members(Dwarf_Die& die, Type& type, unsigned depth) {
    Dwarf_Die child;
    if (dwarf_child(&die, &child) != 0) return;
    do {
      if (dwarf_tag(&child) != DW_TAG_member) continue;
      Type::Member member;
      member.name = name_of(child);
      member.type = type_of(child, depth + 1);
      const auto offset = number(child, DW_AT_data_member_location);
      member.offset = static_cast<std::uint32_t>(offset.value_or(0));
      if (const auto bits = number(child, DW_AT_bit_size)) {
        member.bit_size = static_cast<std::uint8_t>(*bits);
        std::uint64_t position = 0;
        if (const auto from_start = number(child, DW_AT_data_bit_offset)) {
          position = *from_start;
        } else {
          const auto storage = number(child, DW_AT_byte_size);
          const std::uint64_t bytes = storage ? *storage : data_.types[member.type].bytes;
          position = std::uint64_t{member.offset} * 8 + bytes * 8 -
                     number(child, DW_AT_bit_offset).value_or(0) - *bits;
        }
        member.offset = static_cast<std::uint32_t>(position / 8);
        member.bit_offset = static_cast<std::uint8_t>(position % 8);
      }
      type.members.push_back(std::move(member));
    } while (dwarf_siblingof(&child, &child) == 0);
  }

  /// One array type per dimension, the last one innermost.
  void read_array(Dwarf_Die& die, unsigned index, unsigned depth) {
    std::vector<std::uint32_t> counts;
    Dwarf_Die child;
    if (dwarf_child(&die, &child) == 0) {
      do {
        if (dwarf_tag(&child) != DW_TAG_subrange_type) continue;
        std::uint64_t count = number(child, DW_AT_count).value_or(0);
        if (const auto upper = number(child, DW_AT_upper_bound)) count = *upper + 1;
        counts.push_back(static_cast<std::uint32_t>(std::min<std::uint64_t>(count, 1U << 24)));
      } while (counts.size() < 8 && dwarf_siblingof(&child, &child) == 0);
    }
    if (counts.empty()) counts.push_back(0);
    unsigned element = type_of(die, depth + 1);
    for (std::size_t i = counts.size(); i-- > 0;) {
      Type type;
      type.kind = Type::Kind::kArray;
      type.target = element;
      type.count = counts[i];
      type.bytes = data_.types[element].bytes * counts[i];
      const std::string& inner = data_.types[element].name;
      const std::size_t bracket = inner.find('[');
      const std::string dimension = fmt::format("[{}]", counts[i]);
      type.name = bracket == std::string::npos
                      ? inner + dimension
                      : inner.substr(0, bracket) + dimension + inner.substr(bracket);
      if (i == 0) {
        data_.types[index] = std::move(type);
      } else {
        data_.types.push_back(std::move(type));
        element = static_cast<unsigned>(data_.types.size() - 1);
      }
    }
  }

  // Lines
  // ------------------------------------------------------------------------------------------

  void read_lines(Dwarf_Die& root) {
    Dwarf_Lines* lines = nullptr;
    std::size_t count = 0;
    if (dwarf_getsrclines(&root, &lines, &count) != 0) {
      data_.warnings.push_back(
          fmt::format("{}: its line table cannot be read: {}", name_of(root), dwarf_errmsg(-1)));
      return;
    }
    for (std::size_t i = 0; i < count; ++i) {
      Dwarf_Line* line = dwarf_onesrcline(lines, i);
      Dwarf_Addr address = 0;
      int number = 0;
      bool statement = false;
      bool ends = false;
      if (dwarf_lineaddr(line, &address) != 0 || dwarf_lineno(line, &number) != 0 ||
          dwarf_linebeginstatement(line, &statement) != 0 ||
          dwarf_lineendsequence(line, &ends) != 0)
        continue;
      const bool live = std::any_of(live_.begin(), live_.end(), [&](const auto& range) {
        return address >= range.first &&
               (address < range.second || (ends && address == range.second));
      });
      if (!live) continue;
      rows_.push_back({static_cast<std::uint32_t>(address),
                       file_index(dwarf_linesrc(line, nullptr, nullptr)),
                       static_cast<unsigned>(number), statement, ends});
    }
  }

  void finish_lines() {
    // Within one address: ends of sequences first, then in the compiler's order.
    std::stable_sort(rows_.begin(), rows_.end(), [](const Row& a, const Row& b) {
      return a.address != b.address ? a.address < b.address : a.ends > b.ends;
    });
    for (std::size_t i = 0; i + 1 < rows_.size(); ++i) {
      const Row& row = rows_[i];
      if (row.ends || row.line == 0) continue;
      // A line that opens a function may share its address with the first one inside.
      auto& list = rows_[i + 1].address == row.address ? data_.points : data_.ranges;
      list.push_back({row.address, rows_[i + 1].address, row.file, row.line, row.statement});
    }
    for (SourceFile& file : data_.files) file.lines_with_code.clear();
    for (const auto* list : {&data_.ranges, &data_.points})
      for (const LineRange& range : *list)
        if (range.statement) data_.files[range.file].lines_with_code.push_back(range.line);
    for (SourceFile& file : data_.files) {
      auto& lines = file.lines_with_code;
      std::sort(lines.begin(), lines.end());
      lines.erase(std::unique(lines.begin(), lines.end()), lines.end());
    }
    // The body begins at a function's second statement row, which may have the same address.
    for (const Function& function : data_.functions) {
      unsigned seen = 0;
      auto row =
          std::lower_bound(rows_.begin(), rows_.end(), function.begin,
                           [](const Row& r, std::uint32_t address) { return r.address < address; });
      for (; row != rows_.end() && row->address < function.end; ++row) {
        if (!row->statement || row->ends || ++seen < 2) continue;
        data_.bodies[function.begin] = row->address;
        break;
      }
    }
  }

  // Frames
  // -----------------------------------------------------------------------------------------

  void read_frames(Elf* elf) {
    std::size_t names = 0;
    GElf_Ehdr header;
    if (elf_getshdrstrndx(elf, &names) != 0 || gelf_getehdr(elf, &header) == nullptr) return;
    for (Elf_Scn* section = nullptr; (section = elf_nextscn(elf, section)) != nullptr;) {
      GElf_Shdr section_header;
      if (gelf_getshdr(section, &section_header) == nullptr) continue;
      const char* name = elf_strptr(elf, names, section_header.sh_name);
      Elf_Data* bytes = elf_rawdata(section, nullptr);
      if (name == nullptr || std::string_view(name) != ".debug_frame" || bytes == nullptr) continue;
      read_frame_section(header, bytes);
    }
  }

  void read_frame_section(const GElf_Ehdr& header, Elf_Data* bytes) {
    struct Cie {
      std::uint32_t code_factor;
      std::int32_t data_factor;
      std::vector<std::uint8_t> initial;
    };
    std::unordered_map<Dwarf_Off, Cie> cies;
    Dwarf_Off offset = 0;
    Dwarf_Off next = 0;
    Dwarf_CFI_Entry entry;
    for (;; offset = next) {
      const int status = dwarf_next_cfi(header.e_ident, bytes, false, offset, &next, &entry);
      if (status > 0) return;
      if (status < 0) {
        data_.warnings.emplace_back(
            "the call frame information is damaged: callers are guessed "
            "where it is missing");
        return;
      }
      if (dwarf_cfi_cie_p(&entry)) {
        cies[offset] = {static_cast<std::uint32_t>(entry.cie.code_alignment_factor),
                        static_cast<std::int32_t>(entry.cie.data_alignment_factor),
                        {entry.cie.initial_instructions, entry.cie.initial_instructions_end}};
        continue;
      }
      const auto cie = cies.find(entry.fde.CIE_pointer);
      if (cie == cies.end() || entry.fde.end - entry.fde.start < 8) continue;
      const auto word = [](const std::uint8_t* p) {
        return p[0] | p[1] << 8 | p[2] << 16 | static_cast<std::uint32_t>(p[3]) << 24;
      };
      Program::Data::Fde fde;
      fde.begin = word(entry.fde.start);
      fde.end = fde.begin + word(entry.fde.start + 4);
      fde.code_factor = cie->second.code_factor;
      fde.data_factor = cie->second.data_factor;
      fde.initial = cie->second.initial;
      fde.program.assign(entry.fde.start + 8, entry.fde.end);
      if (fde.begin != 0 && fde.end > fde.begin) data_.fdes.push_back(std::move(fde));
    }
  }

  const Image& image_;
  Program::Data& data_;
  std::string directory_;
  Dwarf_Files* unit_files_ = nullptr;
  std::size_t unit_file_count_ = 0;
  std::vector<std::pair<Dwarf_Addr, Dwarf_Addr>> live_;
  std::unordered_map<std::string, unsigned> file_of_;
  std::unordered_map<const void*, unsigned> type_index_;
  unsigned void_ = 0;
  std::vector<Row> rows_;
  int inlined_ = -1;  ///< the inlined call being read
  Dwarf* dwarf_ = nullptr;
  std::set<Dwarf_Word> macro_units_;  ///< that have been read
};

}  // namespace

void read_dwarf(const Image& image, Program::Data& data) { DwarfReader(image, data).read(); }

}  // namespace lucid::program
