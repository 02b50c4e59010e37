#include "isodyne/present/dot_chart.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/present/page_text.h"
#include "isodyne/present/plot.h"

namespace isodyne::present {

namespace {

constexpr double kWidth = 400, kHeight = 260, kBefore = 62, kBehind = 10, kAbove = 10, kBelow = 42;

/// From values to places.
struct Axis {
  double low = 0, high = 1, from = 0, to = 1;
  double at(double v) const { return from + (v - low) / (high - low) * (to - from); }
};

void widen(double& low, double& high) {
  if (!(low < high)) {
    const double by = low == 0 ? 1 : std::abs(low) * 0.1;
    low -= by, high += by;
    return;
  }
  const double by = 0.04 * (high - low);
  low -= by, high += by;
}

std::string line(double x1, double y1, double x2, double y2, const char* look) {
  return fmt::format("<line x1=\"{:.1f}\" y1=\"{:.1f}\" x2=\"{:.1f}\" y2=\"{:.1f}\" {}/>", x1, y1, x2, y2, look);
}

}  // namespace

std::vector<double> round_numbers(double low, double high, int about) {
  std::vector<double> all;
  if (!(low < high) || !std::isfinite(high - low)) return all;
  const double raw = (high - low) / about, power = std::pow(10, std::floor(std::log10(raw)));
  const double part = raw / power, step = power * (part < 1.5 ? 1 : part < 3.5 ? 2 : part < 7.5 ? 5 : 10);
  for (double n = std::ceil(low / step); n * step <= high + step * 1e-9 && all.size() < 100; ++n)
    all.push_back(n * step);
  return all;
}

std::string svg_of(const DotChart& chart) {
  Axis x{HUGE_VAL, -HUGE_VAL, kBefore, kWidth - kBehind}, y{HUGE_VAL, -HUGE_VAL, kHeight - kBelow, kAbove};
  const auto take = [](Axis& a, double v) { a.low = std::min(a.low, v), a.high = std::max(a.high, v); };
  for (const Dot& d : chart.dots) take(x, d.x), take(y, d.y);
  if (chart.x_range) take(x, chart.x_range->first), take(x, chart.x_range->second);
  if (chart.bound_y) take(y, *chart.bound_y);
  if (chart.bound_x) take(x, *chart.bound_x);
  widen(x.low, x.high), widen(y.low, y.high);
  std::string out = fmt::format("<svg viewBox=\"0 0 {} {}\" class=\"dots\" role=\"img\" aria-label=\"{} over {}\">",
                                kWidth, kHeight, escaped(chart.y_text), escaped(chart.x_text));
  const char* const grid = "stroke=\"#d9dfe3\"";
  for (const double v : round_numbers(x.low, x.high, 5)) {
    out += line(x.at(v), kAbove, x.at(v), kHeight - kBelow, grid);
    out += fmt::format("<text x=\"{:.1f}\" y=\"{}\" text-anchor=\"middle\">{}</text>", x.at(v), kHeight - kBelow + 14,
                       format_number(v));
  }
  for (const double v : round_numbers(y.low, y.high, 5)) {
    out += line(kBefore, y.at(v), kWidth - kBehind, y.at(v), grid);
    out += fmt::format("<text x=\"{}\" y=\"{:.1f}\" text-anchor=\"end\">{}</text>", kBefore - 5, y.at(v) + 4,
                       format_number(v));
  }
  out += fmt::format("<text x=\"{:.1f}\" y=\"{}\" text-anchor=\"middle\">{}</text>", (kBefore + kWidth - kBehind) / 2,
                     kHeight - 8, escaped(chart.x_text));
  out += fmt::format("<text transform=\"translate(13 {:.1f}) rotate(-90)\" text-anchor=\"middle\">{}</text>",
                     (kAbove + kHeight - kBelow) / 2, escaped(chart.y_text));
  const char* const bound = "stroke=\"#a33f00\" stroke-width=\"1.5\" stroke-dasharray=\"5 3\"";
  if (chart.bound_y) out += line(kBefore, y.at(*chart.bound_y), kWidth - kBehind, y.at(*chart.bound_y), bound);
  if (chart.bound_x) out += line(x.at(*chart.bound_x), kAbove, x.at(*chart.bound_x), kHeight - kBelow, bound);
  if (chart.steps && !chart.dots.empty()) {
    std::string path;
    for (std::size_t i = 0; i < chart.dots.size(); ++i) {
      const Dot& d = chart.dots[i];
      path += i == 0 ? fmt::format("M{:.1f} {:.1f}", x.at(d.x), y.at(d.y))
                     : fmt::format("H{:.1f}V{:.1f}", x.at(d.x), y.at(d.y));
    }
    out += fmt::format("<path d=\"{}\" fill=\"none\" stroke=\"{}\" stroke-width=\"1.8\"/>", path, kColours[0]);
  }
  for (const Dot& d : chart.dots) {
    if (chart.steps && !d.bad) continue;
    // What is broken has another form, too: not everybody tells the colours apart.
    const std::string mark =
        d.bad
            ? fmt::format("<path d=\"M{0:.1f} {1:.1f}l8 8m-8 0l8 -8\" stroke=\"{2}\" stroke-width=\"2\" fill=\"none\">",
                          x.at(d.x) - 4, y.at(d.y) - 4, kColours[1])
            : fmt::format("<circle cx=\"{:.1f}\" cy=\"{:.1f}\" r=\"3\" fill=\"{}\" fill-opacity=\"0.55\">", x.at(d.x),
                          y.at(d.y), kColours[0]);
    const std::string one = fmt::format("{}<title>{}</title></{}>", mark, escaped(d.text), d.bad ? "path" : "circle");
    out += d.link.empty() ? one : fmt::format("<a href=\"{}\">{}</a>", escaped(d.link), one);
  }
  return out + "</svg>";
}

}  // namespace isodyne::present
