#pragma once
// A model on its own: the generated C with a small main program and a Makefile, free of any dependency.

#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/program/plant.h"

namespace isodyne::engine {

/// File names and texts: plant.c, plant.h, main.c, Makefile. What surrounds the plant (controllers, faults,
/// scenarios, judge) stays behind; actuators and inputs are quantities that the caller sets. One thread runs it all;
/// fails where that gives other values, which is where two cores have steps quicker than that of the bench.
Result<std::vector<std::pair<std::string, std::string>>> c_export(const std::shared_ptr<const program::Plant>& program);

}  // namespace isodyne::engine
