#pragma once
// What an expression is going to be a little later.

#include <unordered_map>

#include "isodyne/program/plant.h"

namespace isodyne::program {

/// Whether what an expression does here may jump while its operands move evenly.
bool jumps(const Plant& program, const Node& node);

/// A node for `root` where variables have the values that `later` gives for them, except that nothing jumps on the way:
/// conditions, comparisons and roundings stay as they are now, and angles and remainders go on beyond their ends.
/// Limits hold (`clamp`, `min`, `max`, `abs`). Gives `root` itself where none of them has a part in its value.
NodeId later_of(Plant& program, NodeId root, const std::unordered_map<VarId, NodeId>& later);

}  // namespace isodyne::program
