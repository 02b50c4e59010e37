#pragma once
// The stretch of a run that --from and --to name.

#include "isodyne/present/signals.h"
#include "subcommand.h"

namespace isodyne::app {

/// Says what is wrong if they cannot be read.
std::optional<present::TimeRange> time_range_of(const Arguments& arguments);

}  // namespace isodyne::app
