#pragma once
// How far a truth value is from changing: the distance to the breach, in the unit of the signal.

#include "isodyne/model/expressions.h"

namespace isodyne::model {

struct Margin {
  NodeId node = kNone;  ///< kNone: the formula compares nothing, or compares different units
  Unit unit;
};

/// Builds the margin of a truth-valued node: positive where it holds, negative where it does not.
///
/// Quantitative semantics of Fainekos and Pappas, "Robustness of temporal logic specifications for
/// continuous-time signals" (2009): a <= b becomes b − a, `and` the smaller, `or` the larger, `not` the
/// opposite. A plain truth value is ±infinity: it has no distance.
Margin margin_of(Program& program, Expressions& expressions, NodeId truth);

/// The constant limits that `check` puts on single variables (x <= 5 cm, abs(x) <= 5 cm), for drawing.
std::vector<LimitLine> limit_lines(const Program& program, NodeId check,
                                   const std::function<std::optional<double>(VarId)>& known);

}  // namespace isodyne::model
