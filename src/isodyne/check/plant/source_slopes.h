#pragma once
// How quickly the sources of circuits move.

#include "isodyne/check/plant/scope.h"

namespace isodyne::check {

/// A source that follows from time, states and what is made of them goes on within a step of its network at the rate
/// it has at the beginning: its element gets a second input, "voltage slope" or "current slope", and equations for it
/// by the rules of calculus. What follows from what nobody knows the rate of (networks themselves, what was a time
/// ago, limited states, solved quantities) is held throughout the step, as all else is. Call once the order of the
/// equations is known.
void add_source_slopes(Check& check);

}  // namespace isodyne::check
