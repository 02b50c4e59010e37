#pragma once
// Equations in the order in which they can be computed.

#include "isodyne/model/scope.h"

namespace isodyne::model {

/// Sorts program.start, and program.equations with samplers and taps into program.order. Equations that
/// need each other are reported as a loop, with its members in order.
void sort_program(Check& check);

}  // namespace isodyne::model
