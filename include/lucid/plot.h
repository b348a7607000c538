// SPDX-License-Identifier: MIT
// Plot: signals as a picture, PNG or SVG. Of CMake target LucidLoop::plot, which draws with cairo.
#ifndef LUCID_PLOT_H
#define LUCID_PLOT_H

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "lucid/signal.h"

namespace lucid {

struct ProfileView;

struct PlotOptions {
  std::string title = {};
  std::string detail = {};  ///< at the right end of the title's line
  Picoseconds from, to;     ///< what is shown. REQUIRES: from < to
  unsigned width = 1280;    ///< 320 to 16384
  unsigned height = 0;      ///< the same; 0: what the lanes need, 800 at most
  bool dark = false;
  /// Lines through all lanes, each with a short text: pauses, breakpoints.
  struct Line {
    Picoseconds at;
    std::string text;
  };
  std::vector<Line> lines = {};
  /// Two moments, and the time between them.
  std::optional<std::pair<Picoseconds, Picoseconds>> cursors = {};
};

enum class PictureKind : std::uint8_t { kPng, kSvg };

/// The bytes of a picture: a lane for each signal, the first on top. Levels are steps, numbers
/// curves, what has names or is written in hexadecimal or binary boxes, moments strokes; where
/// there is more than can be drawn, an area from least to most. Errors: kOutOfRange for a size;
/// kUsage for an empty stretch of time or without signals; kIo.
[[nodiscard]] LUCID_API Result<std::string> plot(const std::vector<Signal>& signals,
                                                 PictureKind kind, const PlotOptions& options);

/// The same as one page of HTML that needs no network: it can be moved and zoomed in, cursors
/// measure, lanes can be hidden, moved and renamed; its address leads to what is seen. All that the
/// signals have is in it, `from` and `to` are where it begins. Errors: kUsage, as plot().
[[nodiscard]] LUCID_API Result<std::string> plot_page(const std::vector<Signal>& signals,
                                                      const PlotOptions& options);

/// Where the cycles of a run went, as such a page: the tree of calls with their bars; of each
/// function who calls it, what it calls, and its lines. Error: kUsage for a profile without calls
/// (Session::survey()).
[[nodiscard]] LUCID_API Result<std::string> profile_page(const ProfileView& profile,
                                                         const std::string& title,
                                                         const std::string& detail);

}  // namespace lucid

#endif  // LUCID_PLOT_H
