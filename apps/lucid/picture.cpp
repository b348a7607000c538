// SPDX-License-Identifier: MIT
#include "picture.h"

#include <fmt/format.h>

#include <algorithm>

#include "output.h"

namespace lucid::app {

std::pair<Picoseconds, Picoseconds> extent(const std::vector<Signal>& signals) {
  Picoseconds from{UINT64_MAX}, to;
  for (const Signal& signal : signals) {
    from.count = std::min(from.count, signal.time(signal.begin()).count);
    to.count = std::max(to.count, signal.time(signal.end()).count);
  }
  return {from, to};
}

std::vector<std::string> names_in(const std::string& list) {
  std::vector<std::string> out;
  for (std::size_t at = 0; at <= list.size();) {
    const std::size_t comma = std::min(list.find(',', at), list.size());
    const std::string name = list.substr(at, comma - at);
    const std::size_t begin = name.find_first_not_of(' ');
    out.push_back(begin == std::string::npos
                      ? std::string()
                      : name.substr(begin, name.find_last_not_of(' ') + 1 - begin));
    at = comma + 1;
  }
  return out;
}

Result<void> check_extent(const std::vector<Signal>& signals, const PlotOptions& options) {
  const auto all = extent(signals);
  if (options.from.count >= options.to.count)
    return fail(ErrorCode::kUsage, "there is no time between these moments",
                "run on, or name others: plot from 1 s to 2 s");
  if (options.from.count >= all.second.count || options.to.count <= all.first.count)
    return fail(ErrorCode::kOutOfRange, "nothing is recorded there",
                fmt::format("it is from {} to {}", to_text(all.first), to_text(all.second)));
  return {};
}

Result<void> draw_into(const std::string& path, const std::vector<Signal>& signals,
                       const PlotOptions& options) {
  const auto ends = [&](std::string_view with) {
    return path.size() > with.size() &&
           path.compare(path.size() - with.size(), with.size(), with) == 0;
  };
  if (!ends(".png") && !ends(".svg") && !ends(".html"))
    return fail(ErrorCode::kUsage, fmt::format("'{}' is neither .png, .svg nor .html", path));
  const auto picture =
      ends(".html") ? plot_page(signals, options)
                    : plot(signals, ends(".png") ? PictureKind::kPng : PictureKind::kSvg, options);
  if (!picture) return fail(picture.error());
  return write_file(path, *picture);
}

}  // namespace lucid::app
