// SPDX-License-Identifier: MIT
// Signals drawn into a file, or as text: for the command `plot` and for `lucid plot`.
#ifndef LUCID_APP_PICTURE_H
#define LUCID_APP_PICTURE_H

#include <string>
#include <vector>

#include "lucid/plot.h"

namespace lucid::app {

/// What there is of signals, from the first to the last.
std::pair<Picoseconds, Picoseconds> extent(const std::vector<Signal>& signals);
/// Names between commas.
std::vector<std::string> names_in(const std::string& list);
/// Error: kOutOfRange, kUsage for a stretch of time in which there is nothing.
Result<void> check_extent(const std::vector<Signal>& signals, const PlotOptions& options);
/// A .png, .svg or .html. Errors: kUsage, kIo.
Result<void> draw_into(const std::string& path, const std::vector<Signal>& signals,
                       const PlotOptions& options);

}  // namespace lucid::app

#endif  // LUCID_APP_PICTURE_H
