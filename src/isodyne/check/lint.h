#pragma once
// What is allowed but looks wrong. Warnings only; files of the library are left alone.

#include "isodyne/check/plant/scope.h"

namespace isodyne::check {

/// Warns of unused parameters, inputs that nothing drives, outputs that nothing reads, divisions by a state
/// that may become zero, and conditions that are always the same. `relative` names the sources.
void lint(Check& check, const std::vector<std::string>& relative);

}  // namespace isodyne::check
