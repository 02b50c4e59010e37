#pragma once
// Step responses in a recording: rise, overshoot and settling of signals, by the measures of the language.

#include <optional>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/present/figure.h"
#include "isodyne/present/signals.h"

namespace isodyne::present {

struct Response {
  std::string signal;
  std::string no_step{};  ///< why nothing is measured: "ends about where it began"; empty: it is a whole step
  double arrives = 0;     ///< the last value of the stretch, in the unit that people read
  std::string unit;
  std::optional<double> rise_s, settling_s, overshoot;  ///< settling into 2 % of the way; overshoot as a share of it

  /// Where it was at 10 % and 90 % of the way, at its peak, and where it came to stay: what can be marked in a plot.
  std::vector<PointMark> marks;

  /// "rises in 12.3 s (10 % to 90 %), overshoots by 4.2 %, within 2 % after 30 s"
  std::string text() const;
};

/// Of the numbers among the signals, over a stretch of a run (a folder or a recording).
Result<std::vector<Response>> responses(const std::string& run, const std::vector<std::string>& names,
                                        const TimeRange& stretch);

}  // namespace isodyne::present
