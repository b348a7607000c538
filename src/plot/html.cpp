// SPDX-License-Identifier: MIT
#include "plot/html.h"

namespace lucid::page {

std::string for_html(std::string_view text) {
  std::string out;
  for (const char c : text) {
    switch (c) {
      case '<': out += "&lt;"; break;
      case '>': out += "&gt;"; break;
      case '&': out += "&amp;"; break;
      case '"': out += "&quot;"; break;
      default: out += c;
    }
  }
  return out;
}

std::string for_script(const nlohmann::ordered_json& data) {
  std::string out = data.dump(-1, ' ', true, nlohmann::ordered_json::error_handler_t::replace);
  for (std::size_t at = 0; (at = out.find('<', at)) != std::string::npos;)
    out.replace(at, 1, "\\u003c");
  return out;
}

std::string filled(std::string_view page,
                   const std::vector<std::pair<std::string_view, std::string>>& with) {
  std::string out;
  while (!page.empty()) {
    std::size_t first = page.size(), length = 0;
    const std::string* text = nullptr;
    for (const auto& [mark, its_text] : with)
      if (const std::size_t at = page.find(mark); at < first) {
        first = at;
        length = mark.size();
        text = &its_text;
      }
    out += page.substr(0, first);
    if (text != nullptr) out += *text;
    page.remove_prefix(first + length);
  }
  return out;
}

}  // namespace lucid::page
