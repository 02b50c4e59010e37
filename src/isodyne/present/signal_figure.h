#pragma once
// Figures of chosen signals, of one run or of several over each other.

#include "isodyne/present/figure.h"
#include "isodyne/present/signals.h"

namespace isodyne::present {

struct FigureRun {
  const record::Recording* recording = nullptr;
  std::string label;   ///< before the names of its curves; empty: nothing
  double shift_s = 0;  ///< its times are so much later than those of the figure
};

/// Signals with the same unit share a panel, truths share one of lanes; with `apart`, each has its own. The figure goes
/// from the beginning of the stretch to its end, or as far as the runs do.
Result<FigureData> signal_figure(const std::vector<FigureRun>& runs, const std::vector<std::string>& names,
                                 const TimeRange& stretch, bool apart = false);

/// Limits of the requirements of a bench, where they are about one of the signals of a panel.
void add_limits(FigureData& figure, const program::Program& program, const record::Recording& recording);

}  // namespace isodyne::present
