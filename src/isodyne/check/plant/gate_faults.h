#pragma once
// Faults on gates: their edges are changed too, so each is an operation on gates that is there throughout and acts
// while its fault does. A tap, which changes a value at an instant, would leave the edges as they are.

#include "isodyne/check/plant/scope.h"

namespace isodyne::check {

/// Notes that a fault acts on a gate; what it is comes later. Reports what gates do not know. `fault` is not in the
/// program yet.
bool note_gate_fault(Check& check, Fault& fault, VarId target, VarId other, Span span);

/// Puts all of them between the gates and whoever takes them. Networks are known, gates are not yet.
void put_gate_faults(Check& check);

}  // namespace isodyne::check
