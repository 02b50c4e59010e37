#pragma once
// Makes the small benches of nameplate checks; see program/rated_case.h.

#include "isodyne/check/load.h"
#include "isodyne/check/plant/scope.h"

namespace isodyne::check {

/// One case for each `rated` block of each part of the bench that `bench` was made for; of each model if
/// there is no bench. Mistakes in the blocks are reported to `loaded`.
std::vector<RatedCase> rated_cases(const lang::Document& document, Loaded& loaded, const Check* bench);

}  // namespace isodyne::check
