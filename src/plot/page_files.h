// SPDX-License-Identifier: MIT
// The files of src/plot/page, as they are.
#ifndef LUCID_PLOT_PAGE_FILES_H
#define LUCID_PLOT_PAGE_FILES_H

#include <string_view>

namespace lucid::page {

extern const std::string_view page_html, page_css, waves_js, page_js, profile_html, profile_css,
    profile_js;

}  // namespace lucid::page

#endif  // LUCID_PLOT_PAGE_FILES_H
