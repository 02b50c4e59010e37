#pragma once
// Groups: parts that are stepped together, from what the text asks for.

#include <vector>

#include "isodyne/check/plant/scope.h"

namespace isodyne::check {

/// The method that a text names; reports an unknown one.
std::optional<Method> method_of(Check& check, const lang::Name& name);

/// Makes Program::groups of what the parts ask for, once the step of the bench is known. Reports steps that
/// are not in a whole ratio.
void resolve_groups(Check& check, std::optional<Method> bench_method);

/// What the bench itself says of quick parts, and is looked at at their instants, belongs to their groups: conditions,
/// and sensors that sample more often than the bench steps.
void join_quick_groups(Check& check);

/// After sorting: the states of each group, and the slopes that its method needs. Reports what the method
/// cannot step.
void prepare_groups(Check& check);

}  // namespace isodyne::check
