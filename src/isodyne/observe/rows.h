#pragma once
// What quick groups did between two instants of the bench, in one block: a row for each instant that somebody looks at.
//
// Observers get the block after the image of the instant before it and before that of the instant behind it; both of
// these are in images only. The stepping thread hands it over, as everything.

#include <cstddef>
#include <span>

#include "isodyne/core/time.h"
#include "isodyne/program/program.h"

namespace isodyne::observe {

struct Rows {
  Time first{}, period{};  ///< of the rows
  std::size_t count = 0;
  std::span<const program::VarId> columns;  ///< of program::quick_view()
  const double* values = nullptr;           ///< columns.size() each, SI; valid only during the call

  Time at(std::size_t row) const { return first + period * static_cast<std::int64_t>(row); }
  const double* row(std::size_t i) const { return values + i * columns.size(); }
};

}  // namespace isodyne::observe
