#pragma once
// Symbols of circuit diagrams, after the shapes of IEC 60617, as lines and areas.
//
// A symbol stands upright around (0, 0), its terminal a above and b below; y grows downwards. It reaches from -kReach
// to kReach, where its leads begin.

#include <string_view>
#include <vector>

namespace isodyne::present {

struct Spot {
  double x = 0, y = 0;
};

struct Strokes {
  std::vector<std::vector<Spot>> lines, areas;

  void line(std::vector<Spot> spots) { lines.push_back(std::move(spots)); }
  void area(std::vector<Spot> spots) { areas.push_back(std::move(spots)); }
  void circle(Spot centre, double radius);
  /// Half a circle from one spot to another below it, to the right.
  void bump(Spot from, Spot to);
};

constexpr double kReach = 24;
/// How far symbols stick out to the left and to the right.
constexpr double kLeft = 18, kRight = 20;

/// Of an element of the kind "electric"; of an unknown one a box.
Strokes symbol_of(std::string_view model);
/// Earth below a spot.
Strokes earth();

}  // namespace isodyne::present
