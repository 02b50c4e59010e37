#pragma once
// Implicit equations: `solve x from …`.
//
// The residual may read quantities that themselves depend on x through ordinary equations. Those equations
// are put into the residual, so that x is the only unknown, and the residual is differentiated with respect
// to x by the rules of calculus, operation by operation: no differences are taken.

#include "isodyne/check/plant/scope.h"

namespace isodyne::check {

/// Makes every ImplicitEquation of the program ready to be sorted and solved. Reports faults that act on a quantity
/// which has become part of a residual.
void prepare_solves(Check& check);

}  // namespace isodyne::check
