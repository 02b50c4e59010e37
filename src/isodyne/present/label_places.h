#pragma once
// Where the words of a panel can stand: beside their line, off the curves, off each other.
//
// Everything is in pixels from the lower left corner of the panel. What is taken stays taken; a label that finds no
// place beside its line is given none, and whoever draws puts it on a line above the panel.

#include <optional>
#include <utility>
#include <vector>

namespace isodyne::present {

struct PixelBox {
  double left = 0, right = 0, bottom = 0, top = 0;
};

class LabelPlaces {
 public:
  LabelPlaces(double width, double height);

  /// Nothing else may stand there.
  void take(const PixelBox& box);
  /// Nothing may stand on this curve: its points from left to right. `steps`: it holds its value between them.
  void take_curve(const std::vector<std::pair<double, double>>& points, bool steps);

  /// A place for words of this size close above a level line, or close below it, as far to the right as there is one;
  /// it is taken.
  std::optional<PixelBox> beside_line(double line, double width, double height);

 private:
  static constexpr double kColumn = 4;  ///< pixels
  struct Piece {
    double low, high;
  };
  void take_piece(double x0, double y0, double x1, double y1);
  bool free(const PixelBox& box) const;

  double width_, height_;
  std::vector<std::vector<Piece>> columns_;  ///< what the curves cover
  std::vector<PixelBox> boxes_;
};

}  // namespace isodyne::present
