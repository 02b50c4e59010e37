#include "isodyne/present/label_places.h"

#include <algorithm>
#include <cmath>

namespace isodyne::present {

LabelPlaces::LabelPlaces(double width, double height)
    : width_(width), height_(height), columns_(static_cast<std::size_t>(std::max(1.0, std::ceil(width / kColumn)))) {}

void LabelPlaces::take(const PixelBox& box) {
  boxes_.push_back(box);
}

void LabelPlaces::take_curve(const std::vector<std::pair<double, double>>& points, bool steps) {
  for (std::size_t i = 1; i < points.size(); ++i) {
    const auto& [x0, y0] = points[i - 1];
    const auto& [x1, y1] = points[i];
    if (!std::isfinite(y0) || !std::isfinite(y1)) continue;
    if (!steps) {
      take_piece(x0, y0, x1, y1);
    } else {
      take_piece(x0, y0, x1, y0);
      take_piece(x1, y0, x1, y1);
    }
  }
  if (points.size() == 1 && std::isfinite(points[0].second))
    take_piece(points[0].first, points[0].second, points[0].first, points[0].second);
}

/// A straight piece, column by column; neighbours that touch become one.
void LabelPlaces::take_piece(double x0, double y0, double x1, double y1) {
  const double last = static_cast<double>(columns_.size()) - 1;
  const auto column = [&](double x) { return std::clamp(std::floor(x / kColumn), 0.0, last); };
  const double first = column(std::min(x0, x1)), end = column(std::max(x0, x1));
  for (double c = first; c <= end; ++c) {
    const auto at = [&](double x) {
      const double share = x1 == x0 ? 0 : std::clamp((x - x0) / (x1 - x0), 0.0, 1.0);
      return y0 + share * (y1 - y0);
    };
    double a = at(c * kColumn), b = at((c + 1) * kColumn);
    if (x1 == x0) a = y0, b = y1;
    const Piece piece{std::min(a, b), std::max(a, b)};
    auto& covered = columns_[static_cast<std::size_t>(c)];
    if (!covered.empty() && piece.low <= covered.back().high && piece.high >= covered.back().low) {
      covered.back() = {std::min(piece.low, covered.back().low), std::max(piece.high, covered.back().high)};
    } else {
      covered.push_back(piece);
    }
  }
}

bool LabelPlaces::free(const PixelBox& box) const {
  if (box.left < 0 || box.right > width_ || box.bottom < 0 || box.top > height_) return false;
  for (const PixelBox& b : boxes_) {
    if (box.left < b.right && box.right > b.left && box.bottom < b.top && box.top > b.bottom) return false;
  }
  const auto first = static_cast<std::size_t>(box.left / kColumn);
  const auto end = std::min(columns_.size(), static_cast<std::size_t>(box.right / kColumn) + 1);
  for (std::size_t c = first; c < end; ++c) {
    for (const Piece& p : columns_[c]) {
      if (p.low < box.top && p.high > box.bottom) return false;
    }
  }
  return true;
}

std::optional<PixelBox> LabelPlaces::beside_line(double line, double width, double height) {
  constexpr double kGap = 2;
  for (double right = width_ - 4; right >= width; right -= 2 * kColumn) {
    for (const double bottom : {line + kGap, line - kGap - height}) {
      const PixelBox box{right - width, right, bottom, bottom + height};
      if (!free(box)) continue;
      take(box);
      return box;
    }
  }
  return std::nullopt;
}

}  // namespace isodyne::present
