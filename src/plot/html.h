// SPDX-License-Identifier: MIT
// Pages of HTML, made of the files of src/plot/page and of data.
#ifndef LUCID_PLOT_HTML_H
#define LUCID_PLOT_HTML_H

#include <nlohmann/json.hpp>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace lucid::page {

/// As text between elements, or within quotes.
[[nodiscard]] std::string for_html(std::string_view text);
/// As the content of a script element, where nothing may look like its end.
[[nodiscard]] std::string for_script(const nlohmann::ordered_json& data);
/// A page with each of its marks, such as `@TITLE@`, replaced.
[[nodiscard]] std::string filled(std::string_view page,
                                 const std::vector<std::pair<std::string_view, std::string>>& with);

}  // namespace lucid::page

#endif  // LUCID_PLOT_HTML_H
