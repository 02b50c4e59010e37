#pragma once
// How long the steps of a paced run took, drawn.

#include <string>

#include "isodyne/core/result.h"
#include "isodyne/session/timing.h"

namespace isodyne::present {

/// Histograms of lateness and execution into BASE.svg and BASE.png.
Status draw_timing(const std::string& title, const session::TimingSummary& timing, const std::string& base);

}  // namespace isodyne::present
