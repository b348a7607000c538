// SPDX-License-Identifier: MIT
// A strict reader of value change dumps, written from the grammar of IEEE 1364, "Four state VCD
// file format".
#ifndef LUCID_TESTS_SIGNALS_VCD_READER_H
#define LUCID_TESTS_SIGNALS_VCD_READER_H

#include <cstdint>
#include <map>
#include <sstream>
#include <string>
#include <utility>
#include <vector>

namespace test {

struct Vcd {
  struct Variable {
    std::string scope, name, type;
    unsigned bits = 0;
    std::vector<std::pair<std::uint64_t, std::string>> changes;  ///< numbers, `x`, `z`, reals
  };
  std::uint64_t femtoseconds = 0;
  std::uint64_t first_time = 0;
  std::vector<Variable> variables;  ///< in the order of their declarations
  std::string error;
};

/// Letters, digits and underscores stay.
inline std::string plain(std::string text) {
  for (char& c : text)
    if (std::isalnum(static_cast<unsigned char>(c)) == 0) c = '_';
  return text;
}

inline Vcd read_vcd(const std::string& text) {
  Vcd vcd;
  std::istringstream in(text);
  std::string word;
  std::map<std::string, std::size_t> by_code;
  std::vector<std::string> scopes;
  std::map<std::string, unsigned> names;
  const auto wrong = [&](const std::string& why) {
    if (vcd.error.empty()) vcd.error = why + " at '" + word + "'";
    return vcd;
  };
  const auto until_end = [&] {
    std::vector<std::string> out;
    while (in >> word && word != "$end") out.push_back(word);
    return out;
  };
  bool defined = false;
  while (!defined) {
    if (!(in >> word)) return wrong("no $enddefinitions");
    const std::string keyword = word;
    const auto body = until_end();
    if (word != "$end") return wrong("no $end");
    if (keyword == "$timescale") {
      if (body.size() != 2) return wrong("a time scale is a number and a unit");
      if (body[0] != "1" && body[0] != "10" && body[0] != "100") return wrong("scale");
      vcd.femtoseconds = std::stoull(body[0]);
      const std::map<std::string, std::uint64_t> units{{"fs", 1},
                                                       {"ps", 1000},
                                                       {"ns", 1000'000},
                                                       {"us", 1000'000'000},
                                                       {"ms", 1000'000'000'000},
                                                       {"s", 1000'000'000'000'000}};
      if (units.count(body[1]) == 0) return wrong("unit");
      vcd.femtoseconds *= units.at(body[1]);
    } else if (keyword == "$scope") {
      if (body.size() != 2 || body[0] != "module" || plain(body[1]) != body[1])
        return wrong("a scope is a type and a name");
      scopes.push_back(body[1]);
    } else if (keyword == "$upscope") {
      if (!body.empty() || scopes.empty()) return wrong("upscope");
      scopes.pop_back();
    } else if (keyword == "$var") {
      if (body.size() != 4 && body.size() != 5) return wrong("a variable is four words");
      Vcd::Variable v;
      for (const std::string& s : scopes) v.scope += (v.scope.empty() ? "" : ".") + s;
      v.type = body[0];
      if (v.type != "wire" && v.type != "real" && v.type != "event") return wrong("type");
      v.bits = static_cast<unsigned>(std::stoul(body[1]));
      v.name = body[3];
      if (plain(v.name) != v.name || std::isdigit(static_cast<unsigned char>(v.name[0])) != 0)
        return wrong("name " + v.name);
      if (++names[v.scope + "." + v.name] != 1) return wrong("the name is taken: " + v.name);
      for (const char c : body[2])
        if (c < '!' || c > '~') return wrong("identifier code");
      if (body.size() == 5 && body[4] != "[" + std::to_string(v.bits - 1) + ":0]")
        return wrong("range");
      if (!by_code.emplace(body[2], vcd.variables.size()).second) return wrong("code is taken");
      vcd.variables.push_back(std::move(v));
    } else if (keyword == "$enddefinitions") {
      if (!body.empty() || !scopes.empty()) return wrong("open scopes");
      defined = true;
    } else if (keyword != "$comment" && keyword != "$version" && keyword != "$date") {
      return wrong("keyword");
    }
  }
  if (vcd.femtoseconds == 0) return wrong("no time scale");
  bool timed = false, dumping = false;
  std::uint64_t time = 0;
  while (in >> word) {
    if (word[0] == '#') {
      const std::uint64_t next = std::stoull(word.substr(1));
      if (timed && next <= time) return wrong("time does not go on");
      if (!timed) vcd.first_time = next;
      timed = true;
      time = next;
      continue;
    }
    if (word == "$dumpvars" && timed && !dumping) {
      dumping = true;
      continue;
    }
    if (word == "$end" && dumping) {
      dumping = false;
      for (const auto& v : vcd.variables)
        if (v.changes.size() != (v.type == "event" ? 0U : 1U))
          return wrong("not dumped: " + v.name);
      continue;
    }
    if (!timed) return wrong("a value before any time");
    std::string value, code;
    const char kind = word[0];
    if (kind == 'b' || kind == 'r') {
      value = word.substr(1);
      if (!(in >> code)) return wrong("no code");
    } else if (kind == '0' || kind == '1' || kind == 'x' || kind == 'z') {
      value = word.substr(0, 1);
      code = word.substr(1);
    } else {
      return wrong("value");
    }
    const auto found = by_code.find(code);
    if (found == by_code.end()) return wrong("unknown code");
    Vcd::Variable& v = vcd.variables[found->second];
    if ((kind == 'r') != (v.type == "real")) return wrong("kind of value");
    if (v.type == "wire" && (kind == 'b') != (v.bits != 1)) return wrong("width");
    if (kind == 'b' && value != "x" && value != "z") {
      if (value.empty() || value.size() > v.bits) return wrong("bits");
      if (value.size() > 1 && value[0] == '0') return wrong("not the shortest");
      for (const char c : value)
        if (c != '0' && c != '1') return wrong("bit");
      value = std::to_string(std::stoull(value, nullptr, 2));
    }
    v.changes.emplace_back(time, value);
  }
  if (dumping) return wrong("no end of the first values");
  return vcd;
}

}  // namespace test

#endif  // LUCID_TESTS_SIGNALS_VCD_READER_H
