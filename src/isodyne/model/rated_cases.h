#pragma once
// Makes the small benches of nameplate checks; see rated.h.

#include "isodyne/model/load.h"
#include "isodyne/model/scope.h"

namespace isodyne::model {

/// One case for each `rated` block of each part of the bench that `bench` was made for; of each model if
/// there is no bench. Mistakes in the blocks are reported to `loaded`.
std::vector<RatedCase> rated_cases(const lang::Document& document, Loaded& loaded, const Check* bench);

}  // namespace isodyne::model
