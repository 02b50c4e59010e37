#pragma once
// Derivatives of expressions by the rules of calculus, operation by operation: no differences are taken.

#include <unordered_map>

#include "isodyne/program/plant.h"

namespace isodyne::program {

/// A node for the derivative of `root`, where `slopes` has those of the variables it reads (absent: zero); kNone
/// where it is zero throughout.
NodeId derivative_of(Plant& program, NodeId root, const std::unordered_map<VarId, NodeId>& slopes);

}  // namespace isodyne::program
