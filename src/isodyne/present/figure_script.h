#pragma once
// What gnuplot is told to draw a figure: stacked panels over one time axis.

#include <string>

#include "isodyne/present/figure.h"

namespace isodyne::present {

struct FigureScript {
  std::string text;
  int height = 0;  ///< pixels; the width is always 1280
};

FigureScript script_of(const FigureData& data);

}  // namespace isodyne::present
