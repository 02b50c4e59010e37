#pragma once
// What was looked at around instants that turned out to matter, beside the rows that are recorded anyway.

#include <vector>

#include "isodyne/core/time.h"
#include "isodyne/program/program.h"

namespace isodyne::observe {

/// Rows of some quantities in order of time, each instant once. A value that is no number was not kept there.
struct Witnessed {
  std::vector<program::VarId> columns;
  std::vector<Time> times;
  std::vector<double> rows;  ///< columns.size() values each
};

}  // namespace isodyne::observe
