#pragma once
// The stretch of a run that --from and --to name.

#include "command.h"
#include "isodyne/present/signals.h"

namespace isodyne::app {

/// Says what is wrong if they cannot be read.
std::optional<present::Stretch> stretch_of(const Arguments& arguments);

}  // namespace isodyne::app
