#pragma once
// The advice about steps as a picture: worst error against step, and cost against step, a curve for each method.

#include <string>

#include "isodyne/core/result.h"
#include "isodyne/session/advice.h"

namespace isodyne::present {

/// Draws into FOLDER/advice.svg and FOLDER/advice.png. `title` says what was run: "QuayHoist, lift_and_lower".
Status draw_advice(const std::string& title, const session::Advice& advice, double tolerance,
                   const std::string& folder);

}  // namespace isodyne::present
