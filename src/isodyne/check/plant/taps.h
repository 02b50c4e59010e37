#pragma once
// Places where values can be replaced, made on first use.

#include "isodyne/check/plant/scope.h"

namespace isodyne::check {

/// Index of the tap on a variable; kNone if it cannot be replaced (reported at `path`).
std::int32_t tap_on(Check& check, VarId target, const lang::Path& path);

}  // namespace isodyne::check
