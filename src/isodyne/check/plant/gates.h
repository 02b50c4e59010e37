#pragma once
// Truths whose edges have instants within a step: which of a bench's truths are gates, and what each is made of.

#include "isodyne/check/plant/scope.h"

namespace isodyne::check {

/// Whether the edges of a gate come through an expression: through `not`, `and`, `or`, `if` and `delay`.
bool gate_valued(const Program& program, NodeId node);

/// Fills Plant::gates and takes their delays out of Plant::delays. Groups and networks are known.
void define_gates(Check& check);

}  // namespace isodyne::check
