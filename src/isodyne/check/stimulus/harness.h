#pragma once
// A part or a controller alone: the bench is made smaller before it is checked, and what is left knows nothing of the
// rest.

#include <string>
#include <vector>

#include "isodyne/core/diagnostics.h"
#include "isodyne/lang/syntax.h"

namespace isodyne::check {

/// What had to go because it speaks of what is not there: "requirement L-03 (upper.leaf)".
using LeftOut = std::vector<std::string>;

/// Makes the bench of `document` the harness `name`. False if that cannot be (reported).
bool apply_harness(lang::Document& document, const std::string& name, Diagnostics& diagnostics, LeftOut& left_out);

}  // namespace isodyne::check
