#pragma once
// Places where values can be replaced, made on first use.

#include "isodyne/model/scope.h"

namespace isodyne::model {

/// Index of the tap on a variable; kNone if it cannot be replaced (reported at `path`).
std::int32_t tap_on(Check& check, VarId target, const lang::Path& path);

/// The same program without any tap: for runs in which nothing is replaced, so that declared faults cost nothing. Its
/// variables are the same; its faults and scenarios must not be played where they need a tap.
std::shared_ptr<const Program> without_taps(const std::shared_ptr<const Program>& program);

}  // namespace isodyne::model
