#pragma once
// Who solves which kind of network.

#include "isodyne/engine/network.h"

namespace isodyne::networks {

/// Makes the solver of any network that the language can declare.
engine::NetworkMaker solvers();

}  // namespace isodyne::networks
