// SPDX-License-Identifier: MIT
// DWARF through libdw: units, functions, variables, lines.
#include <dwarf.h>
#include <elfutils/libdw.h>
#include <fmt/format.h>
#include <gelf.h>

#include <algorithm>
#include <memory>
#include <unordered_map>
#include <utility>

#include "base/text.h"
#include "image/image_data.h"
#include "program/dwarf_reader.h"

namespace lucid::program {
namespace {

struct DwarfCloser {
  void operator()(Dwarf* dwarf) const { dwarf_end(dwarf); }
};
struct ElfCloser {
  void operator()(Elf* elf) const { elf_end(elf); }
};

class DwarfReader {
 public:
  DwarfReader(const Image& image, Program::Data& data)
      : image_(image), data_(data), types_(data, names_, image::find_elf_form(image.machine())) {}

  void read() {
    elf_version(EV_CURRENT);
    // libelf takes a non-const pointer and does not write through it in read mode.
    const auto wide = with_wide_addresses(image_.file());
    if (const std::size_t count = units_with_short_addresses(image_.file()); count != 0)
      data_.warnings.push_back(fmt::format(
          "the debug information of {} unit{} is DWARF 4 with addresses of two bytes, as clang "
          "writes it, and cannot be read; build with -gdwarf-5",
          count, count == 1 ? "" : "s"));
    const std::vector<std::uint8_t>& file = wide ? *wide : image_.file();
    auto* bytes = const_cast<char*>(reinterpret_cast<const char*>(file.data()));
    const std::unique_ptr<Elf, ElfCloser> elf(elf_memory(bytes, file.size()));
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
    while (dwarf_get_units(dwarf.get(), unit, &unit, &version, &unit_type, &root, nullptr) == 0)
      names_.note(root);
    unit = nullptr;
    while ((status = dwarf_get_units(dwarf.get(), unit, &unit, &version, &unit_type, &root,
                                     nullptr)) == 0)
      read_unit(root);
    if (status < 0)
      data_.warnings.push_back(fmt::format("debug information is damaged behind {} functions: {}",
                                           data_.functions.size(), dwarf_errmsg(-1)));
    types_.name_pointers();
    finish_signatures();
    finish_call_sites();
    finish_lines(std::move(rows_), data_);
    read_frames(elf.get(), data_);
    read_macros(elf.get(), data_);
  }

 private:
  unsigned file_index(const char* path) {
    const std::string key = (path == nullptr ? "?" : path) + ("\n" + directory_);
    const auto found = file_of_.find(key);
    if (found != file_of_.end()) return found->second;
    SourceFile file;
    file.path = path == nullptr ? "?" : path;
    file.name = base::file_name(file.path);
    file.directory = directory_;
    file.keeps_branches = keeps_branches_;
    data_.files.push_back(std::move(file));
    return file_of_[key] = static_cast<unsigned>(data_.files.size() - 1);
  }

  /// GCC notes how it was called; without -O it optimises nothing. Others do not.
  static bool keeps_branches(Dwarf_Die& root) {
    Dwarf_Attribute at;
    if (dwarf_attr(&root, DW_AT_producer, &at) == nullptr) return false;
    const char* text = dwarf_formstring(&at);
    const std::string producer = text == nullptr ? "" : std::string(text) + " ";
    if (producer.rfind("GNU C", 0) != 0) return false;
    const std::size_t level = producer.rfind(" -O");
    if (level == std::string::npos) return true;
    const std::string how = producer.substr(level + 3, producer.find(' ', level + 1) - level - 3);
    return how == "0" || how == "g";
  }

  void read_unit(Dwarf_Die& root) {
    // The start-up files' unit has no name; it lists I/O registers, which the chip knows better.
    if (dwarf_diename(&root) == nullptr) return;
    Dwarf_Attribute at;
    const char* directory = nullptr;
    if (dwarf_attr(&root, DW_AT_comp_dir, &at) != nullptr) directory = dwarf_formstring(&at);
    directory_ = directory == nullptr ? "" : directory;
    keeps_branches_ = keeps_branches(root);
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
        case DW_TAG_structure_type:
        case DW_TAG_union_type:
        case DW_TAG_class_type:  // what is declared in them, enumerators above all
          if (names_.is_cpp(child)) read_children(child, function, {}, depth + 1);
          [[fallthrough]];
        case DW_TAG_enumeration_type:
        case DW_TAG_typedef: (void)types_.type_from(child, 0); break;
        case DW_TAG_namespace: read_children(child, function, scope, depth + 1); break;
        case DW_TAG_lexical_block: {
          const Scope inner = ranges_of(child);
          read_children(child, function, inner.empty() ? scope : inner, depth + 1);
          break;
        }
        case DW_TAG_inlined_subroutine: read_inlined(child, function, scope, depth); break;
        case DW_TAG_call_site:
        case DW_TAG_GNU_call_site: read_call_site(child); break;
        default: break;
      }
    } while (dwarf_siblingof(&child, &child) == 0);
  }

  void read_inlined(Dwarf_Die& die, const std::string& function, const Scope& scope,
                    unsigned depth) {
    const Scope inner = ranges_of(die);
    InlinedCall call;
    call.name = names_.full_name(die);
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

  /// An address that is an attribute of its own.
  static std::optional<std::uint32_t> address_in(Dwarf_Die& die, unsigned attribute) {
    Dwarf_Attribute at;
    Dwarf_Addr address = 0;
    if (dwarf_attr(&die, attribute, &at) == nullptr || dwarf_formaddr(&at, &address) != 0)
      return std::nullopt;
    return static_cast<std::uint32_t>(address);
  }

  /// Whose first attribute is there: DWARF 5's name for it, or that of GCC before.
  static bool either(Dwarf_Die& die, unsigned name, unsigned before, Dwarf_Attribute& at) {
    return dwarf_attr(&die, name, &at) != nullptr || dwarf_attr(&die, before, &at) != nullptr;
  }

  void read_call_site(Dwarf_Die& die) {
    CallSite site;
    site.tail = flag(die, DW_AT_GNU_tail_call) || flag(die, DW_AT_call_tail_call);
    if (const auto behind = address_in(die, DW_AT_call_return_pc))
      site.returns_to = *behind;
    else if (const auto jump = address_in(die, DW_AT_call_pc))
      site.returns_to = *jump + 1;  // within the jump
    else if (const auto gnu = address_in(die, DW_AT_low_pc))
      site.returns_to = *gnu;
    else
      return;
    Dwarf_Attribute at;
    Dwarf_Die callee;
    if (either(die, DW_AT_call_origin, DW_AT_abstract_origin, at) &&
        dwarf_formref_die(&at, &callee) != nullptr)
      callees_[site.returns_to] = names_.full_name(callee);
    Dwarf_Die child;
    if (dwarf_child(&die, &child) == 0) do {
        Dwarf_Op* ops = nullptr;
        std::size_t count = 0;
        const int tag = dwarf_tag(&child);
        if ((tag != DW_TAG_GNU_call_site_parameter && tag != DW_TAG_call_site_parameter) ||
            dwarf_attr(&child, DW_AT_location, &at) == nullptr ||
            dwarf_getlocation(&at, &ops, &count) != 0 || count != 1)
          continue;
        int reg = -1;
        if (ops[0].atom >= DW_OP_reg0 && ops[0].atom <= DW_OP_reg31) reg = ops[0].atom - DW_OP_reg0;
        if (ops[0].atom == DW_OP_regx) reg = static_cast<int>(ops[0].number);
        if (reg >= 0 && either(child, DW_AT_call_value, DW_AT_GNU_call_site_value, at) &&
            dwarf_getlocation(&at, &ops, &count) == 0)
          site.passed.push_back({reg, copied(at, ops, count)});
      } while (dwarf_siblingof(&child, &child) == 0);
    data_.call_sites[site.returns_to] = std::move(site);
  }

  /// Callees by name, once all functions are known. A name that two functions have stays open.
  void finish_call_sites() {
    std::unordered_map<std::string, std::optional<std::uint32_t>> begins;
    for (const Function& function : data_.functions) {
      const auto [entry, is_new] = begins.emplace(function.name, function.begin);
      if (!is_new) entry->second.reset();
    }
    for (const auto& [address, name] : callees_)
      if (const auto found = begins.find(name); found != begins.end())
        data_.call_sites[address].callee = found->second;
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
    const std::string name = names_.full_name(die);
    if (dwarf_lowpc(&die, &begin) == 0 && dwarf_highpc(&die, &end) == 0 && end > begin &&
        (begin != 0 || symbol_at_zero(name_of(die)))) {  // dropped by the linker: left at address 0
      Function function;
      function.name = name;
      if (names_.is_cpp(die)) parameters_[static_cast<std::uint32_t>(begin)] = parameters_of(die);
      function.returns = types_.type_of(die, 0);
      function.begin = static_cast<std::uint32_t>(begin);
      function.end = static_cast<std::uint32_t>(end);
      if (const char* path = decl_file(die)) function.file = file_index(path);
      function.line = static_cast<unsigned>(number(die, DW_AT_decl_line).value_or(0));
      Dwarf_Attribute at;
      Dwarf_Op* ops = nullptr;
      std::size_t count = 0;
      if (dwarf_attr_integrate(&die, DW_AT_frame_base, &at) != nullptr &&
          dwarf_getlocation(&at, &ops, &count) == 0)
        data_.frame_bases.push_back({function.begin, function.end, copied(at, ops, count)});
      const Scope scope{{function.begin, function.end}};
      data_.functions.push_back(std::move(function));
      live_.emplace_back(begin, end);
      read_children(die, name, scope, depth + 1);
    } else {
      read_children(die, name, {}, depth + 1);
    }
  }

  /// The types of what a function takes; -1 for more that may follow.
  std::vector<int> parameters_of(Dwarf_Die& die) {
    constexpr std::size_t kMost = 64;
    std::vector<int> out;
    Dwarf_Die declaration = declaration_of(die);
    Dwarf_Die child;
    if (dwarf_child(&declaration, &child) != 0) return out;
    do {
      if (dwarf_tag(&child) == DW_TAG_unspecified_parameters) out.push_back(-1);
      if (dwarf_tag(&child) == DW_TAG_formal_parameter && !flag(child, DW_AT_artificial))
        out.push_back(static_cast<int>(types_.type_of(child, 0)));
    } while (out.size() < kMost && dwarf_siblingof(&child, &child) == 0);
    return out;
  }

  /// Once all types have their names.
  void finish_signatures() {
    for (Function& function : data_.functions) {
      const auto found = parameters_.find(function.begin);
      if (found == parameters_.end()) continue;
      for (const int type : found->second)
        function.signature +=
            (function.signature.empty() ? "" : ", ") +
            (type < 0 ? std::string("...") : data_.types[static_cast<std::size_t>(type)].name);
      function.signature = "(" + function.signature + ")";
    }
  }

  [[nodiscard]] std::optional<std::uint32_t> symbol_bytes(const std::string& name) const {
    for (const Symbol& symbol : image_.symbols())
      if (symbol.name == name && symbol.size != 0) return symbol.size;
    return std::nullopt;
  }

  [[nodiscard]] bool symbol_at_zero(const std::string& name) const {
    return std::any_of(image_.symbols().begin(), image_.symbols().end(), [&](const Symbol& s) {
      return s.name == name && s.address == Address{Space::kCode, 0};
    });
  }

  /// Compilers with addresses of 16 bits do not say which memory they mean: the symbol does.
  [[nodiscard]] Address placed(std::uint32_t flat) const {
    const Address plain = image::placed(image_.machine(), flat);
    if (plain.space != Space::kCode) return plain;
    for (const Symbol& symbol : image_.symbols())
      if (symbol.kind == Symbol::Kind::kObject && symbol.address.space == Space::kData &&
          symbol.address.offset == flat)
        return symbol.address;
    return plain;
  }

  void read_variable(Dwarf_Die& die, const std::string& function, const Scope& scope) {
    Dwarf_Attribute at;
    Dwarf_Op* ops = nullptr;
    std::size_t count = 0;
    std::vector<LocationOp> place;
    if (dwarf_attr_integrate(&die, DW_AT_location, &at) != nullptr &&
        dwarf_getlocation(&at, &ops, &count) == 0 && count == 1)
      place = copied(at, ops, count);
    const bool fixed = place.size() == 1 && place[0].atom == DW_OP_addr;
    if (!fixed && !scope.empty()) return read_local(die, scope);
    Variable variable;
    if (!fixed) variable.constant = constant_bytes(die);
    variable.name = names_.full_name(die);
    if (variable.name.empty() || (!fixed && variable.constant.empty())) return;
    variable.function = function;
    variable.file = file_index(decl_file(die));
    variable.line = static_cast<unsigned>(number(die, DW_AT_decl_line).value_or(0));
    variable.address =
        fixed ? placed(static_cast<std::uint32_t>(place[0].a)) : Address{Space::kNowhere, 0};
    variable.global = flag(die, DW_AT_external);
    variable.type = types_.type_of(die, 0);
    // avr-gcc gives arrays in `__flash` no type: they are shown as bytes.
    if (data_.types[variable.type].kind == Type::Kind::kVoid)
      if (const auto bytes = symbol_bytes(name_of(die))) variable.type = types_.bytes(*bytes);
    if (!fixed) variable.constant.resize(data_.types[variable.type].bytes);
    const auto same = [&](const Variable& v) {
      return v.name == variable.name && v.address == variable.address &&
             (fixed || (v.file == variable.file && v.line == variable.line));
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
    local.type = types_.type_of(die, 0);
    local.scope = scope;
    local.inlined = inlined_;
    Dwarf_Attribute at;
    if (const auto bytes = constant_bytes(die); !bytes.empty()) {
      std::vector<LocationOp> ops;
      for (std::size_t i = 0; i < bytes.size(); i += 8) {
        std::uint64_t raw = 0;
        for (std::size_t k = 0; k < 8 && i + k < bytes.size(); ++k)
          raw |= std::uint64_t{bytes[i + k]} << (8 * k);
        ops.push_back({DW_OP_implicit_value, 8, static_cast<std::int64_t>(raw)});
        ops.push_back({DW_OP_piece, 8, 0});
      }
      if (ops.size() == 2) ops.pop_back();
      for (const Local::Range& range : scope) local.places.push_back({range, ops});
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
          local.places.push_back({range, copied(at, ops, count)});
      } else if (end > begin) {
        local.places.push_back(
            {{static_cast<std::uint32_t>(begin), static_cast<std::uint32_t>(end)},
             copied(at, ops, count)});
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
      int number = 0, column = 0;
      bool statement = false;
      bool ends = false;
      bool prologue_ends = false;
      if (dwarf_lineaddr(line, &address) != 0 || dwarf_lineno(line, &number) != 0 ||
          dwarf_linebeginstatement(line, &statement) != 0 ||
          dwarf_lineendsequence(line, &ends) != 0 ||
          dwarf_lineprologueend(line, &prologue_ends) != 0)
        continue;
      const bool live = std::any_of(live_.begin(), live_.end(), [&](const auto& range) {
        // At the end lies the end of a sequence, or the beginning of what a linker has moved.
        return address >= range.first && address <= range.second;
      });
      if (!live) continue;
      rows_.push_back({static_cast<std::uint32_t>(address),
                       file_index(dwarf_linesrc(line, nullptr, nullptr)),
                       static_cast<unsigned>(number), statement, ends, prologue_ends,
                       dwarf_linecol(line, &column) == 0 ? static_cast<unsigned>(column) : 0});
    }
  }

  const Image& image_;
  Program::Data& data_;
  std::string directory_;
  bool keeps_branches_ = false;  ///< of the unit
  Dwarf_Files* unit_files_ = nullptr;
  std::size_t unit_file_count_ = 0;
  std::vector<std::pair<Dwarf_Addr, Dwarf_Addr>> live_;
  std::unordered_map<std::string, unsigned> file_of_;
  ScopeNames names_;
  TypeReader types_;
  std::map<std::uint32_t, std::vector<int>> parameters_;  ///< by where the function begins
  std::vector<LineRow> rows_;
  std::map<std::uint32_t, std::string> callees_;  ///< of call sites, by the address behind them
  int inlined_ = -1;                              ///< the inlined call being read
};

}  // namespace

void read_dwarf(const Image& image, Program::Data& data) { DwarfReader(image, data).read(); }

}  // namespace lucid::program
