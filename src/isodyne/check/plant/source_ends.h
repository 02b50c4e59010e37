#pragma once
// What the sources of circuits come to within a step.

#include "isodyne/check/plant/scope.h"

namespace isodyne::check {

/// A source that follows from time, states and what is made of them goes evenly, within a step of its network, from
/// what it is to what its equations say of the end of the step (program/later.h): its element gets a second input,
/// "voltage later" or "current later". What follows from what nobody knows that of (networks themselves, what was a
/// time ago, solved quantities) is held throughout the step, as all else is. Call once the order of the equations is
/// known.
void add_source_ends(Check& check);

}  // namespace isodyne::check
