// SPDX-License-Identifier: MIT
// The file in which layouts and keys are kept.
#include <fmt/format.h>

#include <set>
#include <string>

#include "base/toml.h"

#include "screen/layout.h"

namespace lucid::app {
namespace {

/// What a text says, key by key; the first thing that is wrong is kept.
class SettingsReader {
 public:
  SettingsReader(const toml::table& root, const std::string& name) : root_(root), name_(name) {}

  Result<Settings> read() {
    known(root_, {"layout", "keys", "layouts", "serial"}, "");
    if (const auto* keys = table(root_, "keys"); keys != nullptr) read_keys(*keys);
    if (const auto* layouts = table(root_, "layouts"); layouts != nullptr) read_layouts(*layouts);
    if (const auto* serial = table(root_, "serial"); serial != nullptr) {
      known(*serial, {"line-end"}, "serial");
      if (const auto* end = text(*serial, "line-end"); end != nullptr) read_line_end(*end);
    }
    if (const auto* layout = text(root_, "layout"); layout != nullptr) read_layout(*layout);
    if (error_) return fail(*error_);
    return std::move(settings_);
  }

 private:
  void wrong(const toml::node& at, const std::string& what, const std::string& hint = {}) {
    if (!error_)
      error_ =
          Error{ErrorCode::kUsage, what, fmt::format("{}, line {}", name_, at.source().begin.line),
                hint, Unknown::kNone};
  }
  void known(const toml::table& in, const std::vector<std::string>& names, const std::string& of) {
    for (const auto& [key, node] : in) {
      const std::string name(key.str());
      if (std::find(names.begin(), names.end(), name) == names.end())
        wrong(node, fmt::format("'{}' is no setting{}", name, of.empty() ? "" : " of " + of),
              did_you_mean(name, names));
    }
  }
  const toml::table* table(const toml::table& in, std::string_view key) {
    const toml::node* node = in.get(key);
    if (node != nullptr && !node->is_table()) wrong(*node, std::string(key) + " is a table");
    return node != nullptr ? node->as_table() : nullptr;
  }
  const toml::value<std::string>* text(const toml::table& in, std::string_view key) {
    const toml::node* node = in.get(key);
    if (node != nullptr && !node->is_string()) wrong(*node, std::string(key) + " is a text");
    return node != nullptr ? node->as_string() : nullptr;
  }

  void read_keys(const toml::table& keys) {
    std::vector<std::string> names;
    for (const ActionFacts& facts : actions()) names.emplace_back(facts.name);
    known(keys, names, "keys");
    for (const ActionFacts& facts : actions()) {
      const auto* value = text(keys, facts.name);
      if (value == nullptr) continue;
      const auto key = key_of(value->get());
      if (!key || *key == kEscape || *key == kEnter)
        wrong(*value, "'" + value->get() + "' is no key for it",
              "a letter or sign, Space, Tab, Insert, or such as Ctrl-L");
      else
        settings_.keys[facts.action] = *key;
    }
    std::map<Key, Action> taken;
    for (const auto& [action, key] : settings_.keys)
      if (const auto [at, is_new] = taken.emplace(key, action); !is_new)
        wrong(keys, fmt::format("{} is the key of '{}' and of '{}'", name_of(key),
                                facts_of(at->second).name, facts_of(action).name));
  }

  void read_layouts(const toml::table& layouts) {
    std::vector<std::string> names;
    for (const Layout& layout : settings_.layouts) names.push_back(layout.name);
    known(layouts, names, "layouts");
    for (Layout& layout : settings_.layouts) {
      const auto* one = table(layouts, layout.name);
      if (one == nullptr) continue;
      known(*one, {"wide", "narrow"}, layout.name);
      read_arrangement(*one, "wide", layout.wide);
      read_arrangement(*one, "narrow", layout.narrow);
    }
  }
  void read_arrangement(const toml::table& in, std::string_view key, Arrangement& out) {
    const auto* value = text(in, key);
    if (value == nullptr) return;
    auto parsed = Arrangement::parse(value->get(), pane_names());
    if (parsed)
      out = std::move(*parsed);
    else
      wrong(*value, parsed.error().where + " of the text: " + parsed.error().what,
            parsed.error().hint);
  }
  void read_layout(const toml::value<std::string>& value) {
    std::vector<std::string> names;
    for (unsigned i = 0; i < settings_.layouts.size(); ++i) {
      names.push_back(settings_.layouts[i].name);
      if (names.back() == value.get()) settings_.layout = i;
    }
    if (std::find(names.begin(), names.end(), value.get()) == names.end())
      wrong(value, "there is no layout '" + value.get() + "'", did_you_mean(value.get(), names));
  }
  void read_line_end(const toml::value<std::string>& value) {
    const std::string& end = value.get();
    if (end != "\\n" && end != "\\r" && end != "\\r\\n" && !end.empty())
      wrong(value, "'" + end + "' is no end of a line", R"(there are '\n', '\r', '\r\n' and '')");
    else
      settings_.line_end = end;
  }

  const toml::table& root_;
  const std::string& name_;
  Settings settings_ = first_settings();
  std::optional<Error> error_;
};

}  // namespace

Result<Settings> read_settings(const std::string& text, const std::string& name) {
  auto root = base::read_toml(text, name, ErrorCode::kUsage, "docs/screen.md has an example");
  if (!root) return fail(root.error());
  return SettingsReader(*root, name).read();
}

std::string settings_text(const Settings& settings) {
  std::string out =
      "# How the screen of lucid is arranged here. It is read when a screen is opened and written\n"
      "# when it is left. Panes stand side by side (|) or above each other (/); a number is a\n"
      "# pane's share of the room. `narrow` is used below 100 columns.\n";
  out += fmt::format("layout = \"{}\"\n", settings.layouts[settings.layout].name);
  out += fmt::format("\n[serial]\nline-end = '{}'\n", settings.line_end);
  std::string keys;
  for (const ActionFacts& facts : actions())
    if (const Key key = settings.keys.at(facts.action); key != facts.key)
      keys += fmt::format(key == U'\'' ? "{} = \"{}\"\n" : "{} = '{}'\n", facts.name, name_of(key));
  out += "\n[keys]  # those that are not as at first\n" + keys;
  for (const Layout& layout : settings.layouts)
    out += fmt::format("\n[layouts.{}]  # {}\nwide = \"{}\"\nnarrow = \"{}\"\n", layout.name,
                       layout.words, layout.wide.text(), layout.narrow.text());
  return out;
}

}  // namespace lucid::app
