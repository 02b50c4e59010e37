#pragma once
// Small charts as SVG inside a page, of points that lead somewhere: what gnuplot's pictures cannot.

#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace isodyne::present {

struct Dot {
  double x = 0, y = 0;
  bool bad = false;  ///< beyond the bound
  std::string text;  ///< shown where the pointer rests
  std::string link;  ///< "#case17"; empty: it leads nowhere
};

struct DotChart {
  std::string x_text, y_text;  ///< with units
  std::vector<Dot> dots;
  bool steps = false;             ///< a line of steps through the dots, in their order, and no dots but bad ones
  std::optional<double> bound_y;  ///< a line across: what is below it is broken
  std::optional<double> bound_x;
  std::optional<std::pair<double, double>> x_range;
};

/// 400 by 260; text is escaped here.
std::string svg_of(const DotChart& chart);

/// Round numbers within a range, about so many: 1, 2 or 5 times a power of ten apart.
std::vector<double> round_numbers(double low, double high, int about);

}  // namespace isodyne::present
