// SPDX-License-Identifier: MIT
// Signals as a picture. One column of pixels is one column of the signal: however much there is, it
// is looked at as often as the picture is wide.
#include "lucid/plot.h"

#include <cairo-svg.h>
#include <cairo.h>
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <memory>

#include "lucid/drawing.h"

namespace lucid {
namespace {

struct Colour {
  double r, g, b;
};
constexpr Colour hex(unsigned rgb) {
  return {(rgb >> 16 & 0xffU) / 255.0, (rgb >> 8 & 0xffU) / 255.0, (rgb & 0xffU) / 255.0};
}

struct Theme {
  Colour ground, text, muted, grid, edge, unknown;
  Colour lanes[6];  ///< told apart by colour-blind readers, too
};
constexpr Theme kLight{
    hex(0xffffff),
    hex(0x1f2328),
    hex(0x6a7079),
    hex(0xe9ebee),
    hex(0xc9cdd2),
    hex(0x9aa0a8),
    {hex(0x0072b2), hex(0xc85200), hex(0x00805d), hex(0xa6467c), hex(0x9a6a00), hex(0x3b5ba5)}};
constexpr Theme kDark{
    hex(0x14171c),
    hex(0xdfe3e8),
    hex(0x979ea8),
    hex(0x262b32),
    hex(0x3d444d),
    hex(0x6b727c),
    {hex(0x63b9ee), hex(0xf08a4b), hex(0x45c9a0), hex(0xdc8fb8), hex(0xe3b341), hex(0x9fb4ff)}};

struct Lane {
  const Signal& signal;
  LaneKind kind;
  double top = 0, height = 0;
  Colour colour{};
};

class Picture {
 public:
  Picture(cairo_t* cr, const std::vector<Signal>& signals, const PlotOptions& options)
      : cr_(cr), options_(options), theme_(options.dark ? kDark : kLight) {
    for (const Signal& signal : signals)
      lanes_.push_back(
          {signal, lane_kind(signal), 0, 0, theme_.lanes[lanes_.size() % std::size(theme_.lanes)]});
  }

  /// False: there is no room.
  bool arrange() {
    width_ = options_.width;
    height_ = options_.height != 0 ? options_.height : kUsualHeight;
    double names = 60;
    bool curves = false;
    for (const Lane& lane : lanes_) {
      names = std::max(names, text_width(lane.signal.name(), kText, true));
      curves = curves || lane.kind == LaneKind::kCurve;
    }
    names = std::min(names, width_ * 0.3);
    name_width_ = names;
    left_ = kMargin + names + 14 + (curves ? 46 : 0);
    right_ = width_ - kMargin;
    top_ = options_.title.empty() ? 30 : 52;
    const double bottom = height_ - 40;
    const auto count = static_cast<double>(lanes_.size());
    const auto curved = static_cast<double>(std::count_if(
        lanes_.begin(), lanes_.end(), [](const Lane& l) { return l.kind == LaneKind::kCurve; }));
    const double room = bottom - top_;
    const double unit = std::min(52.0, room / (count + 2 * curved));
    if (unit < 12) return false;
    const double curve =
        curved == 0 ? 0 : std::min(280.0, (room - unit * (count - curved)) / curved);
    double y = top_;
    for (Lane& lane : lanes_) {
      lane.top = y;
      lane.height = lane.kind == LaneKind::kCurve ? curve : unit;
      y += lane.height;
    }
    bottom_ = y;
    if (options_.height == 0) height_ = std::max(kLeastHeight, std::ceil(bottom_) + 40);
    return true;
  }

  [[nodiscard]] unsigned height() const { return static_cast<unsigned>(height_); }
  void draw_on(cairo_t* cr) {
    cr_ = cr;
    draw();
  }

 private:
  void draw() {
    set(theme_.ground);
    cairo_paint(cr_);
    head();
    axis();
    for (const Lane& lane : lanes_) {
      name(lane);
      cairo_save(cr_);
      cairo_rectangle(cr_, left_, lane.top, right_ - left_, lane.height);
      cairo_clip(cr_);
      const auto columns = lane.signal.columns(
          tick_of(lane, options_.from),
          std::max(tick_of(lane, options_.to), tick_of(lane, options_.from) + 1), column_count());
      switch (lane.kind) {
        case LaneKind::kLevel: level(lane, columns); break;
        case LaneKind::kBoxes: boxes(lane, columns); break;
        case LaneKind::kMoments: moments(lane, columns); break;
        case LaneKind::kCurve: curve(lane, columns); break;
      }
      cairo_restore(cr_);
    }
    lines();
    cursors();
  }

  using Columns = std::vector<Signal::Column>;
  static constexpr double kMargin = 20, kText = 12.5, kSmall = 11;
  static constexpr double kUsualHeight = 800, kLeastHeight = 120;

  void set(const Colour& c, double alpha = 1) const {
    cairo_set_source_rgba(cr_, c.r, c.g, c.b, alpha);
  }
  void font(double size, bool bold) const {
    cairo_select_font_face(cr_, "DejaVu Sans", CAIRO_FONT_SLANT_NORMAL,
                           bold ? CAIRO_FONT_WEIGHT_BOLD : CAIRO_FONT_WEIGHT_NORMAL);
    cairo_set_font_size(cr_, size);
  }
  double text_width(const std::string& text, double size, bool bold = false) const {
    font(size, bold);
    cairo_text_extents_t extents;
    cairo_text_extents(cr_, text.c_str(), &extents);
    return extents.x_advance;
  }
  enum class Align : std::uint8_t { kLeft, kMiddle, kRight };
  void text(double x, double y, const std::string& text, double size, Align align = Align::kLeft,
            bool bold = false) const {
    const double width = text_width(text, size, bold);
    const double shift = align == Align::kLeft ? 0 : align == Align::kMiddle ? width / 2 : width;
    cairo_move_to(cr_, std::round(x - shift), std::round(y));
    cairo_show_text(cr_, text.c_str());
  }
  /// Its beginning, with a mark where it is cut.
  std::string fitted(const std::string& text, double width, double size, bool bold = false) const {
    if (text_width(text, size, bold) <= width) return text;
    std::string out = text;
    while (!out.empty() && text_width(out + "…", size, bold) > width) {
      do out.pop_back();
      while (!out.empty() && (static_cast<unsigned char>(out.back()) & 0xc0U) == 0x80U);
      if (!out.empty() && (static_cast<unsigned char>(out.back()) & 0x80U) != 0) out.pop_back();
    }
    return out + "…";
  }
  void line(double x0, double y0, double x1, double y1) const {
    cairo_move_to(cr_, x0, y0);
    cairo_line_to(cr_, x1, y1);
    cairo_stroke(cr_);
  }
  [[nodiscard]] unsigned column_count() const {
    return static_cast<unsigned>(std::max(1.0, std::floor(right_ - left_)));
  }
  static std::uint64_t tick_of(const Lane& lane, Picoseconds time) {
    return to_ticks(time, lane.signal.hz());
  }
  [[nodiscard]] double x_of(Picoseconds time) const {
    const auto span = static_cast<double>(options_.to.count - options_.from.count);
    const double at = time.count >= options_.from.count
                          ? static_cast<double>(time.count - options_.from.count)
                          : -static_cast<double>(options_.from.count - time.count);
    return left_ + at / span * (right_ - left_);
  }

  void head() const {
    if (options_.title.empty()) return;
    set(theme_.text);
    text(kMargin, 26, fitted(options_.title, width_ * 0.6, 15, true), 15, Align::kLeft, true);
    set(theme_.muted);
    text(right_, 26, options_.detail, kSmall, Align::kRight);
  }

  void axis() const {
    const double room = text_width("0.000000 ms", kSmall) + 26;
    const auto most = static_cast<unsigned>(std::max(2.0, (right_ - left_) / room));
    cairo_set_line_width(cr_, 1);
    for (const TimeTick& tick : time_ticks(options_.from, options_.to, most)) {
      const double x = std::floor(x_of(tick.at)) + 0.5;
      set(theme_.grid);
      line(x, top_, x, bottom_);
      set(theme_.edge);
      line(x, bottom_, x, bottom_ + 5);
      set(theme_.muted);
      const double half = text_width(tick.text, kSmall) / 2;
      text(std::clamp(x, left_ + half - 20, width_ - half - 4), bottom_ + 19, tick.text, kSmall,
           Align::kMiddle);
    }
    set(theme_.edge);
    line(left_, bottom_ + 0.5, right_, bottom_ + 0.5);
  }

  void name(const Lane& lane) const {
    set(theme_.grid);
    cairo_set_line_width(cr_, 1);
    line(kMargin, std::floor(lane.top) + 0.5, right_, std::floor(lane.top) + 0.5);
    set(lane.colour);
    const double middle = lane.top + lane.height / 2;
    const std::string& unit = lane.signal.facts().unit;
    const bool two = !unit.empty() && lane.height > 34;
    const std::string called = fitted(lane.signal.name(), name_width_, kText, true);
    text(kMargin, middle + (two ? -2 : 4.5), called, kText, Align::kLeft, true);
    if (!two) return;
    set(theme_.muted);
    text(kMargin, middle + 13, unit, kSmall);
  }

  void unknown(const Lane& lane, double x0, double x1) const {
    const double pad = lane.height * 0.24;
    set(theme_.unknown, 0.22);
    cairo_rectangle(cr_, x0, lane.top + pad, x1 - x0, lane.height - 2 * pad);
    cairo_fill(cr_);
  }
  /// Runs of columns that are not known at all. What is there now and then only is missing nowhere.
  void all_unknown(const Lane& lane, const Columns& columns) const {
    if (lane.signal.facts().fleeting) return;
    for (std::size_t i = 0; i < columns.size();) {
      std::size_t end = i;
      while (end < columns.size() && !columns[end].known && columns[end].unknown) ++end;
      if (end > i) unknown(lane, left_ + static_cast<double>(i), left_ + static_cast<double>(end));
      i = end + 1;
    }
  }

  void level(const Lane& lane, const Columns& columns) const {
    all_unknown(lane, columns);
    const double pad = std::max(3.0, lane.height * 0.24);
    const double high = std::round(lane.top + pad) + 0.5;
    const double low = std::round(lane.top + lane.height - pad) + 0.5;
    // What is high is filled, too.
    set(lane.colour, 0.13);
    for (std::size_t i = 0; i < columns.size(); ++i)
      if (columns[i].known && columns[i].most > 0) {
        cairo_rectangle(cr_, left_ + static_cast<double>(i), high, 1, low - high);
        cairo_fill(cr_);
      }
    set(lane.colour);
    cairo_set_line_width(cr_, 1.4);
    cairo_set_line_join(cr_, CAIRO_LINE_JOIN_MITER);
    bool open = false;
    const auto y_of = [&](const Sample& s) { return s.value != 0 ? high : low; };
    for (std::size_t i = 0; i < columns.size(); ++i) {
      const double x = left_ + static_cast<double>(i);
      const Signal::Column& c = columns[i];
      if (!c.known) {
        if (c.first.state == Sample::State::kFloating) floating(lane, x);
        if (open) cairo_stroke(cr_);
        open = false;
        continue;
      }
      const double from = c.first.known() ? y_of(c.first) : y_of(c.last);
      if (!open)
        cairo_move_to(cr_, x, from);
      else
        cairo_line_to(cr_, x, from);
      open = true;
      if (c.changes > 1 || (c.changes == 1 && c.least != c.most)) {
        cairo_line_to(cr_, x + 0.5, from);
        if (c.changes > 1) {
          cairo_line_to(cr_, x + 0.5, high);
          cairo_line_to(cr_, x + 0.5, low);
        }
        if (c.last.known()) cairo_line_to(cr_, x + 0.5, y_of(c.last));
      }
      if (c.last.known()) cairo_line_to(cr_, x + 1, y_of(c.last));
    }
    if (open) cairo_stroke(cr_);
  }

  void floating(const Lane& lane, double x) const {
    if (std::fmod(x, 6) > 3) return;
    set(theme_.unknown);
    cairo_rectangle(cr_, x, std::round(lane.top + lane.height / 2), 1, 1);
    cairo_fill(cr_);
    set(lane.colour);
  }

  void box(const Lane& lane, double x0, double x1, const std::string& what) const {
    const double pad = std::max(2.5, lane.height * 0.2);
    const double top = lane.top + pad, bottom = lane.top + lane.height - pad;
    const double slope = std::min(3.0, (x1 - x0) / 3);
    const double middle = (top + bottom) / 2;
    cairo_move_to(cr_, x0, middle);
    cairo_line_to(cr_, x0 + slope, top);
    cairo_line_to(cr_, x1 - slope, top);
    cairo_line_to(cr_, x1, middle);
    cairo_line_to(cr_, x1 - slope, bottom);
    cairo_line_to(cr_, x0 + slope, bottom);
    cairo_close_path(cr_);
    set(lane.colour, 0.13);
    cairo_fill_preserve(cr_);
    set(lane.colour);
    cairo_set_line_width(cr_, 1.2);
    cairo_stroke(cr_);
    const double size = std::min(kSmall, (bottom - top) * 0.75);
    const double room = x1 - x0 - 2 * slope - 4;
    if (size < 7 || text_width(what, size) > room) return;
    set(theme_.text);
    text((x0 + x1) / 2, middle + size * 0.36, what, size, Align::kMiddle);
  }

  void boxes(const Lane& lane, const Columns& columns) const {
    all_unknown(lane, columns);
    const double pad = std::max(2.5, lane.height * 0.2);
    for (std::size_t i = 0; i < columns.size();) {
      const Signal::Column& c = columns[i];
      std::size_t end = i + 1;
      if (c.changes == 0) {
        while (end < columns.size() && columns[end].changes == 0 &&
               columns[end].first.same_as(c.first))
          ++end;
        const std::string what = box_text(lane.signal, c.first);
        const double x0 = left_ + static_cast<double>(i), x1 = left_ + static_cast<double>(end);
        if (!what.empty() && end - i > 2) {
          box(lane, x0, x1, what);
        } else if (!what.empty()) {
          bar(lane, x0, x1, pad, 0.85);
        }
      } else {
        // Something that is none of the empty values is in it.
        Sample most = c.last;
        const bool any = !box_text(lane.signal, c.first).empty() ||
                         !box_text(lane.signal, most).empty() || c.changes > 1;
        const double x = left_ + static_cast<double>(i);
        if (any) bar(lane, x, x + 1, pad, c.changes > 4 ? 0.5 : 0.85);
      }
      i = end;
    }
  }

  void bar(const Lane& lane, double x0, double x1, double pad, double alpha) const {
    set(lane.colour, alpha);
    cairo_rectangle(cr_, x0, lane.top + pad, x1 - x0, lane.height - 2 * pad);
    cairo_fill(cr_);
  }

  void moments(const Lane& lane, const Columns& columns) const {
    const double pad = std::max(3.0, lane.height * 0.2);
    const double size = std::min(kSmall, (lane.height - 2 * pad) * 0.75);
    double free_from = 0;
    for (std::size_t i = 0; i < columns.size(); ++i) {
      if (columns[i].changes == 0) continue;
      const double x = left_ + static_cast<double>(i);
      set(lane.colour);
      cairo_rectangle(cr_, x, lane.top + pad, 1.4, lane.height - 2 * pad);
      cairo_fill(cr_);
      std::size_t next = i + 1;
      while (next < columns.size() && columns[next].changes == 0) ++next;
      const std::string what = lane.signal.text(columns[i].last);
      const double room = static_cast<double>(next - i) - 6;
      if (columns[i].changes != 1 || size < 7 || x < free_from || text_width(what, size) > room)
        continue;
      set(theme_.text);
      text(x + 4, lane.top + lane.height / 2 + size * 0.36, what, size);
      free_from = x + 4 + text_width(what, size);
    }
  }

  void curve(const Lane& lane, const Columns& columns) const {
    all_unknown(lane, columns);
    const auto values = extremes(columns);
    if (!values) return;
    const auto [least, most] = *values;
    const auto scale = round_numbers(least, most, lane.height > 120 ? 4 : 3);
    const double pad = std::max(6.0, lane.height * 0.1);
    const double low = lane.top + lane.height - pad, high = lane.top + pad;
    const double from = scale.front(), to = scale.back();
    const auto y_of = [&](double value) {
      return low - (value - from) / (to - from) * (low - high);
    };
    cairo_set_line_width(cr_, 1);
    cairo_reset_clip(cr_);
    for (const double value : scale) {
      const double y = std::round(y_of(value)) + 0.5;
      set(theme_.grid);
      line(left_, y, right_, y);
      set(theme_.muted);
      text(left_ - 8, y + 4, fmt::format("{:.6g}", value), kSmall - 0.5, Align::kRight);
    }
    cairo_rectangle(cr_, left_, lane.top, right_ - left_, lane.height);
    cairo_clip(cr_);
    const auto first_of = [&](const Signal::Column& c) {
      return y_of(c.first.known() ? lane.signal.number(c.first) : c.least);
    };
    const auto last_of = [&](const Signal::Column& c) {
      return y_of(c.last.known() ? lane.signal.number(c.last) : c.most);
    };
    if (lane.signal.facts().fleeting)
      for (std::size_t i = 0, end = 0; i < columns.size(); i = end + 1) {
        end = i;
        while (end < columns.size() && columns[end].known) ++end;
        if (end > i) island(lane, columns, i, end, first_of(columns[i]), last_of(columns[end - 1]));
      }
    set(lane.colour);
    cairo_set_line_width(cr_, 1.6);
    cairo_set_line_join(cr_, CAIRO_LINE_JOIN_ROUND);
    bool open = false;
    for (std::size_t i = 0; i < columns.size(); ++i) {
      const double x = left_ + static_cast<double>(i);
      const Signal::Column& c = columns[i];
      if (!c.known) {
        if (open) cairo_stroke(cr_);
        open = false;
        continue;
      }
      const double first = first_of(c), last = last_of(c);
      if (!open)
        cairo_move_to(cr_, x, first);
      else
        cairo_line_to(cr_, x, first);
      open = true;
      if (c.changes > 1) {
        cairo_line_to(cr_, x + 0.5, y_of(c.least));
        cairo_line_to(cr_, x + 0.5, y_of(c.most));
      }
      cairo_line_to(cr_, x + 0.5, last);
      cairo_line_to(cr_, x + 1, last);
    }
    if (open) cairo_stroke(cr_);
  }

  /// Columns `[begin, end)` of a value that is there now and then: a dot if they are few, and a
  /// thin line on to the next, at the last value that there was.
  void island(const Lane& lane, const Columns& columns, std::size_t begin, std::size_t end,
              double first, double last) const {
    const auto x_at = [&](std::size_t i) { return left_ + static_cast<double>(i); };
    std::size_t next = end;
    while (next < columns.size() && !columns[next].known) ++next;
    set(lane.colour, 0.35);
    cairo_set_line_width(cr_, 1);
    line(x_at(end), last, x_at(next), last);
    constexpr std::size_t kFew = 4;
    if (end - begin > kFew) return;
    set(lane.colour);
    for (const double y : {first, last}) {
      cairo_arc(cr_, (x_at(begin) + x_at(end)) / 2, y, 2.2, 0, 2 * M_PI);
      cairo_fill(cr_);
    }
  }

  void lines() const {
    const double dashes[] = {3, 3};
    double free_from = left_;
    for (const PlotOptions::Line& mark : options_.lines) {
      const double x = std::floor(x_of(mark.at)) + 0.5;
      if (x < left_ || x > right_ + 1) continue;
      cairo_set_dash(cr_, dashes, 2, 0);
      cairo_set_line_width(cr_, 1);
      set(theme_.muted, 0.8);
      line(x, top_ - 4, x, bottom_);
      cairo_set_dash(cr_, nullptr, 0, 0);
      const double width = text_width(mark.text, kSmall - 1);
      const double middle = std::clamp(x, left_ + width / 2, right_ - width / 2);
      if (middle - width / 2 < free_from) continue;
      set(theme_.muted);
      text(middle, top_ - 8, mark.text, kSmall - 1, Align::kMiddle);
      free_from = middle + width / 2 + 6;
    }
  }

  void cursors() const {
    if (!options_.cursors) return;
    const auto [a, b] = *options_.cursors;
    cairo_set_line_width(cr_, 1);
    const double xa = std::floor(x_of(a)) + 0.5, xb = std::floor(x_of(b)) + 0.5;
    set(theme_.text, 0.06);
    cairo_rectangle(cr_, std::min(xa, xb), top_, std::abs(xb - xa), bottom_ - top_);
    cairo_fill(cr_);
    set(theme_.text);
    for (const double x : {xa, xb}) line(x, top_ - 4, x, bottom_ + 5);
    const std::uint64_t span = b.count > a.count ? b.count - a.count : a.count - b.count;
    std::string what = short_time({span});
    if (span != 0) what += fmt::format(" · {:.5g} Hz", 1e12 / static_cast<double>(span));
    const double width = text_width(what, kSmall, true);
    const double middle = std::clamp((xa + xb) / 2, left_ + width / 2, right_ - width / 2);
    set(theme_.ground);
    cairo_rectangle(cr_, middle - width / 2 - 4, bottom_ + 24, width + 8, 15);
    cairo_fill(cr_);
    set(theme_.text);
    text(middle, bottom_ + 34, what, kSmall, Align::kMiddle, true);
    for (const auto& [x, time, other] : {std::tuple{xa, a, xb}, std::tuple{xb, b, xa}}) {
      const std::string at = to_text(time);
      const bool before = x < other;
      const double wide = text_width(at, kSmall - 1);
      const bool beside = std::abs(xb - xa) < width + 2 * wide;
      if (!beside) text(x, bottom_ + 34, at, kSmall - 1, before ? Align::kLeft : Align::kRight);
    }
  }

  cairo_t* cr_;
  const PlotOptions& options_;
  const Theme& theme_;
  std::vector<Lane> lanes_;
  double width_ = 0, height_ = 0, name_width_ = 0;
  double left_ = 0, right_ = 0, top_ = 0, bottom_ = 0;
};

cairo_status_t append(void* to, const unsigned char* data, unsigned length) {
  static_cast<std::string*>(to)->append(reinterpret_cast<const char*>(data), length);
  return CAIRO_STATUS_SUCCESS;
}

struct Destroy {
  void operator()(cairo_surface_t* surface) const { cairo_surface_destroy(surface); }
  void operator()(cairo_t* cr) const { cairo_destroy(cr); }
};

}  // namespace

Result<std::string> plot(const std::vector<Signal>& signals, PictureKind kind,
                         const PlotOptions& options) {
  if (signals.empty()) return fail(ErrorCode::kUsage, "there is nothing to plot");
  if (options.from.count >= options.to.count)
    return fail(ErrorCode::kUsage, "there is no time between these moments");
  for (const unsigned size : {options.width, options.height == 0 ? 800 : options.height})
    if (size < 320 || size > 16384)
      return fail(ErrorCode::kOutOfRange, "a picture is 320 to 16384 wide and high");
  using Surface = std::unique_ptr<cairo_surface_t, Destroy>;
  using Context = std::unique_ptr<cairo_t, Destroy>;
  // How high it is depends on how wide names are: that is asked on a first surface.
  const Surface measure(cairo_image_surface_create(CAIRO_FORMAT_RGB24, 1, 1));
  const Context measuring(cairo_create(measure.get()));
  Picture picture(measuring.get(), signals, options);
  if (!picture.arrange())
    return fail(ErrorCode::kOutOfRange,
                fmt::format("{} signals have no room in a height of {}", signals.size(),
                            options.height == 0 ? 800 : options.height),
                "name fewer, or give a larger size");
  std::string out;
  const auto height = static_cast<int>(picture.height());
  const auto width = static_cast<int>(options.width);
  const Surface surface(kind == PictureKind::kPng
                            ? cairo_image_surface_create(CAIRO_FORMAT_RGB24, width, height)
                            : cairo_svg_surface_create_for_stream(append, &out, width, height));
  Context cr(cairo_create(surface.get()));
  picture.draw_on(cr.get());
  if (cairo_status(cr.get()) != CAIRO_STATUS_SUCCESS)
    return fail(ErrorCode::kIo, fmt::format("the picture could not be drawn: {}",
                                            cairo_status_to_string(cairo_status(cr.get()))));
  cr.reset();
  if (kind == PictureKind::kPng) cairo_surface_write_to_png_stream(surface.get(), append, &out);
  cairo_surface_finish(surface.get());
  return out;
}

}  // namespace lucid
