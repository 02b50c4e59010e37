#pragma once
// Edges of gates that somebody looks at, between two instants of the bench, in one block.
//
// Observers get the block after the image of the instant before it and before that of the instant behind it; what a
// gate is at these two is in the images only. The stepping thread hands it over, as everything.

#include <cstdint>
#include <span>

#include "isodyne/core/time.h"
#include "isodyne/program/program.h"

namespace isodyne::observe {

struct EdgeSeen {
  Time at{};
  program::VarId gate = program::kNone;
  bool to = false;
};

struct Edges {
  std::span<const EdgeSeen> list;  ///< in the order of time; valid only during the call
};

}  // namespace isodyne::observe
