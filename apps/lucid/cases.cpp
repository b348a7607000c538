// SPDX-License-Identifier: MIT
#include "cases.h"

#include <fmt/format.h>

#include <filesystem>
#include <fstream>
#include <iterator>
#include <set>
#include <sstream>

#include "base/toml.h"

namespace lucid::app {
namespace {

namespace fs = std::filesystem;

class CaseReader {
 public:
  CaseReader(const std::string& path) : path_(path) {}

  Result<std::vector<Case>> read(const toml::table& root) {
    const toml::node* list = root.get("case");
    for (const auto& [key, node] : root)
      if (key.str() != "case") wrong(node, "'" + std::string(key.str()) + "' is not for here");
    if (list == nullptr || !list->is_array_of_tables())
      return fail(ErrorCode::kUsage, "'" + path_ + "' has no cases", "each begins with [[case]]");
    std::set<std::string> names;
    for (const toml::node& node : *list->as_array()) {
      cases_.push_back(one(*node.as_table()));
      if (!names.insert(cases_.back().name).second)
        wrong(node, "there are two cases '" + cases_.back().name + "'");
    }
    if (error_.what.empty()) return std::move(cases_);
    return fail(std::move(error_));
  }

 private:
  void wrong(const toml::node& at, const std::string& what, const std::string& hint = {}) {
    if (error_.what.empty())
      error_ = {ErrorCode::kUsage, what, fmt::format("{}, line {}", path_, at.source().begin.line),
                hint, Unknown::kNone};
  }

  Case one(const toml::table& table) {
    static const std::vector<std::string> kKeys{"name", "image", "input", "let"};
    Case out;
    for (const auto& [key, node] : table) {
      const std::string name(key.str());
      if (std::find(kKeys.begin(), kKeys.end(), name) == kKeys.end())
        wrong(node, "'" + name + "' is no key of a case", did_you_mean(name, kKeys));
    }
    out.name = text(table, "name");
    if (out.name.empty()) wrong(table, "a case needs a name");
    out.image = text(table, "image");
    if (!out.image.empty())
      out.image = (fs::path(path_).parent_path() / out.image).lexically_normal().string();
    if (const toml::node* inputs = table.get("input"); inputs != nullptr) {
      const toml::array* list = inputs->as_array();
      if (list == nullptr) wrong(*inputs, "input is a list of tables");
      if (list != nullptr)
        for (const toml::node& input : *list) {
          if (!input.is_table()) {
            wrong(input,
                  "an input is a table: {at = \"1 s\", serial = \"USART0\", text = \"G\\n\"}");
            continue;
          }
          std::ostringstream written;
          written << "[[input]]\n";
          for (const auto& [key, node] : *input.as_table())
            written << key.str() << " = " << toml::toml_formatter(node, toml::format_flags::none)
                    << "\n";
          out.inputs.push_back(written.str());
        }
    }
    if (const toml::node* values = table.get("let"); values != nullptr) {
      if (!values->is_table()) wrong(*values, "let is a table: {setpoint = 900}");
      if (values->is_table())
        for (const auto& [key, node] : *values->as_table()) {
          std::ostringstream written;
          if (node.is_string())
            written << node.as_string()->get();
          else if (node.is_integer() || node.is_floating_point() || node.is_boolean())
            node.visit([&](const auto& value) {
              if constexpr (toml::is_value<decltype(value)>) written << value.get();
            });
          else
            wrong(node, "a value is a number, or an expression as a text");
          out.values.push_back(std::string(key.str()) + " = " + written.str());
        }
    }
    return out;
  }

  std::string text(const toml::table& in, std::string_view key) {
    const toml::node* node = in.get(key);
    if (node != nullptr && !node->is_string()) wrong(*node, std::string(key) + " is a text");
    return node != nullptr && node->is_string() ? node->as_string()->get() : std::string();
  }

  const std::string& path_;
  std::vector<Case> cases_;
  Error error_;
};

}  // namespace

std::string Case::bench() const {
  std::string out;
  for (const std::string& input : inputs) out += "\n" + input;
  return out;
}

Result<std::vector<Case>> read_cases(const std::string& path) {
  std::ifstream in(path, std::ios::binary);
  std::error_code unknown;
  if (!in || fs::is_directory(path, unknown))
    return fail(ErrorCode::kNotFound, "cannot read the cases '" + path + "'", "check the path");
  const std::string text{std::istreambuf_iterator<char>(in), {}};
  const auto root = base::read_toml(text, path, ErrorCode::kUsage, "is it a file of cases?");
  if (!root) return fail(root.error());
  return CaseReader(path).read(*root);
}

}  // namespace lucid::app
