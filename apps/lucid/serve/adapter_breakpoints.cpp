// SPDX-License-Identifier: MIT
// Breakpoints of the protocol: the same as everywhere, with their numbers, passes and states.
#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <set>
#include <utility>

#include "breakpoint_text.h"
#include "serve/adapter.h"
#include "serve/refusal.h"

namespace lucid::app {
namespace {

/// A hit condition as people write it in editors: `9`, `>= 9`, `> 9`, `== 9`, `% 9`.
void read_hits(const std::string& text, BreakpointSpec& spec) {
  std::string rest = text;
  const auto trim = [&] {
    rest.erase(0, rest.find_first_not_of(' '));
    rest.erase(rest.find_last_not_of(' ') + 1);
  };
  trim();
  if (rest.empty()) return;
  using Rule = BreakpointSpec::Rule;
  const std::pair<const char*, Rule> rules[] = {{">=", Rule::kFrom},
                                                {"==", Rule::kOn},
                                                {">", Rule::kFrom},
                                                {"=", Rule::kOn},
                                                {"%", Rule::kEvery}};
  spec.rule = Rule::kOn;
  bool above = false;
  for (const auto& [sign, rule] : rules)
    if (rest.rfind(sign, 0) == 0) {
      above = std::string(sign) == ">";
      spec.rule = rule;
      rest.erase(0, std::string(sign).size());
      break;
    }
  trim();
  const auto number = parse_number(rest);
  if (!number || *number == 0)
    throw Refusal("'" + text + "' is no hit condition: 9, >= 9, > 9 and % 9 are");
  spec.count = *number + (above ? 1 : 0);
}

BreakpointSpec spec_of(const Json& a) {
  BreakpointSpec spec;
  spec.condition = a.value("condition", std::string());
  spec.log = a.value("logMessage", std::string());
  read_hits(a.value("hitCondition", std::string()), spec);
  return spec;
}

/// What a breakpoint is asked as: the same again is the same breakpoint.
std::string key_of(const BreakpointSpec& spec) { return subject_text(spec) + clauses_text(spec); }

}  // namespace

Json Adapter::breakpoint_json(const Breakpoint& point) const {
  Json out{{"id", point.id}, {"verified", point.waits_because.empty()}};
  if (!point.waits_because.empty()) out["message"] = point.waits_because;
  if (!point.remark.empty()) out["message"] = point.remark;
  if (!point.addresses.empty())
    out["instructionReference"] = reference({Space::kCode, point.addresses.front()});
  if (!point.where.file.empty()) {
    out["source"] = source_json(point.where.file_index);
    out["line"] = point.where.line - (lines_from_1_ ? 0 : 1);
    const std::string lined = fmt::format(":{}:", point.where.line);
    if (const std::size_t at = point.spec.place.rfind(lined); at != std::string::npos)
      if (const auto column = parse_number(point.spec.place.substr(at + lined.size())))
        out["column"] = *column - (columns_from_1_ ? 0 : 1);
  }
  return out;
}

/// Sets those of a group that are asked for, keeps those that were there, with their passes, and
/// removes the others. What is refused is so for that one alone.
Json Adapter::set(const std::string& group,
                  const std::vector<std::pair<std::string, BreakpointSpec>>& wanted) {
  auto& known = groups_[group];
  std::map<std::string, unsigned> now;
  Json out = Json::array();
  const auto points = session().breakpoints();
  for (const auto& [problem, spec] : wanted) {
    if (!problem.empty()) {
      out.push_back({{"verified", false}, {"message", problem}});
      continue;
    }
    const std::string key = key_of(spec);
    const auto before = known.find(key);
    const auto there = [&](unsigned id) {
      return std::find_if(points.begin(), points.end(),
                          [&](const Breakpoint& p) { return p.id == id; });
    };
    if (before != known.end() && there(before->second) != points.end()) {
      now[key] = before->second;
      out.push_back(breakpoint_json(*there(before->second)));
      known.erase(before);
      continue;
    }
    if (now.count(key) != 0) {  // asked for twice
      out.push_back(breakpoint_json(*there(now[key])));
      continue;
    }
    const auto made = session().pause_at(spec);
    if (!made) {
      out.push_back({{"verified", false}, {"message", made.error().text()}});
      continue;
    }
    now[key] = made->id;
    out.push_back(breakpoint_json(*made));
  }
  for (const auto& [key, id] : known) (void)session().remove(id).has_value();
  known = std::move(now);
  told_.clear();
  for (const Breakpoint& p : session().breakpoints()) told_[p.id] = breakpoint_json(p).dump();
  return {{"breakpoints", out}};
}

/// Those that commands have made, changed or removed.
void Adapter::tell_breakpoints() {
  std::map<unsigned, std::string> now;
  for (const Breakpoint& p : session().breakpoints()) {
    const Json body = breakpoint_json(p);
    now[p.id] = body.dump(-1, ' ', false, Json::error_handler_t::replace);
    const auto before = told_.find(p.id);
    if (before == told_.end())
      event("breakpoint", {{"reason", "new"}, {"breakpoint", body}});
    else if (before->second != now[p.id])
      event("breakpoint", {{"reason", "changed"}, {"breakpoint", body}});
  }
  for (const auto& [id, text] : told_)
    if (now.count(id) == 0)
      event("breakpoint",
            {{"reason", "removed"}, {"breakpoint", {{"id", id}, {"verified", false}}}});
  told_ = std::move(now);
}

Json Adapter::set_breakpoints(const Json& a) {
  const Json& source = a.at("source");
  const auto file = file_of(source);
  std::vector<std::pair<std::string, BreakpointSpec>> wanted;
  for (const Json& one : a.value("breakpoints", Json::array())) {
    if (!file) {
      wanted.emplace_back("the program has no such source", BreakpointSpec{});
      continue;
    }
    // A line without code means the next one that has some.
    const SourceFile& in = session().program().files()[*file];
    auto line = static_cast<unsigned>(whole(one, "line", 0, INT32_MAX)) + (lines_from_1_ ? 0 : 1);
    const auto next = std::lower_bound(in.lines_with_code.begin(), in.lines_with_code.end(), line);
    if (next != in.lines_with_code.end()) line = *next;
    try {
      BreakpointSpec spec = spec_of(one);
      spec.place = fmt::format("{}:{}", in.path, line);
      // The line itself, unless it is one of its further statements.
      const auto columns = columns_of(*file, line);
      const auto column =
          static_cast<unsigned>(whole(one, "column", 0, INT32_MAX, 0)) + (columns_from_1_ ? 0 : 1);
      const auto at = columns.lower_bound(column);
      if (one.contains("column") && at != columns.end() && at != columns.begin())
        spec.place += fmt::format(":{}", *at);
      wanted.emplace_back("", std::move(spec));
    } catch (const Refusal& refusal) {
      wanted.emplace_back(refusal.why, BreakpointSpec{});
    }
  }
  const std::string name =
      file ? session().program().files()[*file].path : source.value("path", std::string());
  return set("source " + name, wanted);
}

Json Adapter::set_function_breakpoints(const Json& a) {
  std::vector<std::pair<std::string, BreakpointSpec>> wanted;
  for (const Json& one : a.at("breakpoints")) {
    BreakpointSpec spec = spec_of(one);
    spec.place = one.at("name").get<std::string>();
    wanted.emplace_back("", std::move(spec));
  }
  return set("functions", wanted);
}

Json Adapter::set_instruction_breakpoints(const Json& a) {
  std::vector<std::pair<std::string, BreakpointSpec>> wanted;
  for (const Json& one : a.at("breakpoints")) {
    BreakpointSpec spec = spec_of(one);
    const Address at = address_of(one.at("instructionReference").get<std::string>(),
                                  whole(one, "offset", INT32_MIN, INT32_MAX, 0));
    spec.place = fmt::format("{:#x}", at.offset);
    wanted.emplace_back(at.space == Space::kCode ? "" : "there are no instructions there",
                        std::move(spec));
  }
  return set("instructions", wanted);
}

Json Adapter::data_breakpoint_info(const Json& a) {
  const auto name = a.at("name").get<std::string>();
  std::string object = name;
  if (const auto holder =
          holders_.find(static_cast<int>(whole(a, "variablesReference", 0, INT32_MAX, 0)));
      holder != holders_.end()) {
    only_own(holder->second.thread);
    select(holder->second.level);
    for (const Json& v : held(holder->second, 0, UINT64_MAX, false))
      if (v.value("name", std::string()) == name) object = v.value("evaluateName", std::string());
  } else if (a.contains("frameId")) {
    only_own(thread_of_frame(a));
    select(level_of_frame(a));
  }
  const auto value = session().evaluate(object);
  if (!value) return {{"dataId", nullptr}, {"description", value.error().text()}};
  if (object.empty() || (!value->address && object.rfind("chip.", 0) != 0))
    return {{"dataId", nullptr}, {"description", name + " has no place that can be watched"}};
  return {{"dataId", object},
          {"description", object},
          {"accessTypes", {"read", "write", "readWrite"}},
          {"canPersist", value->address.has_value()}};
}

Json Adapter::set_data_breakpoints(const Json& a) {
  std::vector<std::pair<std::string, BreakpointSpec>> wanted;
  std::vector<std::size_t> shown;  // one answer for each that is asked for
  for (const Json& one : a.at("breakpoints")) {
    BreakpointSpec spec = spec_of(one);
    spec.place = one.at("dataId").get<std::string>();
    const auto access = one.value("accessType", std::string("write"));
    shown.push_back(wanted.size());
    if (access != "write") {
      spec.kind = BreakpointSpec::Kind::kRead;
      wanted.emplace_back("", spec);
    }
    if (access != "read") {
      spec.kind = BreakpointSpec::Kind::kWrite;
      wanted.emplace_back("", spec);
    }
  }
  const Json all = set("data", wanted);
  Json out = Json::array();
  for (const std::size_t i : shown) out.push_back(all["breakpoints"][i]);
  return {{"breakpoints", out}};
}

Json Adapter::set_exception_breakpoints(const Json& a) {
  const auto filters = a.at("filters").get<std::vector<std::string>>();
  const auto faults = session().faults();
  Json out = Json::array();
  for (const std::string& filter : filters) {
    const bool known = std::any_of(faults.begin(), faults.end(),
                                   [&](const Session::Fault& f) { return f.name == filter; });
    out.push_back({{"verified", known}});
    if (!known) out.back()["message"] = "there is no fault '" + filter + "'";
  }
  for (const Session::Fault& fault : faults)
    required(session().set_fault(
        fault.name, std::find(filters.begin(), filters.end(), fault.name) != filters.end()));
  return {{"breakpoints", out}};
}

std::set<unsigned> Adapter::columns_of(unsigned file, unsigned line) const {
  std::set<unsigned> out;
  for (const auto& [column, address] : session().program().columns_of(file, line))
    out.insert(column);
  return out;
}

Json Adapter::breakpoint_locations(const Json& a) {
  const auto file = file_of(a.at("source"));
  Json out = Json::array();
  if (!file) return {{"breakpoints", out}};
  const unsigned base = lines_from_1_ ? 0 : 1;
  const auto first = static_cast<unsigned>(whole(a, "line", 0, INT32_MAX)) + base;
  const auto last = static_cast<unsigned>(whole(a, "endLine", 0, INT32_MAX, first - base)) + base;
  for (const unsigned line : session().program().files()[*file].lines_with_code)
    if (line >= first && line <= last) {
      const auto columns = columns_of(*file, line);
      if (columns.size() < 2) out.push_back({{"line", line - base}});
      for (const unsigned column : columns.size() < 2 ? std::set<unsigned>{} : columns)
        out.push_back({{"line", line - base}, {"column", column - (columns_from_1_ ? 0 : 1)}});
    }
  return {{"breakpoints", out}};
}

Json Adapter::exception_info(const Json& /*a*/) {
  const Pause& pause = session().pause();
  if (pause.cause != Pause::Cause::kFault) throw Refusal("the program has not misbehaved here");
  return {{"exceptionId", "fault"}, {"description", pause.detail}, {"breakMode", "always"}};
}

}  // namespace lucid::app
