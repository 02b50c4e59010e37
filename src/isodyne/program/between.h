#pragma once
// What goes on between two instants of the bench, in groups with shorter steps than its own.

#include <span>
#include <vector>

#include "isodyne/program/plant.h"

namespace isodyne::program {

/// Per variable, whether it may change between two instants of the bench. What is not known to be held may.
std::vector<bool> moving_between(const Plant& program);

/// Per variable, whether anything comes of its value between two instants of the bench: a state, an event, a sample, an
/// input of a network, but for its gates, whose edges have instants; or `also`, which somebody looks at there.
std::vector<bool> needed_between(const Plant& program, std::span<const VarId> also);

}  // namespace isodyne::program
