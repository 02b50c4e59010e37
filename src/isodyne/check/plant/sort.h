#pragma once
// Equations in the order in which they can be computed.

#include "isodyne/check/plant/scope.h"

namespace isodyne::check {

/// Sorts program.start, and program.equations with periodic_tasks and taps into program.order. Equations that
/// need each other are reported as a loop, with its members in order.
void sort_program(Check& check);

}  // namespace isodyne::check
