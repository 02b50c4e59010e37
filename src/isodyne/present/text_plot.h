#pragma once
// Signals drawn with characters, for whoever is connected by a terminal: numbers as curves, truths and choices as
// lanes.

#include <string>

#include "isodyne/present/signals.h"

namespace isodyne::present {

struct TextPlotStyle {
  std::size_t width = 80;     ///< columns in all, at least 40
  std::size_t height = 8;     ///< lines of a curve
  bool ascii = false;         ///< no character beyond ASCII
  double begin = 0, end = 0;  ///< seconds
};

/// One signal: a title, the plot, its scale. Every value counts: what lies in one column is drawn from its least to its
/// greatest value.
std::string text_plot(const SignalView& signal, const TextPlotStyle& style);
/// The axis below the last one.
std::string text_time_axis(const TextPlotStyle& style);

}  // namespace isodyne::present
