// SPDX-License-Identifier: MIT
#include "lucid/program.h"

#include <algorithm>
#include <iterator>

#include "base/names.h"
#include "image/image_data.h"
#include "program/program_data.h"

namespace lucid {

namespace program {

const LineRange* range_at(const std::vector<LineRange>& ranges, std::uint32_t address) {
  auto it = std::upper_bound(ranges.begin(), ranges.end(), address,
                             [](std::uint32_t a, const LineRange& r) { return a < r.begin; });
  if (it == ranges.begin()) return nullptr;
  --it;
  return address < it->end ? &*it : nullptr;
}

/// Names that linker scripts give to the ends of sections, not to code.
bool is_boundary(const std::string& name) {
  for (const char* part : {"_start", "_end", "_etext", "vectors"})
    if (name.find(part) != std::string::npos) return true;
  return false;
}

}  // namespace program

using program::is_boundary;

namespace {

/// What some compilers leave out of the debug information when they optimise at link time: the
/// arguments of templates, and whose constructor it is. The linker's names still have them.
void complete_names(Program::Data& data) {
  std::map<Address, const std::string*> linker;
  for (const Symbol& symbol : data.symbols)
    if (symbol.name.rfind("_Z", 0) == 0) linker[symbol.address] = &symbol.name;
  if (linker.empty()) return;
  const auto complete = [&](std::string& name, const Address& address) {
    const auto found = linker.find(address);
    if (found == linker.end() || name.find('<') != std::string::npos) return;
    const std::string full = base::demangled(*found->second).name;
    if (base::without_template_arguments(full) == name ||
        name.find("__base_") != std::string::npos || name.find("__comp_") != std::string::npos)
      name = full;
  };
  for (Function& f : data.functions) complete(f.name, {Space::kCode, f.begin});
  for (Variable& v : data.variables) complete(v.name, v.address);
}

/// Start-up code and what ends a program: what stands behind is not its own.
bool is_surrounding(const std::string& name) { return name.rfind("__do_", 0) == 0; }

}  // namespace

Program::Program() : data_(std::make_shared<Data>()) {}

Program Program::read(const Image& image) {
  auto data = std::make_shared<Data>();
  data->machine = image.machine();
  data->symbols = image.symbols();
  switch (image.debug_form()) {
    case DebugForm::kDwarf: break;
    case DebugForm::kStabs:
      data->warnings.emplace_back(
          "the debug information is STABS: there are functions and lines, but no variables or "
          "types; build with -gdwarf-4 instead of -g");
      break;
    case DebugForm::kNone:
      data->warnings.emplace_back(
          image.is_elf() ? "there is no debug information: no lines or variables; build with "
                           "-gdwarf-4 -Og and do not strip"
                         : "Intel HEX has no debug information: no functions, lines or variables; "
                           "open the ELF file if you have it");
      break;
  }
  if (image.debug_form() == DebugForm::kDwarf) program::read_dwarf(image, *data);
  if (image.debug_form() == DebugForm::kStabs) program::read_stabs(image, *data);

  complete_names(*data);
  // Functions that only the symbol table knows: assembly and libraries.
  for (const Symbol& symbol : data->symbols) {
    const bool code =
        symbol.address.space == Space::kCode &&
        (symbol.kind == Symbol::Kind::kFunction || symbol.kind == Symbol::Kind::kOther);
    if (!code ||
        (symbol.kind == Symbol::Kind::kOther && (!symbol.global || is_boundary(symbol.name))))
      continue;
    const auto same = std::find_if(data->functions.begin(), data->functions.end(),
                                   [&](auto& f) { return f.begin == symbol.address.offset; });
    if (same != data->functions.end()) {  // the first name is it, but for `exit` of C++
      if (is_surrounding(same->name)) same->name = symbol.name;
      continue;
    }
    auto known = base::demangled(symbol.name);
    Function function;
    function.name = std::move(known.name);
    function.signature = std::move(known.signature);
    function.begin = symbol.address.offset;
    function.end = function.begin + symbol.size;
    data->functions.push_back(std::move(function));
  }
  std::sort(data->functions.begin(), data->functions.end(),
            [](const Function& a, const Function& b) { return a.begin < b.begin; });
  // A symbol without a size reaches to the next function, or to the end of the code; so does one
  // of assembly, whose code may go on behind its size.
  std::uint32_t code_end = 0;
  for (const Segment& segment : image.segments())
    if (segment.address.space == Space::kCode)
      code_end = std::max(
          code_end, segment.address.offset + static_cast<std::uint32_t>(segment.bytes.size()));
  // Damaged information may claim more than there is.
  data->functions.erase(std::remove_if(data->functions.begin(), data->functions.end(),
                                       [&](const Function& f) { return f.begin >= code_end; }),
                        data->functions.end());
  for (Function& function : data->functions) function.end = std::min(function.end, code_end);
  for (std::size_t i = 0; i < data->functions.size(); ++i) {
    Function& function = data->functions[i];
    const std::uint32_t next =
        i + 1 < data->functions.size() ? data->functions[i + 1].begin : code_end;
    const bool only_symbol = program::range_at(data->ranges, function.begin) == nullptr &&
                             !is_surrounding(function.name);
    const bool gap = only_symbol && function.end < next && next - function.end < 0x100;
    if (function.end <= function.begin || gap) function.end = std::max(function.begin, next);
  }
  for (Function& function : data->functions)
    function.has_lines = program::range_at(data->ranges, function.begin) != nullptr;
  Program program;
  program.data_ = std::move(data);
  return program;
}

Address Program::placed(std::uint32_t flat) const { return image::placed(data_->machine, flat); }
const std::vector<std::string>& Program::warnings() const { return data_->warnings; }
const std::vector<SourceFile>& Program::files() const { return data_->files; }
const std::vector<Function>& Program::functions() const { return data_->functions; }
const std::vector<Variable>& Program::variables() const { return data_->variables; }
const std::vector<Type>& Program::types() const { return data_->types; }
const std::vector<Symbol>& Program::symbols() const { return data_->symbols; }

std::vector<unsigned> Program::find_files(const std::string& name) const {
  std::vector<unsigned> out;
  for (unsigned i = 0; i < data_->files.size(); ++i) {
    const SourceFile& file = data_->files[i];
    const bool tail = file.path.size() > name.size() &&
                      file.path.compare(file.path.size() - name.size(), name.size(), name) == 0 &&
                      file.path[file.path.size() - name.size() - 1] == '/';
    if (file.name == name || file.path == name || tail) out.push_back(i);
  }
  return out;
}

std::optional<LineRange> Program::line_at(std::uint32_t address) const {
  const LineRange* range = program::range_at(data_->ranges, address);
  return range == nullptr ? std::nullopt : std::optional<LineRange>(*range);
}

std::vector<LineRange> Program::lines_in(std::uint32_t begin, std::uint32_t end) const {
  const auto& ranges = data_->ranges;
  auto it = std::partition_point(ranges.begin(), ranges.end(),
                                 [&](const LineRange& r) { return r.end <= begin; });
  std::vector<LineRange> out;
  for (; it != ranges.end() && it->begin < end; ++it) out.push_back(*it);
  return out;
}

bool Program::has_statement(std::uint32_t address, unsigned file, unsigned line) const {
  const auto begins = [&](const LineRange& r) {
    return r.begin == address && r.file == file && r.line == line && r.statement;
  };
  for (const auto* list : {&data_->ranges, &data_->points}) {
    auto it = std::partition_point(list->begin(), list->end(),
                                   [&](const LineRange& r) { return r.begin < address; });
    for (; it != list->end() && it->begin == address; ++it)
      if (begins(*it)) return true;
  }
  return false;
}

std::vector<std::pair<unsigned, std::uint32_t>> Program::columns_of(unsigned file,
                                                                    unsigned line) const {
  std::vector<std::pair<unsigned, std::uint32_t>> out;
  auto it = std::partition_point(
      data_->columns.begin(), data_->columns.end(),
      [&](const Data::Column& c) { return c.file < file || (c.file == file && c.line < line); });
  for (; it != data_->columns.end() && it->file == file && it->line == line; ++it)
    out.emplace_back(it->column, it->address);
  return out;
}

std::vector<LineRange> Program::stretches_of(unsigned file, unsigned line) const {
  std::vector<LineRange> out;
  const auto mine = [&](const LineRange& r) { return r.file == file && r.line == line; };
  std::copy_if(data_->ranges.begin(), data_->ranges.end(), std::back_inserter(out), mine);
  if (out.empty())
    std::copy_if(data_->points.begin(), data_->points.end(), std::back_inserter(out),
                 [&](const LineRange& r) { return mine(r) && r.statement; });
  return out;
}

const Function* Program::function_at(std::uint32_t address) const {
  const auto& functions = data_->functions;
  auto it = std::upper_bound(functions.begin(), functions.end(), address,
                             [](std::uint32_t a, const Function& f) { return a < f.begin; });
  while (it != functions.begin()) {
    --it;
    if (address < it->end) return &*it;
    if (it->has_lines) break;
  }
  return nullptr;
}

std::vector<const Function*> Program::find_functions(const std::string& name) const {
  const auto [plain, signature] = base::split_signature(name);
  const std::string wanted = base::plain_type(signature);
  std::vector<const Function*> out;
  for (const Function& function : data_->functions)
    if ((function.name == plain || function.linked_as == plain) &&
        (wanted.empty() || base::plain_type(function.signature) == wanted))
      out.push_back(&function);
  if (!out.empty()) return out;  // else with fewer scopes
  for (const Function& function : data_->functions)
    if (base::means(function.name, plain) &&
        (wanted.empty() || base::plain_type(function.signature) == wanted))
      out.push_back(&function);
  return out;
}

Program Program::with_names(
    const std::function<std::string(const std::string& symbol)>& name_of) const {
  auto data = std::make_shared<Data>(*data_);
  const auto rename = [&](std::string& name) {
    std::string better = name_of(name);
    return better.empty() ? std::string() : std::exchange(name, std::move(better));
  };
  for (Function& function : data->functions) function.linked_as = rename(function.name);
  for (Variable& variable : data->variables) rename(variable.function);
  Program out;
  out.data_ = std::move(data);
  return out;
}

std::uint32_t Program::body_of(const Function& function) const {
  const auto it = data_->bodies.find(function.begin);
  return it == data_->bodies.end() ? function.begin : it->second;
}

std::optional<FrameRow> Program::frame_at(std::uint32_t address) const {
  for (const Data::Fde& fde : data_->fdes)
    if (address >= fde.begin && address < fde.end) return program::execute_frame(fde, address);
  return std::nullopt;
}

bool Program::has_local(const std::string& name) const {
  return std::any_of(data_->locals.begin(), data_->locals.end(),
                     [&](const Local& local) { return local.name == name; });
}

bool Program::has_local(const std::string& name, const std::string& function) const {
  const auto functions = find_functions(function);
  return std::any_of(data_->locals.begin(), data_->locals.end(), [&](const Local& local) {
    if (local.name != name) return false;
    if (local.inlined >= 0)
      return base::means(data_->inlined[static_cast<std::size_t>(local.inlined)].name, function);
    return std::any_of(functions.begin(), functions.end(), [&](const Function* f) {
      return std::any_of(local.scope.begin(), local.scope.end(), [&](const Local::Range& r) {
        return r.begin >= f->begin && r.begin < f->end;
      });
    });
  });
}

std::vector<const Local*> Program::locals_at(std::uint32_t address) const {
  std::vector<std::pair<std::uint32_t, const Local*>> found;  // size of the scope, local
  for (const Local& local : data_->locals)
    for (const Local::Range& range : local.scope)
      if (address >= range.begin && address < range.end)
        found.emplace_back(range.end - range.begin, &local);
  std::stable_sort(found.begin(), found.end(),
                   [](const auto& x, const auto& y) { return x.first < y.first; });
  std::vector<const Local*> out;
  out.reserve(found.size());
  for (const auto& [size, local] : found) out.push_back(local);
  return out;
}

const Macro* Program::find_macro(const std::string& name) const {
  const auto found = data_->macros.find(name);
  return found != data_->macros.end() ? &found->second : nullptr;
}

bool Program::has_macros() const { return !data_->macros.empty(); }

const std::vector<InlinedCall>& Program::inlined_calls() const { return data_->inlined; }

std::vector<const InlinedCall*> Program::inlined_at(std::uint32_t address) const {
  std::vector<const InlinedCall*> out;
  for (const InlinedCall& call : data_->inlined)
    for (const Local::Range& range : call.ranges)
      if (address >= range.begin && address < range.end) out.push_back(&call);
  std::stable_sort(out.begin(), out.end(),
                   [](const InlinedCall* a, const InlinedCall* b) { return a->depth > b->depth; });
  return out;
}

const CallSite* Program::call_site_at(std::uint32_t returns_to) const {
  const auto found = data_->call_sites.find(returns_to);
  return found != data_->call_sites.end() ? &found->second : nullptr;
}

std::vector<const CallSite*> Program::tail_calls_in(const Function& function) const {
  std::vector<const CallSite*> out;
  for (auto it = data_->call_sites.upper_bound(function.begin);
       it != data_->call_sites.end() && it->first <= function.end; ++it)
    if (it->second.tail) out.push_back(&it->second);
  return out;
}

std::vector<LocationOp> Program::frame_base_at(std::uint32_t address) const {
  for (const Data::FrameBase& base : data_->frame_bases)
    if (address >= base.begin && address < base.end) return base.ops;
  return {};
}

const Symbol* Program::find_symbol(const std::string& name) const {
  for (const Symbol& symbol : data_->symbols)
    if (symbol.name == name) return &symbol;
  return nullptr;
}

}  // namespace lucid
