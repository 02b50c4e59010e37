#pragma once
// What a bench says about its recording: which signals, how often, in which form, around which instants.

#include "isodyne/check/plant/expressions.h"

namespace isodyne::check {

/// Fills Program::recorded, before the variables are laid out. Of several statements that name a signal the last one
/// decides. `whole`: not a harness, in which names may be missing.
void define_recording(Check& check, Expressions& expressions, const lang::BenchDecl& bench, bool whole);

}  // namespace isodyne::check
