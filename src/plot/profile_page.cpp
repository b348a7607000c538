// SPDX-License-Identifier: MIT
// Where the cycles of a run went, as one page of HTML. profile.js says how the data are written.
#include "lucid/plot.h"
#include "lucid/survey.h"
#include "plot/html.h"
#include "plot/page_files.h"

namespace lucid {

Result<std::string> profile_page(const ProfileView& profile, const std::string& title,
                                 const std::string& detail) {
  using Json = nlohmann::ordered_json;
  if (profile.calls.empty())
    return fail(ErrorCode::kUsage, "who calls whom has not been told",
                "`survey with calls` does that from here on");
  Json data{{"cycles", profile.cycles},     {"asleep", profile.asleep},
            {"entering", profile.entering}, {"unknown", profile.unknown},
            {"functions", Json::array()},   {"calls", Json::array()},
            {"lines", Json::array()}};
  for (const ProfileView::Function& f : profile.functions) {
    Json row{{"name", f.name}, {"calls", f.calls}, {"cycles", f.self}};
    if (!f.inlined_in.empty()) row["inlined_in"] = f.inlined_in;
    if (f.where.line != 0) {
      row["file"] = f.where.file;
      row["line"] = f.where.line;
    }
    data["functions"].push_back(std::move(row));
  }
  for (const ProfileView::Call& c : profile.calls) {
    Json row{{"function", c.function}, {"calls", c.calls}, {"cycles", c.cycles}, {"self", c.self}};
    if (c.caller) row["caller"] = *c.caller;
    if (c.handler) row["handler"] = true;
    data["calls"].push_back(std::move(row));
  }
  for (const ProfileView::Line& l : profile.lines)
    data["lines"].push_back({{"file", l.where.file},
                             {"line", l.where.line},
                             {"function", l.where.function},
                             {"passes", l.passes},
                             {"cycles", l.cycles}});
  return page::filled(page::profile_html,
                      {{"@TITLE@", page::for_html(title)},
                       {"@DETAIL@", page::for_html(detail)},
                       {"@CSS@", std::string(page::page_css) + std::string(page::profile_css)},
                       {"@DATA@", page::for_script(data)},
                       {"@PROFILE@", std::string(page::profile_js)}});
}

}  // namespace lucid
