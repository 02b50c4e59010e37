#pragma once
// Implicit equations: `solve x from …`.
//
// The residual may read quantities that themselves depend on x through ordinary equations. Those equations
// are put into the residual, so that x is the only unknown, and the residual is differentiated with respect
// to x by the rules of calculus, operation by operation: no differences are taken.

#include "isodyne/model/scope.h"

namespace isodyne::model {

/// Makes every Solve of the program ready to be sorted and solved. Reports faults that act on a quantity
/// which has become part of a residual.
void prepare_solves(Check& check);

/// A node for the derivative of `root`, where `slopes` has those of the variables it reads (absent: zero); kNone
/// where it is zero throughout.
NodeId derivative_of(Program& program, NodeId root, const std::unordered_map<VarId, NodeId>& slopes);

}  // namespace isodyne::model
