#pragma once
// What must be a number: whatever a requirement, a condition, a controller, a channel, a table, a state machine or a
// block reads. A quantity that is only recorded may be without a value.

#include "isodyne/program/program.h"

namespace isodyne::check {

/// Appends Program::watches: expressions that are zero as long as every number that somebody looks at is finite, and no
/// number otherwise. What is guarded is not looked at: in `if b > 0 then a / b > 3 else false`, and in `b > 0 and a / b
/// > 3`, the quotient counts only where b is positive.
///
/// And Program::quick_watches, for what state machines, blocks and equations read in quicker steps than those of the
/// bench: equations of their own in the order of these groups.
void add_watches(program::Program& program);

}  // namespace isodyne::check
