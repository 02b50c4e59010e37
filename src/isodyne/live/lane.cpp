#include <algorithm>
#include <array>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/live/scope.h"

namespace isodyne::live {

namespace {

constexpr int kAxisColumns = 10;

struct Range {
  double least = HUGE_VAL, greatest = -HUGE_VAL;
  void take(double a, double b) { least = std::min(least, a), greatest = std::max(greatest, b); }
  bool any() const { return least <= greatest; }
};

Range range_of(const Signal& axis, const std::vector<Trace>& traces, double from, double to) {
  Range r;
  for (const Trace& t : traces) {
    const Stretch s = t.rows->fold(from, to);
    if (s.any()) r.take(s.least, s.greatest);
  }
  if (axis.truth()) r = {0, 1};
  if (!axis.labels.empty()) r = {0, static_cast<double>(axis.labels.size()) - 1};
  if (!r.any()) return r;
  const double width = r.greatest - r.least;
  // What stands still is in the middle; what moves by rounding alone stands still.
  const double least_width = std::max(std::abs(r.greatest), std::abs(r.least)) * 1e-9;
  if (width <= least_width) {
    const double about = std::max(std::abs(r.greatest) * 0.05, axis.factor * 1e-3);
    return {r.least - about, r.greatest + about};
  }
  return r;
}

/// In the columns that there are; the unit is beside the name.
std::string end_of_axis(const Signal& axis, double si, double range) {
  if (std::abs(si) < 1e-9 * range) si = 0;
  if (!axis.number()) return std::string(first_columns(number_text(axis, si), kAxisColumns - 1));
  const double value = (si - axis.offset) / axis.factor;
  std::string text = format_number(value);
  if (display_width(text) >= kAxisColumns) text = fmt::format("{:.2e}", value);
  return text;
}

/// Dots of the lane: two a column, four a line.
class Dots {
 public:
  Dots(const Area& area) : area_(area), cells_(static_cast<std::size_t>(std::max(0, area.width * area.height))) {}
  int width() const { return area_.width * 2; }
  int height() const { return area_.height * 4; }
  void line(int x, int low, int high, int ink) {
    for (int y = std::max(0, low); y <= std::min(high, height() - 1); ++y) dot(x, y, ink);
  }
  void draw(Grid& grid) const {
    for (int y = 0; y < area_.height; ++y) {
      for (int x = 0; x < area_.width; ++x) {
        const One& c = cells_[static_cast<std::size_t>(y * area_.width + x)];
        if (c.dots != 0)
          grid.set(area_.x + x, area_.y + y, 0x2800u + c.dots, {Ink::trace, static_cast<std::uint8_t>(c.ink)});
      }
    }
  }

 private:
  struct One {
    unsigned dots = 0;
    int ink = 0;
  };
  /// y counts from below.
  void dot(int x, int y, int ink) {
    static constexpr std::array<std::array<unsigned, 2>, 4> kBits{
        {{0x40, 0x80}, {0x04, 0x20}, {0x02, 0x10}, {0x01, 0x08}}};
    const int row = area_.height - 1 - y / 4;
    One& c = cells_[static_cast<std::size_t>(row * area_.width + x / 2)];
    c.dots |= kBits[static_cast<std::size_t>(y % 4)][static_cast<std::size_t>(x % 2)];
    c.ink = ink;
  }
  Area area_;
  std::vector<One> cells_;
};

}  // namespace

int put_names(Grid& grid, const Area& a, const std::vector<std::string>& texts, int first_ink) {
  int x = 0, line = 0, ink = first_ink;
  for (const std::string& text : texts) {
    const int columns = columns_of(text);
    if (x > 0 && x + columns > a.width) x = 0, ++line;
    if (line >= a.height) return a.height;
    x += grid.put(a.x + x, a.y + line, text, {Ink::trace, static_cast<std::uint8_t>(ink++ % kTraceInks)}, a.width - x) +
         2;
  }
  return line + 1;
}

void draw_lane(Grid& grid, const Area& area, const Signal& axis, const std::vector<Trace>& traces, double from,
               double to, double zoom, const std::optional<std::pair<double, double>>& given) {
  if (area.height < 1 || area.width < kAxisColumns + 4 || !(to > from)) return;
  Range r = range_of(axis, traces, from, to);
  if (given) r = {given->first, given->second};
  const Area plot{area.x + kAxisColumns, area.y, area.width - kAxisColumns, area.height};
  for (int y = 0; y < area.height; ++y) grid.set(plot.x - 1, area.y + y, U'│', {Ink::frame});
  if (!r.any()) {
    grid.put(plot.x + 1, area.y + area.height / 2, "nothing seen here", {Ink::dim}, plot.width - 1);
    return;
  }
  if (zoom != 1) {
    const double middle = (r.least + r.greatest) / 2, half = (r.greatest - r.least) / 2 / zoom;
    r = {middle - half, middle + half};
  }
  const auto label = [&](int y, double value) {
    grid.put_right(plot.x - 1, y, end_of_axis(axis, value, r.greatest - r.least), {Ink::dim});
  };
  label(area.y, r.greatest);
  if (area.height > 1) label(area.y + area.height - 1, r.least);
  Dots dots(plot);
  const double width = to - from, each = width / dots.width();
  const auto level = [&](double value) {
    return static_cast<int>(
        std::lround(std::clamp((value - r.least) / (r.greatest - r.least), -1.0, 2.0) * (dots.height() - 1)));
  };
  for (const Trace& t : traces) {
    bool joined = false;
    int before = 0;
    for (int x = 0; x < dots.width(); ++x) {
      const Stretch s = t.rows->fold(from + x * each, from + (x + 1) * each);
      if (!s.any()) {
        joined = false;
        continue;
      }
      int low = level(s.least), high = level(s.greatest);
      // From one column to the next without a hole.
      if (joined) low = std::min(low, before), high = std::max(high, before);
      joined = true;
      dots.line(x, low, high, t.ink);
      before = level(std::clamp(s.last, s.least, s.greatest));
    }
  }
  dots.draw(grid);
}

}  // namespace isodyne::live
