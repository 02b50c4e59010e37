#pragma once
// How far a truth value is from changing: the distance to the breach, in the unit of the signal.

#include <functional>
#include <map>
#include <optional>
#include <utility>
#include <vector>

#include "isodyne/program/program.h"

namespace isodyne::program {

struct Margin {
  NodeId node = kNone;  ///< kNone: the formula compares nothing, or compares different units
  Unit unit;
};

/// Appends nodes for the distance of a truth value to its change: positive where it holds, negative where it does not.
///
/// Quantitative semantics of Fainekos and Pappas, "Robustness of temporal logic specifications for
/// continuous-time signals" (2009): a <= b becomes b − a, `and` the smaller, `or` the larger, `not` the
/// opposite. A plain truth value has no distance and becomes ±`far`. What has been made is in `done`, for further calls
/// on the same program.
using Distances = std::map<std::pair<NodeId, bool>, NodeId>;
NodeId distance_of(Plant& program, NodeId truth, double far, Distances& done);

/// The margin of a requirement: that distance, with ±infinity for plain truth values, and its unit. Where units mix,
/// the distances are shares of the limits, and the unit says so.
Margin margin_of(Plant& program, NodeId truth);

/// The same, each distance divided by the size of the constant that is compared with (where there is none, or it is
/// zero, by one of the unit that people read).
NodeId share_of_limits(Plant& program, NodeId truth);
Unit unit_of_shares();

/// The constant limits that `check` puts on single variables (x <= 5 cm, abs(x) <= 5 cm), for drawing.
std::vector<LimitLine> limit_lines(const Plant& program, NodeId check,
                                   const std::function<std::optional<double>(VarId)>& known);

}  // namespace isodyne::program
